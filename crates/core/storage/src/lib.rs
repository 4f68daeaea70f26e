//! The second floor of the engine: how events are kept.
//!
//! In: events. Out: pages of columns ([`columns`]), the bytes of journal batches and chunks ([`chunk`]), and back. A
//! filter is asked of a page without making events of it ([`columns::select`]), and of a chunk without reading its pages
//! ([`chunk::pages_that_may_match`]).
//!
//! No I/O: chunks are read through [`chunk::ChunkSource`]. It depends on `calvex-language` alone; intake and answer stand
//! on it. The feature `testing` gives their tests chunks in memory.
// What reads bytes from outside must not panic on any of them.
#![cfg_attr(not(test), deny(clippy::indexing_slicing, clippy::unwrap_used, clippy::expect_used))]
#![warn(missing_docs)]

pub mod chunk;
pub mod columns;
mod compress;

#[cfg(test)]
mod fuzz;
#[cfg(any(test, feature = "testing"))]
pub mod testing;
