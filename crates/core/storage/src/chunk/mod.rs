//! Step 9 and what search reads: the chunk, format version 4. Described for people in `docs/formats.md`.
//!
//! ```text
//!        segment 0              segment 1 .. n                             segment n+1 ..
//! ┌────────┬───────────┐ ┌────────┬──────────────────────────────┐ ┌────────┬─────────────────────────┐
//! │ header │ directory │ │ header │ block block block …          │ │ header │ a piece of the blooms  │
//! └────────┴───────────┘ └────────┴──────────────────────────────┘ └────────┴─────────────────────────┘
//!                          column by column, within one page by page
//!
//! header    := magic "CvxP"  version:u16  segment:u16  chunk:u64  crc:u32 (of the payload)      all LE, 20 bytes
//! segment 0    := raw_len:u32 LE  directory (one zstd frame of raw_len)
//! directory := rows:varint  severities:varint  blooms  pages:varint  page*  columns:varint  column*
//! blooms   := first segment:varint  blocks a page:varint
//! page      := rows:varint  earliest:zigzag varint  latest:zigzag varint  weight:varint
//! column    := key (see journal)  shared  block for each page
//! shared    := 0 | 1 values:varint location                    what several pages have, as one dictionary
//! block     := 0 (no row of the page has it)
//!            | 1 location
//!            | 2 location least:f64 LE largest:f64 LE
//!            | 3 the same, and the page's bloom does not hold its numbers (see keys)
//! location     := segment:varint offset:varint length:varint
//! piece     := 32-byte blocks, those of all pages side by side (see `page_bloom`)
//! ```
//!
//! Rows stand in (time, id) order; a page is up to 8192 of them; blocks stand one behind another and are cut into segments
//! wherever one is full, so a block may go on in the next; keys ascend, so own columns come first; a chunk never changes.
//! Beside it, a bloom of the whole chunk (see `chunk_bloom`) stands in a bloom set with those of others (see `bloom_set`).
//!
//! | version | since | what changed |
//! | --- | --- | --- |
//! | 1 | first | whole messages, one bloom a chunk; still read (see [`v1`]) |
//! | 2 | second | templates and variables, packed numbers, shared dictionaries, a bloom a page in segment 1, overflow; read |
//! | 3 | | segments of 64 KiB, blooms cut into such, so that a question for few events fetches little |
//! | 3 | | and the places of ids by distance (see `ordinals`) |
//! | 4 | fourth | blooms of pages of 9 bits a key instead of 14, beside bloom sets, and without dense numbers; codes by distance |
//! | 4 | | and keys of whole texts whose words are short, and of how words begin |
//!
//! Assumptions: bytes at rest are checked by the segment's CRC before anything reads them ([`VerifiedSegment`]); what a CRC
//! lets through may fail to decode, but is bounded before it is allocated.

mod bloom_set;
mod chunk_bloom;
mod describe;
pub mod journal;
mod keys;
mod meta;
mod ordinals;
mod page;
mod page_bloom;
mod prune;
mod reader;
mod segment;
mod source;
pub(crate) mod v1;
mod writer;

pub use bloom_set::{BloomSet, MAX_MEMBERS, build_bloom_set, plan_bloom_set};
pub use chunk_bloom::{ChunkBloom, chunk_bloom};
pub use describe::{BlockDescription, ChunkDescription, ColumnDescription, describe};
pub use keys::IdentityHasher;
pub use meta::{BloomSetMember, BloomSetMeta, ChunkMeta};
pub use page::ChunkPage;
pub use prune::{asks_for_keys, chunk_may_match, chunks_that_may_match, pages_that_may_match};
pub use reader::{BlockRef, Directory, PageSpan};
pub use segment::{SegmentBytes, VerifiedSegment};
pub use source::{ChunkSource, ColumnAt, KeptColumns};
#[cfg(any(test, feature = "testing"))]
pub use writer::build_chunks_of;
pub use writer::{BuiltChunk, MAX_CHUNK_ROWS, build_chunks, checksum_of};

/// The version written, and the newest read.
pub const VERSION: u16 = 4;
/// Payload of a segment of blocks: small, so that whole events of one page are had without whole columns; and with its
/// header just what fits into four pages of an InnoDB table for large values, so that no room is left unused.
pub(crate) const SEGMENT_BYTES: usize = 4 * (16_384 - 54) - segment::HEADER_BYTES;

#[cfg(test)]
pub(crate) use segment::seal_segment as resealed;

/// The segments of a chunk under another id and with blooms that rule nothing out, so that nothing is pruned by them.
#[cfg(any(test, feature = "testing"))]
pub fn without_blooms(segments: Vec<Vec<u8>>, from: u64, to: u64) -> Vec<Vec<u8>> {
    let checked: Vec<VerifiedSegment> =
        (0u16..).zip(segments).filter_map(|(n, segment)| VerifiedSegment::check(segment, from, n).ok()).collect();
    let directory = checked.first().and_then(|first| Directory::read(from, first).ok());
    let blooms = directory.map(|d| d.bloom_segments()).unwrap_or_default();
    let payload = |(n, segment): (u16, &VerifiedSegment)| {
        segment::seal_segment(to, n, if blooms.contains(&n) { &[] } else { segment.payload() })
    };
    (0u16..).zip(&checked).map(payload).collect()
}

#[cfg(test)]
mod tests;
