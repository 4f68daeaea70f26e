//! Chunks read back: the directory, and the bytes that it names.

use super::segment::VerifiedSegment;
use super::source::ChunkSource;
use super::{SEGMENT_BYTES, page_bloom, v1};
use crate::chunk::journal::take_key;
use crate::columns::{
    BuiltinColumn, ColumnKey, FieldType, Letters, MAX_FIELD_COLUMNS, PAGE_ROWS, Shared, decode_blobs, decode_texts,
    letters_of_block,
};
use crate::compress::decompress;
use calvex_language::error::{CoreError, Result};
use calvex_language::model::{take_varint, unzigzag};
use std::borrow::Cow;
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Arc, OnceLock};

/// Largest directory once decompressed.
const MAX_DIRECTORY_BYTES: usize = 32 << 20;
/// Values that the pages of one column share at most.
const MAX_SHARED: usize = 1 << 20;

/// Rows and times of one page.
#[derive(Debug, Clone, Copy)]
pub struct PageSpan {
    /// How many events.
    pub rows: usize,
    /// Earliest time.
    pub time_min: i64,
    /// Latest time.
    pub time_max: i64,
    /// A rough size of its events in memory.
    pub weight_bytes: usize,
}

/// Where a block stands.
#[derive(Debug, Clone, Copy)]
pub struct BlockRef {
    /// The segment it begins in.
    pub segment: u16,
    /// Where in the segment's payload.
    pub offset: usize,
    /// Its bytes; it goes on in the next segment where this one ends.
    pub length: usize,
    /// Smallest and largest number in it.
    pub zone: Option<(f64, f64)>,
    /// Whether only the zone covers its numbers, because the page's bloom does not hold them.
    pub dense: bool,
}

/// Where the blooms of a chunk's pages stand.
#[derive(Debug, Clone, Copy)]
pub(super) enum PageBlooms {
    /// One for the whole chunk, which is not probed (version 1).
    None,
    /// In this segment, whose size follows from its length (version 2).
    Whole(u16),
    /// Cut into segments, from `first`; every page has `blocks` blocks.
    Cut { first: u16, blocks: usize },
}

/// What a chunk holds and where.
pub struct Directory {
    /// The chunk.
    pub chunk: u64,
    /// The version of its format.
    pub version: u16,
    /// All events.
    pub rows: usize,
    /// Bit n stands for severity n.
    pub severities: u32,
    /// In time order.
    pub pages: Vec<PageSpan>,
    /// The columns.
    pub keys: Vec<ColumnKey>,
    pub(super) blooms: PageBlooms,
    /// Column by column, page by page.
    pub(super) blocks: Vec<Option<BlockRef>>,
    /// By column: how many values its pages share, and where these stand.
    pub(super) shared: Vec<Option<(usize, BlockRef)>>,
    pub(super) shared_read: Vec<OnceLock<Shared>>,
    /// By block, once it was looked at: the letters of its own texts (see [`Letters::bits`]), else 0.
    pub(super) letters: Vec<AtomicU32>,
}

impl Directory {
    /// Reads the directory from segment 0.
    ///
    /// # Errors
    /// [`CoreError::Damaged`].
    pub fn read(chunk: u64, first: &VerifiedSegment) -> Result<Self> {
        let parsed = if first.version() == 1 { v1::parse(chunk, first.payload()) } else { Self::parse(chunk, first) };
        parsed.ok_or_else(|| CoreError::damaged(format!("chunk {chunk:x} segment 0"), "its directory does not decode"))
    }

    fn parse(chunk: u64, first: &VerifiedSegment) -> Option<Self> {
        let payload = first.payload();
        let raw_len = u32::from_le_bytes(payload.get(..4)?.try_into().ok()?) as usize;
        let raw_len = Some(raw_len).filter(|n| *n <= MAX_DIRECTORY_BYTES)?;
        let raw = decompress(payload.get(4..)?, raw_len)?;
        let mut at = 0;
        let number = |at: &mut usize| take_varint(&raw, at).and_then(|n| usize::try_from(n).ok());
        // Each page and column takes bytes of its own, so a count beyond the length is a lie.
        let count = |at: &mut usize| number(at).filter(|n| *n <= raw.len());
        let rows = number(&mut at)?;
        let severities = u32::try_from(take_varint(&raw, &mut at)?).ok()?;
        let blooms = if first.version() == 2 {
            PageBlooms::Whole(1)
        } else {
            let first = u16::try_from(take_varint(&raw, &mut at)?).ok()?;
            PageBlooms::Cut { first, blocks: number(&mut at).filter(|n| (1..=page_bloom::MAX_BYTES).contains(n))? }
        };
        let page_count = count(&mut at)?;
        let mut pages = Vec::with_capacity(page_count);
        for _ in 0..page_count {
            let rows = number(&mut at).filter(|n| (1..=PAGE_ROWS).contains(n))?;
            let time_min = unzigzag(take_varint(&raw, &mut at)?);
            let time_max = unzigzag(take_varint(&raw, &mut at)?);
            pages.push(PageSpan { rows, time_min, time_max, weight_bytes: number(&mut at)? });
        }
        if pages.iter().map(|p| p.rows).sum::<usize>() != rows {
            return None;
        }
        let key_count = count(&mut at).filter(|n| *n <= MAX_FIELD_COLUMNS + BuiltinColumn::ALL.len())?;
        let mut keys = Vec::with_capacity(key_count);
        let mut shared = Vec::with_capacity(key_count);
        let mut blocks = Vec::with_capacity(key_count.checked_mul(page_count).filter(|n| *n <= raw.len())?);
        for _ in 0..key_count {
            keys.push(take_key(&raw, &mut at)?);
            shared.push(match take_byte(&raw, &mut at)? {
                0 => None,
                1 => {
                    let count = number(&mut at).filter(|n| *n <= MAX_SHARED)?;
                    Some((count, take_location(&raw, &mut at)?))
                }
                _ => return None,
            });
            for _ in 0..page_count {
                blocks.push(match take_byte(&raw, &mut at)? {
                    0 => None,
                    1 => Some(take_location(&raw, &mut at)?),
                    kind @ 2..=3 => {
                        let location = take_location(&raw, &mut at)?;
                        let zone = Some((take_float(&raw, &mut at)?, take_float(&raw, &mut at)?));
                        Some(BlockRef { zone, dense: kind == 3, ..location })
                    }
                    _ => return None,
                });
            }
        }
        if !keys.is_sorted_by(|a, b| a < b) {
            return None;
        }
        let shared_read = keys.iter().map(|_| OnceLock::new()).collect();
        let letters = blocks.iter().map(|_| AtomicU32::new(0)).collect();
        (at == raw.len()).then_some(Directory {
            chunk,
            version: first.version(),
            rows,
            blooms,
            severities,
            pages,
            keys,
            blocks,
            shared,
            shared_read,
            letters,
        })
    }

    /// The block of a column of a page.
    pub fn block(&self, column: usize, page: usize) -> Option<BlockRef> {
        self.blocks.get(column * self.pages.len() + page).copied().flatten()
    }

    /// The segments that hold the block of a column of a page, and what the pages of the column share if that was not
    /// read yet.
    fn segments_of(&self, column: usize, page: usize) -> impl Iterator<Item = u16> {
        let is_read = self.shared_read.get(column).is_some_and(|slot| slot.get().is_some());
        let shared = self.shared.get(column).copied().flatten().filter(|_| !is_read).map(|(_, block)| block);
        // Before version 3 segments were larger, and few blocks went on in a second one.
        let most = if self.version < 3 { 0 } else { usize::from(u16::MAX) };
        let segments = move |b: BlockRef| {
            let further = (b.offset.saturating_add(b.length).saturating_sub(1) / SEGMENT_BYTES).min(most);
            b.segment..=b.segment.saturating_add(u16::try_from(further).unwrap_or(0))
        };
        [self.block(column, page), shared].into_iter().flatten().flat_map(segments)
    }

    /// Prefetches the segments that hold the blocks of some columns of a page, for a cold question.
    pub(super) fn prefetch(&self, page: usize, columns: impl Iterator<Item = usize>, source: &dyn ChunkSource) {
        if !source.is_cold() {
            return;
        }
        let mut segments: Vec<u16> = columns.flat_map(|column| self.segments_of(column, page)).collect();
        segments.sort_unstable();
        segments.dedup();
        source.prefetch(self.chunk, &segments);
    }

    /// The segments that hold blooms.
    pub fn bloom_segments(&self) -> std::ops::Range<u16> {
        match self.blooms {
            PageBlooms::None => 0..0,
            PageBlooms::Whole(segment) => segment..segment + 1,
            PageBlooms::Cut { first, blocks } => {
                let segments = u16::try_from(page_bloom::segments(blocks, self.pages.len())).unwrap_or(u16::MAX);
                first..first.saturating_add(segments)
            }
        }
    }

    /// How many values the pages of a column share, and in how many bytes.
    pub fn shared_size(&self, column: usize) -> Option<(usize, usize)> {
        self.shared.get(column).copied().flatten().map(|(count, block)| (count, block.length))
    }

    /// A rough size in memory, for caches: with all that pages share, which is read when it is needed and then kept.
    pub fn weight_bytes(&self) -> usize {
        // Beside each value stand its end, answers to four tests, its hash, and where it is a template its leads; beside all of
        // them what names the tests.
        let weigh = |(count, block): &(usize, BlockRef)| 1024 + count * 24 + block.length * 4;
        let shared: usize = self.shared.iter().flatten().map(weigh).sum();
        self.blocks.len() * 60 + self.keys.len() * 96 + shared
    }

    /// The bytes of a block.
    pub(super) fn bytes<T>(
        &self,
        block: BlockRef,
        source: &dyn ChunkSource,
        read: impl FnOnce(&[u8]) -> Option<T>,
    ) -> Result<T> {
        let chunk = self.chunk;
        let damaged = |what: &str| CoreError::damaged(format!("chunk {chunk:x} segment {}", block.segment), what);
        let first = source.segment(chunk, block.segment)?;
        let payload = first.payload();
        let end = block.offset.checked_add(block.length).ok_or_else(|| damaged("a block lies outside it"))?;
        let bytes: Cow<[u8]> = match payload.get(block.offset..end) {
            Some(bytes) => bytes.into(),
            None => {
                let mut whole = payload.get(block.offset..).unwrap_or(&[]).to_vec();
                let mut segment = block.segment;
                while whole.len() < block.length {
                    segment = segment.checked_add(1).ok_or_else(|| damaged("a block lies outside it"))?;
                    let next = source.segment(chunk, segment)?;
                    let rest = block.length - whole.len();
                    let piece = next.payload().get(..rest).unwrap_or(next.payload());
                    if piece.is_empty() {
                        return Err(damaged("a block lies outside it"));
                    }
                    whole.extend_from_slice(piece);
                }
                whole.into()
            }
        };
        read(&bytes).ok_or_else(|| damaged("a block does not decode"))
    }

    /// The letters of the texts that a block keeps itself; all, where they are not known.
    pub(super) fn letters(
        &self,
        column: usize,
        page: usize,
        block: BlockRef,
        source: &dyn ChunkSource,
    ) -> Result<Letters> {
        let Some(slot) = self.letters.get(column * self.pages.len() + page) else { return Ok(Letters::ALL) };
        if let Some(known) = Letters::from_bits(slot.load(Ordering::Relaxed)) {
            return Ok(known);
        }
        let rows = self.pages.get(page).map_or(0, |p| p.rows);
        let found = self.bytes(block, source, |bytes| Some(letters_of_block(bytes, rows).unwrap_or(Letters::ALL)))?;
        slot.store(found.bits(), Ordering::Relaxed);
        Ok(found)
    }

    /// What the pages of a column share.
    pub(super) fn shared(&self, column: usize, source: &dyn ChunkSource) -> Result<Shared> {
        let Some((count, block)) = self.shared.get(column).copied().flatten() else { return Ok(Shared::None) };
        let Some(slot) = self.shared_read.get(column) else { return Ok(Shared::None) };
        if let Some(read) = slot.get() {
            return Ok(read.clone());
        }
        let blobs = matches!(
            self.keys.get(column),
            Some(
                ColumnKey::Builtin(
                    BuiltinColumn::Trace | BuiltinColumn::Span | BuiltinColumn::Parent | BuiltinColumn::Overflow
                ) | ColumnKey::Field(_, FieldType::Nested)
            )
        );
        let shared = self.bytes(block, source, |bytes| {
            if blobs {
                let read = decode_blobs(bytes, count).filter(|b| b.len() == count)?;
                Some(Shared::Blobs(Arc::new(read)))
            } else {
                let read = decode_texts(bytes, count).filter(|t| t.len() == count)?;
                Some(Shared::Texts(Arc::new(read)))
            }
        })?;
        Ok(slot.get_or_init(|| shared).clone())
    }
}

fn take_byte(raw: &[u8], at: &mut usize) -> Option<u8> {
    let byte = *raw.get(*at)?;
    *at += 1;
    Some(byte)
}

fn take_location(raw: &[u8], at: &mut usize) -> Option<BlockRef> {
    let segment = u16::try_from(take_varint(raw, at)?).ok()?;
    let mut number = || usize::try_from(take_varint(raw, at)?).ok();
    Some(BlockRef { segment, offset: number()?, length: number().filter(|n| *n <= 1 << 30)?, zone: None, dense: false })
}

fn take_float(raw: &[u8], at: &mut usize) -> Option<f64> {
    let bytes = raw.get(*at..*at + 8)?.try_into().ok()?;
    *at += 8;
    Some(f64::from_le_bytes(bytes))
}
