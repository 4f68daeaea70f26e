//! What an answer can say of itself.

use serde::{Deserialize, Serialize};

/// How an answer came about.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Explanation {
    /// Chunks of the lanes that may be read.
    pub chunks: usize,
    /// Of these, left alone because their times lie outside.
    pub skipped_by_time: usize,
    /// Left alone because their filter or columns cannot hold a match.
    pub skipped_by_filter: usize,
    /// Left alone because enough was found before their turn.
    pub skipped_by_order: usize,
    /// Chunks looked into.
    pub chunks_read: usize,
    /// Pages of chunks and head whose columns were tested.
    pub pages_scanned: usize,
    /// Rows of those pages.
    pub rows_looked_at: u64,
    /// Rows of these that stand in the head, not yet sealed.
    pub head_rows: u64,
    /// Chunks that could not be read, and why; their events are missing from the answer.
    pub left_out: Vec<String>,
    /// Why the search stopped before its end, if it did.
    pub stopped: Option<String>,
    /// Microseconds it took in the engine.
    pub took_us: u64,
}
