//! After step 10: the filters of chunks that will not be merged any more are put side by side, so that a search for an
//! id over a long range asks few places.

use calvex_answer::merge::is_large;
use calvex_language::CoreError;
use calvex_language::model::time::day_of;
use calvex_node::error::Result;
use calvex_node::state::Upkeep;
use calvex_storage::chunk::BloomSetMeta;
use calvex_storage::chunk::{ChunkBloom, ChunkSource, build_bloom_set, checksum_of, chunk_bloom, plan_bloom_set};
use calvex_store::{BucketRef, StoreError};
use std::collections::BTreeMap;
use std::sync::Arc;

/// Rolls up once where enough chunks have gathered; how many were.
///
/// # Errors
/// Where the database fails; the chunks are then asked without a bloom set, as before.
pub async fn roll_up_once(upkeep: &Arc<Upkeep>) -> Result<usize> {
    let _merging = upkeep.merging.lock().await;
    let max_rows = upkeep.base.settings.number("merge.rows") as usize;
    let today = day_of((upkeep.base.clock)());
    let mut groups: BTreeMap<(u32, i32, bool), Vec<(i64, u64)>> = BTreeMap::new();
    for chunk in upkeep.view.chunks() {
        // Merging goes first, so that small chunks of a day that is over are the last of that day.
        let settled = chunk.day < today - 1 && !upkeep.view.has_head(chunk.lane, chunk.day);
        if chunk.bloom_set.is_none() && (settled || is_large(chunk.rows as usize, max_rows)) {
            groups.entry((chunk.lane, chunk.bucket, settled)).or_default().push((chunk.time_min, chunk.id));
        }
    }
    for ((lane, bucket, settled), chunks) in groups {
        if let Some(chunks) = plan_bloom_set(chunks, settled) {
            bloom_set(upkeep, lane, bucket, &chunks).await?;
            return Ok(chunks.len());
        }
    }
    Ok(0)
}

/// Makes the filter of one chunk that lacks it: it is in no bloom set yet, and a restart lost what was at hand. Whether
/// one was made.
///
/// # Errors
/// Where the database fails; the chunk is asked by its pages until the next turn.
pub async fn make_bloom_once(upkeep: &Arc<Upkeep>) -> Result<bool> {
    let max_rows = upkeep.base.settings.number("merge.rows") as usize;
    let lacking = upkeep.view.chunks().into_iter().find(|c| {
        c.bloom_set.is_none() && is_large(c.rows as usize, max_rows) && upkeep.cache.filters.get(c.id).is_none()
    });
    let Some(chunk) = lacking.map(|c| c.id) else { return Ok(false) };
    let (own, runtime) = (upkeep.clone(), tokio::runtime::Handle::current());
    let making = move || {
        let location_of = |chunk| own.view.location_of(chunk);
        filter_of(chunk, &own.cache.reader(&own.base.store, runtime, &location_of))
    };
    let made = upkeep.sealer.build(making).await?;
    // Where there is no room for it, there is none for the next either.
    Ok(upkeep.cache.filters.put(chunk, made))
}

/// The filter of a chunk, at hand or made again. What is damaged may hold anything, and is left out when it is read.
fn filter_of(chunk: u64, source: &dyn ChunkSource) -> calvex_language::error::Result<Arc<ChunkBloom>> {
    match source.chunk_bloom(chunk).map_or_else(|| chunk_bloom(chunk, source).map(Arc::new), Ok) {
        Err(CoreError::Damaged { .. }) => Ok(Arc::default()),
        read => read,
    }
}

async fn bloom_set(upkeep: &Arc<Upkeep>, lane: u32, bucket: i32, chunks: &[u64]) -> Result<()> {
    let id = upkeep.sealer.numbers().next().unwrap_or(0);
    let (own, ids, runtime) = (upkeep.clone(), chunks.to_vec(), tokio::runtime::Handle::current());
    let building = move || {
        let location_of = |chunk| own.view.location_of(chunk);
        let source = own.cache.reader(&own.base.store, runtime, &location_of);
        let filter = |chunk: u64| Ok((chunk, filter_of(chunk, &source)?));
        let filters = ids.into_iter().map(filter).collect::<calvex_language::error::Result<Vec<_>>>()?;
        Ok(build_bloom_set(id, &filters))
    };
    let segments = upkeep.sealer.build(building).await?;
    upkeep.base.store.write_bloom_set_segments(bucket, id, &segments).await?;
    // From here to the view, no one may take the catalogue's word for all chunks.
    let _upkeep = upkeep.swapping.lock().await;
    let checksum = checksum_of(&segments);
    let row = BloomSetMeta { id, lane, bucket, segments: segments.len() as u16, checksum, chunks: chunks.to_vec() };
    let mut done = upkeep.base.store.bloom_set(&upkeep.base.claim, &row).await;
    if done.as_ref().is_err_and(StoreError::is_passing) {
        // Whether it was committed is not known; asking again finds out.
        done = upkeep.base.store.bloom_set(&upkeep.base.claim, &row).await;
    }
    done?;
    upkeep.view.finish_bloom_set(id, BucketRef { bucket, checksum }, chunks);
    upkeep.cache.filters.forget(row.chunks);
    Ok(())
}
