//! Events to chunks.

use super::filter::Membership;
use super::part::{HEADER_BYTES, seal_part};
use super::{MAX_PART_BYTES, keys};
use crate::columns::{ColumnKey, PAGE_ROWS, PAGE_WEIGHT_BYTES, Page, PageRead, build_page, encode_block};
use crate::error::Result;
use crate::event::{Event, put_varint, zigzag};
use crate::journal::put_key;
use std::collections::{BTreeMap, HashSet};

/// Most rows of a chunk.
pub const MAX_CHUNK_ROWS: usize = 1 << 20;
/// A chunk with more columns than this is cut in two, so that its directory stays within a part.
const MAX_CHUNK_COLUMNS: usize = 4096;
/// Chunks are written once and read often; this level costs little and packs well.
const LEVEL: i32 = 3;

/// A chunk ready to be stored.
#[derive(Debug)]
pub struct BuiltChunk {
    /// Its id.
    pub id: u64,
    /// Part 0 holds directory and filter, the others columns.
    pub parts: Vec<Vec<u8>>,
    /// How many events.
    pub rows: usize,
    /// The earliest time, nanoseconds.
    pub time_min: i64,
    /// The latest time, nanoseconds.
    pub time_max: i64,
}

impl BuiltChunk {
    /// All parts together.
    pub fn bytes(&self) -> usize {
        self.parts.iter().map(Vec::len).sum()
    }
}

/// Builds chunks of `events`, which it sorts; `next_id` gives each chunk its id. Usually one; more where the events
/// exceed what a chunk may hold.
///
/// # Errors
/// Where a column cannot be read back, which only a defect could cause.
pub fn build_chunks(mut events: Vec<Event>, mut next_id: impl FnMut() -> u64) -> Result<Vec<BuiltChunk>> {
    events.sort_by_key(Event::order_key);
    let mut chunks = Vec::new();
    let mut pages: Vec<Page> = Vec::new();
    let mut columns: HashSet<ColumnKey> = HashSet::new();
    let mut rows = 0;
    let mut from = 0;
    while from < events.len() {
        let to = page_end(&events, from);
        let page = build_page(&events[from..to])?;
        let new_columns = page.keys().iter().filter(|k| !columns.contains(k)).count();
        let full = rows + page.rows() > MAX_CHUNK_ROWS || columns.len() + new_columns > MAX_CHUNK_COLUMNS;
        if full && !pages.is_empty() {
            chunks.push(write(&std::mem::take(&mut pages), next_id())?);
            columns.clear();
            rows = 0;
        }
        columns.extend(page.keys().iter().cloned());
        rows += page.rows();
        pages.push(page);
        from = to;
    }
    if !pages.is_empty() {
        chunks.push(write(&pages, next_id())?);
    }
    Ok(chunks)
}

/// Where the page that begins at `from` ends.
pub(crate) fn page_end(events: &[Event], from: usize) -> usize {
    let mut weight = 0;
    let mut to = from;
    while to < events.len() && to - from < PAGE_ROWS && (to == from || weight < PAGE_WEIGHT_BYTES) {
        weight += events[to].weight_bytes();
        to += 1;
    }
    to
}

struct BlockRef {
    part: usize,
    offset: usize,
    length: usize,
    zone: Option<(f64, f64)>,
}

fn write(pages: &[Page], id: u64) -> Result<BuiltChunk> {
    let mut index: BTreeMap<&ColumnKey, Vec<Option<usize>>> = BTreeMap::new();
    let mut membership = keys::KeySet::default();
    for (nth, page) in pages.iter().enumerate() {
        keys::collect(page, &mut membership)?;
        for (at, key) in page.keys().iter().enumerate() {
            index.entry(key).or_insert_with(|| vec![None; pages.len()])[nth] = Some(at);
        }
    }

    let mut payloads: Vec<Vec<u8>> = vec![Vec::new()];
    let mut directory = Vec::new();
    let rows: usize = pages.iter().map(PageRead::rows).sum();
    put_varint(&mut directory, rows as u64);
    put_varint(&mut directory, u64::from(severities(pages)?));
    put_varint(&mut directory, pages.len() as u64);
    for page in pages {
        put_varint(&mut directory, page.rows() as u64);
        put_varint(&mut directory, zigzag(page.time_span().0));
        put_varint(&mut directory, zigzag(page.time_span().1));
    }
    put_varint(&mut directory, index.len() as u64);
    let mut block = Vec::new();
    for (key, places) in index {
        put_key(&mut directory, key);
        for (page, place) in pages.iter().zip(places) {
            let Some((place, column)) = place.and_then(|p| Some((p, page.column(p).ok()??))) else {
                directory.push(0);
                continue;
            };
            block.clear();
            encode_block(&column, LEVEL, &mut block);
            let room = MAX_PART_BYTES - HEADER_BYTES;
            if payloads.last().is_some_and(|p| !p.is_empty() && p.len() + block.len() > room) {
                payloads.push(Vec::new());
            }
            let part = payloads.len();
            if let Some(payload) = payloads.last_mut() {
                let at = BlockRef { part, offset: payload.len(), length: block.len(), zone: page.zone(place) };
                payload.extend_from_slice(&block);
                put_block(&mut directory, &at);
            }
        }
    }

    let packed = zstd::bulk::compress(&directory, LEVEL).unwrap_or_default();
    let filter = Membership::build(membership.into_iter().collect::<Vec<_>>().into_iter());
    let mut first = Vec::with_capacity(8 + packed.len() + filter.as_bytes().len());
    first.extend_from_slice(&(packed.len() as u32).to_le_bytes());
    first.extend_from_slice(&(directory.len() as u32).to_le_bytes());
    first.extend_from_slice(&packed);
    first.extend_from_slice(filter.as_bytes());

    let mut parts = vec![seal_part(id, 0, &first)];
    parts.extend(payloads.iter().enumerate().map(|(i, p)| seal_part(id, i as u16 + 1, p)));
    let time_min = pages.iter().map(|p| p.time_span().0).min().unwrap_or(0);
    let time_max = pages.iter().map(|p| p.time_span().1).max().unwrap_or(0);
    Ok(BuiltChunk { id, parts, rows, time_min, time_max })
}

fn put_block(directory: &mut Vec<u8>, block: &BlockRef) {
    directory.push(if block.zone.is_some() { 2 } else { 1 });
    put_varint(directory, block.part as u64);
    put_varint(directory, block.offset as u64);
    put_varint(directory, block.length as u64);
    if let Some((lo, hi)) = block.zone {
        directory.extend_from_slice(&lo.to_le_bytes());
        directory.extend_from_slice(&hi.to_le_bytes());
    }
}

fn severities(pages: &[Page]) -> Result<u32> {
    let mut mask = 0;
    for page in pages {
        if let Some(column) = page.own(crate::columns::Own::Severity)?
            && let crate::columns::Values::Ints(v) = &column.values
        {
            mask = v.iter().fold(mask, |m, n| m | 1 << (n & 31));
        }
    }
    Ok(mask)
}
