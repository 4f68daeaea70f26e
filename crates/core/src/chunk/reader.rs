//! Chunks read back: the directory once, then column by column of one page, as search asks.

use super::filter::Membership;
use super::part::VerifiedPart;
use crate::columns::{Column, ColumnKey, PAGE_ROWS, PageRead, decode_block};
use crate::error::{CoreError, Result};
use crate::event::{take_varint, unzigzag};
use crate::journal::take_key;
use std::cell::RefCell;
use std::collections::HashMap;
use std::sync::Arc;

/// Largest directory once unpacked.
const MAX_DIRECTORY_BYTES: usize = 32 << 20;

/// Where search gets chunks from.
pub trait ChunkSource: Sync {
    /// The directory of a chunk.
    ///
    /// # Errors
    /// Where it cannot be fetched or is damaged.
    fn directory(&self, chunk: u64) -> Result<Arc<Directory>>;
    /// A part of a chunk.
    ///
    /// # Errors
    /// Where it cannot be fetched or is damaged.
    fn part(&self, chunk: u64, part: u16) -> Result<VerifiedPart>;
}

/// Rows and times of one page.
#[derive(Debug, Clone, Copy)]
pub struct PageSpan {
    /// How many events.
    pub rows: usize,
    /// Earliest time.
    pub time_min: i64,
    /// Latest time.
    pub time_max: i64,
}

#[derive(Debug, Clone, Copy)]
struct BlockRef {
    part: u16,
    offset: usize,
    length: usize,
    zone: Option<(f64, f64)>,
}

/// What a chunk holds and where.
#[derive(Debug)]
pub struct Directory {
    /// The chunk.
    pub chunk: u64,
    /// All events.
    pub rows: usize,
    /// Bit n stands for severity n.
    pub severities: u32,
    /// In time order.
    pub pages: Vec<PageSpan>,
    /// The columns.
    pub keys: Vec<ColumnKey>,
    /// Words, ids and values.
    pub filter: Membership,
    /// Column by column, page by page.
    blocks: Vec<Option<BlockRef>>,
}

impl Directory {
    /// Reads the directory from part 0.
    ///
    /// # Errors
    /// [`CoreError::Damaged`].
    pub fn read(chunk: u64, first: &VerifiedPart) -> Result<Self> {
        Self::parse(chunk, first.payload())
            .ok_or_else(|| CoreError::damaged(format!("chunk {chunk:x} part 0"), "its directory does not decode"))
    }

    fn parse(chunk: u64, payload: &[u8]) -> Option<Self> {
        let length = |at: usize| Some(u32::from_le_bytes(payload.get(at..at + 4)?.try_into().ok()?) as usize);
        let (packed_len, raw_len) = (length(0)?, length(4).filter(|n| *n <= MAX_DIRECTORY_BYTES)?);
        let packed = payload.get(8..8usize.checked_add(packed_len)?)?;
        let filter = Membership::from_bytes(payload.get(8 + packed_len..)?)?;
        let raw = zstd::bulk::decompress(packed, raw_len).ok().filter(|r| r.len() == raw_len)?;
        let mut at = 0;
        let number = |at: &mut usize| take_varint(&raw, at).and_then(|n| usize::try_from(n).ok());
        // Each page and column takes bytes of its own, so a count beyond the length is a lie.
        let count = |at: &mut usize| number(at).filter(|n| *n <= raw.len());
        let rows = number(&mut at)?;
        let severities = u32::try_from(take_varint(&raw, &mut at)?).ok()?;
        let page_count = count(&mut at)?;
        let mut pages = Vec::with_capacity(page_count);
        for _ in 0..page_count {
            let rows = number(&mut at).filter(|n| (1..=PAGE_ROWS).contains(n))?;
            let time_min = unzigzag(take_varint(&raw, &mut at)?);
            let time_max = unzigzag(take_varint(&raw, &mut at)?);
            pages.push(PageSpan { rows, time_min, time_max });
        }
        if pages.iter().map(|p| p.rows).sum::<usize>() != rows {
            return None;
        }
        let key_count = count(&mut at)?;
        let mut keys = Vec::with_capacity(key_count);
        let mut blocks = Vec::with_capacity(key_count.checked_mul(page_count).filter(|n| *n <= raw.len())?);
        for _ in 0..key_count {
            keys.push(take_key(&raw, &mut at)?);
            for _ in 0..page_count {
                let form = *raw.get(at)?;
                at += 1;
                if form == 0 {
                    blocks.push(None);
                    continue;
                }
                let part = u16::try_from(take_varint(&raw, &mut at)?).ok()?;
                let (offset, length) = (number(&mut at)?, number(&mut at)?);
                let mut float = || {
                    let bytes = raw.get(at..at + 8)?.try_into().ok()?;
                    at += 8;
                    Some(f64::from_le_bytes(bytes))
                };
                let zone = match form {
                    1 => None,
                    2 => Some((float()?, float()?)),
                    _ => return None,
                };
                blocks.push(Some(BlockRef { part, offset, length, zone }));
            }
        }
        (at == raw.len()).then_some(Directory { chunk, rows, severities, pages, keys, filter, blocks })
    }

    fn block(&self, column: usize, page: usize) -> Option<BlockRef> {
        self.blocks.get(column * self.pages.len() + page).copied().flatten()
    }

    /// A rough size in memory, for caches.
    pub fn weight_bytes(&self) -> usize {
        self.filter.as_bytes().len() + self.blocks.len() * 56 + self.keys.len() * 64
    }
}

/// One page of a chunk; reads and keeps the columns it is asked for.
pub struct ChunkPage<'a> {
    directory: Arc<Directory>,
    page: usize,
    source: &'a dyn ChunkSource,
    read: RefCell<HashMap<usize, Option<Arc<Column>>>>,
}

impl<'a> ChunkPage<'a> {
    /// Page `page` of the chunk.
    pub fn new(directory: Arc<Directory>, page: usize, source: &'a dyn ChunkSource) -> Self {
        ChunkPage { directory, page, source, read: RefCell::default() }
    }

    fn fetch(&self, index: usize) -> Result<Option<Arc<Column>>> {
        let Some(block) = self.directory.block(index, self.page) else { return Ok(None) };
        let chunk = self.directory.chunk;
        let part = self.source.part(chunk, block.part)?;
        let bytes = block.offset.checked_add(block.length).and_then(|end| part.payload().get(block.offset..end));
        let place = || format!("chunk {chunk:x} part {}", block.part);
        let bytes = bytes.ok_or_else(|| CoreError::damaged(place(), "a block lies outside it"))?;
        let column =
            decode_block(bytes, self.rows()).map_err(|_| CoreError::damaged(place(), "a block does not decode"))?;
        Ok(Some(Arc::new(column)))
    }
}

impl PageRead for ChunkPage<'_> {
    fn rows(&self) -> usize {
        self.directory.pages.get(self.page).map_or(0, |p| p.rows)
    }

    fn time_span(&self) -> (i64, i64) {
        self.directory.pages.get(self.page).map_or((0, 0), |p| (p.time_min, p.time_max))
    }

    fn keys(&self) -> &[ColumnKey] {
        &self.directory.keys
    }

    fn column(&self, index: usize) -> Result<Option<Arc<Column>>> {
        if let Some(read) = self.read.borrow().get(&index) {
            return Ok(read.clone());
        }
        let column = self.fetch(index)?;
        self.read.borrow_mut().insert(index, column.clone());
        Ok(column)
    }

    fn zone(&self, index: usize) -> Option<(f64, f64)> {
        self.directory.block(index, self.page).and_then(|b| b.zone)
    }
}
