//! Bloom sets of chunks' filters as records.
//!
//! Rules of recovery, a test each:
//! - Parts of a bloom set without its record belong to nothing and are swept.
//! - A bloom set happened when its record is there; it names only chunks that stood in its bucket then.

use crate::catalogue::SEGMENTS_AT_ONCE;
use crate::claim::Claim;
use crate::fault::Step;
use crate::{Result, Store, StoreError, sql};
use calvex_storage::chunk::BloomSetMeta;

impl Store {
    /// Writes the segments of a bloom set that no record names yet.
    ///
    /// # Errors
    /// Where the database fails; what was written is swept at the next start.
    pub async fn write_bloom_set_segments(&self, bucket: i32, id: u64, segments: &[Vec<u8>]) -> Result<()> {
        self.remove_unnamed(bucket, id).await?;
        for (n, group) in segments.chunks(SEGMENTS_AT_ONCE).enumerate() {
            self.write_segments(bucket, id, (n * SEGMENTS_AT_ONCE) as u16, group).await?;
        }
        Ok(())
    }

    /// Names a bloom set whose segments are written, or does nothing. When the outcome of an earlier try is unknown, calling
    /// again finds out.
    ///
    /// # Errors
    /// [`StoreError::Fenced`], [`StoreError::Missing`] where the bucket is closing or a chunk is no longer in it.
    pub async fn bloom_set(&self, claim: &Claim, row: &BloomSetMeta) -> Result<()> {
        self.open_bucket(claim.slot, row.bucket).await?;
        let mut tx = self.pool.begin().await?;
        let n = self.fence_work(&mut tx, claim).await?;
        self.faults.reach(Step::Fenced)?;
        let done: i64 = sqlx::query_scalar(sql::BLOOM_SET_EXISTS).bind(row.id).fetch_one(&mut *tx).await?;
        if done > 0 {
            return Ok(());
        }
        self.use_bucket(&mut tx, claim, row.bucket).await?;
        let add = sqlx::query(sql::BLOOM_SET_ADD)
            .bind(row.id)
            .bind(row.lane)
            .bind(row.bucket)
            .bind(row.segments)
            .bind(row.checksum);
        add.execute(&mut *tx).await?;
        for (place, chunk) in (0u16..).zip(&row.chunks) {
            let here = sqlx::query_scalar(sql::CHUNK_IN_BUCKET).bind(chunk).bind(row.bucket);
            let here: i64 = here.fetch_one(&mut *tx).await?;
            if here != 1 {
                return Err(StoreError::Missing(format!(
                    "chunk {chunk:x} in bucket {}; no bloom set made",
                    row.bucket
                )));
            }
            sqlx::query(sql::BLOOM_SET_CHUNK_ADD).bind(chunk).bind(row.id).bind(place).execute(&mut *tx).await?;
        }
        // The rows of these chunks name the set now.
        crate::change::note_change(&mut tx, claim, n, &row.chunks, &[], &[]).await?;
        self.faults.reach(Step::Added)?;
        self.end_swap(tx).await
    }
}
