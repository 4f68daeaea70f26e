//! Step 11, running a question: in a slot, off the async threads, over the view that its reader may see, within its limits of
//! time and memory. Dropping the future stops it at the next page.
//!
//! What is worked out is boxed, so that all of this is compiled once and not for each question.

use crate::answer::reads::{Reads, record_read};
use crate::auth::{CHANGED, ReadScope, Watch};
use crate::error::{Result, ServiceError};
use crate::state::Reading;
use calvex_answer::scan::{Progress, Scope};
use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};
use tokio::sync::{OwnedSemaphorePermit, oneshot};

/// How long a request waits for a slot.
const SLOT_WAIT: Duration = Duration::from_secs(10);

/// Set when the one who asked has gone, or time is up.
struct Limit {
    gone: Arc<AtomicBool>,
}

impl Drop for Limit {
    fn drop(&mut self) {
        self.gone.store(true, Ordering::Relaxed);
    }
}

/// Who follows how far a search is.
pub type Listener = Arc<dyn Fn(Progress) + Send + Sync>;

/// Runs `work` in a search slot.
///
/// # Errors
/// Where no slot is free, or the reader may not read any more.
pub async fn run<T: Send + 'static>(
    reading: &Arc<Reading>,
    scope: ReadScope,
    work: impl FnOnce(&Scope) -> T + Send + 'static,
) -> Result<T> {
    Ok(run_following(reading, scope, None, work).await?.0)
}

/// As [`run`], in a slot of the rules.
///
/// # Errors
/// As [`run`].
pub async fn run_for_rules<T: Send + 'static>(
    reading: &Arc<Reading>,
    scope: ReadScope,
    work: impl FnOnce(&Scope) -> T + Send + 'static,
) -> Result<T> {
    Ok(run_as(reading, Asker::Rules, scope, None, work).await?.0)
}

/// As [`run`], reporting to `listener` on the way; with the segments read and the bytes fetched for them.
///
/// # Errors
/// As [`run`].
pub async fn run_following<T: Send + 'static>(
    reading: &Arc<Reading>,
    scope: ReadScope,
    listener: Option<Listener>,
    work: impl FnOnce(&Scope) -> T + Send + 'static,
) -> Result<(T, Reads)> {
    run_as(reading, Asker::Reader, scope, listener, work).await
}

/// As [`run_following`], for figures: they are of whole columns, and who asks for some asks for others of the same time.
///
/// # Errors
/// As [`run`].
pub async fn run_figures<T: Send + 'static>(
    reading: &Arc<Reading>,
    scope: ReadScope,
    listener: Option<Listener>,
    work: impl FnOnce(&Scope) -> T + Send + 'static,
) -> Result<(T, Reads)> {
    run_as(reading, Asker::Figures, scope, listener, work).await
}

/// Runs an export, which has its slot already and no limit of time: its client has one for each piece.
///
/// # Errors
/// As [`run`].
pub async fn run_export<T: Send + 'static>(
    reading: &Arc<Reading>,
    scope: ReadScope,
    work: impl FnOnce(&Scope) -> T + Send + 'static,
) -> Result<(T, Reads)> {
    let (work, made) = boxed(work);
    let reads = run_until(reading, Asker::Reader, (None, None), scope, None, work).await?;
    Ok((made.take()?, reads))
}

/// What is worked out, whatever it makes.
type Work = Box<dyn FnOnce(&Scope) + Send>;

/// What was made of it.
struct Made<T>(oneshot::Receiver<T>);

impl<T> Made<T> {
    fn take(mut self) -> Result<T> {
        self.0.try_recv().map_err(|e| ServiceError::Busy(format!("the search failed: {e}"), 1))
    }
}

fn boxed<T: Send + 'static>(work: impl FnOnce(&Scope) -> T + Send + 'static) -> (Work, Made<T>) {
    let (sender, receiver) = oneshot::channel();
    let work = move |scope: &Scope| {
        // Whoever waited for it may have gone.
        let _ = sender.send(work(scope));
    };
    (Box::new(work), Made(receiver))
}

/// For whom a question is answered.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Asker {
    Reader,
    /// As a reader, with columns that stay decoded.
    Figures,
    /// A thousand rules ask of the same new pages: their columns stay decoded.
    Rules,
}

async fn run_as<T: Send + 'static>(
    reading: &Arc<Reading>,
    asker: Asker,
    scope: ReadScope,
    listener: Option<Listener>,
    work: impl FnOnce(&Scope) -> T + Send + 'static,
) -> Result<(T, Reads)> {
    let (work, made) = boxed(work);
    let reads = run_in(reading, asker, scope, listener, work).await?;
    Ok((made.take()?, reads))
}

async fn run_in(
    reading: &Arc<Reading>,
    asker: Asker,
    scope: ReadScope,
    listener: Option<Listener>,
    work: Work,
) -> Result<Reads> {
    let slots = if asker == Asker::Rules { &reading.rule_slots } else { &reading.search_slots };
    let slot = tokio::time::timeout(SLOT_WAIT, slots.clone().acquire_owned()).await;
    let slot = slot.map_err(|_| ServiceError::Busy("other searches take all slots; try again".into(), 2))?;
    let until = Instant::now() + reading.base.settings.seconds("search.timeout_s");
    run_until(reading, asker, (slot.ok(), Some(until)), scope, listener, work).await
}

async fn run_until(
    reading: &Arc<Reading>,
    asker: Asker,
    (slot, until): (Option<OwnedSemaphorePermit>, Option<Instant>),
    scope: ReadScope,
    listener: Option<Listener>,
    work: Work,
) -> Result<Reads> {
    let config = reading.base.config.get();
    let unseen = reading.base.nodes.unseen(&reading.base.claim);
    let view = reading.view.extents(&config, (reading.base.clock)(), &scope);
    let restricted = scope.is_restricted();
    let counting = scope.watched.is_some() && config.lanes().iter().any(|l| l.audited && scope.may_read(l.id));
    let passed = parking_lot::Mutex::new(HashMap::<String, u64>::new());
    let watch = Watch::begin(&reading.auth, &scope);
    let ended = watch.ended.clone();
    let gone = Arc::new(AtomicBool::new(false));
    let _limit = Limit { gone: gone.clone() };
    let runtime = tokio::runtime::Handle::current();
    let own = reading.clone();
    let began = Instant::now();
    let done = tokio::task::spawn_blocking(move || {
        let _slot = slot;
        let location_of = |chunk| own.view.location_of(chunk);
        let columns = match asker {
            Asker::Reader => None,
            Asker::Figures => own.columns.as_ref(),
            Asker::Rules => Some(&own.rule_columns),
        };
        let source = own.cache.reader(&own.base.store, runtime, &location_of).keeping(columns);
        let stop = || {
            if gone.load(Ordering::Relaxed) {
                return Some("the one who asked has gone".to_owned());
            }
            if ended.load(Ordering::Relaxed) {
                return Some(CHANGED.to_owned());
            }
            let late = until.is_some_and(|until| Instant::now() > until);
            late.then(|| "the time limit was reached; narrow the range or the query".to_owned())
        };
        // How many pages there are is of events too that may not be read.
        let shown = |progress: Progress| match (&listener, &progress) {
            (Some(_), Progress::Pages { .. }) if restricted => {}
            (Some(listener), _) => listener(progress),
            (None, _) => {}
        };
        let reported = listener.is_some().then_some(&shown as &(dyn Fn(Progress) + Sync));
        let passing = |lane: &str, rows: u64| *passed.lock().entry(lane.to_owned()).or_default() += rows;
        let budget = own.budgets.begin(own.base.settings.mib("search.memory_mib"));
        let workers = own.search_pool.for_question();
        work(&Scope {
            view: &view,
            source: &source,
            workers: &workers,
            stop: &stop,
            budget: &budget,
            progress: reported,
            passing: counting.then_some(&passing),
        });
        let (segments, bytes) = source.reads();
        (Reads { segments, bytes, restricted, unseen }, passed.into_inner())
    });
    let done = done.await.map_err(|e| ServiceError::Busy(format!("the search failed: {e}"), 1));
    reading.base.metrics.searches.inc();
    reading.base.metrics.search_seconds.observe(began.elapsed().as_secs_f64());
    let (reads, passed) = done?;
    if watch.has_ended() {
        return Err(ServiceError::NotAllowed(CHANGED.into()));
    }
    record_read(reading, &scope, &passed).await?;
    Ok(reads)
}
