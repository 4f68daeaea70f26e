//! The floor of the engine that takes events in: from what a sender sent to pages, by lane and day.
//!
//! In: decoded requests, a request's fields one by one. Out: events with their builtins found ([`normalise`]), lines cut
//! into fields ([`line`]), changed by rules ([`transform`]), thinned by [`dial`]s, sent to lanes ([`route`]) and laid out
//! as pages ([`batch`]), with an account of what arrived ([`arrivals`]).
//!
//! No I/O and no clock. It depends on `calvex-language` and `calvex-storage`; nothing of the engine stands on it.

#![warn(missing_docs)]

pub mod arrivals;
pub mod batch;
pub mod dial;
pub mod line;
pub mod normalise;
pub mod route;
pub mod transform;
