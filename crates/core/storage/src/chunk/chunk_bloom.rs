//! The bloom of a whole chunk: a blocked Bloom filter (Putze, Sanders, Singler: "Cache-, Hash- and Space-Efficient
//! Bloom Filters", 2007). A key sets one bit in each of the four 64-bit words of one block of 32 bytes.
//!
//! It rules out less than the blooms of the pages and is a fraction of their size, for a key counts once a chunk. It is
//! not a segment of the chunk: it is kept at hand until a bloom set (see [`super::bloom_set`]) holds it beside those of others,
//! and made again from the columns where it was lost before.
//!
//! At 6 bits a key about one absent key in fifteen is let through, and then asked of the chunk's pages.

use super::keys::{self, KeySet};
use super::{ChunkPage, ChunkSource};
use crate::columns::PageRead;
use calvex_language::error::Result;
use std::ops::Range;

/// Bytes of a block.
pub(super) const BLOCK_BYTES: usize = 32;
const BITS_PER_KEY: usize = 6;
/// A bloom never outgrows this; with more keys it only lets more through.
const MAX_BLOCKS: usize = (8 << 20) / BLOCK_BYTES;
/// Odd multipliers, one a word, that choose the bits.
const SALT: [u64; 4] = [0x9e37_79b9_7f4a_7c15, 0xc2b2_ae3d_27d4_eb4f, 0x1656_67b1_9e37_79f9, 0xd6e8_feb8_6659_fd93];

/// Which keys a chunk may hold. Without blocks it may hold any.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct ChunkBloom {
    bytes: Vec<u8>,
}

impl ChunkBloom {
    /// Of the keys of a chunk's pages (hashes), and others.
    pub(super) fn of(pages: &[KeySet], others: &KeySet) -> Self {
        let most = pages.iter().map(|keys| keys.len()).sum::<usize>() + others.len();
        let mut keys = KeySet::with_capacity_and_hasher(most, Default::default());
        pages.iter().chain([others]).for_each(|some| keys.extend(some));
        let blocks = (keys.len() * BITS_PER_KEY / 8).div_ceil(BLOCK_BYTES).clamp(1, MAX_BLOCKS);
        let mut words = vec![[0u64; 4]; blocks];
        for key in keys {
            if let Some(block) = words.get_mut(block_of(key, blocks)) {
                block.iter_mut().zip(masks(key)).for_each(|(word, mask)| *word |= mask);
            }
        }
        ChunkBloom { bytes: words.iter().flatten().flat_map(|word| word.to_le_bytes()).collect() }
    }

    /// How many blocks.
    pub(super) fn blocks(&self) -> usize {
        self.bytes.len() / BLOCK_BYTES
    }

    /// The bytes of some blocks.
    pub(super) fn bytes_of(&self, blocks: Range<usize>) -> &[u8] {
        self.bytes.get(blocks.start * BLOCK_BYTES..blocks.end * BLOCK_BYTES).unwrap_or_default()
    }

    /// Whether the chunk may hold `key`.
    pub(super) fn lets_through(&self, key: u64) -> bool {
        let block = block_of(key, self.blocks());
        lets_through(self.bytes_of(block..block + 1), key)
    }

    /// Its size.
    pub fn len(&self) -> usize {
        self.bytes.len()
    }

    /// Whether it has no block, and rules nothing out.
    pub fn is_empty(&self) -> bool {
        self.bytes.is_empty()
    }
}

/// Makes the bloom of a chunk from its columns.
///
/// # Errors
/// Where a segment cannot be read or is damaged.
pub fn chunk_bloom(chunk: u64, source: &dyn ChunkSource) -> Result<ChunkBloom> {
    let directory = source.directory(chunk)?;
    let mut pages = Vec::with_capacity(directory.pages.len());
    for page in 0..directory.pages.len() {
        let page = ChunkPage::passing(directory.clone(), page, source);
        let mut keys = KeySet::default();
        for (index, key) in directory.keys.iter().enumerate() {
            if let Some(column) = page.column(index)? {
                keys::collect(key, &column, &mut keys)?;
            }
        }
        pages.push(keys);
    }
    Ok(ChunkBloom::of(&pages, &KeySet::default()))
}

/// Whether a bloom can have so many blocks.
pub(super) fn can_have(blocks: usize) -> bool {
    (1..=MAX_BLOCKS).contains(&blocks)
}

/// Whether `block`, which is that of `key`, lets it through. A block that is not there rules nothing out.
pub(super) fn lets_through(block: &[u8], key: u64) -> bool {
    let words = block.chunks_exact(8).map(|w| u64::from_le_bytes(w.try_into().unwrap_or([0xff; 8])));
    words.zip(masks(key)).all(|(word, mask)| word & mask == mask)
}

/// The block of `key` in a bloom of `blocks`: they divide the hashes evenly, in order.
pub(super) fn block_of(key: u64, blocks: usize) -> usize {
    (((key >> 32) * blocks as u64) >> 32) as usize
}

fn masks(key: u64) -> [u64; 4] {
    // Only the low half: the high one chose the block.
    SALT.map(|salt| 1 << ((key & 0xffff_ffff).wrapping_mul(salt) >> 58))
}

#[cfg(test)]
mod tests {
    use super::*;
    use xxhash_rust::xxh3::xxh3_64;

    #[test]
    fn none_is_missed_and_few_are_let_through() {
        let key = |n: u32| xxh3_64(&n.to_le_bytes());
        let page = |from: u32| (from..from + 30_000).map(key).collect::<KeySet>();
        // Keys of several pages count once.
        let bloom = ChunkBloom::of(&[page(0), page(20_000), page(40_000)], &page(70_000));
        assert!(bloom.len() < 100_000 * 7 / 8, "{}", bloom.len());
        assert!((0..100_000).all(|n| bloom.lets_through(key(n))));
        let let_through = (100_000..140_000).filter(|n| bloom.lets_through(key(*n))).count();
        assert!(let_through < 40_000 / 12, "{let_through} of 40000 absent keys were let through");
        assert!(ChunkBloom::default().lets_through(1), "nothing is known");
    }
}
