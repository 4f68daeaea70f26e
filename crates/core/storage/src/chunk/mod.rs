//! Step 9 and what search reads: the chunk, format version 4. Described for people in `docs/chunk-format.md`.
//!
//! ```text
//!        part 0              part 1 .. n                             part n+1 ..
//! ┌────────┬───────────┐ ┌────────┬──────────────────────────────┐ ┌────────┬─────────────────────────┐
//! │ header │ directory │ │ header │ block block block …          │ │ header │ a piece of the filters  │
//! └────────┴───────────┘ └────────┴──────────────────────────────┘ └────────┴─────────────────────────┘
//!                          column by column, within one page by page
//!
//! header    := magic "CvxP"  version:u16  part:u16  chunk:u64  crc:u32 (of the payload)      all LE, 20 bytes
//! part 0    := raw_len:u32 LE  directory (one zstd frame of raw_len)
//! directory := rows:varint  severities:varint  filters  pages:varint  page*  columns:varint  column*
//! filters   := first part:varint  blocks a page:varint
//! page      := rows:varint  earliest:zigzag varint  latest:zigzag varint  weight:varint
//! column    := key (see journal)  shared  block for each page
//! shared    := 0 | 1 values:varint place                    what several pages have, as one dictionary
//! block     := 0 (no row of the page has it)
//!            | 1 place
//!            | 2 place least:f64 LE largest:f64 LE
//!            | 3 the same, and the page's filter does not hold its numbers (see keys)
//! place     := part:varint offset:varint length:varint
//! piece     := 32-byte blocks, those of all pages side by side (see filter)
//! ```
//!
//! Rows stand in (time, id) order; a page is up to 8192 of them; blocks stand one behind another and are cut into parts
//! wherever one is full, so a block may go on in the next; keys ascend, so own columns come first; a chunk never changes.
//! Beside it, a filter of the whole chunk (see `whole`) stands in a roll-up with those of others (see `rollup`).
//!
//! | version | since | what changed |
//! | --- | --- | --- |
//! | 1 | first | whole messages, one filter a chunk; still read (see [`v1`]) |
//! | 2 | second | templates and variables, packed numbers, shared dictionaries, a filter a page in part 1, overflow; read |
//! | 3 | | parts of 64 KiB, filters cut into such, so that a question for few events fetches little |
//! | 3 | | and the places of ids by distance (see `places`) |
//! | 4 | fourth | filters of pages of 9 bits a key instead of 14, beside roll-ups, and without dense numbers; codes by distance |
//! | 4 | | and keys of whole texts whose words are short, and of how words begin |
//!
//! Assumptions: bytes at rest are checked by the part's CRC before anything reads them ([`VerifiedPart`]); what a CRC
//! lets through may fail to decode, but is bounded before it is allocated.

mod describe;
mod filter;
pub mod journal;
mod keys;
mod part;
mod places;
mod prune;
mod reader;
mod rollup;
pub(crate) mod v1;
mod whole;
mod writer;

pub use describe::{BlockDescription, ChunkDescription, ColumnDescription, describe};
pub use keys::AsIs;
pub use part::{PartBytes, VerifiedPart};
pub use prune::{asks_for_keys, chunks_that_may_match, pages_that_may_match, whole_may_match};
pub use reader::{BlockRef, ChunkPage, ChunkSource, Directory, PageSpan};
pub use rollup::{MAX_MEMBERS, Rollup, build_rollup, plan_rollup};
pub use whole::{WholeFilter, whole_filter};
#[cfg(any(test, feature = "testing"))]
pub use writer::build_chunks_of;
pub use writer::{BuiltChunk, MAX_CHUNK_ROWS, build_chunks, checksum_of};

/// The version written, and the newest read.
pub const VERSION: u16 = 4;
/// Payload of a part of blocks: small, so that whole events of one page are had without whole columns; and with its
/// header just what fits into four pages of an InnoDB table for large values, so that no room is left unused.
pub(crate) const PART_BYTES: usize = 4 * (16_384 - 54) - part::HEADER_BYTES;

#[cfg(test)]
pub(crate) use part::seal_part as resealed;

/// The parts of a chunk under another id and with filters that tell nothing, so that nothing is pruned by them.
#[cfg(any(test, feature = "testing"))]
pub fn without_filter(parts: Vec<Vec<u8>>, from: u64, to: u64) -> Vec<Vec<u8>> {
    let checked: Vec<VerifiedPart> =
        (0u16..).zip(parts).filter_map(|(n, part)| VerifiedPart::check(part, from, n).ok()).collect();
    let filters = Directory::read(from, &checked[0]).map(|d| d.filter_parts()).unwrap_or_default();
    let payload = |(n, part): (u16, &VerifiedPart)| {
        part::seal_part(to, n, if filters.contains(&n) { &[] } else { part.payload() })
    };
    (0u16..).zip(&checked).map(payload).collect()
}

#[cfg(test)]
mod tests;
