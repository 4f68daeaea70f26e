//! MariaDB: where everything lives. The supervised server, the schema, journal, receipts, catalogue, segments, records.

#![warn(missing_docs)]

mod bloom_sets;
mod catalogue;
mod change;
mod chunk_blooms;
mod claim;
mod disk_cache;
mod duties;
mod error;
pub mod fault;
mod journal;
mod look;
mod migrations;
mod one_trip;
mod orphans;
mod pool;
mod receipts;
pub mod records;
mod relay;
mod sealed;
mod segments;
mod server;
mod sql;

pub use catalogue::{Merge, Seal};
pub use change::SealedRows;
pub use chunk_blooms::ChunkBlooms;
pub use claim::{Claim, Node, Others, STILL, ids_up_to};
pub use duties::DutyOwner;
pub use error::StoreError;
pub use journal::{Commit, Committed, JournalEntry, JournalRowRef, JournalTable, ROTATE_BYTES, StoredBatch};
pub use look::{Look, ReadUpTo};
pub use orphans::Orphans;
pub use pool::{Store, StoreOptions};
pub use receipts::{FoundReceipt, StoredReceipt};
pub use sealed::Keys;
pub use segments::{BucketRef, ColumnCache, SegmentCache, SegmentReader};
pub use server::{Server, ServerSettings};

/// Shorthand used across the crate.
pub type Result<T, E = StoreError> = std::result::Result<T, E>;

#[cfg(test)]
mod tests;
