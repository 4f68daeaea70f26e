//! Step 7: receipts. A receipt is what was answered for a body. It is committed with the body's events, so that the same
//! body sent again gets the same answer and is stored once.
//!
//! They stand in a table a day, `receipt_<day from 1970>`, which goes whole once it is old enough. Rows that lie where their
//! hashes fall leave a file as large as it was when they are removed one by one. Rows are small and have no other index: up to
//! 1 MiB a file grows by single pages, and beyond it keeps several MiB free. What was kept before there was a table a day
//! stands in `receipt` until it is old enough.
//!
//! Rules, a test each:
//! - A receipt is there if and only if the events it answers for were committed.
//! - Of two nodes that store one name at once one succeeds, on either side of midnight too: what is made near a midnight
//!   stands in the tables of both days.
//! - Any node finds a receipt, whoever made its table, and until its table goes.

use crate::journal::REMEMBERED_ROWS;
use crate::{Result, Store, sql};
use calvex_language::model::time::{DAY_NS, day_of};
use sqlx::mysql::MySqlRow;
use sqlx::pool::PoolConnection;
use sqlx::{Executor, MySql, MySqlConnection, Row};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

/// So near to a midnight a receipt stands in the tables of both days. Nodes whose clocks differ by less than twice this find
/// each other's.
const SEAM_NS: i64 = 15 * 60 * 1_000_000_000;
/// Bytes that are kept of a name's hash: as many as nobody finds two texts for. The undated table has all 32.
const NAME: usize = 16;
/// Bytes that are kept of a body's hash, by which a sender's slip is noticed.
const BODY: usize = 8;
const SECOND_NS: i64 = 1_000_000_000;
/// The table from before there was one a day.
const UNDATED: &str = "receipt";

/// A receipt to be kept.
#[derive(Debug, Clone)]
pub struct StoredReceipt {
    /// The sender's key.
    pub key_id: u32,
    /// The hash by which a repetition is known: of the idempotency key, or of the body and its time.
    pub name: [u8; 32],
    /// Hash of the body, where another body could come under the same name.
    pub body: Option<[u8; 32]>,
    /// The answer given.
    pub answer: Vec<u8>,
    /// When.
    pub made_ns: i64,
}

/// A receipt as it was found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FoundReceipt {
    /// The first bytes of the body's hash.
    body: Vec<u8>,
    /// The answer given.
    pub answer: Vec<u8>,
    /// When, in seconds from 1970.
    pub made_s: u64,
}

impl FoundReceipt {
    /// Whether it was made for the body with this hash.
    pub fn is_of(&self, body: &[u8; 32]) -> bool {
        !self.body.is_empty() && body.starts_with(&self.body)
    }
}

/// The tables that stand.
#[derive(Debug, Default)]
pub(crate) struct ReceiptTables {
    days: BTreeSet<i32>,
    /// Whether the undated one holds any.
    has_undated: bool,
}

impl ReceiptTables {
    /// The names of those of some days, each with how many bytes of a hash stand there.
    fn of(&self, days: impl std::ops::RangeBounds<i32>) -> Vec<(String, usize)> {
        let dated = self.days.range(days).map(|day| (table_of(*day), NAME));
        dated.chain(self.has_undated.then(|| (UNDATED.to_owned(), 32))).collect()
    }
}

/// The table of a day.
pub(crate) fn table_of(day: i32) -> String {
    format!("receipt_{day}")
}

/// The first and last of the days in whose tables a receipt of this moment stands: near a midnight these are two. A clock
/// from before 1970 has that year's first day.
fn days_of(made_ns: i64) -> [i32; 2] {
    [made_ns.saturating_sub(SEAM_NS), made_ns.saturating_add(SEAM_NS)].map(|at_ns| day_of(at_ns).max(0))
}

/// Receipts by the days in whose tables they go.
pub(crate) fn by_day(receipts: &[StoredReceipt]) -> BTreeMap<i32, Vec<&StoredReceipt>> {
    let mut days = BTreeMap::<i32, Vec<_>>::new();
    for receipt in receipts {
        let [day, next] = days_of(receipt.made_ns);
        (day..=next).for_each(|day| days.entry(day).or_default().push(receipt));
    }
    days
}

/// Adds receipts to a day's table.
///
/// # Errors
/// Where one of their names stands there, or the database fails.
pub(crate) async fn insert(
    connection: &mut MySqlConnection,
    day: i32,
    receipts: &[&StoredReceipt],
) -> sqlx::Result<()> {
    let rows = vec!["(?, ?, ?, ?, ?)"; receipts.len()].join(", ");
    let insert = format!("INSERT INTO {} ({COLUMNS}) VALUES {rows}", table_of(day));
    let mut insert = sqlx::query(sql::safe(insert)).persistent(receipts.len() <= REMEMBERED_ROWS);
    for receipt in receipts {
        let [name, body, answer] = columns_of(receipt);
        insert = insert.bind(receipt.key_id).bind(name).bind(body).bind(answer).bind(seconds(receipt.made_ns));
    }
    insert.execute(connection).await?;
    Ok(())
}

/// The columns of a row, in the order in which it is added.
pub(crate) const COLUMNS: &str = "key_id, name, body, answer, made_s";

/// What stands in the columns `name`, `body` and `answer`.
pub(crate) fn columns_of(receipt: &StoredReceipt) -> [&[u8]; 3] {
    let body = receipt.body.as_ref().map_or(&[][..], |body| first(body, BODY));
    [first(&receipt.name, NAME), body, &receipt.answer]
}

/// Whole seconds from 1970; none before.
pub(crate) fn seconds(at_ns: i64) -> u32 {
    u32::try_from(at_ns.div_euclid(SECOND_NS).max(0)).unwrap_or(u32::MAX)
}

fn first(hash: &[u8; 32], bytes: usize) -> &[u8] {
    hash.get(..bytes).unwrap_or(hash)
}

impl Store {
    /// The newest receipt under one of these names that was made since the second of `since_ns`.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn receipt(
        &self,
        key_id: u32,
        names: &[[u8; 32]],
        since_ns: i64,
        now_ns: i64,
    ) -> Result<Option<FoundReceipt>> {
        let today = day_of(now_ns).max(0);
        let tables = self.receipt_tables(today..=today).await?;
        let found = match self.receipts_in(&tables, key_id, names, since_ns).await {
            // Another node had no more use for one of them.
            Err(e) if crate::error::is_missing_table(&e) => {
                let tables = self.read_receipt_tables().await?;
                self.receipts_in(&tables, key_id, names, since_ns).await?
            }
            found => found?,
        };
        let found = found
            .iter()
            .map(|row| Ok(FoundReceipt { body: row.try_get(0)?, answer: row.try_get(1)?, made_s: row.try_get(2)? }));
        Ok(found.collect::<Result<Vec<_>>>()?.into_iter().max_by_key(|receipt| receipt.made_s))
    }

    /// Those of every table from the day of `since_ns` on.
    async fn receipts_in(
        &self,
        tables: &ReceiptTables,
        key_id: u32,
        names: &[[u8; 32]],
        since_ns: i64,
    ) -> sqlx::Result<Vec<MySqlRow>> {
        let tables = tables.of(day_of(since_ns)..);
        let asked = vec!["?"; names.len()].join(", ");
        let select = |(table, _): &(String, usize)| match table.as_str() {
            UNDATED => format!(
                "SELECT body, answer, CAST(made_ns DIV {SECOND_NS} AS UNSIGNED) FROM {UNDATED}
                 WHERE key_id = ? AND idempotency IN ({asked}) AND made_ns DIV {SECOND_NS} >= ?"
            ),
            dated => format!(
                "SELECT body, answer, CAST(made_s AS UNSIGNED) FROM {dated}
                 WHERE key_id = ? AND name IN ({asked}) AND made_s >= ?"
            ),
        };
        let selects: Vec<String> = tables.iter().map(select).collect();
        if selects.is_empty() {
            return Ok(Vec::new());
        }
        let select = selects.join(" UNION ALL ");
        let query = || {
            let mut query = sqlx::query(sql::safe(select.clone()));
            for (_, bytes) in &tables {
                query = query.bind(key_id);
                for name in names {
                    query = query.bind(first(name, *bytes));
                }
                query = query.bind(seconds(since_ns));
            }
            query
        };
        // The connection of the last look is not asked first whether it lives, which saves a round trip.
        let kept = self.receipt_looks.lock().take();
        if let Some(mut kept) = kept
            && let Ok(rows) = query().fetch_all(&mut *kept).await
        {
            self.keep_for_looks(kept);
            return Ok(rows);
        }
        let mut connection = self.pool.acquire().await?;
        let rows = query().fetch_all(&mut *connection).await?;
        self.keep_for_looks(connection);
        Ok(rows)
    }

    fn keep_for_looks(&self, connection: PoolConnection<MySql>) {
        let mut kept = self.receipt_looks.lock();
        // A pool that closes waits for its connections.
        if !self.pool.is_closed() {
            *kept = Some(connection);
        }
    }

    /// The tables that stand, those of some days among them: they are made where they are missing.
    ///
    /// # Errors
    /// Where the database fails.
    pub(crate) async fn receipt_tables(&self, days: std::ops::RangeInclusive<i32>) -> Result<Arc<ReceiptTables>> {
        let missing = |tables: &ReceiptTables| days.clone().filter(|d| !tables.days.contains(d)).collect::<Vec<_>>();
        let known = self.receipt_tables.lock().clone();
        if missing(&known).is_empty() {
            return Ok(known);
        }
        // Another node may have made them: in a cluster each statement that makes a table holds all servers, also where it
        // finds the table there.
        let known = self.read_receipt_tables().await?;
        let missing = missing(&known);
        if missing.is_empty() {
            return Ok(known);
        }
        for day in missing {
            let create = format!(
                "CREATE TABLE IF NOT EXISTS {} (
                    key_id INT UNSIGNED NOT NULL, name BINARY({NAME}) NOT NULL, body VARBINARY({BODY}) NOT NULL,
                    answer BLOB NOT NULL, made_s INT UNSIGNED NOT NULL, PRIMARY KEY (key_id, name)) ENGINE=InnoDB",
                table_of(day)
            );
            self.pool.execute(sql::safe(create)).await?;
        }
        self.read_receipt_tables().await
    }

    /// Forgets which tables stand; they are looked up again when they are needed.
    pub(crate) fn forget_receipt_tables(&self) {
        *self.receipt_tables.lock() = Arc::default();
    }

    async fn read_receipt_tables(&self) -> Result<Arc<ReceiptTables>> {
        let names: Vec<String> = sqlx::query_scalar(sql::RECEIPT_TABLES).fetch_all(&self.pool).await?;
        let days = names.iter().filter_map(|name| name.strip_prefix("receipt_")?.parse().ok()).collect();
        let undated: Option<i64> = sqlx::query_scalar(sql::RECEIPT_UNDATED).fetch_optional(&self.pool).await?;
        let read = Arc::new(ReceiptTables { days, has_undated: undated.is_some() });
        *self.receipt_tables.lock() = read.clone();
        Ok(read)
    }

    /// Forgets receipts made before a day, and makes the tables of today and tomorrow ahead of their first receipts. Tables
    /// that lie as far ahead of today, which a clock that was wrong has left, go too.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn expire_receipts(&self, before_day: i32, today: i32) -> Result<()> {
        self.forget_receipt_tables();
        let tables = self.receipt_tables(today..=today.saturating_add(1)).await?;
        let first = before_day.min(today);
        let last = today.saturating_add(today.saturating_sub(first).max(1));
        for day in tables.days.iter().filter(|day| !(first..=last).contains(*day)) {
            self.pool.execute(sql::safe(format!("DROP TABLE IF EXISTS {}", table_of(*day)))).await?;
        }
        if tables.has_undated {
            let before_ns = i64::from(before_day).saturating_mul(DAY_NS);
            let expire = || sqlx::query(sql::RECEIPT_EXPIRE).bind(before_ns).execute(&self.pool);
            while expire().await?.rows_affected() > 0 {}
        }
        self.read_receipt_tables().await?;
        Ok(())
    }
}
