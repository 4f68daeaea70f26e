//! The lowest floor of the engine: what an event is, and the language in which questions are asked of events.
//!
//! In: texts (JSON, queries, times as people write them) and the parts of an event. Out: events with typed values under
//! paths ([`model`]), and queries as trees that can be asked of one event ([`query`]). Beside them stand the types of what
//! the service keeps besides events ([`domain`]), and the rule by which failures are one problem ([`failure`]).
//!
//! No I/O, no clock, no threads: bytes, times and limits are arguments. It depends on no other crate of Calvex; storage,
//! intake and answer stand on it.
// What reads bytes from outside must not panic on any of them.
#![cfg_attr(not(test), deny(clippy::indexing_slicing, clippy::unwrap_used, clippy::expect_used))]
#![warn(missing_docs)]

pub mod backoff;
pub mod domain;
pub mod error;
pub mod failure;
pub mod json;
pub mod model;
pub mod query;

pub use error::CoreError;
