//! Step 7: the node's claim, the journal and receipts. One commit is one transaction, fenced by the node's own row.
//!
//! Rules of recovery, a test each:
//! - A commit happened when the node's `seq` says so: the fence moves it in the same transaction.
//! - A journal row belongs to the epoch that wrote it; a later epoch of the node adopts what is left.
//! - A receipt is there if and only if the events it answers for were committed.

use crate::{Result, Store, StoreError, sql};
use sqlx::{Executor, MySqlConnection, Row};

/// A journal table is left for a new one beyond this size.
pub const ROTATE_BYTES: u64 = 64 << 20;

/// A node's hold on its row: who it is, and in which epoch.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Claim {
    /// The node's number.
    pub node: u16,
    /// Raised at every start.
    pub epoch: u32,
    /// The node's name.
    pub name: String,
}

/// One row to be journalled.
#[derive(Debug, Clone)]
pub struct JournalRow {
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
    /// Number of the journal table.
    pub table: u32,
    /// The epoch that wrote it.
    pub epoch: u32,
    /// Its seq.
    pub seq: u64,
}

/// A receipt to be kept.
#[derive(Debug, Clone)]
pub struct ReceiptRow {
    /// The sender's key.
    pub key_id: u32,
    /// Hash of the idempotency key, or of the body.
    pub idempotency: [u8; 32],
    /// Hash of the body.
    pub body: [u8; 32],
    /// The answer given.
    pub answer: Vec<u8>,
    /// When.
    pub made_ns: i64,
}

/// One group commit.
#[derive(Debug, Clone)]
pub struct Commit {
    /// The journal table written to.
    pub table: u32,
    /// The node's seq before this commit.
    pub after_seq: u64,
    /// Rows with the seqs that follow.
    pub rows: Vec<JournalRow>,
    /// Answers given to the senders.
    pub receipts: Vec<ReceiptRow>,
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
    /// Takes the node's place: raises its epoch, so that an earlier process can neither append nor seal.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn claim(&self, name: &str) -> Result<Claim> {
        sqlx::query(sql::NODE_ADD).bind(name).execute(&self.pool).await?;
        sqlx::query(sql::NODE_CLAIM).bind(name).execute(&self.pool).await?;
        let row = sqlx::query(sql::NODE_READ).bind(name).fetch_one(&self.pool).await?;
        Ok(Claim { node: row.try_get(0)?, epoch: row.try_get(1)?, name: name.to_owned() })
    }

    /// The journal tables in order; makes the first where there is none.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn journal_tables(&self) -> Result<Vec<u32>> {
        let tables: Vec<u32> = sqlx::query_scalar(sql::JOURNAL_TABLES).fetch_all(&self.pool).await?;
        if tables.is_empty() {
            self.add_journal_table(1).await?;
            return Ok(vec![1]);
        }
        Ok(tables)
    }

    /// Makes journal table `no`.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn add_journal_table(&self, no: u32) -> Result<()> {
        let create = format!(
            "CREATE TABLE IF NOT EXISTS journal_{no} (
                node SMALLINT UNSIGNED NOT NULL, epoch INT UNSIGNED NOT NULL, seq BIGINT UNSIGNED NOT NULL,
                lane_id INT UNSIGNED NOT NULL, day INT NOT NULL, late BOOLEAN NOT NULL, row_count INT UNSIGNED NOT NULL,
                batch LONGBLOB NOT NULL, PRIMARY KEY (node, epoch, seq)) ENGINE=InnoDB"
        );
        self.pool.execute(sql::safe(create)).await?;
        sqlx::query(sql::JOURNAL_TABLE_ADD).bind(no).execute(&self.pool).await?;
        Ok(())
    }

    /// Drops journal table `no` if it is empty.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn drop_journal_table(&self, no: u32) -> Result<bool> {
        let left: Option<u64> = sqlx::query_scalar(sql::safe(format!("SELECT seq FROM journal_{no} LIMIT 1")))
            .fetch_optional(&self.pool)
            .await?;
        if left.is_some() {
            return Ok(false);
        }
        sqlx::query(sql::JOURNAL_TABLE_REMOVE).bind(no).execute(&self.pool).await?;
        self.pool.execute(sql::safe(format!("DROP TABLE IF EXISTS journal_{no}"))).await?;
        Ok(true)
    }

    /// Every journal row of the node that is not sealed yet, oldest first, handed to `each` one by one.
    ///
    /// # Errors
    /// Where the database fails, or `each` does.
    pub async fn replay(&self, node: u16, mut each: impl FnMut(StoredBatch) -> Result<()>) -> Result<()> {
        for table in self.journal_tables().await? {
            let mut after = (0u32, 0u64);
            loop {
                let page = format!(
                    "SELECT epoch, seq, lane_id, day, late, batch FROM journal_{table}
                     WHERE node = ? AND (epoch, seq) > (?, ?) ORDER BY epoch, seq LIMIT 32"
                );
                let query = sqlx::query(sql::safe(page)).bind(node).bind(after.0).bind(after.1);
                let rows = query.fetch_all(&self.pool).await?;
                let Some(last) = rows.last() else { break };
                after = (last.try_get(0)?, last.try_get(1)?);
                for row in rows {
                    each(StoredBatch {
                        at: JournalRowRef { table, epoch: row.try_get(0)?, seq: row.try_get(1)? },
                        lane: row.try_get(2)?,
                        day: row.try_get(3)?,
                        late: row.try_get(4)?,
                        batch: row.try_get(5)?,
                    })?;
                }
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
        let runs = self.fit_packets(&commit.rows, |row| row.batch.len())?;
        let mut tx = self.pool.begin().await?;
        let count = commit.rows.len() as u64;
        let fence =
            sqlx::query(sql::FENCE_JOURNAL).bind(count).bind(claim.node).bind(claim.epoch).bind(commit.after_seq);
        if fence.execute(&mut *tx).await?.rows_affected() != 1 {
            let seq: Option<u64> =
                sqlx::query_scalar(sql::NODE_SEQ).bind(claim.node).bind(claim.epoch).fetch_optional(&mut *tx).await?;
            tx.rollback().await?;
            return match seq {
                Some(seq) if seq == commit.after_seq + count => Ok(Committed::Yes),
                _ => Err(StoreError::Fenced(claim.name.clone())),
            };
        }
        for rows in runs {
            insert_rows(&mut tx, claim, commit.table, rows).await?;
        }
        for receipt in &commit.receipts {
            let added = sqlx::query(sql::RECEIPT_ADD)
                .bind(receipt.key_id)
                .bind(&receipt.idempotency[..])
                .bind(&receipt.body[..])
                .bind(&receipt.answer)
                .bind(receipt.made_ns)
                .execute(&mut *tx)
                .await;
            match added {
                Err(sqlx::Error::Database(e)) if e.is_unique_violation() => {
                    tx.rollback().await?;
                    return Ok(Committed::ReceiptTaken);
                }
                added => added?,
            };
        }
        tx.commit().await?;
        Ok(Committed::Yes)
    }

    /// The receipt under a key, if there is one: body hash, answer and when.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn receipt(&self, key_id: u32, idempotency: &[u8; 32]) -> Result<Option<ReceiptRow>> {
        let row = sqlx::query(sql::RECEIPT_FIND).bind(key_id).bind(&idempotency[..]).fetch_optional(&self.pool).await?;
        row.map(|row| receipt_row(key_id, *idempotency, &row)).transpose()
    }

    /// The newest receipt for a body, made since `since_ns`, whatever its idempotency key.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn receipt_of_body(&self, key_id: u32, body: &[u8; 32], since_ns: i64) -> Result<Option<ReceiptRow>> {
        let query = sqlx::query(sql::RECEIPT_OF_BODY).bind(key_id).bind(&body[..]).bind(since_ns);
        let row = query.fetch_optional(&self.pool).await?;
        row.map(|row| receipt_row(key_id, *body, &row)).transpose()
    }

    /// Forgets receipts made before `before_ns`, a portion at a time; how many went.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn expire_receipts(&self, before_ns: i64) -> Result<u64> {
        Ok(sqlx::query(sql::RECEIPT_EXPIRE).bind(before_ns).execute(&self.pool).await?.rows_affected())
    }
}

fn receipt_row(key_id: u32, idempotency: [u8; 32], row: &sqlx::mysql::MySqlRow) -> Result<ReceiptRow> {
    let body: Vec<u8> = row.try_get(0)?;
    let body = body.try_into().unwrap_or([0; 32]);
    Ok(ReceiptRow { key_id, idempotency, body, answer: row.try_get(1)?, made_ns: row.try_get(2)? })
}

async fn insert_rows(tx: &mut MySqlConnection, claim: &Claim, table: u32, rows: &[JournalRow]) -> Result<()> {
    let head = format!("INSERT INTO journal_{table} (node, epoch, seq, lane_id, day, late, row_count, batch) ");
    let mut insert = sqlx::QueryBuilder::<sqlx::MySql>::new(head);
    insert.push_values(rows, |mut values, row| {
        values
            .push_bind(claim.node)
            .push_bind(claim.epoch)
            .push_bind(row.seq)
            .push_bind(row.lane)
            .push_bind(row.day)
            .push_bind(row.late)
            .push_bind(row.rows as u32)
            .push_bind(&row.batch);
    });
    insert.build().persistent(false).execute(tx).await?;
    Ok(())
}
