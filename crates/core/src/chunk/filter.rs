//! Membership filters of a chunk's pages, one beside the other: split block Bloom filters (Putze, Sanders, Singler:
//! "Cache-, Hash- and Space-Efficient Bloom Filters", 2007). A key sets one bit in each of the eight 32-bit words of
//! one block.
//!
//! ```text
//! filter := block 0 of page 0, block 0 of page 1 …, block 1 of page 0 …        32 bytes each
//! ```
//!
//! All pages of a chunk have the same number of blocks, so a key has the same block in each, and one probe of the whole
//! chunk reads one run of bytes. At 14 bits a key about one absent key in four hundred is let through.

use crate::columns::Rows;

const BLOCK_BYTES: usize = 32;
const BITS_PER_KEY: usize = 14;
/// A filter never outgrows a part; with more keys it only lets more through.
const MAX_BYTES: usize = 4_000_000;
/// Odd multipliers, one a word, that choose the bits.
const SALT: [u32; 8] =
    [0x47b6_137b, 0x4497_4d91, 0x8824_ad5b, 0xa2b7_289d, 0x7054_95c7, 0x2df1_424b, 0x9efc_4947, 0x5c6b_fb31];

/// The filters of the pages whose keys (hashes, each once) are given.
pub(super) fn build(pages: &[Vec<u64>]) -> Vec<u8> {
    let most = pages.iter().map(Vec::len).max().unwrap_or(0);
    let blocks =
        (most * BITS_PER_KEY / 8).div_ceil(BLOCK_BYTES).clamp(1, (MAX_BYTES / BLOCK_BYTES / pages.len().max(1)).max(1));
    let mut bytes = vec![0; blocks * pages.len() * BLOCK_BYTES];
    for (page, keys) in pages.iter().enumerate() {
        for key in keys {
            let at = (block_of(*key, blocks) * pages.len() + page) * BLOCK_BYTES;
            for (word, mask) in masks(*key).into_iter().enumerate() {
                for (byte, bits) in mask.to_le_bytes().into_iter().enumerate() {
                    bytes[at + word * 4 + byte] |= bits;
                }
            }
        }
    }
    bytes
}

/// Whether `bytes` can be the filter of so many pages.
pub(super) fn fits(bytes: &[u8], pages: usize) -> bool {
    pages > 0 && !bytes.is_empty() && bytes.len().is_multiple_of(pages * BLOCK_BYTES)
}

/// The pages that may hold `key`; a page left out does not.
pub(super) fn probe(bytes: &[u8], pages: usize, key: u64) -> Rows {
    let mut found = Rows::none(pages);
    let blocks = bytes.len() / BLOCK_BYTES / pages.max(1);
    let at = block_of(key, blocks) * pages * BLOCK_BYTES;
    let masks = masks(key);
    let run = bytes.get(at..at + pages * BLOCK_BYTES).unwrap_or(&[]);
    for (page, block) in run.chunks_exact(BLOCK_BYTES).enumerate() {
        let holds = block
            .chunks_exact(4)
            .zip(masks)
            .all(|(word, mask)| u32::from_le_bytes([word[0], word[1], word[2], word[3]]) & mask == mask);
        if holds {
            found.set(page);
        }
    }
    found
}

fn block_of(key: u64, blocks: usize) -> usize {
    (((key >> 32) * blocks as u64) >> 32) as usize
}

fn masks(key: u64) -> [u32; 8] {
    SALT.map(|salt| 1 << ((key as u32).wrapping_mul(salt) >> 27))
}

#[cfg(test)]
mod tests {
    use super::*;
    use xxhash_rust::xxh3::xxh3_64;

    #[test]
    fn none_is_missed_and_few_are_let_through() {
        let key = |n: u32| xxh3_64(&n.to_le_bytes());
        let pages: Vec<Vec<u64>> = (0..5).map(|p| (p * 20_000..(p + 1) * 20_000).map(key).collect()).collect();
        let bytes = build(&pages);
        assert!(fits(&bytes, 5));
        assert!((0..100_000).all(|n| probe(&bytes, 5, key(n)).has(n as usize / 20_000)));
        let through: usize = (100_000..140_000).map(|n| probe(&bytes, 5, key(n)).count()).sum();
        assert!(through < 5 * 40_000 / 200, "{through} of 200000 absent keys were let through");
    }
}
