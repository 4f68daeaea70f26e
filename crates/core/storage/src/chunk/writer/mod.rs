//! Rows of pages to chunks, a column at a time: what seals a head and what merges chunks.
#![cfg_attr(
    not(test),
    expect(clippy::indexing_slicing, reason = "writes what this process built: numbers that it gave out itself")
)]

mod chunk_writer;
mod directory;
mod share;

use super::ChunkBloom;
use crate::columns::{OrderKeys, PAGE_ROWS, PageRead, SourceRow};
use calvex_language::error::Result;
use chunk_writer::ChunkWriter;

/// Most rows of a chunk.
pub const MAX_CHUNK_ROWS: usize = 1 << 20;
/// A page is closed when its events weigh this much in memory.
const MAX_PAGE_WEIGHT: usize = 8 << 20;
/// A chunk is closed when its events weigh this much in memory.
const MAX_CHUNK_WEIGHT: usize = 512 << 20;
/// Chunks are written once and read often; this level costs little and packs well.
const LEVEL: i32 = crate::compress::MAX_LEVEL;

/// A chunk ready to be stored.
#[derive(Debug)]
pub struct BuiltChunk {
    /// Its id.
    pub id: u64,
    /// Segment 0 is the directory, then come those of columns, and last those of the blooms.
    pub segments: Vec<Vec<u8>>,
    /// Its bloom as a whole, for a bloom set.
    pub bloom: ChunkBloom,
    /// How many events.
    pub rows: usize,
    /// The earliest time, nanoseconds.
    pub time_min: i64,
    /// The latest time, nanoseconds.
    pub time_max: i64,
}

impl BuiltChunk {
    /// All segments together.
    pub fn bytes(&self) -> usize {
        self.segments.iter().map(Vec::len).sum()
    }

    /// A checksum of all segments; see [`checksum_of`].
    pub fn checksum(&self) -> u32 {
        checksum_of(&self.segments)
    }
}

/// A checksum (CRC-32) of all bytes of segments, by which those of one chunk are known from those of another with its id.
pub fn checksum_of(segments: &[Vec<u8>]) -> u32 {
    let mut hasher = crc32fast::Hasher::new();
    segments.iter().for_each(|segment| hasher.update(segment));
    hasher.finalize()
}

/// Builds chunks of all rows of `sources`, in (time, id) order; `next_id` gives each chunk its id. Usually one; more
/// where the events exceed what a chunk may hold.
///
/// # Errors
/// Where a source cannot be read; nothing of it is kept then.
pub fn build_chunks(sources: &[&dyn PageRead], next_id: impl FnMut() -> u64) -> Result<Vec<BuiltChunk>> {
    build_chunks_of(sources, PAGE_ROWS, next_id)
}

/// As [`build_chunks`], with pages of at most `page_rows`.
pub fn build_chunks_of(
    sources: &[&dyn PageRead],
    page_rows: usize,
    mut next_id: impl FnMut() -> u64,
) -> Result<Vec<BuiltChunk>> {
    let order = time_order(sources)?;
    let mut chunks = Vec::new();
    let mut rest = order.as_slice();
    while !rest.is_empty() {
        let pages = cut(rest, sources, page_rows);
        let rows: usize = pages.iter().map(|p| p.len()).sum();
        chunks.push(ChunkWriter::new(sources, &pages).write(next_id())?);
        rest = &rest[rows..];
    }
    Ok(chunks)
}

/// All rows of all sources by (time, id).
fn time_order(sources: &[&dyn PageRead]) -> Result<Vec<SourceRow>> {
    let mut keyed = Vec::with_capacity(sources.iter().map(|s| s.rows()).sum());
    for (source, page) in sources.iter().enumerate() {
        let keys = OrderKeys::of(*page)?;
        for row in 0..page.rows() {
            keyed.push((keys.get(row)?, SourceRow { source: source as u32, row: row as u32 }));
        }
    }
    // Stable, for that goes along the runs that pages in order are.
    keyed.sort_by_key(|(key, _)| *key);
    Ok(keyed.into_iter().map(|(_, placed)| placed).collect())
}

/// The pages of the next chunk, from the start of `order`.
fn cut<'a>(order: &'a [SourceRow], sources: &[&dyn PageRead], page_rows: usize) -> Vec<&'a [SourceRow]> {
    let each: Vec<usize> = sources.iter().map(|s| s.weight_bytes() / s.rows().max(1)).collect();
    let mut pages = Vec::new();
    let (mut rows, mut weight, mut from) = (0, 0, 0);
    while from < order.len() && rows < MAX_CHUNK_ROWS && weight < MAX_CHUNK_WEIGHT {
        let (mut to, mut page_weight) = (from, 0);
        while to < order.len() && to - from < page_rows && page_weight < MAX_PAGE_WEIGHT {
            page_weight += each[order[to].source as usize];
            to += 1;
        }
        pages.push(&order[from..to]);
        rows += to - from;
        weight += page_weight;
        from = to;
    }
    pages
}
