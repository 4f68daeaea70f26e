//! The engine of Calvex: everything that decides what an event is, how it is kept and how it is found.
//!
//! No I/O, no clock, no threads of its own: bytes, times and limits come in as arguments. The modules stand in the
//! order in which data passes them; `ARCHITECTURE.md` at the top of the tree links each step to its file.

pub mod error;
pub mod event;
pub mod json;
pub mod line;
pub mod mask;
pub mod normalise;
pub mod query;
pub mod route;
pub mod shape;

pub mod arrivals;
pub mod batch;
pub mod chunk;
pub mod columns;
pub mod dial;
pub mod journal;
pub mod measure;
pub mod merge;
mod pack;

pub mod retention;
pub mod rule;
pub mod search;
pub mod story;
pub mod tie;

#[cfg(test)]
mod fuzz;
#[cfg(test)]
mod testing;

pub use error::CoreError;
