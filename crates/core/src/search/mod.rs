//! Step 11: answers from one pinned view of head pages and chunks.

mod explain;
mod find;
mod hints;
mod histogram;
mod scan;

pub use explain::Explanation;
pub use find::{Cursor, Find, Found, Order, find};
pub use hints::{FieldHint, field_names, unknown_fields};
pub use histogram::{Histogram, SEVERITY_COUNT, histogram};

use crate::columns::Page;
use crate::query::TimeRange;
use std::sync::Arc;

/// Where events stand.
#[derive(Debug, Clone)]
pub enum Place {
    /// In the head, in memory.
    Head(Arc<Page>),
    /// In a sealed chunk.
    Chunk(u64),
}

/// One head page or chunk of a view.
#[derive(Debug, Clone)]
pub struct Segment {
    /// The name of its lane.
    pub lane: Arc<str>,
    /// The earliest time in it.
    pub time_min: i64,
    /// The latest time in it.
    pub time_max: i64,
    /// How many events.
    pub rows: usize,
    /// Where it is read.
    pub place: Place,
}

/// Told between pages whether to go on: `Some` reason stops the search.
pub type Stop<'a> = &'a dyn Fn() -> Option<String>;

/// The segments of `view` that touch `range`.
fn touching<'a>(view: &'a [Segment], range: &TimeRange) -> impl Iterator<Item = &'a Segment> {
    let range = *range;
    view.iter().filter(move |s| range.touches(s.time_min, s.time_max))
}

#[cfg(test)]
mod tests;
