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

use crate::notify;
use calvex_answer::watch::{USUAL_DAY_NS, USUAL_DAYS};
use calvex_language::model::time::day_of;
use calvex_language::model::to_hex;
use calvex_node::error::{Result, ServiceError};
use calvex_node::intake::ledger;
use calvex_node::metrics::Retries;
use calvex_node::nodes::{BEAT_EVERY, Doing, Duty, LOOK_EVERY, sweep_listed, turn};
use calvex_node::state::{Base, Health, Parts, Receiving, Upkeep};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};
use tokio::sync::{MappedMutexGuard, Mutex, MutexGuard, watch};
use tokio::task::JoinSet;

/// A receipt's age is checked this often, and buckets.
const EXPIRY_EVERY: Duration = Duration::from_secs(60);
const SEAL_EVERY: Duration = Duration::from_millis(250);
const MERGE_EVERY: Duration = Duration::from_secs(2);
const ARRIVALS_EVERY: Duration = Duration::from_secs(5);
/// Lanes, rules, dials and ties may be changed in the database itself; what another node records is seen by looks.
const REREAD_EVERY: Duration = Duration::from_secs(10);
/// Dials that ended are shown for so long.
const DIALS_KEPT_NS: i64 = 7 * 86_400_000_000_000;
const OUTBOX_EVERY: Duration = Duration::from_millis(500);
/// Days of deviations that are over are looked for this often.
const USUAL_EVERY: Duration = Duration::from_secs(60);
/// Who comes next and what is repeated is looked at this often, and heartbeats.
const CALLS_EVERY: Duration = Duration::from_secs(2);
const HEARTBEATS_EVERY: Duration = Duration::from_secs(1);
/// Alerts are kept for so long after their end; messages of no alert, and mutes that ended.
const ALERTS_KEPT_NS: i64 = 400 * 86_400_000_000_000;
const MESSAGES_KEPT_NS: i64 = 30 * 86_400_000_000_000;
/// The certificate's files are looked at this often.
const CERTIFICATE_EVERY: Duration = Duration::from_secs(2);
/// The end of the audit trail is written into the service's own log this often, so that one that was cut off is found.
const TRAIL_EVERY: Duration = Duration::from_secs(3600);
const ERRORS_EVERY: Duration = Duration::from_secs(15);
/// A disk fills at hundreds of MiB a second at most, so its reserve lasts for longer than this.
const DISK_EVERY: Duration = Duration::from_secs(1);
/// A job that fails as it did before is logged again after so long.
const SAME_AGAIN: Duration = Duration::from_secs(10);

/// Runs `job` at every `period` until stopped. A failure is logged and the job goes on at the next turn; the same failure
/// again is logged after [`SAME_AGAIN`].
async fn every<F>(
    period: Duration,
    mut stop: watch::Receiver<bool>,
    (name, retries): (&'static str, Retries),
    mut job: impl FnMut() -> F,
) where
    F: Future<Output = Result<()>>,
{
    let mut logged: Option<(String, Instant)> = None;
    let mut timer = tokio::time::interval(period);
    timer.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        tokio::select! {
            _ = timer.tick() => {}
            _ = stop.wait_for(|s| *s) => return,
        }
        let Err(e) = job().await else { continue };
        if let ServiceError::Store(e) = &e
            && e.is_passing()
        {
            retries.note(name, e);
        }
        let text = e.to_string();
        if !logged.as_ref().is_some_and(|(last, at)| *last == text && at.elapsed() < SAME_AGAIN) {
            tracing::warn!(job = name, "{text}");
            logged = Some((text, Instant::now()));
        }
    }
}

/// Jobs as they are started.
struct Jobs {
    tasks: JoinSet<()>,
    stop: watch::Receiver<bool>,
    retries: Retries,
}

impl Jobs {
    /// Starts one that is handed what it works on at every turn.
    fn start<P, F>(&mut self, period: Duration, name: &'static str, works_on: P, job: impl Fn(P) -> F + Send + 'static)
    where
        P: Clone + Send + 'static,
        F: Future<Output = Result<()>> + Send + 'static,
    {
        let known = (name, self.retries.clone());
        self.tasks.spawn(every(period, self.stop.clone(), known, move || job(works_on.clone())));
    }
}

/// Reads the certificate again where its files changed.
async fn reload_certificate(base: &Arc<Base>) -> Result<()> {
    let Some(certificates) = base.certificates.clone() else { return Ok(()) };
    let read = tokio::task::spawn_blocking(move || certificates.reload()).await;
    if read.is_ok_and(|read| {
        read.inspect_err(|e| tracing::warn!("the certificate was not read again: {e}")).is_ok_and(|new| new)
    }) {
        tracing::info!("the certificate was read again");
    }
    Ok(())
}

/// Notes the last entry of this node's chain of the audit trail.
async fn note_trail(base: &Arc<Base>) -> Result<()> {
    let (node, epoch) = (base.claim.slot, base.claim.epoch);
    if let Some((n, hash)) = base.store.trail_head((node, epoch)).await?.filter(|(n, _)| *n > 0) {
        tracing::info!("the audit trail ends with entry {node}/{epoch}/{n} {}", to_hex(&hash));
    }
    Ok(())
}

/// Starts every job.
pub fn start(parts: &Parts, stop: &watch::Receiver<bool>) -> JoinSet<()> {
    let Parts { base, receiving, reading, upkeep, health, .. } = parts;
    let mut jobs = Jobs { tasks: JoinSet::new(), stop: stop.clone(), retries: base.metrics.retries.clone() };
    jobs.start(SEAL_EVERY, "seal", upkeep.sealer.clone(), async |sealer| {
        // A node that is drained keeps nothing in memory.
        let all = sealer.is_draining();
        sealer.run(all).await.map(|_| ())
    });
    jobs.start(MERGE_EVERY, "merge", upkeep.clone(), async |upkeep| merge_due(&upkeep).await);
    jobs.start(EXPIRY_EVERY, "expiry", upkeep.clone(), async |upkeep| match upkeep.base.nodes.doing(Duty::Expiry) {
        Some(_turn) => expire_due(&upkeep).await,
        None => Ok(()),
    });
    if !base.nodes.is_alone() {
        let following = (upkeep.clone(), parts.auth.clone());
        jobs.start(LOOK_EVERY, "look at other nodes", following, async |(upkeep, auth)| {
            turn(&upkeep, &auth, &upkeep.admitted).await
        });
    }
    jobs.start(ARRIVALS_EVERY, "arrivals", receiving.clone(), async |receiving| count_arrivals(&receiving).await);
    jobs.start(REREAD_EVERY, "reread", base.clone(), async |base| {
        // What the database takes at once may have been changed too.
        base.store.read_limits().await;
        base.reload_config().await
    });
    jobs.start(DISK_EVERY, "disk", (base.clone(), receiving.clone()), async |(base, receiving)| {
        check_disk(&base, &receiving.intake.disk_full);
        Ok(())
    });
    jobs.start(CERTIFICATE_EVERY, "certificate", base.clone(), async |base| reload_certificate(&base).await);
    jobs.start(TRAIL_EVERY, "audit trail", base.clone(), async |base| note_trail(&base).await);
    // Apart from the beats: a server that hangs must not keep its node from leaving it.
    jobs.start(BEAT_EVERY, "database server", base.clone(), async |base| {
        base.store.watch_server().await;
        Ok(())
    });
    jobs.start(BEAT_EVERY, "beat", health.clone(), async |health| beat(&health).await);

    let tick = Duration::from_millis(base.settings.number("rules.tick_ms").max(50));
    let judging = (reading.clone(), upkeep.admitted.clone(), Remembered::default());
    jobs.start(tick, "rules", judging, async |(reading, admitted, judge)| {
        let Some(turn) = reading.base.nodes.doing(Duty::Rules) else { return Ok(()) };
        judge.of(&turn, || rules::Judge::new(reading.clone(), admitted)).await.run().await
    });
    let looking = (reading.clone(), upkeep.admitted.clone(), Remembered::default());
    jobs.start(ERRORS_EVERY, "error groups", looking, async |(reading, admitted, looking)| {
        let Some(turn) = reading.base.nodes.doing(Duty::Rules) else { return Ok(()) };
        looking.of(&turn, || errors::Looking::new(reading.clone(), admitted)).await.see_once().await
    });
    let keeping = (reading.clone(), Remembered::default());
    jobs.start(USUAL_EVERY, "usual", keeping, async |(reading, keeper)| {
        let Some(turn) = reading.base.nodes.doing(Duty::Rules) else { return Ok(()) };
        keeper.of(&turn, || usual::Keeper::new(reading.clone())).await.run().await
    });
    jobs.start(OUTBOX_EVERY, "outbox", base.clone(), async |base| match base.nodes.doing(Duty::Messages) {
        Some(_turn) => notify::Outbox.run(&base).await,
        None => Ok(()),
    });
    jobs.start(CALLS_EVERY, "calls", reading.clone(), async |reading| match reading.base.nodes.doing(Duty::Rules) {
        Some(_turn) => notify::call_again(&reading).await,
        None => Ok(()),
    });
    // Apart from the calls: one that hears heartbeats slowly keeps nobody from being called.
    jobs.start(HEARTBEATS_EVERY, "heartbeats", health.clone(), async |health| {
        match health.base.nodes.doing(Duty::Rules) {
            Some(_turn) => notify::beat(&health).await,
            None => Ok(()),
        }
    });
    jobs.tasks
}

/// What a job remembers between its turns, for as long as this node has the duty.
struct Remembered<T>(Arc<Mutex<Option<(u64, T)>>>);

impl<T> Default for Remembered<T> {
    fn default() -> Self {
        Remembered(Arc::default())
    }
}

impl<T> Clone for Remembered<T> {
    fn clone(&self) -> Self {
        Remembered(self.0.clone())
    }
}

impl<T> Remembered<T> {
    /// What is remembered of this term, made anew where it is of another.
    async fn of(&self, turn: &Doing, new: impl FnOnce() -> T) -> MappedMutexGuard<'_, T> {
        let mut held = self.0.lock().await;
        if held.as_ref().is_none_or(|(term, _)| *term != turn.term) {
            *held = None;
        }
        MutexGuard::map(held, |held| &mut held.get_or_insert_with(|| (turn.term, new())).1)
    }
}

/// Writes what came, and reads what came by other nodes against the same quotas.
async fn count_arrivals(receiving: &Receiving) -> Result<()> {
    let Receiving { base, limits, .. } = receiving;
    ledger::write(base).await?;
    let living = base.nodes.living();
    if limits.share(living) || living > 1 {
        limits.load(&base.store, (base.clock)()).await?;
    }
    Ok(())
}

/// Merges what there is to merge, and removes what was merged.
async fn merge_due(upkeep: &Arc<Upkeep>) -> Result<()> {
    remove_retired(upkeep).await?;
    sweep_listed(upkeep).await?;
    let Some(_turn) = upkeep.base.nodes.doing(Duty::Merging) else { return Ok(()) };
    while merge_once(upkeep, false).await? > 0 {}
    while roll_up_once(upkeep).await? > 0 {}
    while make_bloom_once(upkeep).await? {}
    Ok(())
}

/// Drops what is kept no longer: events, and records about them.
async fn expire_due(upkeep: &Arc<Upkeep>) -> Result<()> {
    expire(upkeep, false).await?;
    let Base { store, clock, settings, .. } = &*upkeep.base;
    let now_ns = clock();
    // By the database's clock: a node whose own is ahead would forget what others still answer by.
    let today = day_of(store.now_ns().await?);
    let kept = i32::try_from(settings.number("intake.receipt_days")).unwrap_or(i32::MAX);
    store.expire_receipts(today.saturating_sub(kept), today).await?;
    store.expire_sessions(now_ns).await?;
    store.expire_dials(now_ns - DIALS_KEPT_NS).await?;
    let today = i32::try_from(now_ns / USUAL_DAY_NS).unwrap_or(0);
    store.expire_usual(today - USUAL_DAYS as i32 - 1).await?;
    store.expire_mutes(now_ns - MESSAGES_KEPT_NS).await?;
    while store.expire_alerts(now_ns - ALERTS_KEPT_NS).await? >= 1_000 {}
    while store.expire_outbox(now_ns - MESSAGES_KEPT_NS).await? >= 1_000 {}
    let hour = u32::try_from(now_ns / 3_600_000_000_000).unwrap_or(0);
    store.expire_arrivals(hour.saturating_sub(ledger::KEPT_HOURS)).await?;
    Ok(())
}

/// Shows other nodes that this one lives; one whose place was taken takes note of it.
async fn beat(health: &Health) -> Result<()> {
    let Base { store, claim, nodes, .. } = &*health.base;
    let looked_ms = u32::try_from(nodes.look_age().as_millis()).unwrap_or(u32::MAX);
    if store.beat(claim, looked_ms).await? {
        nodes.note_beat();
    } else if !health.fenced.swap(true, Ordering::SeqCst) {
        tracing::error!("another process took the place of node `{}`; this one stops", claim.name);
    }
    Ok(())
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
