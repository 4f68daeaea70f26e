//! MariaDB: where everything lives. The supervised server, the schema, journal, receipts, catalogue, parts, records.

mod backoff;
mod catalogue;
mod change;
mod claim;
mod error;
pub mod fault;
mod filters;
mod journal;
mod parts;
mod pool;
pub mod records;
mod relay;
mod rollup;
mod server;
mod sql;

pub use backoff::Backoff;
pub use catalogue::{ChunkRow, LaneRow, Merge, Seal};
pub use claim::{Claim, NodeRow, Others};
pub use error::StoreError;
pub use filters::Filters;
pub use journal::{Commit, Committed, JournalRow, JournalRowRef, JournalTable, ROTATE_BYTES, ReceiptRow, StoredBatch};
pub use parts::{Location, PartCache, PartReader};
pub use pool::{Store, StoreOptions};
pub use rollup::{RollupPlace, RollupRow};
pub use server::{Server, ServerSettings};

/// Shorthand used across the crate.
pub type Result<T, E = StoreError> = std::result::Result<T, E>;

#[cfg(test)]
mod tests;
