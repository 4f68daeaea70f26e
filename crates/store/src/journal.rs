//! Step 7: the journal. One commit is one transaction, which begins by moving the journal fence of the node's slot; its
//! receipts are in it.
//!
//! Rules of recovery, a test each:
//! - A commit happened when the fence stands behind it: it moves in the same transaction.
//! - A journal row belongs to the slot and epoch that wrote it; who owns these seals it.

use crate::claim::Claim;
use crate::one_trip;
use crate::receipts::{self, StoredReceipt};
use crate::{Result, Store, StoreError, sql};
use sqlx::mysql::MySqlRow;
use sqlx::{Executor, MySqlConnection, Row};
use std::collections::BTreeSet;

/// A journal table is left for another one beyond this size.
pub const ROTATE_BYTES: u64 = 64 << 20;
/// In a cluster the tables with these numbers are used by turns: a drop would hold every server's commits.
const TURNS: [u32; 2] = [1, 2];
/// Rows read back at once; each may have some MiB.
const REPLAYED_AT_ONCE: u32 = 8;
/// Statements that add up to so many rows stay prepared, which saves a round trip each time; there is one for each number of
/// rows and table.
pub(crate) const REMEMBERED_ROWS: usize = 4;

/// A journal table of a slot.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct JournalTable {
    /// The slot it belongs to; 0 for tables from before there were slots.
    pub slot: u16,
    /// Counts up.
    pub no: u32,
}

impl JournalTable {
    /// Its name in the database.
    pub(crate) fn name(self) -> String {
        match self.slot {
            0 => format!("journal_{}", self.no),
            slot => format!("journal_{slot}_{}", self.no),
        }
    }

    /// The table that follows it.
    fn next(self, by_turns: bool) -> Self {
        let [first, second] = TURNS;
        let no = match self.no {
            no if !by_turns => no + 1,
            no if no == first => second,
            _ => first,
        };
        JournalTable { no, ..self }
    }
}

/// One row to be journalled.
#[derive(Debug, Clone)]
pub struct JournalEntry {
    /// Gap-free within the epoch.
    pub seq: u64,
    /// The lane.
    pub lane: u32,
    /// The day of its events, from 1970.
    pub day: i32,
    /// Whether they came late.
    pub late: bool,
    /// How many events.
    pub rows: usize,
    /// The batch.
    pub batch: Vec<u8>,
}

/// Where a journal row stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct JournalRowRef {
    /// The journal table.
    pub table: JournalTable,
    /// The slot that wrote it.
    pub slot: u16,
    /// The epoch that wrote it.
    pub epoch: u32,
    /// Its seq.
    pub seq: u64,
}

/// One group commit.
#[derive(Debug, Clone)]
pub struct Commit {
    /// The journal table written to.
    pub table: JournalTable,
    /// The node's seq before this commit.
    pub after_seq: u64,
    /// Rows with the seqs that follow.
    pub rows: Vec<JournalEntry>,
    /// Answers given to the senders.
    pub receipts: Vec<StoredReceipt>,
}

/// What became of a commit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Committed {
    /// It is durable.
    Yes,
    /// Another node stored one of its receipts first; nothing was written.
    ReceiptTaken,
}

/// A journal row read back.
#[derive(Debug)]
pub struct StoredBatch {
    /// Where it stands.
    pub at: JournalRowRef,
    /// The lane.
    pub lane: u32,
    /// The day of its events.
    pub day: i32,
    /// Whether they came late.
    pub late: bool,
    /// The batch.
    pub batch: Vec<u8>,
}

impl Store {
    /// Every journal table, in order.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn journal_tables(&self) -> Result<Vec<JournalTable>> {
        let mut connection = self.pool.acquire().await?;
        crate::claim::tables(&mut connection).await
    }

    /// Makes a journal table.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn add_journal_table(&self, table: JournalTable) -> Result<()> {
        let create = format!(
            "CREATE TABLE IF NOT EXISTS {} (
                node SMALLINT UNSIGNED NOT NULL, epoch INT UNSIGNED NOT NULL, seq BIGINT UNSIGNED NOT NULL,
                lane_id INT UNSIGNED NOT NULL, day INT NOT NULL, late BOOLEAN NOT NULL, row_count INT UNSIGNED NOT NULL,
                batch LONGBLOB NOT NULL, PRIMARY KEY (node, epoch, seq)) ENGINE=InnoDB",
            table.name()
        );
        self.pool.execute(sql::safe(create)).await?;
        sqlx::query(sql::JOURNAL_TABLE_ADD).bind(table.slot).bind(table.no).execute(&self.pool).await?;
        Ok(())
    }

    /// The table that a slot goes on in after `table`: a new one, or in a cluster the other of two, once everything in it
    /// is sealed; none as long as it is not.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn next_journal_table(&self, table: JournalTable) -> Result<Option<JournalTable>> {
        let by_turns = self.is_in_cluster();
        let next = table.next(by_turns);
        self.add_journal_table(next).await?;
        let is_free = !by_turns || self.is_empty_journal(next).await?;
        Ok(is_free.then_some(next))
    }

    /// Whether a journal table of a slot that now writes to `current` is to be dropped once it is empty.
    pub fn is_past(&self, table: JournalTable, current: u32) -> bool {
        if self.is_in_cluster() { table.no != current && !TURNS.contains(&table.no) } else { table.no < current }
    }

    async fn is_empty_journal(&self, table: JournalTable) -> Result<bool> {
        let select = format!("SELECT seq FROM {} LIMIT 1", table.name());
        match sqlx::query_scalar::<_, u64>(sql::safe(select)).fetch_optional(&self.pool).await {
            Ok(row) => Ok(row.is_none()),
            // Someone else dropped it meanwhile.
            Err(e) if crate::error::is_missing_table(&e) => Ok(true),
            Err(e) => Err(e.into()),
        }
    }

    /// Drops a journal table if it is empty. Only the node that owns its slot may ask, and only for a table that it
    /// writes to no more.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn drop_journal_table(&self, table: JournalTable) -> Result<bool> {
        let name = table.name();
        let exists: i64 = sqlx::query_scalar(sql::TABLE_EXISTS).bind(&name).fetch_one(&self.pool).await?;
        if exists > 0 {
            if !self.is_empty_journal(table).await? {
                return Ok(false);
            }
            self.pool.execute(sql::safe(format!("DROP TABLE IF EXISTS {name}"))).await?;
        }
        sqlx::query(sql::JOURNAL_TABLE_REMOVE).bind(table.slot).bind(table.no).execute(&self.pool).await?;
        Ok(true)
    }

    /// The next journal rows of a table that the claim owns and that are not sealed yet, oldest first: those after a row of
    /// which slot, epoch and number are given. None where there are no more, or the table is gone.
    ///
    /// # Errors
    /// Where the database fails; the same may be asked again.
    pub async fn replay(&self, claim: &Claim, table: JournalTable, after: (u16, u32, u64)) -> Result<Vec<StoredBatch>> {
        let page = format!(
            "SELECT j.node, j.epoch, j.seq, j.lane_id, j.day, j.late, j.batch FROM {} j
             JOIN journal_owner o ON o.slot = j.node AND o.epoch = j.epoch
             WHERE o.owner_slot = ? AND o.owner_epoch = ? AND (j.node, j.epoch, j.seq) > (?, ?, ?)
             ORDER BY j.node, j.epoch, j.seq LIMIT {REPLAYED_AT_ONCE}",
            table.name()
        );
        let query = sqlx::query(sql::safe(page)).bind(claim.slot).bind(claim.epoch);
        let rows = match query.bind(after.0).bind(after.1).bind(after.2).fetch_all(&self.pool).await {
            // Its node had no more use for it.
            Err(e) if crate::error::is_missing_table(&e) => return Ok(Vec::new()),
            rows => rows?,
        };
        let batch = |row: &MySqlRow| {
            let (slot, epoch, seq) = (row.try_get(0)?, row.try_get(1)?, row.try_get(2)?);
            Ok(StoredBatch {
                at: JournalRowRef { table, slot, epoch, seq },
                lane: row.try_get(3)?,
                day: row.try_get(4)?,
                late: row.try_get(5)?,
                batch: row.try_get(6)?,
            })
        };
        rows.iter().map(batch).collect()
    }

    /// The slots and epochs whose journal rows are the claim's.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn owned(&self, claim: &Claim) -> Result<BTreeSet<(u16, u32)>> {
        let owned = sqlx::query(sql::OWNER_ALL).bind(claim.slot).bind(claim.epoch).fetch_all(&self.pool).await?;
        owned.iter().map(|row| Ok((row.try_get(0)?, row.try_get(1)?))).collect()
    }

    /// Forgets that the claim owns epochs of which no journal row is left; `left` are those that have some.
    ///
    /// # Errors
    /// Where the database fails; they are forgotten at the next start then.
    pub async fn forget_owned(&self, claim: &Claim, left: &BTreeSet<(u16, u32)>) -> Result<()> {
        for (slot, epoch) in self.owned(claim).await? {
            if (slot, epoch) != (claim.slot, claim.epoch) && !left.contains(&(slot, epoch)) {
                let forget = sqlx::query(sql::OWNER_FORGET).bind(slot).bind(epoch);
                forget.bind(claim.slot).bind(claim.epoch).execute(&self.pool).await?;
            }
        }
        Ok(())
    }

    /// Commits a group. When the outcome of an earlier try is unknown, calling again with the same commit finds out:
    /// it is written once.
    ///
    /// # Errors
    /// [`StoreError::Fenced`] where the claim is lost; others where nothing is known yet and the call may be repeated.
    pub async fn commit(&self, claim: &Claim, commit: &Commit) -> Result<Committed> {
        // A failed commit is repeated, so the kept connection is not asked first whether it lives.
        let kept = self.commits.lock().take();
        let mut connection = match kept {
            Some(kept) => kept,
            None => self.connection_for_commits().await?,
        };
        let outcome = match self.commit_on(&mut connection, claim, commit).await {
            // Another node, whose clock is ahead, had no more use for a table of receipts; it is made again.
            Err(StoreError::Database(e)) if crate::error::is_missing_table(&e) => {
                connection.execute(sql::ROLLBACK).await?;
                self.forget_receipt_tables();
                self.commit_on(&mut connection, claim, commit).await
            }
            outcome => outcome,
        };
        // What a failed commit left open ends with its connection.
        if outcome.is_ok() {
            *self.commits.lock() = Some(connection);
        }
        outcome
    }

    /// A connection that no one else uses, and which goes when it is dropped. Its first statement after a commit begins the
    /// next transaction unasked, which saves each commit a round trip.
    async fn connection_for_commits(&self) -> Result<MySqlConnection> {
        let mut connection = self.pool.acquire().await?.detach();
        connection.execute(sql::BEGIN_UNASKED).await?;
        Ok(connection)
    }

    async fn commit_on(&self, connection: &mut MySqlConnection, claim: &Claim, commit: &Commit) -> Result<Committed> {
        let runs = self.fit_packets(&commit.rows, |row| row.batch.len())?;
        let receipts = receipts::by_day(&commit.receipts);
        for day in receipts.keys() {
            self.receipt_tables(*day..=*day).await?;
        }
        // In a cluster one statement was not tried under chaos.
        if !self.is_in_cluster() && one_trip::commit(connection, claim, commit, &receipts).await? {
            return Ok(Committed::Yes);
        }
        let count = commit.rows.len() as u64;
        let fence =
            sqlx::query(sql::FENCE_JOURNAL).bind(count).bind(claim.slot).bind(claim.epoch).bind(commit.after_seq);
        if fence.execute(&mut *connection).await?.rows_affected() != 1 {
            let seq: Option<u64> = sqlx::query_scalar(sql::JOURNAL_SEQ)
                .bind(claim.slot)
                .bind(claim.epoch)
                .fetch_optional(&mut *connection)
                .await?;
            connection.execute(sql::ROLLBACK).await?;
            return match seq {
                Some(seq) if seq == commit.after_seq + count => Ok(Committed::Yes),
                _ => Err(StoreError::Fenced(claim.name.clone())),
            };
        }
        for rows in runs {
            insert_rows(connection, claim, commit.table, rows).await?;
        }
        for (day, receipts) in &receipts {
            for receipts in self.fit_packets(receipts, |receipt| receipt.answer.len())? {
                match receipts::insert(connection, *day, receipts).await {
                    Err(sqlx::Error::Database(e)) if e.is_unique_violation() => {
                        connection.execute(sql::ROLLBACK).await?;
                        return Ok(Committed::ReceiptTaken);
                    }
                    added => added?,
                }
            }
        }
        connection.execute(sql::COMMIT).await?;
        Ok(Committed::Yes)
    }
}

/// The columns of a journal row, in the order in which it is added.
pub(crate) const COLUMNS: &str = "node, epoch, seq, lane_id, day, late, row_count, batch";

async fn insert_rows(
    connection: &mut MySqlConnection,
    claim: &Claim,
    table: JournalTable,
    rows: &[JournalEntry],
) -> Result<()> {
    let head = format!("INSERT INTO {} ({COLUMNS}) ", table.name());
    let mut insert = sqlx::QueryBuilder::<sqlx::MySql>::new(head);
    insert.push_values(rows, |mut values, row| {
        values
            .push_bind(claim.slot)
            .push_bind(claim.epoch)
            .push_bind(row.seq)
            .push_bind(row.lane)
            .push_bind(row.day)
            .push_bind(row.late)
            .push_bind(row.rows as u32)
            .push_bind(&row.batch);
    });
    insert.build().persistent(rows.len() <= REMEMBERED_ROWS).execute(connection).await?;
    Ok(())
}
