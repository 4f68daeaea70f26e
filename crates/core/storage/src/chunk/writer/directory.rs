//! The directory of a chunk while the chunk is written, and the segments it points into (docs/formats.md, "Directory").

use super::LEVEL;
use crate::chunk::SEGMENT_BYTES;
use crate::chunk::journal::put_key;
use crate::columns::ColumnKey;
use calvex_language::model::{put_varint, zigzag};

/// Segments before the first of columns: the directory itself.
const FIRST: usize = 1;

/// What the directory holds of a page.
pub struct PageEntry {
    /// How many rows.
    pub rows: usize,
    /// The earliest and the latest time, nanoseconds.
    pub span: (i64, i64),
    /// Bytes of its events in memory.
    pub weight_bytes: usize,
}

/// What a column has in one page.
pub struct BlockEntry<'b> {
    /// Its block.
    pub block: &'b [u8],
    /// Its least and largest number.
    pub zone: Option<(f64, f64)>,
    /// Whether its numbers lie so close together that the zone stands in for keys in the page's bloom.
    pub dense: bool,
}

/// The directory with the blocks of all columns one behind another, to be cut into segments.
#[derive(Default)]
pub struct DirectoryWriter {
    columns: Vec<u8>,
    count: u32,
    blocks: Vec<u8>,
}

impl DirectoryWriter {
    /// The number that the next column gets.
    pub fn next_column(&self) -> u32 {
        self.count
    }

    /// Adds a column: the dictionary that its pages share, with the number of its values, and a block for each page
    /// that has it.
    pub fn add(&mut self, key: &ColumnKey, shared: Option<(usize, Vec<u8>)>, pages: &[Option<BlockEntry>]) {
        put_key(&mut self.columns, key);
        match shared {
            None => self.columns.push(0),
            Some((count, block)) => {
                self.columns.push(1);
                put_varint(&mut self.columns, count as u64);
                self.put(&block);
            }
        }
        for page in pages {
            let Some(page) = page else {
                self.columns.push(0);
                continue;
            };
            self.columns.push(match (page.zone, page.dense) {
                (None, _) => 1,
                (Some(_), false) => 2,
                (Some(_), true) => 3,
            });
            self.put(page.block);
            if let Some((lo, hi)) = page.zone {
                self.columns.extend_from_slice(&lo.to_le_bytes());
                self.columns.extend_from_slice(&hi.to_le_bytes());
            }
        }
        self.count += 1;
    }

    /// Puts a block behind the others and its location into the directory. A block goes on in the next segment where
    /// one ends.
    fn put(&mut self, block: &[u8]) {
        put_varint(&mut self.columns, (FIRST + self.blocks.len() / SEGMENT_BYTES) as u64);
        put_varint(&mut self.columns, (self.blocks.len() % SEGMENT_BYTES) as u64);
        put_varint(&mut self.columns, block.len() as u64);
        self.blocks.extend_from_slice(block);
    }

    /// The payloads of the segments of columns.
    pub fn payloads(&self) -> std::slice::Chunks<'_, u8> {
        self.blocks.chunks(SEGMENT_BYTES)
    }

    /// The payload of segment 0. `severities` has a bit for each severity number; `bloom_blocks` is the width of a
    /// page's bloom.
    pub fn payload(&self, severities: u32, bloom_blocks: usize, pages: &[PageEntry]) -> Vec<u8> {
        let mut out = Vec::new();
        put_varint(&mut out, pages.iter().map(|p| p.rows as u64).sum());
        put_varint(&mut out, u64::from(severities));
        put_varint(&mut out, (FIRST + self.payloads().len()) as u64);
        put_varint(&mut out, bloom_blocks as u64);
        put_varint(&mut out, pages.len() as u64);
        for page in pages {
            put_varint(&mut out, page.rows as u64);
            put_varint(&mut out, zigzag(page.span.0));
            put_varint(&mut out, zigzag(page.span.1));
            put_varint(&mut out, page.weight_bytes as u64);
        }
        put_varint(&mut out, u64::from(self.count));
        out.extend_from_slice(&self.columns);
        let compressed = crate::compress::compress(&out, LEVEL).unwrap_or_default();
        let mut payload = (out.len() as u32).to_le_bytes().to_vec();
        payload.extend_from_slice(&compressed);
        payload
    }
}
