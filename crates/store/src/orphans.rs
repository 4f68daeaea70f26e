//! Segments that the catalogue does not name: written for nothing by a claim that ended, or of chunks that were replaced.
//!
//! Beside other nodes such a segment may still be read by a search that began before a merge, or may be the copy of a chunk
//! that is just being moved. So they are listed first, and removed later where the catalogue does not name them then either.

use crate::catalogue::parts_table;
use crate::{Result, Store, sql};
use std::collections::BTreeMap;
use std::ops::RangeInclusive;

/// So many of a bucket are listed at once; what is left is found by the next start.
const LISTED: u32 = 10_000;
/// Chunks that one statement names.
const SWEPT_AT_ONCE: usize = 500;

/// What names no segment of a bucket's table.
const UNNAMED: &str = "LEFT JOIN chunk c ON c.id = p.chunk AND c.bucket = ? LEFT JOIN rollup r ON r.id = p.chunk \
    WHERE c.id IS NULL AND r.id IS NULL";

/// Chunks by bucket, of which segments stand there that nothing named.
pub type Orphans = BTreeMap<i32, Vec<u64>>;

impl Store {
    /// Buckets whose table is there, and those whose table is not: it was dropped, or is about to be made.
    async fn buckets_by_table(&self) -> Result<(Vec<i32>, Vec<i32>)> {
        let (mut there, mut gone) = (Vec::new(), Vec::new());
        for day in self.buckets().await? {
            let exists: i64 =
                sqlx::query_scalar(sql::TABLE_EXISTS).bind(parts_table(day)).fetch_one(&self.pool).await?;
            if exists > 0 { there.push(day) } else { gone.push(day) }
        }
        Ok((there, gone))
    }

    /// Removes segments that were written under these ids and never catalogued, by claims that are over; how many. Only
    /// for a node that is alone on its database.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn sweep_orphans(&self, ids: &RangeInclusive<u64>) -> Result<u64> {
        let (there, gone) = self.buckets_by_table().await?;
        for day in gone {
            // Nobody else makes tables, so it was dropped up to its last step; that step is repeated here.
            self.forget_bucket(day).await?;
        }
        let mut swept = 0;
        for day in there {
            let delete = format!("DELETE p FROM {} p {UNNAMED} AND p.chunk BETWEEN ? AND ?", parts_table(day));
            let query = sqlx::query(sql::safe(delete)).bind(day).bind(ids.start()).bind(ids.end());
            swept += query.execute(&self.pool).await?.rows_affected();
        }
        Ok(swept)
    }

    /// Chunks under these ids of which segments stand in a bucket and the catalogue does not name them there, by bucket.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn orphans(&self, ids: &RangeInclusive<u64>) -> Result<Orphans> {
        let mut found = BTreeMap::new();
        for day in self.buckets_by_table().await?.0 {
            let select = format!(
                "SELECT DISTINCT p.chunk FROM {} p {UNNAMED} AND p.chunk BETWEEN ? AND ? LIMIT {LISTED}",
                parts_table(day)
            );
            let query = sqlx::query_scalar(sql::safe(select)).bind(day).bind(ids.start()).bind(ids.end());
            let chunks: Vec<u64> = query.fetch_all(&self.pool).await?;
            if !chunks.is_empty() {
                found.insert(day, chunks);
            }
        }
        Ok(found)
    }

    /// Removes the segments of chunks that were listed before, where the catalogue does not name them now either; how many.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn sweep_listed(&self, listed: &Orphans) -> Result<u64> {
        let mut swept = 0;
        let (there, _) = self.buckets_by_table().await?;
        for (day, chunks) in listed.iter().filter(|(day, _)| there.contains(day)) {
            for some in chunks.chunks(SWEPT_AT_ONCE) {
                // Numbers only; nothing comes from outside.
                let list = some.iter().map(u64::to_string).collect::<Vec<_>>().join(",");
                let delete = format!("DELETE p FROM {} p {UNNAMED} AND p.chunk IN ({list})", parts_table(*day));
                let query = sqlx::query(sql::safe(delete)).persistent(false).bind(day);
                swept += query.execute(&self.pool).await?.rows_affected();
            }
        }
        Ok(swept)
    }
}
