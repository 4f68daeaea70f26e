//! Bytes to raw events and back, and the types that service and client share.
// What reads bytes from outside must not panic on any of them.
#![cfg_attr(not(test), deny(clippy::indexing_slicing, clippy::unwrap_used, clippy::expect_used))]
#![warn(missing_docs)]

pub mod api;
pub mod ndjson;
pub mod otlp;
mod problem;
pub mod syslog;

#[cfg(test)]
mod fuzz;

pub use problem::{MEDIA_TYPE as PROBLEM_MEDIA_TYPE, Problem};
