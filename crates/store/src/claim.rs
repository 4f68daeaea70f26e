//! A node's hold on its slot. A slot is a number from 1 to 4095 that stands in the ids of events and chunks; a claim
//! raises its epoch, so that an earlier process of the slot can neither append nor seal.
//!
//! A node lives while its beat moves. Whoever claims a name watches that name's beat for a while by its own monotonic clock,
//! and takes its place in one transaction that finds it as it was seen. A node whose beat stood still is adopted by one
//! that lives: its epoch passes, and its journal rows and duties belong to the one that adopts, in one transaction.
//!
//! Rules, a test each:
//! - Of claims of one name at once one succeeds; epochs are never given twice.
//! - A claim of a name that lives is refused; other names live beside it.
//! - Of adoptions at once one succeeds, and a node that moved meanwhile is not adopted.
//! - An adopted node can neither append nor seal; whoever adopted it goes on with its rows.

use crate::journal::JournalTable;
use crate::{Result, Store, StoreError, sql};
use sqlx::{MySqlConnection, Row};
use std::time::Duration;

/// Slots: twelve bits, without 0.
const SLOTS: std::ops::RangeInclusive<u16> = 1..=4095;
/// A node whose beat stood still for so long is dead; and how often a beat is looked at.
pub const STILL: Duration = Duration::from_secs(10);
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
    /// It takes no events and no duties.
    pub draining: bool,
    /// At its last beat: how old its last look at the others was, in milliseconds.
    pub looked_ms: u32,
    /// The database server that took its last beat.
    pub server: String,
    /// Where browsers reach it; empty where nobody named that.
    pub url: String,
}

/// Whether another process may run on this database.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Others {
    /// None: the database is private, and its directory is locked. What others left belongs to the claim at once.
    Impossible,
    /// They live beside this one. Only whether the name itself lives is watched first.
    Beside,
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

    /// Claims the slot of `name`, giving it one where it has none. Its journal rows are the claim's then; with
    /// [`Others::Impossible`] those of all others too.
    ///
    /// # Errors
    /// [`StoreError::Alive`] where another process has the name and lives, or started meanwhile.
    pub async fn claim(&self, name: &str, others: Others) -> Result<Claim> {
        let seen = match others {
            Others::Impossible => None,
            Others::Beside => Some(self.watch(name).await?),
        };
        let mut tx = self.pool.begin().await?;
        let standing = nodes(&mut tx, sql::NODE_ALL_LOCKED).await?;
        let own = standing.iter().find(|n| n.name.as_deref() == Some(name));
        if let Some(seen) = seen {
            moved(seen.as_ref(), own)?;
        }
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
        put_fences(&mut tx, slot, epoch).await?;
        sqlx::query(sql::OWNER_ADD).bind(slot).bind(epoch).bind(slot).bind(epoch).execute(&mut *tx).await?;
        match others {
            Others::Impossible => {
                for dead in standing.iter().filter(|n| n.slot != slot) {
                    // Whatever such a process still tries finds its epoch passed.
                    let (slot, epoch) = (dead.slot, dead.epoch + 1);
                    sqlx::query(sql::NODE_END).bind(epoch).bind(slot).execute(&mut *tx).await?;
                    put_fences(&mut tx, slot, epoch).await?;
                }
                own_first_rows(&mut tx, (slot, epoch)).await?;
                sqlx::query(sql::OWNER_ADOPT).bind(slot).bind(epoch).execute(&mut *tx).await?;
            }
            Others::Beside => {
                sqlx::query(sql::OWNER_ADOPT_OF).bind(slot).bind(epoch).bind(slot).execute(&mut *tx).await?;
                if standing.iter().all(|n| !n.alive || n.slot == slot) {
                    own_first_rows(&mut tx, (slot, epoch)).await?;
                }
            }
        }
        sqlx::query(sql::DUTY_RENEW).bind(epoch).bind(slot).execute(&mut *tx).await?;
        let first_chunk = first_chunk(&mut tx, slot, epoch).await?;
        crate::records::begin_chain(&mut tx, (slot, epoch)).await?;
        // A server that is behind may hold a commit that others see already; its node does not beat meanwhile.
        self.or_leave(tx.commit()).await?;
        Ok(Claim { slot, epoch, name: name.to_owned(), first_chunk })
    }

    /// Watches a name's beat until it is sure that it does not move; the node as it stands then, if there is one.
    async fn watch(&self, name: &str) -> Result<Option<Node>> {
        let of_name =
            async || Ok::<_, StoreError>(self.nodes().await?.into_iter().find(|n| n.name.as_deref() == Some(name)));
        let first = of_name().await?;
        let until = tokio::time::Instant::now() + STILL;
        while first.as_ref().is_some_and(|n| n.alive) && tokio::time::Instant::now() < until {
            tokio::time::sleep(LOOK).await;
            moved(first.as_ref(), of_name().await?.as_ref())?;
        }
        Ok(first)
    }

    /// Adopts a node whose beat stood still: its epoch passes, and its journal rows and duties are this claim's. False,
    /// and nothing done, where it is no longer as it was seen.
    ///
    /// # Errors
    /// [`StoreError::Fenced`] where this claim is lost itself; others where the database fails.
    pub async fn adopt(&self, claim: &Claim, seen: &Node, act: &crate::records::Act<'_>) -> Result<bool> {
        let mut tx = self.pool.begin().await?;
        self.fence_work(&mut tx, claim).await?;
        let adopt = sqlx::query(sql::NODE_ADOPT).bind(seen.slot).bind(seen.epoch).bind(seen.beat);
        if adopt.execute(&mut *tx).await?.rows_affected() != 1 {
            return Ok(false);
        }
        put_fences(&mut tx, seen.slot, seen.epoch + 1).await?;
        let rows = sqlx::query(sql::OWNER_ADOPT_OF).bind(claim.slot).bind(claim.epoch).bind(seen.slot);
        rows.execute(&mut *tx).await?;
        sqlx::query(sql::DUTY_ADOPT).bind(claim.slot).bind(claim.epoch).bind(seen.slot).execute(&mut *tx).await?;
        crate::records::record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(true)
    }

    /// Moves the node's beat, and notes how old its last look at the others is; false where another process took its place.
    /// A server on which this write does not end in time is left where another one is named: one that hands its state over
    /// to another server answers questions, and holds every write until that is done.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn beat(&self, claim: &Claim, looked_ms: u32) -> Result<bool> {
        let beat = sqlx::query(sql::NODE_BEAT).bind(looked_ms).bind(self.server()).bind(claim.slot).bind(claim.epoch);
        let beat = self.or_leave(beat.execute(&self.pool)).await?;
        Ok(beat.rows_affected() == 1)
    }

    /// Notes where browsers reach the node.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn note_url(&self, claim: &Claim, url: &str) -> Result<()> {
        sqlx::query(sql::NODE_URL).bind(url).bind(claim.slot).bind(claim.epoch).execute(&self.pool).await?;
        Ok(())
    }

    /// Notes that the node stopped in order, so that the next start need not watch it, and hands its duties over.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn leave(&self, claim: &Claim) -> Result<()> {
        sqlx::query(sql::DUTY_GIVE_UP_ALL).bind(claim.slot).execute(&self.pool).await?;
        sqlx::query(sql::NODE_LEAVE).bind(claim.slot).bind(claim.epoch).execute(&self.pool).await?;
        Ok(())
    }

    /// Has a node that lives take no events and no duties, or take them again.
    ///
    /// # Errors
    /// [`StoreError::Missing`] where no such node lives.
    pub async fn drain(&self, name: &str, draining: bool, act: &crate::records::Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let known = nodes(&mut tx, sql::NODE_ALL_LOCKED).await?;
        if !known.iter().any(|n| n.name.as_deref() == Some(name) && n.alive) {
            return Err(StoreError::Missing(format!("node `{name}` that lives; `calvex admin nodes` lists them")));
        }
        sqlx::query(sql::NODE_DRAIN).bind(draining).bind(name).execute(&mut *tx).await?;
        crate::records::record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Frees the name of a node that is not alive; its slot may be given out again. Its empty journal tables go.
    ///
    /// # Errors
    /// [`StoreError::Missing`] where there is no such node that does not live.
    pub async fn retire(&self, name: &str, act: &crate::records::Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let slot: Option<u16> = sqlx::query_scalar(sql::NODE_OF_NAME).bind(name).fetch_optional(&mut *tx).await?;
        let done = sqlx::query(sql::NODE_RETIRE).bind(name).execute(&mut *tx).await?;
        let Some(slot) = slot.filter(|_| done.rows_affected() == 1) else {
            return Err(StoreError::Missing(format!(
                "node `{name}` that does not live; `calvex admin nodes` lists them"
            )));
        };
        sqlx::query(sql::NODE_READ_FORGET).bind(slot).bind(slot).execute(&mut *tx).await?;
        crate::records::record(&mut tx, act).await?;
        tx.commit().await?;
        for table in self.journal_tables().await?.into_iter().filter(|table| table.slot == slot) {
            self.drop_journal_table(table).await?;
        }
        Ok(())
    }
}

impl Claim {
    /// The ids of chunks that this claim gives.
    pub fn own_ids(&self) -> std::ops::RangeInclusive<u64> {
        self.first_chunk..=chunk_ids(self.slot).1
    }

    /// The ids of chunks that only claims that are over may have written, as far as this one can be sure.
    pub fn ids_of_others_that_are_over(&self, others: Others) -> Vec<std::ops::RangeInclusive<u64>> {
        let (from, to) = chunk_ids(self.slot);
        match others {
            Others::Impossible => vec![0..=self.first_chunk - 1, to + 1..=u64::MAX],
            Others::Beside => vec![from..=self.first_chunk - 1],
        }
    }
}

/// The ids of chunks that a node wrote up to an epoch that is over.
pub fn ids_up_to(slot: u16, epoch: u32) -> std::ops::RangeInclusive<u64> {
    let (from, to) = chunk_ids(slot);
    from..=(from | ((u64::from(epoch) + 1) << EPOCH_SHIFT).min(to - from)) - 1
}

/// The slot in a chunk's id.
pub(crate) fn slot_of(chunk: u64) -> u16 {
    (chunk >> SLOT_SHIFT) as u16
}

/// Fails where the node of a name that is listed as alive moved since it was seen, or is there and was not.
fn moved(seen: Option<&Node>, now: Option<&Node>) -> Result<()> {
    let state = |n: &Node| (n.epoch, n.beat);
    match now.filter(|n| n.alive) {
        Some(live) if seen.map(state) != Some(state(live)) => {
            Err(StoreError::Alive(live.name.clone().unwrap_or_default()))
        }
        _ => Ok(()),
    }
}

/// Gives rows from before there were slots an owner.
async fn own_first_rows(tx: &mut MySqlConnection, (slot, epoch): (u16, u32)) -> Result<()> {
    for table in tables(&mut *tx).await?.into_iter().filter(|t| t.slot == 0) {
        let select = format!("SELECT DISTINCT node, epoch FROM {}", table.name());
        for row in sqlx::query(sql::safe(select)).fetch_all(&mut *tx).await? {
            let (of, in_epoch): (u16, u32) = (row.try_get(0)?, row.try_get(1)?);
            let own = sqlx::query(sql::OWNER_ADD).bind(of).bind(in_epoch).bind(slot).bind(epoch);
            own.execute(&mut *tx).await?;
        }
    }
    Ok(())
}

pub(crate) async fn nodes(connection: &mut MySqlConnection, select: &'static str) -> Result<Vec<Node>> {
    let rows = sqlx::query(select).fetch_all(connection).await?;
    let node = |r: &sqlx::mysql::MySqlRow| {
        Ok(Node {
            slot: r.try_get(0)?,
            name: r.try_get(1)?,
            epoch: r.try_get(2)?,
            beat: r.try_get(3)?,
            alive: r.try_get(4)?,
            version: r.try_get(5)?,
            draining: r.try_get(6)?,
            looked_ms: r.try_get(7)?,
            server: r.try_get(8)?,
            url: r.try_get(9)?,
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
