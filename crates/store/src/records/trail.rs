//! The audit trail: written in the transaction of what it records, read, and checked from end to end.

use crate::{Result, Store, sql};
use calvex_language::domain::access::Actor;
use calvex_language::domain::trail::{Broken, Entry, Walk};
use sqlx::mysql::MySqlRow;
use sqlx::{MySqlConnection, Row};

/// Longest text of an entry; what is longer is cut, which its end shows.
const MAX_BYTES: usize = 16_000;
/// Entries that are checked at once.
const CHECKED_AT_ONCE: u64 = 5_000;

/// An act, for the audit trail.
#[derive(Debug, Clone)]
pub struct Act<'a> {
    /// When, nanoseconds from 1970.
    pub at_ns: i64,
    /// Who did it.
    pub by: Actor<'a>,
    /// What was done, in a few words.
    pub act: &'static str,
    /// To what, and what it is now.
    pub what: String,
    /// What it was before.
    pub before: Option<String>,
    /// The chain of the node and epoch that does it; of neither for what is done through the data directory.
    pub chain: (u16, u32),
}

/// Which entries are asked for.
#[derive(Debug, Clone, Default)]
pub struct TrailAsk<'a> {
    /// From then on, nanoseconds from 1970.
    pub from_ns: Option<i64>,
    /// Before then.
    pub to_ns: Option<i64>,
    /// Of this person, team or program alone.
    pub who: Option<&'a str>,
    /// In whose words this stands: the act, what it was done to, what it was before.
    pub word: Option<&'a str>,
    /// Before the entry of this number in the table.
    pub before_id: Option<u64>,
    /// At most so many.
    pub limit: u32,
}

/// What checking the trail found.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct TrailChecked {
    /// Entries that stand in no chain: they are older than the chains.
    pub unchained: u64,
    /// Entries that were checked.
    pub entries: u64,
    /// Each chain's node, epoch, number of entries, and the hash of the last.
    pub heads: Vec<(u16, u32, u64, [u8; 32])>,
    /// The first link that does not hold.
    pub broken: Option<Broken>,
}

impl Store {
    /// Records an act that has no transaction of its own.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn audit(&self, act: &Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Entries of the trail with their numbers in the table, the latest first.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn trail(&self, ask: &TrailAsk<'_>) -> Result<Vec<(u64, Entry)>> {
        let rows = sqlx::query(sql::TRAIL)
            .bind(ask.from_ns.unwrap_or(i64::MIN))
            .bind(ask.to_ns.unwrap_or(i64::MAX))
            .bind(ask.before_id.unwrap_or(u64::MAX))
            .bind(ask.who)
            .bind(ask.who)
            .bind(ask.word)
            .bind(ask.word)
            .bind(ask.limit)
            .fetch_all(&self.pool)
            .await?;
        rows.iter().map(|r| Ok((r.try_get(9)?, entry_of(r)?))).collect()
    }

    /// Checks every link of every chain.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn check_trail(&self) -> Result<TrailChecked> {
        let unchained: i64 = sqlx::query_scalar(sql::TRAIL_UNCHAINED).fetch_one(&self.pool).await?;
        let mut checked = TrailChecked { unchained: u64::try_from(unchained).unwrap_or(0), ..TrailChecked::default() };
        for chain in sqlx::query(sql::CHAIN_ALL).fetch_all(&self.pool).await? {
            let (node, epoch, length): (u16, u32, u64) = (chain.try_get(0)?, chain.try_get(1)?, chain.try_get(2)?);
            let mut walk = Walk::default();
            loop {
                let query =
                    sqlx::query(sql::TRAIL_OF_CHAIN).bind(node).bind(epoch).bind(walk.head.0).bind(CHECKED_AT_ONCE);
                let rows = query.fetch_all(&self.pool).await?;
                for row in &rows {
                    let stored: Vec<u8> = row.try_get(9)?;
                    checked.broken = checked.broken.or(walk.next(&entry_of(row)?, &stored).err());
                    if checked.broken.is_some() {
                        return Ok(checked);
                    }
                    checked.entries += 1;
                }
                if rows.is_empty() {
                    break;
                }
            }
            if walk.head.0 < length {
                checked.broken = Some(Broken::Missing { node, epoch, n: walk.head.0 + 1 });
                return Ok(checked);
            }
            checked.heads.push((node, epoch, walk.head.0, walk.head.1));
        }
        Ok(checked)
    }

    /// The number of entries and the last hash of one chain; none where it has no entries.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn trail_head(&self, (slot, epoch): (u16, u32)) -> Result<Option<(u64, [u8; 32])>> {
        let row = sqlx::query(sql::CHAIN_HEAD).bind(slot).bind(epoch).fetch_optional(&self.pool).await?;
        row.map(|r| Ok((r.try_get(0)?, hash_of(&r, 1)?))).transpose()
    }
}

/// The columns of [`sql::TRAIL`] and [`sql::TRAIL_OF_CHAIN`].
fn entry_of(r: &MySqlRow) -> Result<Entry> {
    Ok(Entry {
        node: r.try_get::<Option<u16>, _>(0)?.unwrap_or(0),
        epoch: r.try_get::<Option<u32>, _>(1)?.unwrap_or(0),
        n: r.try_get::<Option<u64>, _>(2)?.unwrap_or(0),
        at_ns: r.try_get(3)?,
        who: r.try_get(4)?,
        token: r.try_get(5)?,
        act: r.try_get(6)?,
        what: r.try_get(7)?,
        before: r.try_get(8)?,
    })
}

fn hash_of(r: &MySqlRow, at: usize) -> Result<[u8; 32]> {
    Ok(r.try_get::<Vec<u8>, _>(at)?.try_into().unwrap_or([0; 32]))
}

fn cut(text: &str) -> String {
    if text.len() <= MAX_BYTES {
        return text.to_owned();
    }
    let end = (0..=MAX_BYTES).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0);
    format!("{}…", text.get(..end).unwrap_or_default())
}

/// Begins the chain of a node and epoch.
pub(crate) async fn begin_chain(tx: &mut MySqlConnection, (slot, epoch): (u16, u32)) -> Result<()> {
    sqlx::query(sql::CHAIN_BEGIN).bind(slot).bind(epoch).bind(&[0u8; 32][..]).execute(tx).await?;
    Ok(())
}

/// Records an act in the transaction that does it, at the end of its chain.
pub(crate) async fn record(tx: &mut MySqlConnection, act: &Act<'_>) -> Result<()> {
    let (slot, epoch) = act.chain;
    let head = || sqlx::query(sql::CHAIN_HEAD_LOCKED).bind(slot).bind(epoch);
    // The row is there but for nodes that were claimed before there were chains.
    let head = match head().fetch_optional(&mut *tx).await? {
        Some(head) => head,
        None => {
            begin_chain(tx, act.chain).await?;
            head().fetch_one(&mut *tx).await?
        }
    };
    let entry = Entry {
        node: slot,
        epoch,
        n: head.try_get::<u64, _>(0)? + 1,
        at_ns: act.at_ns,
        who: act.by.name.to_owned(),
        token: act.by.token.map(str::to_owned),
        act: act.act.to_owned(),
        what: cut(&act.what),
        before: act.before.as_deref().map(cut),
    };
    let hash = entry.hash(&hash_of(&head, 1)?);
    sqlx::query(sql::AUDIT_ADD)
        .bind(entry.at_ns)
        .bind(&entry.who)
        .bind(&entry.token)
        .bind(&entry.act)
        .bind(&entry.what)
        .bind(&entry.before)
        .bind(slot)
        .bind(epoch)
        .bind(entry.n)
        .bind(&hash[..])
        .execute(&mut *tx)
        .await?;
    sqlx::query(sql::CHAIN_MOVE).bind(entry.n).bind(&hash[..]).bind(slot).bind(epoch).execute(tx).await?;
    Ok(())
}
