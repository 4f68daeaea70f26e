//! Looking at what the other nodes did, and applying it to the view in one step; adopting those that died.

use super::beats::Beats;
use super::orphans::list_orphans;
use crate::error::Result;
use crate::pipeline::Step;
use crate::pipeline::admitted::{Admitted, Reach};
use crate::state::{Auth, Base, Upkeep};
use calvex_intake::batch::HeadKey;
use calvex_storage::chunk::journal::decode_batch;
use calvex_storage::columns::Page;
use calvex_store::{JournalRowRef, Look, Node, ReadUpTo, StoreError, StoredBatch, ids_up_to};
use std::collections::HashSet;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// Settings are read again this often at most, however often they change.
const RELOAD_EVERY: Duration = Duration::from_millis(400);
/// How far this node has read is noted this often at most: it only lets segments go that nobody reads.
const NOTE_EVERY: Duration = Duration::from_secs(1);

/// Where this node's looks have come to.
#[derive(Default)]
pub struct Following {
    /// Slots and epochs whose journal rows are in this node's own heads, or are to be.
    own: HashSet<(u16, u32)>,
    /// Adopted, and not taken into own heads yet: what is left of them may not be seen yet.
    adopted: HashSet<(u16, u32)>,
    /// None where the next look is to read everything.
    up_to: Option<ReadUpTo>,
    /// Up to where others know that this node has read, and when it noted that.
    noted: Option<(ReadUpTo, Instant)>,
    beats: Beats,
    config: Option<(u64, Instant)>,
    /// What settings were read last for: how long each lane keeps its events.
    terms: Vec<(u32, u32)>,
}

impl Following {
    /// Of a node that owns the journal rows of these slots and epochs.
    pub fn owning(own: HashSet<(u16, u32)>) -> Self {
        Following { own, ..Following::default() }
    }
}

/// The page of a journal row, and its head.
///
/// # Errors
/// Where the batch is damaged.
pub fn page_of(stored: &StoredBatch) -> calvex_language::error::Result<(HeadKey, Page)> {
    let JournalRowRef { slot, epoch, seq, .. } = stored.at;
    let page = decode_batch(&stored.batch, &format!("{slot}-{epoch}-{seq}"))?;
    let key = HeadKey { lane: stored.lane, day: stored.day, late: stored.late };
    Ok((key, page.with_origin(slot, epoch, seq)))
}

/// Looks once; with `everything` at the whole catalogue and all heads of others, not only at what changed.
///
/// # Errors
/// Where the database fails; nothing was seen then, and the next look sees it.
pub async fn look(upkeep: &Arc<Upkeep>, admitted: &Admitted, everything: bool) -> Result<()> {
    let mut following = upkeep.following.lock().await;
    look_once(upkeep, admitted, &mut following, everything).await.map(drop)
}

async fn look_once(
    upkeep: &Arc<Upkeep>,
    admitted: &Admitted,
    following: &mut Following,
    everything: bool,
) -> Result<Look> {
    let Base { store, claim, clock, nodes, .. } = &*upkeep.base;
    let (began, began_ns) = (Instant::now(), clock());
    // Catalogue and view change together while a merge is under way; from here to the view, none is.
    let _swapping = upkeep.swapping.lock().await;
    let known_before: Vec<u64> = upkeep.view.chunks().iter().map(|c| c.id).collect();
    let known = following.up_to.as_ref().filter(|_| !everything);
    let mut look = store.look(claim, &following.own, known).await?;
    let rows = std::mem::take(&mut look.rows);
    let decoding = tokio::task::spawn_blocking(move || {
        let decoded = rows.into_iter().filter_map(|stored| match page_of(&stored) {
            Ok((key, page)) => Some((key, page, stored.at)),
            // It stays where it is, and its owner reports it too.
            Err(e) => {
                tracing::error!("{e}");
                None
            }
        });
        decoded.collect::<Vec<_>>()
    });
    let rows = decoding.await.map_err(|e| StoreError::Server(format!("rows of other nodes were not read: {e}")))?;
    let reaches: Vec<Reach> = rows.iter().map(|(_, page, _)| Reach::of(page)).collect();
    let step = Step {
        everything: look.catalogue.take().map(|catalogue| (catalogue, known_before)),
        added: std::mem::take(&mut look.added),
        removed: std::mem::take(&mut look.removed),
        sealed: std::mem::take(&mut look.sealed),
        rows,
    };
    // Small pages are joined, which is work.
    let (view, own_ids, now_ns) = (upkeep.view.clone(), claim.own_ids(), clock());
    let applying = tokio::task::spawn_blocking(move || view.apply(step, &own_ids, now_ns)).await;
    applying.map_err(|e| StoreError::Server(format!("what other nodes did was not applied: {e}")))?;
    reaches.into_iter().for_each(|reach| admitted.note(reach));
    following.up_to = Some(look.up_to.clone());
    if !following.adopted.is_empty() {
        // Nothing comes to them any more, and all that there was is in the view.
        upkeep.view.adopt(&following.adopted, clock());
        following.own.extend(following.adopted.drain());
    }
    nodes.note_look(claim, look.nodes.clone(), (began, began_ns));
    Ok(look)
}

/// One turn beside other nodes: looks, reads settings that changed, adopts the dead, takes free duties.
///
/// # Errors
/// Where the database fails; the rest is done at the next turn.
pub async fn turn(upkeep: &Arc<Upkeep>, auth: &Auth, admitted: &Admitted) -> Result<()> {
    let mut following = upkeep.following.lock().await;
    let look = look_and_adopt(upkeep, auth, admitted, &mut following).await?;
    drop(following);
    let Base { store, claim, nodes, .. } = &*upkeep.base;
    nodes.settle_duties(store, claim, &look.duties).await
}

async fn look_and_adopt(
    upkeep: &Arc<Upkeep>,
    auth: &Auth,
    admitted: &Admitted,
    following: &mut Following,
) -> Result<Look> {
    let look = look_once(upkeep, admitted, following, false).await?;
    let Base { store, claim, nodes, .. } = &*upkeep.base;
    reload(upkeep, auth, following, look.config_version).await?;
    following.beats.note(&look.nodes, nodes.beat_age(), Instant::now());
    nodes.note_beats(&following.beats);
    for node in &look.nodes {
        let owns = node.alive || look.has_rows_of(node.slot);
        if node.slot != claim.slot && owns && following.beats.is_still(node, Instant::now()) {
            adopt(upkeep, following, node).await?;
        }
    }
    let Some(up_to) = &following.up_to else { return Ok(look) };
    let noted = |(noted, at): &(ReadUpTo, Instant)| noted.changes == up_to.changes || at.elapsed() < NOTE_EVERY;
    if !following.noted.as_ref().is_some_and(noted) {
        store.note_read(claim, up_to).await?;
        following.noted = Some((up_to.clone(), Instant::now()));
    }
    Ok(look)
}

/// Reads settings again where anything was recorded since.
async fn reload(upkeep: &Upkeep, auth: &Auth, following: &mut Following, version: u64) -> Result<()> {
    if following.config.is_some_and(|(known, at)| known == version || at.elapsed() < RELOAD_EVERY) {
        return Ok(());
    }
    upkeep.base.reload_config().await?;
    auth.keys.clear();
    auth.readers.clear();
    let config = upkeep.base.config.get();
    let terms: Vec<(u32, u32)> = config.lanes().iter().map(|lane| (lane.id, lane.retention_days)).collect();
    if terms != following.terms && !following.terms.is_empty() {
        // Chunks are kept for another while now.
        following.up_to = None;
    }
    (following.terms, following.config) = (terms, Some((version, Instant::now())));
    Ok(())
}

/// Adopts a node that died: its journal rows and duties are this one's.
async fn adopt(upkeep: &Arc<Upkeep>, following: &mut Following, node: &Node) -> Result<()> {
    let Base { store, claim, .. } = &*upkeep.base;
    let name = node.name.clone().unwrap_or_default();
    let act = upkeep.base.act("calvex serve", "adopt node", format!("{name}, slot {}", node.slot));
    if !store.adopt(claim, node, &act).await? {
        return Ok(());
    }
    tracing::warn!(node = name, slot = node.slot, epoch = node.epoch, "its beat stood still: the node is adopted");
    let owned = store.owned(claim).await?;
    following.adopted.extend(owned.into_iter().filter(|of| !following.own.contains(of)));
    list_orphans(upkeep, ids_up_to(node.slot, node.epoch));
    Ok(())
}
