//! The floor of the engine that answers: questions over head and chunks, alert rules, what is merged and dropped when.
//!
//! In: a view (segments of lanes that may be read), a query, a budget. Out: events ([`search`]), figures ([`measure`]),
//! stories ([`story`]), problems ([`errors`]), the state of alert rules ([`watch`]), each with an account of how it came about. The pages that
//! can matter are opened and scanned by [`scan`]. [`retention`] and [`merge`] decide what the service's jobs do.
//!
//! No I/O, no clock, no threads of its own: chunks come from a [`calvex_storage::chunk::ChunkSource`], threads from
//! [`scan::Workers`]. It depends on `calvex-language` and `calvex-storage`.

#![warn(missing_docs)]

pub mod compare;
pub mod errors;
mod finding;
pub mod measure;
pub mod merge;
pub mod retention;
pub mod scan;
pub mod search;
pub mod story;
pub mod ties;
pub mod watch;

#[cfg(test)]
mod testing;

#[cfg(test)]
mod tests;
