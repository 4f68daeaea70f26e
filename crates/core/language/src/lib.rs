//! The lowest floor of the engine: what an event is, and the language in which questions are asked of events.
//!
//! In: texts (JSON, queries, times as people write them) and the parts of an event. Out: events with typed values under
//! paths ([`model`]), and queries as trees that can be asked of one event ([`query`]).
//!
//! No I/O, no clock, no threads: bytes, times and limits are arguments. It depends on no other crate of Calvex; storage,
//! intake and answer stand on it.

#![warn(missing_docs)]

pub mod error;
pub mod json;
pub mod model;
pub mod query;

pub use error::CoreError;
