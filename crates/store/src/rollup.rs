//! Roll-ups of chunks' filters as records.
//!
//! Rules of recovery, a test each:
//! - Parts of a roll-up without its record belong to nothing and are swept.
//! - A roll-up happened when its record is there; it names only chunks that stood in its bucket then.

use crate::catalogue::PARTS_AT_ONCE;
use crate::claim::Claim;
use crate::fault::Step;
use crate::{Result, Store, StoreError, sql};

/// A roll-up whose parts are written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RollupRow {
    /// From the numbers of chunks.
    pub id: u64,
    /// The lane of all its chunks.
    pub lane: u32,
    /// Their bucket.
    pub bucket: i32,
    /// How many parts it has.
    pub parts: u16,
    /// Of all its parts.
    pub checksum: u32,
    /// Its chunks, by place.
    pub chunks: Vec<u64>,
}

/// Where a chunk stands in a roll-up.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RollupPlace {
    /// The roll-up.
    pub id: u64,
    /// The chunk's place in it.
    pub place: u16,
    /// Where the roll-up's parts stand.
    pub bucket: i32,
    /// Of all its parts.
    pub checksum: u32,
}

impl Store {
    /// Writes the parts of a roll-up that no record names yet.
    ///
    /// # Errors
    /// Where the database fails; what was written is swept at the next start.
    pub async fn write_rollup_parts(&self, bucket: i32, id: u64, parts: &[Vec<u8>]) -> Result<()> {
        self.remove_unnamed(bucket, id).await?;
        for (n, group) in parts.chunks(PARTS_AT_ONCE).enumerate() {
            self.write_parts(bucket, id, (n * PARTS_AT_ONCE) as u16, group).await?;
        }
        Ok(())
    }

    /// Names a roll-up whose parts are written, or does nothing. When the outcome of an earlier try is unknown, calling
    /// again finds out.
    ///
    /// # Errors
    /// [`StoreError::Fenced`], [`StoreError::Missing`] where the bucket is closing or a chunk is no longer in it.
    pub async fn roll_up(&self, claim: &Claim, row: &RollupRow) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        self.fence_work(&mut tx, claim).await?;
        self.faults.reach(Step::Fenced)?;
        let done: i64 = sqlx::query_scalar(sql::ROLLUP_EXISTS).bind(row.id).fetch_one(&mut *tx).await?;
        if done > 0 {
            return Ok(());
        }
        self.use_bucket(&mut tx, row.bucket).await?;
        let add = sqlx::query(sql::ROLLUP_ADD)
            .bind(row.id)
            .bind(row.lane)
            .bind(row.bucket)
            .bind(row.parts)
            .bind(row.checksum);
        add.execute(&mut *tx).await?;
        for (place, chunk) in (0u16..).zip(&row.chunks) {
            let here = sqlx::query_scalar(sql::CHUNK_IN_BUCKET).bind(chunk).bind(row.bucket);
            let here: i64 = here.fetch_one(&mut *tx).await?;
            if here != 1 {
                return Err(StoreError::Missing(format!("chunk {chunk:x} in bucket {}; no roll-up made", row.bucket)));
            }
            sqlx::query(sql::ROLLUP_CHUNK_ADD).bind(chunk).bind(row.id).bind(place).execute(&mut *tx).await?;
        }
        self.faults.reach(Step::Added)?;
        self.end_swap(tx).await
    }
}
