//! Step 9 and what search reads: the chunk, format version 1. Described for people in `docs/chunk-format.md`.
//!
//! ```text
//!            part 0                         part 1 .. n
//! ┌────────┬───────────┬────────┐   ┌────────┬──────────────────────────────┐
//! │ header │ directory │ filter │   │ header │ block block block …          │  column by column,
//! └────────┴───────────┴────────┘   └────────┴──────────────────────────────┘  within one page by page
//!
//! header    := magic "CvxP"  version:u16  part:u16  chunk:u64  crc:u32 (of the payload)      all LE, 20 bytes
//! part 0    := packed_len:u32 LE  raw_len:u32 LE  directory (one zstd frame of raw_len)  filter
//! directory := rows:varint  severities:varint  pages:varint  page*  columns:varint  column*
//! page      := rows:varint  earliest:zigzag varint  latest:zigzag varint
//! column    := key (see journal)  block for each page
//! block     := 0 (no row of the page has it)
//!            | 1 part:varint offset:varint length:varint
//!            | 2 part:varint offset:varint length:varint least:f64 LE largest:f64 LE
//! filter    := 32-byte blocks (see filter)
//! ```
//!
//! Rows stand in (time, id) order; a page is up to 8192 of them; a part is at most 4 MiB; a chunk never changes.
//! Assumptions: bytes at rest are checked by the part's CRC before anything reads them ([`VerifiedPart`]); what a CRC
//! lets through may fail to decode, but is bounded before it is allocated.

mod filter;
mod keys;
mod part;
mod prune;
mod reader;
mod writer;

pub use filter::Membership;
pub use part::VerifiedPart;
pub use prune::may_match;
pub use reader::{ChunkPage, ChunkSource, Directory};
pub use writer::{BuiltChunk, MAX_CHUNK_ROWS, build_chunks};

/// The version written, and the newest read.
pub const VERSION: u16 = 1;
/// A part's size at most, header included.
pub const MAX_PART_BYTES: usize = 4 << 20;

#[cfg(test)]
mod tests;
