//! Steps 9 and 13: chunks, their buckets, sealing and expiry.
//!
//! Rules of recovery, a test each:
//! - Parts without a catalogue row belong to nothing and are swept.
//! - A chunk is sealed when its catalogue row is there; the journal rows it covers went in the same transaction.
//! - A merge happened when the catalogue names the new chunk; the old rows went in the same transaction.
//! - A bucket that is closing takes no chunk; it is dropped only when no catalogue row names it.

use crate::change::{note_change, origins_of, sealed_rows};
use crate::claim::Claim;
use crate::fault::Step;
use crate::journal::{JournalRowRef, JournalTable};
use crate::{Result, Store, StoreError, sql};
use calvex_language::domain::lane::Lane;
use calvex_storage::chunk::{BloomSetMember, ChunkMeta};
use sqlx::{Executor, MySqlConnection, Row};
use std::collections::BTreeMap;

/// Chunks whose segments are written, and the journal rows they cover.
#[derive(Debug, Clone)]
pub struct Seal {
    /// Usually one.
    pub chunks: Vec<ChunkMeta>,
    /// All of them go, or the seal does not happen.
    pub covers: Vec<JournalRowRef>,
}

/// Chunks whose segments are written, and the chunks they replace.
#[derive(Debug, Clone)]
pub struct Merge {
    /// Usually one.
    pub chunks: Vec<ChunkMeta>,
    /// All of them go, or the merge does not happen.
    pub replaces: Vec<ChunkMeta>,
}

/// Parts of one statement: about a MiB, so that a chunk is a few commits and no packet is large.
pub(crate) const SEGMENTS_AT_ONCE: usize = 16;

pub(crate) fn parts_table(bucket: i32) -> String {
    // Days before 1970 have no events that are kept, but a name must hold for any number.
    if bucket < 0 { format!("parts_m{}", -i64::from(bucket)) } else { format!("parts_{bucket}") }
}

impl Store {
    /// Every lane.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn lanes(&self) -> Result<Vec<Lane>> {
        let rows = sqlx::query(sql::LANE_ALL).fetch_all(&self.pool).await?;
        rows.iter()
            .map(|r| {
                Ok(Lane {
                    id: r.try_get(0)?,
                    name: r.try_get(1)?,
                    retention_days: r.try_get(2)?,
                    listed: r.try_get(3)?,
                    is_default: r.try_get(4)?,
                    day_events: r.try_get(5)?,
                    day_bytes: r.try_get(6)?,
                    owner: r.try_get(7)?,
                    audited: r.try_get(8)?,
                })
            })
            .collect()
    }

    /// Every chunk.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn chunks(&self) -> Result<Vec<ChunkMeta>> {
        let rows = sqlx::query(sql::CHUNK_ALL).fetch_all(&self.pool).await?;
        rows.iter().map(chunk_of).collect()
    }

    /// Makes the bucket and its table where they are missing, and has a slot hold it open. An existing one that is closing
    /// stays so, and is not held.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn open_bucket(&self, slot: u16, day: i32) -> Result<()> {
        let held: Option<bool> =
            sqlx::query_scalar(sql::BUCKET_HELD).bind(day).bind(slot).fetch_optional(&self.pool).await?;
        if held.is_some() {
            return Ok(());
        }
        let create = format!(
            "CREATE TABLE IF NOT EXISTS {} (chunk BIGINT UNSIGNED NOT NULL, part SMALLINT UNSIGNED NOT NULL,
             bytes LONGBLOB NOT NULL, PRIMARY KEY (chunk, part)) ENGINE=InnoDB",
            parts_table(day)
        );
        self.pool.execute(sql::safe(create)).await?;
        sqlx::query(sql::BUCKET_ADD).bind(day).execute(&self.pool).await?;
        let mut tx = self.pool.begin().await?;
        if sqlx::query(sql::BUCKET_HOLD).bind(day).execute(&mut *tx).await?.rows_affected() == 1 {
            sqlx::query(sql::BUCKET_HOLD_ADD).bind(day).bind(slot).execute(&mut *tx).await?;
        }
        tx.commit().await?;
        Ok(())
    }

    /// Writes segments of a chunk, the first of them number `from`, together. Until the seal, no one reads them.
    ///
    /// # Errors
    /// Where the database fails, or one of them is there already.
    pub async fn write_segments(&self, bucket: i32, chunk: u64, from: u16, segments: &[Vec<u8>]) -> Result<()> {
        let head = format!("INSERT INTO {} (chunk, part, bytes) ", parts_table(bucket));
        let mut insert = sqlx::QueryBuilder::<sqlx::MySql>::new(head);
        insert.push_values((from..).zip(segments), |mut row, (n, segment)| {
            row.push_bind(chunk).push_bind(n).push_bind(segment.as_slice());
        });
        insert.build().execute(&self.pool).await?;
        Ok(())
    }

    /// Reads one segment.
    ///
    /// # Errors
    /// Where the database fails, or the segment is not there.
    pub async fn read_segment(&self, bucket: i32, chunk: u64, segment: u16) -> Result<Vec<u8>> {
        let select = format!("SELECT bytes FROM {} WHERE chunk = ? AND part = ?", parts_table(bucket));
        let found = sqlx::query_scalar(sql::safe(select)).bind(chunk).bind(segment).fetch_optional(&self.pool).await?;
        found.ok_or_else(|| StoreError::Missing(format!("segment {segment} of chunk {chunk:x} in bucket {bucket}")))
    }

    /// Reads several segments of a chunk at once: those of them that are there, each with its number.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn read_segments(&self, bucket: i32, chunk: u64, segments: &[u16]) -> Result<Vec<(u16, Vec<u8>)>> {
        // Few statements, each prepared once: a list is filled up to a power of two with its last number.
        let (Some(last), length) = (segments.last(), segments.len().next_power_of_two()) else { return Ok(Vec::new()) };
        let places = vec!["?"; length].join(",");
        let select = format!("SELECT part, bytes FROM {} WHERE chunk = ? AND part IN ({places})", parts_table(bucket));
        let select = sqlx::query_as(sql::safe(select)).bind(chunk);
        let select = segments.iter().chain(std::iter::repeat(last)).take(length).fold(select, |s, n| s.bind(*n));
        Ok(select.fetch_all(&self.pool).await?)
    }

    /// Writes all segments of chunks that no catalogue row names yet.
    ///
    /// # Errors
    /// Where the database fails; what was written is swept later, or written again.
    pub async fn write_chunks(&self, chunks: &[(ChunkMeta, &[Vec<u8>])]) -> Result<()> {
        self.faults.reach(Step::SegmentsBegin)?;
        for (row, segments) in chunks {
            self.open_bucket(crate::claim::slot_of(row.id), row.bucket).await?;
            let mut connection = self.pool.acquire().await?;
            if is_catalogued(&mut connection, row).await? {
                // An earlier try went further than its answer said.
                continue;
            }
            drop(connection);
            self.remove_unnamed(row.bucket, row.id).await?;
            let mut from = 0;
            while let Some(rest) = segments.get(from..).filter(|rest| !rest.is_empty()) {
                if from * 2 >= segments.len() || rest.len() <= SEGMENTS_AT_ONCE {
                    self.faults.reach(Step::SegmentsHalf)?;
                }
                let group = &rest[..rest.len().min(SEGMENTS_AT_ONCE)];
                self.write_segments(row.bucket, row.id, from as u16, group).await?;
                from += group.len();
            }
        }
        self.faults.reach(Step::SegmentsDone)
    }

    /// Removes what an earlier try left of segments that nothing names.
    pub(crate) async fn remove_unnamed(&self, bucket: i32, id: u64) -> Result<()> {
        let delete = format!(
            "DELETE FROM {} WHERE chunk = ? AND NOT EXISTS (SELECT 1 FROM chunk WHERE id = ?)
             AND NOT EXISTS (SELECT 1 FROM rollup WHERE id = ?)",
            parts_table(bucket)
        );
        sqlx::query(sql::safe(delete)).bind(id).bind(id).bind(id).execute(&self.pool).await?;
        Ok(())
    }

    /// Seals: adds the catalogue rows and removes exactly the journal rows covered, or nothing. When the outcome of an
    /// earlier try is unknown, calling again finds out.
    ///
    /// # Errors
    /// [`StoreError::Fenced`], [`StoreError::Missing`] where the bucket is closing or a journal row is gone.
    pub async fn seal(&self, claim: &Claim, seal: &Seal) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let Some(n) = self.begin_swap(&mut tx, claim, &seal.chunks).await? else { return Ok(()) };
        let mut by_table: BTreeMap<(JournalTable, u16, u32), Vec<u64>> = BTreeMap::new();
        for row in &seal.covers {
            by_table.entry((row.table, row.slot, row.epoch)).or_default().push(row.seq);
        }
        let origins = origins_of(&seal.covers);
        for origin in &origins {
            let own = sqlx::query(sql::OWNER_USE).bind(origin.slot).bind(origin.epoch);
            let used = own.bind(claim.slot).bind(claim.epoch).execute(&mut *tx).await?.rows_affected();
            if used != 1 {
                return Err(StoreError::Fenced(claim.name.clone()));
            }
            for chunk in &seal.chunks {
                let add = sqlx::query(sql::ORIGIN_ADD).bind(chunk.id).bind(origin.slot).bind(origin.epoch);
                add.bind(origin.seq_min).bind(origin.seq_max).execute(&mut *tx).await?;
            }
        }
        let mut removed = 0;
        for ((table, slot, epoch), seqs) in by_table {
            for some in seqs.chunks(5000) {
                let list = some.iter().map(u64::to_string).collect::<Vec<_>>().join(",");
                let delete = format!("DELETE FROM {} WHERE node = ? AND epoch = ? AND seq IN ({list})", table.name());
                let query = sqlx::query(sql::safe(delete)).bind(slot).bind(epoch).persistent(false);
                removed += query.execute(&mut *tx).await?.rows_affected();
            }
        }
        if removed != seal.covers.len() as u64 {
            return Err(StoreError::Missing(format!(
                "journal row for each of the {} covered, {removed} were left; nothing was sealed",
                seal.covers.len()
            )));
        }
        let added: Vec<u64> = seal.chunks.iter().map(|c| c.id).collect();
        note_change(&mut tx, claim, n, &added, &[], &sealed_rows(&origins, &seal.chunks)).await?;
        self.end_swap(tx).await
    }

    /// Merges: puts chunks in the place of others, all of them or none. The segments of those replaced stay until
    /// [`Store::remove_segments`], for searches that still read them. When the outcome of an earlier try is unknown,
    /// calling again finds out.
    ///
    /// # Errors
    /// [`StoreError::Fenced`], [`StoreError::Missing`] where the bucket is closing, or one of the replaced is gone or
    /// got another term meanwhile.
    pub async fn merge(&self, claim: &Claim, merge: &Merge) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let Some(n) = self.begin_swap(&mut tx, claim, &merge.chunks).await? else { return Ok(()) };
        for old in &merge.replaces {
            let same = sqlx::query_scalar(sql::CHUNK_REMOVE_TERM).bind(old.id).bind(old.visible_until_ns);
            let same: i64 = same.fetch_one(&mut *tx).await?;
            if same != 1 {
                return Err(StoreError::Missing(format!("chunk {:x} as it was; nothing was merged", old.id)));
            }
            sqlx::query(sql::CHUNK_REMOVE).bind(old.id).execute(&mut *tx).await?;
        }
        let ids = |chunks: &[ChunkMeta]| chunks.iter().map(|c| c.id).collect::<Vec<_>>();
        note_change(&mut tx, claim, n, &ids(&merge.chunks), &ids(&merge.replaces), &[]).await?;
        self.end_swap(tx).await
    }

    /// Fences a transaction and adds catalogue rows; the number of the work. Nothing where an earlier try did so already.
    async fn begin_swap(&self, tx: &mut MySqlConnection, claim: &Claim, chunks: &[ChunkMeta]) -> Result<Option<u64>> {
        let n = self.fence_work(tx, claim).await?;
        self.faults.reach(Step::Fenced)?;
        if let Some(first) = chunks.first()
            && is_catalogued(tx, first).await?
        {
            return Ok(None);
        }
        for chunk in chunks {
            self.use_bucket(tx, claim, chunk.bucket).await?;
            sqlx::query(sql::CHUNK_ADD)
                .bind(chunk.id)
                .bind(chunk.lane)
                .bind(chunk.day)
                .bind(chunk.bucket)
                .bind(chunk.visible_until_ns)
                .bind(chunk.time_min)
                .bind(chunk.time_max)
                .bind(chunk.rows)
                .bind(chunk.bytes)
                .bind(chunk.segments)
                .bind(calvex_storage::chunk::VERSION)
                .bind(chunk.late)
                .bind(chunk.checksum)
                .execute(&mut *tx)
                .await?;
        }
        self.faults.reach(Step::Added)?;
        Ok(Some(n))
    }

    /// Begins a transaction that only the slot's newest epoch may commit; the number of the work.
    pub(crate) async fn fence_work(&self, tx: &mut MySqlConnection, claim: &Claim) -> Result<u64> {
        let moved = sqlx::query(sql::FENCE_WORK).bind(claim.slot).bind(claim.epoch).execute(tx).await?;
        match moved.rows_affected() {
            1 => Ok(moved.last_insert_id()),
            _ => Err(StoreError::Fenced(claim.name.clone())),
        }
    }

    /// Holds a bucket open for the transaction.
    pub(crate) async fn use_bucket(&self, tx: &mut MySqlConnection, claim: &Claim, bucket: i32) -> Result<()> {
        let used = sqlx::query(sql::BUCKET_USE).bind(bucket).bind(claim.slot).execute(tx).await?.rows_affected();
        if used == 1 { Ok(()) } else { Err(StoreError::Missing(format!("open bucket {bucket}"))) }
    }

    pub(crate) async fn end_swap(&self, tx: sqlx::Transaction<'_, sqlx::MySql>) -> Result<()> {
        self.faults.reach(Step::BeforeCommit)?;
        tx.commit().await?;
        self.faults.reach(Step::AfterCommit)
    }

    /// Removes the segments of a chunk that no catalogue row names any more.
    ///
    /// # Errors
    /// Where the database fails; they are swept at the next start then.
    pub async fn remove_segments(&self, bucket: i32, chunk: u64) -> Result<()> {
        let named: i64 = sqlx::query_scalar(sql::CHUNK_EXISTS).bind(chunk).fetch_one(&self.pool).await?;
        if named == 0 {
            let delete = format!("DELETE FROM {} WHERE chunk = ?", parts_table(bucket));
            match sqlx::query(sql::safe(delete)).bind(chunk).execute(&self.pool).await {
                // The bucket was dropped meanwhile, segments and all.
                Err(e) if crate::error::is_missing_table(&e) => {}
                done => {
                    done?;
                }
            }
        }
        Ok(())
    }

    /// Sets the term of a lane's chunks: shortening hides at once, lengthening keeps (their segments move at expiry).
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn reterm_chunks(&self, lane: u32, retention_days: u32) -> Result<()> {
        sqlx::query(sql::CHUNK_RETERM).bind(i64::from(retention_days)).bind(lane).execute(&self.pool).await?;
        Ok(())
    }

    /// The buckets whose day has come by `today`.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn buckets_due(&self, today: i32) -> Result<Vec<i32>> {
        Ok(sqlx::query_scalar(sql::BUCKET_DUE).bind(today).fetch_all(&self.pool).await?)
    }

    /// Every bucket.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn buckets(&self) -> Result<Vec<i32>> {
        Ok(sqlx::query_scalar(sql::BUCKET_ALL).fetch_all(&self.pool).await?)
    }

    /// Chunks of a bucket that are still to be seen at `now_ns`.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn live_chunks(&self, bucket: i32, now_ns: i64) -> Result<Vec<u64>> {
        Ok(sqlx::query_scalar(sql::BUCKET_LIVE).bind(bucket).bind(now_ns).fetch_all(&self.pool).await?)
    }

    /// Moves a chunk's segments to another, open bucket: copies, then swaps the catalogue row.
    ///
    /// # Errors
    /// [`StoreError::Fenced`], or where the database fails; the chunk then still stands where it stood.
    pub async fn move_chunk(&self, claim: &Claim, chunk: u64, from: i32, to: i32) -> Result<()> {
        let copy = format!(
            "REPLACE INTO {} (chunk, part, bytes) SELECT chunk, part, bytes FROM {} WHERE chunk = ?",
            parts_table(to),
            parts_table(from)
        );
        sqlx::query(sql::safe(copy)).bind(chunk).execute(&self.pool).await?;
        let mut tx = self.pool.begin().await?;
        let n = self.fence_work(&mut tx, claim).await?;
        self.use_bucket(&mut tx, claim, to).await?;
        sqlx::query(sql::CHUNK_MOVE).bind(to).bind(chunk).bind(from).execute(&mut *tx).await?;
        note_change(&mut tx, claim, n, &[chunk], &[chunk], &[]).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Closes a bucket to seals.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn close_bucket(&self, day: i32) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        close(&mut tx, day).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Drops a closed bucket's table, unless a live chunk still names it; then the bucket opens again.
    ///
    /// # Errors
    /// [`StoreError::Fenced`], or where the database fails; the steps done stay done and can be repeated.
    pub async fn drop_bucket(&self, claim: &Claim, day: i32, now_ns: i64) -> Result<bool> {
        let mut tx = self.pool.begin().await?;
        let n = self.fence_work(&mut tx, claim).await?;
        close(&mut tx, day).await?;
        let over: Vec<u64> = sqlx::query_scalar(sql::BUCKET_OVER).bind(day).bind(now_ns).fetch_all(&mut *tx).await?;
        sqlx::query(sql::BUCKET_CLEAR).bind(day).bind(now_ns).execute(&mut *tx).await?;
        note_change(&mut tx, claim, n, &[], &over, &[]).await?;
        let named: i64 = sqlx::query_scalar(sql::BUCKET_NAMED).bind(day).fetch_one(&mut *tx).await?;
        if named > 0 {
            sqlx::query(sql::BUCKET_REOPEN).bind(day).execute(&mut *tx).await?;
            sqlx::query(sql::BUCKET_USES_REOPEN).bind(day).execute(&mut *tx).await?;
            tx.commit().await?;
            return Ok(false);
        }
        sqlx::query(sql::BLOOM_SET_REMOVE).bind(day).execute(&mut *tx).await?;
        tx.commit().await?;
        self.pool.execute(sql::safe(format!("DROP TABLE IF EXISTS {}", parts_table(day)))).await?;
        self.forget_bucket(day).await?;
        Ok(true)
    }

    /// Forgets a closed bucket whose table is gone.
    pub(crate) async fn forget_bucket(&self, day: i32) -> Result<()> {
        sqlx::query(sql::BUCKET_USES_REMOVE).bind(day).execute(&self.pool).await?;
        sqlx::query(sql::BUCKET_REMOVE).bind(day).execute(&self.pool).await?;
        Ok(())
    }
}

/// A row of [`sql::CHUNK_ALL`].
pub(crate) fn chunk_of(r: &sqlx::mysql::MySqlRow) -> Result<ChunkMeta> {
    Ok(ChunkMeta {
        id: r.try_get(0)?,
        lane: r.try_get(1)?,
        day: r.try_get(2)?,
        bucket: r.try_get(3)?,
        visible_until_ns: r.try_get(4)?,
        time_min: r.try_get(5)?,
        time_max: r.try_get(6)?,
        rows: r.try_get(7)?,
        bytes: r.try_get(8)?,
        segments: r.try_get(9)?,
        late: r.try_get(10)?,
        checksum: r.try_get(14)?,
        bloom_set: match r.try_get(11)? {
            Some(id) => {
                Some(BloomSetMember { id, place: r.try_get(12)?, bucket: r.try_get(13)?, checksum: r.try_get(15)? })
            }
            None => None,
        },
    })
}

/// Closes a bucket in a transaction; whoever holds it open meanwhile conflicts with that.
async fn close(tx: &mut MySqlConnection, day: i32) -> Result<()> {
    sqlx::query(sql::BUCKET_CLOSE).bind(day).execute(&mut *tx).await?;
    sqlx::query(sql::BUCKET_USES_CLOSE).bind(day).execute(&mut *tx).await?;
    Ok(())
}

/// Whether the catalogue names this very chunk, as it does after a try whose outcome was lost.
async fn is_catalogued(connection: &mut MySqlConnection, chunk: &ChunkMeta) -> Result<bool> {
    let same = sqlx::query_scalar(sql::CHUNK_IS)
        .bind(chunk.id)
        .bind(chunk.rows)
        .bind(chunk.bytes)
        .bind(chunk.time_min)
        .bind(chunk.time_max)
        .bind(chunk.checksum);
    let same: i64 = same.fetch_one(connection).await?;
    Ok(same > 0)
}
