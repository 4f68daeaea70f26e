//! Step 13: expiry drops a bucket's table; what must outlive it is moved first.

use calvex_answer::retention::{bucket_day, may_drop};
use calvex_language::model::time::day_of;
use calvex_node::error::Result;
use calvex_node::state::{Base, Upkeep};
use std::sync::Arc;

/// The duty under which the newest day is remembered up to which buckets were dropped.
const DUTY: &str = "expired to";
/// How often it is looked whether others have read something.
const READ_TRIES: u32 = 40;
/// Days that may pass between two turns without a command: today, and the next one.
const USUAL_DAYS: i64 = 1;

/// Which day expiry goes to: today, unless that lies more than a day beyond the last turn. A clock that was set ahead
/// would otherwise drop what is still to be kept.
fn day_to_expire(today: i32, last: Option<i64>, commanded: bool) -> i32 {
    match last {
        Some(last) if !commanded && i64::from(today) > last + USUAL_DAYS => i32::try_from(last).unwrap_or(today),
        _ => today,
    }
}

/// Drops every bucket whose day has come, by the database's clock, and that no live chunk names. Chunks that are still to
/// be seen (their lane's term was lengthened) move to a later bucket first. How many were dropped. More than a day's
/// buckets at once are dropped only when `commanded`.
///
/// # Errors
/// Where the database fails; the rest is done at the next turn.
pub async fn expire(upkeep: &Arc<Upkeep>, commanded: bool) -> Result<usize> {
    let own_ns = (upkeep.base.clock)();
    let now_ns = upkeep.base.store.now_ns().await?;
    let today = day_of(now_ns);
    // Two clocks that disagree by a day are none to drop by.
    let agree = (day_of(own_ns) - today).abs() <= 1;
    let day = day_to_expire(today, upkeep.base.store.duty(DUTY).await?, commanded);
    let due = upkeep.base.store.buckets_due(today).await?.into_iter().filter(|b| may_drop(*b, now_ns));
    let (due, held): (Vec<i32>, Vec<i32>) = due.partition(|b| *b <= day && (agree || commanded));
    if held.is_empty() {
        upkeep.base.store.put_duty(DUTY, i64::from(today)).await?;
    } else {
        tracing::warn!(
            "{} buckets are due at once, which a clock that was set ahead would also cause; if the date is right, \
             `calvex admin expire` drops them",
            held.len()
        );
    }
    let mut dropped = 0;
    for bucket in due {
        upkeep.base.store.close_bucket(bucket).await?;
        let known = upkeep.base.store.chunks().await?;
        for chunk in upkeep.base.store.live_chunks(bucket, now_ns).await? {
            let Some(row) = known.iter().find(|c| c.id == chunk) else { continue };
            let later = bucket_day(row.visible_until_ns, today);
            upkeep.base.store.open_bucket(upkeep.base.claim.slot, later).await?;
            upkeep.base.store.move_chunk(&upkeep.base.claim, chunk, bucket, later).await?;
        }
        // The views let go of the chunks before their table goes.
        reread_chunks(upkeep).await?;
        wait_for_others(upkeep).await?;
        if upkeep.base.store.drop_bucket(&upkeep.base.claim, bucket, now_ns).await? {
            tracing::info!(bucket, "an expired bucket was dropped");
            upkeep.base.metrics.buckets_dropped.inc();
            dropped += 1;
        }
        reread_chunks(upkeep).await?;
    }
    Ok(dropped)
}

/// Takes the catalogue's word for all chunks.
///
/// # Errors
/// Where the database fails.
pub async fn reread_chunks(upkeep: &Arc<Upkeep>) -> Result<()> {
    calvex_node::nodes::look(upkeep, &upkeep.admitted, true).await
}

/// Waits until every node has read what this one did so far, but for a while at most: a search on a node that lags then
/// says what it could not read.
async fn wait_for_others(upkeep: &Upkeep) -> Result<()> {
    let Base { store, claim, nodes, .. } = &*upkeep.base;
    if nodes.is_alone() {
        return Ok(());
    }
    let change = store.newest_change(claim).await?;
    for _ in 0..READ_TRIES {
        if store.read_by_all(claim).await? >= change {
            return Ok(());
        }
        tokio::time::sleep(calvex_node::nodes::LOOK_EVERY).await;
    }
    tracing::warn!("another node has not read yet that chunks moved");
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::day_to_expire;

    #[test]
    fn a_day_at_a_time_unless_commanded() {
        assert_eq!(day_to_expire(100, None, false), 100, "the first turn");
        assert_eq!(day_to_expire(100, Some(99), false), 100, "over midnight");
        assert_eq!(day_to_expire(102, Some(100), false), 100, "two days ahead");
        assert_eq!(day_to_expire(102, Some(100), true), 102, "as commanded");
        assert_eq!(day_to_expire(98, Some(100), false), 98, "set back");
    }
}
