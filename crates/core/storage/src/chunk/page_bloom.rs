//! Blooms of a chunk's pages, one beside the other: split block Bloom filters (Putze, Sanders, Singler:
//! "Cache-, Hash- and Space-Efficient Bloom Filters", 2007). A key sets one bit in each of the eight 32-bit words of
//! one block.
//!
//! ```text
//! bloom := block 0 of page 0, block 0 of page 1 …, block 1 of page 0 …        32 bytes each
//! ```
//!
//! All pages of a chunk have the same number of blocks, so a key has the same block in each, and one probe of the whole
//! chunk reads one run of bytes. The runs are cut into segments, so that a probe fetches one of them and
//! not the whole. At 9 bits a key about one absent key in fifty is let through; most that are absent from a whole chunk
//! were ruled out by its bloom set before.

use super::SEGMENT_BYTES;
use crate::columns::Rows;

const BLOCK_BYTES: usize = 32;
const BITS_PER_KEY: usize = 9;
/// A bloom never outgrows this; with more keys it only lets more through.
pub(super) const MAX_BYTES: usize = 16 << 20;
/// Odd multipliers, one a word, that choose the bits.
const SALT: [u32; 8] =
    [0x47b6_137b, 0x4497_4d91, 0x8824_ad5b, 0xa2b7_289d, 0x7054_95c7, 0x2df1_424b, 0x9efc_4947, 0x5c6b_fb31];

/// The blooms of the pages whose keys (hashes, each once) are given: how many blocks a page has, and all bytes.
pub(super) fn build(pages: &[Vec<u64>]) -> (usize, Vec<u8>) {
    let most = pages.iter().map(Vec::len).max().unwrap_or(0);
    let blocks = (most * BITS_PER_KEY / 8).div_ceil(BLOCK_BYTES).clamp(1, (MAX_BYTES / run_bytes(pages.len())).max(1));
    let mut bytes = vec![0; blocks * pages.len() * BLOCK_BYTES];
    for (page, keys) in pages.iter().enumerate() {
        for key in keys {
            let at = (block_of(*key, blocks) * pages.len() + page) * BLOCK_BYTES;
            for (word, mask) in masks(*key).into_iter().enumerate() {
                for (byte, bits) in mask.to_le_bytes().into_iter().enumerate() {
                    if let Some(held) = bytes.get_mut(at + word * 4 + byte) {
                        *held |= bits;
                    }
                }
            }
        }
    }
    (blocks, bytes)
}

/// Bytes that one probe reads: a block of each page.
fn run_bytes(pages: usize) -> usize {
    pages.max(1) * BLOCK_BYTES
}

/// Runs of one segment.
fn runs_of_part(pages: usize) -> usize {
    (SEGMENT_BYTES / run_bytes(pages)).max(1)
}

/// The payloads of the segments that a bloom is cut into.
pub(super) fn cut(bytes: &[u8], pages: usize) -> impl Iterator<Item = &[u8]> {
    bytes.chunks(runs_of_part(pages) * run_bytes(pages))
}

/// How many segments a bloom of so many blocks a page has.
pub(super) fn segments(blocks: usize, pages: usize) -> usize {
    blocks.div_ceil(runs_of_part(pages))
}

/// The segment in which `key` is probed, and where in its payload.
pub(super) fn location(key: u64, blocks: usize, pages: usize) -> (usize, usize) {
    let block = block_of(key, blocks);
    (block / runs_of_part(pages), block % runs_of_part(pages) * run_bytes(pages))
}

/// How many blocks a page has in a bloom that is one segment, if `bytes` can be one.
pub(super) fn blocks_of_whole(bytes: &[u8], pages: usize) -> Option<usize> {
    let fits = pages > 0 && !bytes.is_empty() && bytes.len().is_multiple_of(run_bytes(pages));
    fits.then(|| bytes.len() / run_bytes(pages))
}

/// Where `key` stands in a bloom that is one segment.
pub(super) fn location_in_whole(key: u64, blocks: usize, pages: usize) -> usize {
    block_of(key, blocks) * run_bytes(pages)
}

/// The pages that may hold `key` by the run at `at`; a page left out does not. A run that is not there rules nothing out.
pub(super) fn probe(bytes: &[u8], at: usize, pages: usize, key: u64) -> Rows {
    let Some(run) = bytes.get(at..at.saturating_add(run_bytes(pages))) else { return Rows::all(pages) };
    let mut found = Rows::none(pages);
    let masks = masks(key);
    for (page, block) in run.chunks_exact(BLOCK_BYTES).enumerate() {
        let (words, _) = block.as_chunks::<4>();
        let holds = words.iter().zip(masks).all(|(word, mask)| u32::from_le_bytes(*word) & mask == mask);
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
        let (blocks, bytes) = build(&pages);
        let segments: Vec<&[u8]> = cut(&bytes, 5).collect();
        assert_eq!(segments.len(), super::segments(blocks, 5));
        assert!(segments.len() > 1 && segments.iter().all(|p| p.len() <= SEGMENT_BYTES));
        let probed = |key: u64| {
            let (segment, at) = location(key, blocks, 5);
            let found = probe(segments[segment], at, 5, key);
            let whole = probe(&bytes, location_in_whole(key, blocks_of_whole(&bytes, 5).unwrap(), 5), 5, key);
            assert!(found.iter().eq(whole.iter()), "cut or whole, one answer");
            found
        };
        assert!((0..100_000).all(|n| probed(key(n)).has(n as usize / 20_000)));
        let through: usize = (100_000..140_000).map(|n| probed(key(n)).count()).sum();
        assert!(through < 5 * 40_000 / 35, "{through} of 200000 absent keys were let through");
    }
}
