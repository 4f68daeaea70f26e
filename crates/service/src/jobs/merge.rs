//! Step 10, merging: small chunks of a lane and day become larger ones.

use calvex_answer::merge::{Candidate, plan_merge};
use calvex_answer::retention::bucket_day;
use calvex_intake::batch::HeadKey;
use calvex_language::model::time::{SECOND_NS, day_of};
use calvex_node::error::{Result, ServiceError};
use calvex_node::nodes::longest_read_ns;
use calvex_node::pipeline::catalogued;
use calvex_node::state::{Base, Upkeep};
use calvex_storage::chunk::ChunkMeta;
use calvex_storage::chunk::{ChunkPage, ChunkSource, build_chunks};
use calvex_storage::columns::PageRead;
use calvex_store::{Merge, StoreError};
use std::collections::BTreeMap;
use std::sync::Arc;

/// How long chunks that cannot be merged are left, so that those of other days are.
const FAILED_NS: i64 = 600 * SECOND_NS;

/// Merges once where it pays; how many chunks were replaced. With `all`, days are taken as over.
///
/// # Errors
/// Where the database fails; the chunks then stand as they stood, or the merge is found done at the next turn.
pub async fn merge_once(upkeep: &Arc<Upkeep>, all: bool) -> Result<usize> {
    let _merging = upkeep.merging.lock().await;
    let max_rows = upkeep.base.settings.number("merge.rows") as usize;
    let today = day_of((upkeep.base.clock)());
    let mut groups: BTreeMap<(u32, i32, bool, i64), Vec<ChunkMeta>> = BTreeMap::new();
    for chunk in upkeep.view.chunks() {
        // Once a day is over, its late events lie among the others.
        let settled = chunk.day < today - 1 && !upkeep.view.has_head(chunk.lane, chunk.day);
        let late = chunk.late && !settled;
        groups.entry((chunk.lane, chunk.day, late, chunk.visible_until_ns)).or_default().push(chunk);
    }
    for ((lane, day, late, _), chunks) in groups {
        let settled = all || day < today - 1 && !upkeep.view.has_head(lane, day);
        let candidates: Vec<Candidate> =
            chunks.iter().map(|c| Candidate { id: c.id, rows: c.rows as usize, time_min: c.time_min }).collect();
        let key = HeadKey { lane, day, late };
        if upkeep.merges_failed.lock().get(&key).is_some_and(|again_ns| *again_ns > (upkeep.base.clock)()) {
            continue;
        }
        if let Some(ids) = plan_merge(&candidates, max_rows, settled) {
            let replaces: Vec<ChunkMeta> = chunks.into_iter().filter(|c| ids.contains(&c.id)).collect();
            match merge(upkeep, key, &replaces).await {
                Ok(()) => return Ok(replaces.len()),
                Err(ServiceError::Store(e)) if !e.is_passing() && !matches!(e, StoreError::Fenced(_)) => {
                    tracing::error!(lane, day, "chunks cannot be merged and are left for a while: {e}");
                    upkeep.merges_failed.lock().insert(key, (upkeep.base.clock)() + FAILED_NS);
                }
                Err(e) => return Err(e),
            }
        }
    }
    Ok(0)
}

async fn merge(upkeep: &Arc<Upkeep>, key: HeadKey, replaces: &[ChunkMeta]) -> Result<()> {
    let Some(visible) = replaces.first().map(|c| c.visible_until_ns) else { return Ok(()) };
    let (own, ids, runtime) = (upkeep.clone(), upkeep.sealer.numbers(), tokio::runtime::Handle::current());
    let old: Vec<u64> = replaces.iter().map(|c| c.id).collect();
    let building = move || {
        let location_of = |chunk| own.view.location_of(chunk);
        let source = own.cache.reader(&own.base.store, runtime, &location_of);
        let mut pages = Vec::new();
        for chunk in old {
            let directory = source.directory(chunk)?;
            for page in 0..directory.pages.len() {
                pages.push(ChunkPage::passing(directory.clone(), page, &source));
            }
        }
        let sources: Vec<&dyn PageRead> = pages.iter().map(|p| p as &dyn PageRead).collect();
        let mut ids = ids;
        build_chunks(&sources, || ids.next().unwrap_or(0))
    };
    let built = upkeep.sealer.build(building).await?;
    let now_ns = (upkeep.base.clock)();
    let bucket = bucket_day(visible, day_of(now_ns));
    let rows: Vec<ChunkMeta> = built.iter().map(|c| catalogued(c, key, bucket, visible)).collect();
    let segments: Vec<(ChunkMeta, &[Vec<u8>])> =
        rows.iter().cloned().zip(built.iter().map(|c| c.segments.as_slice())).collect();
    upkeep.base.store.write_chunks(&segments).await?;
    // From here to the view, no one may take the catalogue's word for all chunks.
    let _upkeep = upkeep.swapping.lock().await;
    let merge = Merge { chunks: rows.clone(), replaces: replaces.to_vec() };
    let mut merged = upkeep.base.store.merge(&upkeep.base.claim, &merge).await;
    if merged.as_ref().is_err_and(StoreError::is_passing) {
        // Whether it was committed is not known; asking again finds out.
        merged = upkeep.base.store.merge(&upkeep.base.claim, &merge).await;
    }
    if let Err(StoreError::Missing(why)) = &merged {
        // The view is behind the catalogue; the next plan begins from what stands there.
        tracing::warn!("a merge gave way: {why}");
        drop(_upkeep);
        super::reread_chunks(upkeep).await?;
        return Ok(());
    }
    merged?;
    upkeep.cache.filters.keep(&built);
    // Where it cannot be read, a restart sweeps what was replaced.
    let change = upkeep.base.store.newest_change(&upkeep.base.claim).await.unwrap_or(u64::MAX);
    upkeep.view.finish_merge(replaces, &rows, change);
    upkeep.base.metrics.merges.inc_by(rows.len() as u64);
    Ok(())
}

/// Removes the segments of chunks that this node merged before any search still running began, on whatever node; and forgets
/// what was kept of those that others merged.
///
/// # Errors
/// Where the database fails; a start sweeps what is left.
pub async fn remove_retired(upkeep: &Arc<Upkeep>) -> Result<()> {
    let Base { store, claim, clock, settings, nodes, .. } = &*upkeep.base;
    let longest_ns = longest_read_ns(settings);
    if !upkeep.view.has_retired() {
        return Ok(());
    }
    let read = if nodes.is_alone() { u64::MAX } else { store.read_by_all(claim).await? };
    upkeep.view.note_read_by_all(read, clock());
    for (chunk, own) in upkeep.view.take_retired(clock() - longest_ns) {
        upkeep.cache.forget(chunk.id, chunk.checksum, chunk.segments);
        if own {
            store.remove_segments(chunk.bucket, chunk.id).await?;
        }
    }
    Ok(())
}
