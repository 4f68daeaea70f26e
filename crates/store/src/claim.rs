//! A node's hold on its slot. A slot is a number from 1 to 4095 that stands in the ids of events and chunks; a claim
//! raises its epoch, so that an earlier process of the slot can neither append nor seal.
//!
//! A node lives while its beat moves. Another process may claim only when no beat moves: it watches them for a while by
//! its own monotonic clock, and takes over in one transaction that holds every node's row and finds them as it saw
//! them. What dead nodes left in the journal then belongs to the new claim. (Until nodes work together, one lives at a
//! time.)
//!
//! Rules, a test each:
//! - Of claims at once one succeeds; epochs are never given twice.
//! - A node under another name goes on with what a dead one left.
//! - A claim beside a live node is refused.

use crate::journal::JournalTable;
use crate::{Result, Store, StoreError, sql};
use sqlx::{MySqlConnection, Row};
use std::time::Duration;

/// Slots: twelve bits, without 0.
const SLOTS: std::ops::RangeInclusive<u16> = 1..=4095;
/// How long beats are watched where they might belong to a live process, and how often they are looked at.
const WATCH: Duration = Duration::from_secs(10);
const LOOK: Duration = Duration::from_millis(250);
/// Bits of a chunk's id below its slot, and below its epoch.
const SLOT_SHIFT: u32 = 52;
const EPOCH_SHIFT: u32 = 24;

/// A node's hold on its slot: who it is, and in which epoch.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Claim {
    /// The node's number.
    pub slot: u16,
    /// Raised by every claim.
    pub epoch: u32,
    /// The node's name.
    pub name: String,
    /// The first id for chunks of this claim; further ones follow without gaps or wrapping.
    pub first_chunk: u64,
}

/// A node as listed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Node {
    /// Its number.
    pub slot: u16,
    /// Its name; none once retired.
    pub name: Option<String>,
    /// Its newest epoch.
    pub epoch: u32,
    /// Moved every second while it lives.
    pub beat: u64,
    /// Whether it was started and neither stopped in order nor adopted.
    pub alive: bool,
    /// The version of calvex that it runs.
    pub version: String,
}

/// Whether another process may run on this database.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Others {
    /// None: the database is private, and its directory is locked.
    Impossible,
    /// Perhaps; their beats are watched first.
    Watched,
}

impl Store {
    /// Every node, by slot.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn nodes(&self) -> Result<Vec<Node>> {
        let mut connection = self.pool.acquire().await?;
        nodes(&mut connection, sql::NODE_ALL).await
    }

    /// Claims the slot of `name`, giving it one where it has none, and adopts what dead nodes left in the journal.
    ///
    /// # Errors
    /// [`StoreError::Alive`] where another process lives, or started meanwhile.
    pub async fn claim(&self, name: &str, others: Others) -> Result<Claim> {
        let seen = match others {
            Others::Impossible => None,
            Others::Watched => Some(self.watch().await?),
        };
        let mut tx = self.pool.begin().await?;
        let standing = nodes(&mut tx, sql::NODE_ALL_LOCKED).await?;
        if let Some(seen) = seen {
            moved(&seen, &standing)?;
        }
        let own = standing.iter().find(|n| n.name.as_deref() == Some(name));
        let (slot, epoch) = match own {
            Some(own) => (own.slot, own.epoch + 1),
            None => {
                let unused = SLOTS.into_iter().find(|s| standing.iter().all(|n| n.slot != *s));
                let retired = || standing.iter().find(|n| n.name.is_none()).map(|n| n.slot);
                let slot = unused.or_else(retired).ok_or_else(|| {
                    StoreError::Server("4095 nodes are named; `calvex admin node retire` frees a name".into())
                })?;
                (slot, standing.iter().find(|n| n.slot == slot).map_or(0, |n| n.epoch) + 1)
            }
        };
        let version = env!("CARGO_PKG_VERSION");
        sqlx::query(sql::NODE_PUT).bind(slot).bind(name).bind(epoch).bind(version).execute(&mut *tx).await?;
        for dead in standing.iter().filter(|n| n.slot != slot) {
            // Whatever such a process still tries finds its epoch passed.
            let (slot, epoch) = (dead.slot, dead.epoch + 1);
            sqlx::query(sql::NODE_END).bind(epoch).bind(slot).execute(&mut *tx).await?;
            put_fences(&mut tx, slot, epoch).await?;
        }
        put_fences(&mut tx, slot, epoch).await?;
        for table in tables(&mut tx).await?.into_iter().filter(|t| t.slot == 0) {
            // Rows from before epochs had owners.
            let select = format!("SELECT DISTINCT node, epoch FROM {}", table.name());
            for row in sqlx::query(sql::safe(select)).fetch_all(&mut *tx).await? {
                let (of, in_epoch): (u16, u32) = (row.try_get(0)?, row.try_get(1)?);
                let own = sqlx::query(sql::OWNER_ADD).bind(of).bind(in_epoch).bind(slot).bind(epoch);
                own.execute(&mut *tx).await?;
            }
        }
        sqlx::query(sql::OWNER_ADD).bind(slot).bind(epoch).bind(slot).bind(epoch).execute(&mut *tx).await?;
        sqlx::query(sql::OWNER_ADOPT).bind(slot).bind(epoch).execute(&mut *tx).await?;
        let first_chunk = first_chunk(&mut tx, slot, epoch).await?;
        crate::records::begin_chain(&mut tx, (slot, epoch)).await?;
        tx.commit().await?;
        Ok(Claim { slot, epoch, name: name.to_owned(), first_chunk })
    }

    /// Watches the beats until it is sure that none moves; the nodes as they stand then.
    async fn watch(&self) -> Result<Vec<Node>> {
        let first = self.nodes().await?;
        let until = tokio::time::Instant::now() + WATCH;
        while first.iter().any(|n| n.alive) && tokio::time::Instant::now() < until {
            tokio::time::sleep(LOOK).await;
            moved(&first, &self.nodes().await?)?;
        }
        Ok(first)
    }

    /// Moves the node's beat; false where another process took its place.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn beat(&self, claim: &Claim) -> Result<bool> {
        let beat = sqlx::query(sql::NODE_BEAT).bind(claim.slot).bind(claim.epoch);
        Ok(beat.execute(&self.pool).await?.rows_affected() == 1)
    }

    /// Notes that the node stopped in order, so that the next start need not watch it.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn leave(&self, claim: &Claim) -> Result<()> {
        sqlx::query(sql::NODE_LEAVE).bind(claim.slot).bind(claim.epoch).execute(&self.pool).await?;
        Ok(())
    }

    /// Frees the name of a node that is not alive; its slot may be given out again.
    ///
    /// # Errors
    /// [`StoreError::Missing`] where there is no such node that does not live.
    pub async fn retire(&self, name: &str, act: &crate::records::Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let done = sqlx::query(sql::NODE_RETIRE).bind(name).execute(&mut *tx).await?;
        if done.rows_affected() == 0 {
            return Err(StoreError::Missing(format!(
                "node `{name}` that does not live; `calvex admin nodes` lists them"
            )));
        }
        crate::records::record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }
}

/// Fails where a node that is listed as alive was seen to move, or one is there that was not.
fn moved(seen: &[Node], now: &[Node]) -> Result<()> {
    let before = |n: &Node| seen.iter().find(|s| s.slot == n.slot).map(|s| (s.epoch, s.beat));
    match now.iter().find(|n| n.alive && before(n) != Some((n.epoch, n.beat))) {
        Some(live) => Err(StoreError::Alive(live.name.clone().unwrap_or_default())),
        None => Ok(()),
    }
}

async fn nodes(connection: &mut MySqlConnection, select: &'static str) -> Result<Vec<Node>> {
    let rows = sqlx::query(select).fetch_all(connection).await?;
    let node = |r: &sqlx::mysql::MySqlRow| {
        Ok(Node {
            slot: r.try_get(0)?,
            name: r.try_get(1)?,
            epoch: r.try_get(2)?,
            beat: r.try_get(3)?,
            alive: r.try_get(4)?,
            version: r.try_get(5)?,
        })
    };
    rows.iter().map(node).collect()
}

async fn put_fences(tx: &mut MySqlConnection, slot: u16, epoch: u32) -> Result<()> {
    for purpose in ["journal", "work"] {
        sqlx::query(sql::FENCE_PUT).bind(slot).bind(purpose).bind(epoch).execute(&mut *tx).await?;
    }
    Ok(())
}

/// Every journal table, those of before first.
pub(crate) async fn tables(connection: &mut MySqlConnection) -> Result<Vec<JournalTable>> {
    let rows = sqlx::query(sql::JOURNAL_TABLES).fetch_all(connection).await?;
    rows.iter().map(|r| Ok(JournalTable { slot: r.try_get(0)?, no: r.try_get(1)? })).collect()
}

/// The first id for chunks of a claim: behind every id of its slot that was ever catalogued, and behind those of the
/// epochs before, of which some may stand in segments that no catalogue row names.
async fn first_chunk(tx: &mut MySqlConnection, slot: u16, epoch: u32) -> Result<u64> {
    let (from, to) = chunk_ids(slot);
    let mut first = from | (u64::from(epoch) << EPOCH_SHIFT).min(to - from);
    for select in [sql::CHUNK_LAST, sql::BLOOM_SET_LAST] {
        let last: Option<u64> = sqlx::query_scalar(select).bind(from).bind(to).fetch_one(&mut *tx).await?;
        first = first.max(last.map_or(0, |id| id + 1));
    }
    if first > to {
        return Err(StoreError::Server(format!("slot {slot} has no ids for chunks left; give node.name another name")));
    }
    Ok(first)
}

/// The least and the largest id that chunks of a slot may have: 12 bits of slot, then a number that begins at 2^24 for
/// each epoch and goes on behind the largest one that is catalogued, so that it never comes to one that was given before.
pub fn chunk_ids(slot: u16) -> (u64, u64) {
    let from = u64::from(slot) << SLOT_SHIFT;
    (from, from | ((1 << SLOT_SHIFT) - 1))
}
