//! Step 13: expiry drops a bucket's table; what must outlive it is moved first.

use crate::error::Result;
use crate::state::Shared;
use calvex_core::event::time::day_of;
use calvex_core::retention::{bucket_day, may_drop};

/// Drops every bucket whose day has come and that no live chunk names. Chunks that are still to be seen (their lane's
/// term was lengthened) move to a later bucket first. How many were dropped.
///
/// # Errors
/// Where the database fails; the rest is done at the next turn.
pub async fn expire(app: &Shared) -> Result<usize> {
    let now_ns = (app.clock)();
    let today = day_of(now_ns);
    let due: Vec<i32> = app.store.buckets_due(today).await?.into_iter().filter(|b| may_drop(*b, now_ns)).collect();
    let mut dropped = 0;
    for bucket in due {
        app.store.close_bucket(bucket).await?;
        let known = app.store.chunks().await?;
        for chunk in app.store.live_chunks(bucket, now_ns).await? {
            let Some(row) = known.iter().find(|c| c.id == chunk) else { continue };
            let later = bucket_day(row.visible_until_ns, today);
            app.store.open_bucket(later).await?;
            app.store.move_chunk(&app.claim, chunk, bucket, later).await?;
        }
        // The view lets go of the chunks before their table goes.
        reread_chunks(app).await?;
        if app.store.drop_bucket(&app.claim, bucket, now_ns).await? {
            tracing::info!(bucket, "an expired bucket was dropped");
            app.metrics.buckets_dropped.inc();
            dropped += 1;
        }
        reread_chunks(app).await?;
    }
    Ok(dropped)
}

/// Takes the catalogue's word for all chunks.
///
/// # Errors
/// Where the database fails.
pub async fn reread_chunks(app: &Shared) -> Result<()> {
    let _upkeep = app.upkeep.lock().await;
    let known = app.view.chunks();
    let chunks = app.store.chunks().await?;
    let ids: Vec<u64> = known.iter().map(|c| c.id).collect();
    for gone in known.iter().filter(|k| !chunks.iter().any(|c| c.id == k.id)) {
        app.cache.forget(gone.id, gone.parts);
    }
    app.view.replace_chunks(chunks, &ids);
    Ok(())
}
