//! How one node sees what the others do: a look reads, in one snapshot, what changed in the catalogue and which journal
//! rows came since the look before.
//!
//! Rules, a test each:
//! - What another node acknowledged before a look began is in that look or in one before, once.
//! - A journal row that was sealed before it was looked at is seen as part of its chunk alone.
//! - A change that is missing, or a form of it that is not known, makes the next look read everything.

use crate::change::{Change, FORGET_EVERY, SealedRows};
use crate::claim::{Claim, Node, nodes};
use crate::duties::{DutyOwner, owner_of};
use crate::journal::{JournalRowRef, JournalTable, StoredBatch};
use crate::{Result, Store, sql};
use calvex_storage::chunk::ChunkMeta;
use sqlx::{Executor, MySqlConnection, Row};
use std::collections::{BTreeMap, BTreeSet, HashSet};

/// Journal rows read at once; each may have some MiB.
const ROWS_AT_ONCE: u32 = 32;
/// Chunks asked for by one statement.
const CHUNKS_AT_ONCE: usize = 1000;

/// Up to where one node has read of the others.
#[derive(Debug, Clone, Default)]
pub struct ReadUpTo {
    /// By slot: the newest change that was read, as its epoch and number.
    pub changes: BTreeMap<u16, (u32, u64)>,
    /// By slot and epoch: the last journal row that was read.
    rows: BTreeMap<(u16, u32), u64>,
}

/// What a look found.
#[derive(Debug, Default)]
pub struct Look {
    /// Every node, by slot.
    pub nodes: Vec<Node>,
    /// Who has which duty.
    pub duties: Vec<DutyOwner>,
    /// Moves with every act that is recorded, and so with every change of settings.
    pub config_version: u64,
    /// Every chunk of the catalogue, where everything was read; then the heads of others are those of this look alone.
    pub catalogue: Option<Vec<ChunkMeta>>,
    /// Chunks that came, or whose row changed.
    pub added: Vec<ChunkMeta>,
    /// Chunks that went.
    pub removed: Vec<u64>,
    /// Journal rows that became chunks.
    pub sealed: Vec<SealedRows>,
    /// Journal rows that came.
    pub rows: Vec<StoredBatch>,
    /// Up to where was read.
    pub up_to: ReadUpTo,
    /// Slots that own journal rows, or may.
    owners: BTreeSet<u16>,
}

impl Look {
    /// Whether a slot owns journal rows, or may.
    pub fn has_rows_of(&self, slot: u16) -> bool {
        self.owners.contains(&slot)
    }
}

impl Store {
    /// Looks at what the other nodes did since `known`; `None` reads everything. Journal rows of the epochs `own` are
    /// left out: these are this node's, or its own to replay.
    ///
    /// # Errors
    /// Where the database fails; nothing was seen then.
    pub async fn look(&self, claim: &Claim, own: &HashSet<(u16, u32)>, known: Option<&ReadUpTo>) -> Result<Look> {
        let mut connection = self.pool.acquire().await?;
        let looked = look_on(&mut connection, self.is_in_cluster(), claim, own, known).await;
        if looked.is_err() {
            // A connection within a snapshot is not for others.
            connection.close_on_drop();
        }
        looked
    }

    /// Notes up to which changes of others a node has read.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn note_read(&self, claim: &Claim, up_to: &ReadUpTo) -> Result<()> {
        for (slot, (epoch, n)) in up_to.changes.iter().filter(|(slot, _)| **slot != claim.slot) {
            let put = sqlx::query(sql::NODE_READ_PUT).bind(claim.slot).bind(slot).bind(epoch).bind(n);
            put.execute(&self.pool).await?;
        }
        Ok(())
    }

    /// Up to which change of this claim every other node that lives has read; all where none does.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn read_by_all(&self, claim: &Claim) -> Result<u64> {
        let rows = sqlx::query(sql::NODE_READ_ALL).bind(claim.slot).bind(claim.slot).fetch_all(&self.pool).await?;
        let mut least = u64::MAX;
        for row in rows {
            let (epoch, n): (Option<u32>, Option<u64>) = (row.try_get(1)?, row.try_get(2)?);
            least = least.min(if epoch == Some(claim.epoch) { n.unwrap_or(0) } else { 0 });
        }
        Ok(least)
    }

    /// The number of the newest change of this claim: what it changed so far stands under it or a lower one.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn newest_change(&self, claim: &Claim) -> Result<u64> {
        let n: Option<u64> =
            sqlx::query_scalar(sql::CHANGE_NEWEST).bind(claim.slot).bind(claim.epoch).fetch_one(&self.pool).await?;
        Ok(n.unwrap_or(0))
    }
}

async fn look_on(
    connection: &mut MySqlConnection,
    in_cluster: bool,
    claim: &Claim,
    own: &HashSet<(u16, u32)>,
    known: Option<&ReadUpTo>,
) -> Result<Look> {
    if in_cluster {
        // Everything that was committed on any server before is seen.
        connection.execute(sql::CAUSAL_BEGIN).await?;
    }
    connection.execute(sql::LOOK_BEGIN).await?;
    let mut look = Look { nodes: nodes(connection, sql::NODE_ALL).await?, ..Look::default() };
    let duties = sqlx::query(sql::DUTY_OWNERS).fetch_all(&mut *connection).await?;
    look.duties = duties.iter().map(owner_of).collect::<Result<_>>()?;
    look.config_version = sqlx::query_scalar(sql::CONFIG_VERSION).fetch_one(&mut *connection).await?;
    let seen = match known {
        Some(known) => changes(connection, claim, known, &mut look).await?,
        None => false,
    };
    let known = known.filter(|_| seen);
    if known.is_none() {
        look.removed.clear();
        look.sealed.clear();
        let rows = sqlx::query(sql::CHUNK_ALL).fetch_all(&mut *connection).await?;
        look.catalogue = Some(rows.iter().map(crate::catalogue::chunk_of).collect::<Result<_>>()?);
        look.up_to = ReadUpTo::default();
        look.up_to.changes = newest_changes(connection).await?;
    }
    journal_rows(connection, own, known, &mut look).await?;
    connection.execute(sql::COMMIT).await?;
    if in_cluster {
        connection.execute(sql::CAUSAL_END).await?;
    }
    Ok(look)
}

/// The newest change of each slot: its epoch and number.
async fn newest_changes(connection: &mut MySqlConnection) -> Result<BTreeMap<u16, (u32, u64)>> {
    let mut newest: BTreeMap<u16, (u32, u64)> = BTreeMap::new();
    for row in sqlx::query(sql::CHANGE_LAST).fetch_all(connection).await? {
        let (slot, epoch, n) = (row.try_get(0)?, row.try_get(1)?, row.try_get(2)?);
        let known = newest.entry(slot).or_default();
        *known = (*known).max((epoch, n));
    }
    Ok(newest)
}

/// Reads the changes of others; false where some are missing.
async fn changes(connection: &mut MySqlConnection, claim: &Claim, known: &ReadUpTo, look: &mut Look) -> Result<bool> {
    look.up_to.changes.clone_from(&known.changes);
    let mut named = BTreeSet::new();
    for (slot, newest) in newest_changes(connection).await?.into_iter().filter(|(slot, _)| *slot != claim.slot) {
        let (first_epoch, first_n) = known.changes.get(&slot).copied().unwrap_or_default();
        if newest == (first_epoch, first_n) {
            continue;
        }
        let since = sqlx::query(sql::CHANGE_SINCE).bind(slot).bind(first_epoch).bind(first_epoch).bind(first_n);
        let (mut epoch, mut n) = (first_epoch, first_n);
        for row in since.fetch_all(&mut *connection).await? {
            let (in_epoch, at, before): (u32, u64, u64) = (row.try_get(0)?, row.try_get(1)?, row.try_get(2)?);
            if in_epoch != epoch && epoch != 0 && at >= FORGET_EVERY {
                // The last ones of the epoch before may be forgotten already.
                return Ok(false);
            }
            let expected = if in_epoch == epoch { n } else { 0 };
            let texts: (String, String, String) = (row.try_get(3)?, row.try_get(4)?, row.try_get(5)?);
            let change = Change::read(&texts.0, &texts.1, &texts.2).filter(|_| before == expected);
            let Some(change) = change else { return Ok(false) };
            (epoch, n) = (in_epoch, at);
            named.extend(change.added.into_iter().chain(change.removed));
            look.sealed.extend(change.sealed);
        }
        look.up_to.changes.insert(slot, (epoch, n));
    }
    // What is named and stands in the catalogue now is there; what is named and does not is gone.
    let ids: Vec<u64> = named.into_iter().collect();
    for some in ids.chunks(CHUNKS_AT_ONCE) {
        let list = some.iter().map(u64::to_string).collect::<Vec<_>>().join(",");
        let select = format!("{} WHERE c.id IN ({list})", sql::CHUNK_ALL);
        let rows = sqlx::query(sql::safe(select)).persistent(false).fetch_all(&mut *connection).await?;
        let there: Vec<ChunkMeta> = rows.iter().map(crate::catalogue::chunk_of).collect::<Result<_>>()?;
        let gone = some.iter().filter(|id| there.iter().all(|c| c.id != **id));
        look.removed.extend(gone);
        look.added.extend(there);
    }
    Ok(true)
}

/// Reads the journal rows of others that came.
async fn journal_rows(
    connection: &mut MySqlConnection,
    own: &HashSet<(u16, u32)>,
    known: Option<&ReadUpTo>,
    look: &mut Look,
) -> Result<()> {
    let mut newest: BTreeMap<u16, (u32, u64)> = BTreeMap::new();
    for row in sqlx::query(sql::FENCE_JOURNALS).fetch_all(&mut *connection).await? {
        newest.insert(row.try_get(0)?, (row.try_get(1)?, row.try_get(2)?));
    }
    let mut tables = None;
    for row in sqlx::query(sql::OWNER_EVERY).fetch_all(&mut *connection).await? {
        let of: (u16, u32) = (row.try_get(0)?, row.try_get(1)?);
        look.owners.insert(row.try_get(2)?);
        if own.contains(&of) {
            continue;
        }
        let read = known.and_then(|known| known.rows.get(&of)).copied();
        let last = newest.get(&of.0).filter(|(epoch, _)| *epoch == of.1).map(|(_, n)| *n);
        // Of an epoch that goes on, up to its fence; one that is over is read once after its end.
        let mut after = read.unwrap_or(0);
        if after < last.unwrap_or(u64::MAX) {
            if tables.is_none() {
                tables = Some(crate::claim::tables(connection).await?);
            }
            let of_slot = |t: &&JournalTable| t.slot == of.0 || t.slot == 0;
            for table in tables.iter().flatten().filter(of_slot) {
                read_table(connection, *table, of, read.unwrap_or(0), look).await?;
            }
            after = last.unwrap_or(u64::MAX);
        }
        look.up_to.rows.insert(of, after);
    }
    look.rows.sort_by_key(|batch| (batch.at.slot, batch.at.epoch, batch.at.seq));
    Ok(())
}

async fn read_table(
    connection: &mut MySqlConnection,
    table: JournalTable,
    (slot, epoch): (u16, u32),
    mut after: u64,
    look: &mut Look,
) -> Result<()> {
    loop {
        let select = format!(
            "SELECT seq, lane_id, day, late, batch FROM {} WHERE node = ? AND epoch = ? AND seq > ? ORDER BY seq LIMIT {ROWS_AT_ONCE}",
            table.name()
        );
        let read = sqlx::query(sql::safe(select)).bind(slot).bind(epoch).bind(after).fetch_all(&mut *connection).await;
        let rows = match read {
            // It was empty, and dropped.
            Err(e) if crate::error::is_missing_table(&e) => return Ok(()),
            rows => rows?,
        };
        for row in &rows {
            after = row.try_get(0)?;
            look.rows.push(StoredBatch {
                at: JournalRowRef { table, slot, epoch, seq: after },
                lane: row.try_get(1)?,
                day: row.try_get(2)?,
                late: row.try_get(3)?,
                batch: row.try_get(4)?,
            });
        }
        if rows.len() < ROWS_AT_ONCE as usize {
            return Ok(());
        }
    }
}
