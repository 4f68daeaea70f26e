//! Step 9 and what search reads: the chunk, format version 2. Described for people in `docs/chunk-format.md`.
//!
//! ```text
//!        part 0              part 1                 part 2 .. n
//! ┌────────┬───────────┐ ┌────────┬────────┐ ┌────────┬──────────────────────────────┐
//! │ header │ directory │ │ header │ filter │ │ header │ block block block …          │  column by column,
//! └────────┴───────────┘ └────────┴────────┘ └────────┴──────────────────────────────┘  within one page by page
//!
//! header    := magic "CvxP"  version:u16  part:u16  chunk:u64  crc:u32 (of the payload)      all LE, 20 bytes
//! part 0    := raw_len:u32 LE  directory (one zstd frame of raw_len)
//! directory := rows:varint  severities:varint  pages:varint  page*  columns:varint  column*
//! page      := rows:varint  earliest:zigzag varint  latest:zigzag varint  weight:varint
//! column    := key (see journal)  shared  block for each page
//! shared    := 0 | 1 values:varint place                    what several pages have, as one dictionary
//! block     := 0 (no row of the page has it)
//!            | 1 place
//!            | 2 place least:f64 LE largest:f64 LE
//! place     := part:varint offset:varint length:varint
//! filter    := 32-byte blocks, those of all pages side by side (see filter)
//! ```
//!
//! Rows stand in (time, id) order; a page is up to 8192 of them; a part is about half a MiB and never above 4 MiB, a
//! block that is larger goes on in the next part; keys ascend, so own columns come first; a chunk never changes.
//!
//! | version | since | what changed |
//! | --- | --- | --- |
//! | 1 | first | whole messages, one filter a chunk; still read (see [`v1`]) |
//! | 2 | | templates and variables, packed numbers, shared dictionaries, a filter a page, overflow |
//!
//! Assumptions: bytes at rest are checked by the part's CRC before anything reads them ([`VerifiedPart`]); what a CRC
//! lets through may fail to decode, but is bounded before it is allocated.

mod describe;
mod filter;
mod keys;
mod part;
mod prune;
mod reader;
pub(crate) mod v1;
mod writer;

pub use describe::{BlockDescription, ChunkDescription, ColumnDescription, describe};
pub use keys::AsIs;
pub use part::{PartBytes, VerifiedPart};
pub use prune::pages_that_may_match;
pub use reader::{BlockRef, ChunkPage, ChunkSource, Directory, PageSpan};
#[cfg(test)]
pub(crate) use writer::build_chunks_of;
pub use writer::{BuiltChunk, MAX_CHUNK_ROWS, build_chunks};

/// The version written, and the newest read.
pub const VERSION: u16 = 2;
/// A part's size at most, header included.
pub const MAX_PART_BYTES: usize = 4 << 20;

#[cfg(test)]
pub(crate) use part::seal_part as resealed;

/// The parts of a chunk under another id and with a filter that fits no page, so that nothing is pruned by it.
#[cfg(test)]
pub(crate) fn without_filter(parts: Vec<Vec<u8>>, from: u64, to: u64) -> Vec<Vec<u8>> {
    let payload = |(n, part): (usize, Vec<u8>)| {
        let read = VerifiedPart::check(part, from, n as u16).map(|p| p.payload().to_vec()).unwrap_or_default();
        part::seal_part(to, n as u16, if n == 1 { &[] } else { &read })
    };
    parts.into_iter().enumerate().map(payload).collect()
}

#[cfg(test)]
mod tests;
