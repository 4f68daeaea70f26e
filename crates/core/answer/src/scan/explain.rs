//! What an answer can say of itself.

use serde::{Deserialize, Serialize};

/// How an answer came about.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Explanation {
    /// Chunks of the lanes that may be read.
    pub chunks: usize,
    /// Of these, left alone because their times lie outside.
    pub skipped_by_time: usize,
    /// Left alone because their filter or columns cannot hold a match.
    pub skipped_by_bloom: usize,
    /// Of these, known by a bloom set, so that nothing of the chunk was read.
    #[serde(default)]
    pub skipped_by_bloom_set: usize,
    /// Left alone because enough was found before their turn.
    pub skipped_by_order: usize,
    /// Chunks looked into.
    pub chunks_read: usize,
    /// Pages in range of the chunks opened, left alone because their filter, columns or zones cannot hold a match.
    #[serde(default)]
    pub pages_skipped: usize,
    /// Pages of chunks and head whose columns were tested.
    pub pages_scanned: usize,
    /// Rows of those pages.
    pub rows_looked_at: u64,
    /// Rows of these that stand in the head, not yet sealed.
    pub head_rows: u64,
    /// Parts of chunks that were read, from wherever they stood.
    #[serde(default)]
    pub segments_read: u64,
    /// Bytes of the segments that came from the database, because no cache held them.
    #[serde(default)]
    pub fetched_bytes: u64,
    /// Chunks that could not be read, and why; their events are missing from the answer.
    pub left_out: Vec<String>,
    /// Why the search stopped before its end, if it did.
    pub stopped: Option<String>,
    /// Microseconds it took in the engine.
    pub took_us: u64,
}

impl Explanation {
    /// Adds the numbers of another part of the same answer.
    pub fn add(&mut self, other: Explanation) {
        self.chunks += other.chunks;
        self.skipped_by_time += other.skipped_by_time;
        self.skipped_by_bloom += other.skipped_by_bloom;
        self.skipped_by_bloom_set += other.skipped_by_bloom_set;
        self.skipped_by_order += other.skipped_by_order;
        self.chunks_read += other.chunks_read;
        self.pages_skipped += other.pages_skipped;
        self.pages_scanned += other.pages_scanned;
        self.rows_looked_at += other.rows_looked_at;
        self.head_rows += other.head_rows;
        self.segments_read += other.segments_read;
        self.fetched_bytes += other.fetched_bytes;
        // A chunk that is damaged is met on each of its pages, and reported once.
        for what in other.left_out {
            if !self.left_out.contains(&what) {
                self.left_out.push(what);
            }
        }
        self.stopped = self.stopped.take().or(other.stopped);
    }
}
