//! Bytes to raw events and back, and the types that service and client share.

#![warn(missing_docs)]

pub mod api;
pub mod ndjson;
pub mod otlp;
mod problem;
pub mod syslog;

#[cfg(test)]
mod fuzz;

pub use problem::{MEDIA_TYPE as PROBLEM_MEDIA_TYPE, Problem};
