//! Steps 9, 10, 12 and 13 on their timers: sealing, merging, rules, error groups, the outbox, expiry. Each job is a plain function of its
//! part and the clock; the timers are here.

mod bloom_sets;
mod errors;
mod expiry;
mod merge;
mod raised;
mod rules;
mod sources;
mod usual;

pub use bloom_sets::{make_bloom_once, roll_up_once};
pub use expiry::{expire, reread_chunks};
pub use merge::{merge_once, remove_retired};

use crate::error::Result;
use crate::intake::ledger;
use crate::notify;
use crate::pipeline::admitted::Admitted;
use crate::state::{Base, Parts, Upkeep};
use calvex_answer::watch::{USUAL_DAY_NS, USUAL_DAYS};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;
use tokio::sync::watch;
use tokio::task::JoinSet;

/// A receipt's age is checked this often, and buckets.
const EXPIRY_EVERY: Duration = Duration::from_secs(60);
const SEAL_EVERY: Duration = Duration::from_millis(250);
const MERGE_EVERY: Duration = Duration::from_secs(2);
const ARRIVALS_EVERY: Duration = Duration::from_secs(5);
/// Lanes, rules, dials and ties may be changed through another node.
const REREAD_EVERY: Duration = Duration::from_secs(10);
/// Dials that ended are shown for so long.
const DIALS_KEPT_NS: i64 = 7 * 86_400_000_000_000;
/// Others see by its beat that a node lives.
const BEAT_EVERY: Duration = Duration::from_secs(1);
const OUTBOX_EVERY: Duration = Duration::from_millis(500);
/// Days of deviations that are over are looked for this often.
const USUAL_EVERY: Duration = Duration::from_secs(60);
/// Who comes next and what is repeated is looked at this often, and heartbeats.
const CALLS_EVERY: Duration = Duration::from_secs(2);
const HEARTBEATS_EVERY: Duration = Duration::from_secs(1);
/// Alerts are kept for so long after their end; messages of no alert, and mutes that ended.
const ALERTS_KEPT_NS: i64 = 400 * 86_400_000_000_000;
const MESSAGES_KEPT_NS: i64 = 30 * 86_400_000_000_000;
const ERRORS_EVERY: Duration = Duration::from_secs(15);
/// A disk fills at hundreds of MiB a second at most, so its reserve lasts for longer than this.
const DISK_EVERY: Duration = Duration::from_secs(1);

/// Runs `job` at every `period` until stopped. A failure is logged and the job goes on at the next turn.
async fn every<F>(period: Duration, mut stop: watch::Receiver<bool>, name: &'static str, mut job: impl FnMut() -> F)
where
    F: Future<Output = Result<()>>,
{
    let mut timer = tokio::time::interval(period);
    timer.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        tokio::select! {
            _ = timer.tick() => {}
            _ = stop.wait_for(|s| *s) => return,
        }
        if let Err(e) = job().await {
            tracing::warn!(job = name, "{e}");
        }
    }
}

/// Starts every job.
pub fn start(parts: &Parts, admitted: &Arc<Admitted>, stop: &watch::Receiver<bool>) -> JoinSet<()> {
    let mut tasks = JoinSet::new();
    let (base, upkeep) = (&parts.base, &parts.upkeep);
    let own = upkeep.clone();
    tasks.spawn(every(MERGE_EVERY, stop.clone(), "merge", move || {
        let upkeep = own.clone();
        async move {
            while merge_once(&upkeep, false).await? > 0 {}
            while roll_up_once(&upkeep).await? > 0 {}
            while make_bloom_once(&upkeep).await? {}
            remove_retired(&upkeep).await
        }
    }));
    let sealer = upkeep.sealer.clone();
    tasks.spawn(every(SEAL_EVERY, stop.clone(), "seal", move || {
        let sealer = sealer.clone();
        async move { sealer.run(false).await.map(|_| ()) }
    }));
    let own = base.clone();
    tasks.spawn(every(ARRIVALS_EVERY, stop.clone(), "arrivals", move || {
        let base = own.clone();
        async move { ledger::write(&base).await }
    }));
    let own = base.clone();
    tasks.spawn(every(REREAD_EVERY, stop.clone(), "reread", move || {
        let base = own.clone();
        async move {
            // What the database takes at once may have been changed too.
            base.store.read_limits().await;
            base.config.reload(&base.store).await
        }
    }));
    let own = base.clone();
    let receiving = parts.receiving.clone();
    tasks.spawn(every(DISK_EVERY, stop.clone(), "disk", move || {
        let (base, receiving) = (own.clone(), receiving.clone());
        async move {
            check_disk(&base, &receiving.intake.disk_full);
            Ok(())
        }
    }));
    let own = base.clone();
    let health = parts.health.clone();
    tasks.spawn(every(BEAT_EVERY, stop.clone(), "beat", move || {
        let (base, health) = (own.clone(), health.clone());
        async move {
            if !base.store.beat(&base.claim).await? && !health.fenced.swap(true, Ordering::SeqCst) {
                tracing::error!("another process took the place of node `{}`; this one stops", base.claim.name);
            }
            Ok(())
        }
    }));
    let judge = rules::Judge::new(parts.reading.clone(), admitted.clone());
    let judge = Arc::new(tokio::sync::Mutex::new(judge));
    tasks.spawn(every(
        Duration::from_millis(base.settings.number("rules.tick_ms").max(50)),
        stop.clone(),
        "rules",
        move || {
            let judge = judge.clone();
            async move { judge.lock().await.run().await }
        },
    ));
    let reading = parts.reading.clone();
    let looking = Arc::new(tokio::sync::Mutex::new(errors::Looking::new(admitted.clone())));
    tasks.spawn(every(ERRORS_EVERY, stop.clone(), "error groups", move || {
        let (reading, looking) = (reading.clone(), looking.clone());
        async move { looking.lock().await.see_once(&reading).await }
    }));
    let own = base.clone();
    let sender = Arc::new(notify::Outbox);
    tasks.spawn(every(OUTBOX_EVERY, stop.clone(), "outbox", move || {
        let (base, sender) = (own.clone(), sender.clone());
        async move { sender.run(&base).await }
    }));
    let keeper = Arc::new(tokio::sync::Mutex::new(usual::Keeper::new(parts.reading.clone())));
    tasks.spawn(every(USUAL_EVERY, stop.clone(), "usual", move || {
        let keeper = keeper.clone();
        async move { keeper.lock().await.run().await }
    }));
    let reading = parts.reading.clone();
    tasks.spawn(every(CALLS_EVERY, stop.clone(), "calls", move || {
        let reading = reading.clone();
        async move { notify::call_again(&reading).await }
    }));
    // Apart from the calls: one that hears heartbeats slowly keeps nobody from being called.
    let health = parts.health.clone();
    tasks.spawn(every(HEARTBEATS_EVERY, stop.clone(), "heartbeats", move || {
        let health = health.clone();
        async move { notify::beat(&health).await }
    }));
    let own = upkeep.clone();
    tasks.spawn(every(EXPIRY_EVERY, stop.clone(), "expiry", move || {
        let upkeep = own.clone();
        async move {
            expire(&upkeep, false).await?;
            let base = &upkeep.base;
            let now_ns = (base.clock)();
            let receipts_ns = base.settings.number("intake.receipt_days") as i64 * 86_400_000_000_000;
            while base.store.expire_receipts(now_ns - receipts_ns).await? >= 10_000 {}
            base.store.expire_sessions(now_ns).await?;
            base.store.expire_dials(now_ns - DIALS_KEPT_NS).await?;
            let today = i32::try_from(now_ns / USUAL_DAY_NS).unwrap_or(0);
            base.store.expire_usual(today - USUAL_DAYS as i32 - 1).await?;
            base.store.expire_mutes(now_ns - MESSAGES_KEPT_NS).await?;
            while base.store.expire_alerts(now_ns - ALERTS_KEPT_NS).await? >= 1_000 {}
            while base.store.expire_outbox(now_ns - MESSAGES_KEPT_NS).await? >= 1_000 {}
            let hour = u32::try_from(now_ns / 3_600_000_000_000).unwrap_or(0);
            base.store.expire_arrivals(hour.saturating_sub(ledger::KEPT_HOURS)).await?;
            Ok(())
        }
    }));
    tasks
}

/// Stops intake while the disk of the private database is nearly full, with a margin both ways: what is under way when
/// it stops still fits, and it does not go on and off at one byte. The disk of another database is its own to watch; a
/// full one is an error of its commits, which pass once it has room again.
fn check_disk(base: &Base, disk_full: &AtomicBool) {
    if !base.settings.text("database.url").is_empty() {
        return;
    }
    let Ok(free) = free_bytes(&base.settings.data_dir()) else { return };
    let reserve = base.settings.mib("database.disk_reserve_mib") as u64;
    let was_full = disk_full.load(Ordering::Relaxed);
    let is_full = is_disk_full(was_full, free, reserve);
    if is_full != was_full {
        disk_full.store(is_full, Ordering::Relaxed);
        match is_full {
            true => tracing::error!(free_bytes = free, "the disk is nearly full: intake stops until some is free"),
            false => tracing::info!(free_bytes = free, "the disk has room again: intake goes on"),
        }
    }
}

/// Whether the disk counts as full; once it does, an eighth more than the reserve must be free again.
fn is_disk_full(was_full: bool, free: u64, reserve: u64) -> bool {
    free < if was_full { reserve + reserve / 8 } else { reserve }
}

fn free_bytes(dir: &std::path::Path) -> std::result::Result<u64, nix::Error> {
    let stat = nix::sys::statvfs::statvfs(dir)?;
    Ok(stat.blocks_available() * stat.fragment_size())
}

/// Seals every head now, on request.
///
/// # Errors
/// Where the database fails.
pub async fn seal_all(upkeep: &Upkeep) -> Result<usize> {
    upkeep.sealer.run(true).await
}

/// Merges until nothing is left that pays, on request, and rolls up what is large then; how many chunks were replaced.
///
/// # Errors
/// Where the database fails.
pub async fn merge_all(upkeep: &Arc<Upkeep>) -> Result<usize> {
    let mut replaced = 0;
    loop {
        match merge_once(upkeep, true).await? {
            0 => break,
            n => replaced += n,
        }
    }
    while roll_up_once(upkeep).await? > 0 {}
    Ok(replaced)
}

#[cfg(test)]
mod tests {
    use super::is_disk_full;

    #[test]
    fn a_disk_is_full_below_its_reserve_and_has_room_above_it() {
        let mut full = false;
        let reported: Vec<bool> = [600, 512, 511, 512, 575, 576, 512, 511]
            .map(|free| {
                full = is_disk_full(full, free, 512);
                full
            })
            .into();
        assert_eq!(reported, [false, false, true, true, true, false, false, true]);
    }
}
