//! Step 7, group commit. One task commits group after group; what comes meanwhile is the next group. A sender's answer waits
//! for the commit of its group.

use super::View;
use super::admitted::{Admitted, Reach};
use super::compaction::Grown;
use super::group::{Built, HeadPage, build};
use super::receipt::Receipt;
use crate::admission::budget::Charge;
use crate::error::{Result, ServiceError};
use crate::metrics::{Metrics, Retries};
use crate::state::Clock;
use calvex_intake::batch::HeadKey;
use calvex_language::backoff::Backoff;
use calvex_storage::columns::{Page, PageRead};
use calvex_store::{
    Claim, Commit, Committed, JournalEntry, JournalRowRef, JournalTable, ROTATE_BYTES, Store, StoreError,
};
use parking_lot::Mutex;
use std::collections::{BTreeSet, HashSet};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicI64, AtomicU32, Ordering};
use std::time::Duration;
use tokio::sync::{mpsc, oneshot};

/// Events at which a group is full.
const GROUP_EVENTS: usize = 32_768;
/// Rough bytes at which a group is full.
const GROUP_BYTES: usize = 16 << 20;
/// Rows that the committer encodes on its own thread: a millisecond's work. More are encoded on another one.
const ENCODED_AT_ONCE: usize = 2048;
/// Submissions waiting at most; beyond, senders get 503 and come back.
const QUEUE: usize = 256;
/// An emptied journal table beyond this size is left for a new one once nothing has come for a while, so that its file
/// does not stand there until the next rotation.
const IDLE_ROTATE_BYTES: u64 = 512 << 10;
const IDLE: Duration = Duration::from_secs(2);
/// How long a sender waits for its commit.
const ANSWER_WAIT: Duration = Duration::from_secs(20);

/// One request's events.
pub struct Submission {
    /// Each with its head.
    pub pages: Vec<HeadPage>,
    /// By which the same batch is known when it comes again.
    pub receipt: Option<Receipt>,
    /// Ends with the commit.
    pub mark: Option<InFlightMark>,
    /// What the pages hold of the intake's budget, until the commit.
    pub charge: Charge,
}

/// How long a sender waits for its commit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Wait {
    /// For a while: it can send the same batch again and learns what became of it.
    ForAnswer,
    /// Until it is known whether the events are stored.
    ForOutcome,
}

type InFlight = Arc<Mutex<HashSet<(u32, [u8; 32])>>>;

/// The way in to the pipeline.
pub struct Intake {
    queue: parking_lot::RwLock<Option<mpsc::Sender<Queued>>>,
    in_flight: InFlight,
    /// Set where the disk is nearly full.
    pub disk_full: AtomicBool,
}

impl Intake {
    /// Takes nothing more; what was taken is still committed.
    pub fn close(&self) {
        self.queue.write().take();
    }

    /// Marks a batch as under way, so that the same one sent twice at once is stored once. The mark ends with the
    /// commit, or with the guard where nothing is submitted.
    pub fn mark(&self, key_id: u32, idempotency: [u8; 32]) -> Result<InFlightMark> {
        if !self.in_flight.lock().insert((key_id, idempotency)) {
            return Err(ServiceError::Busy(
                "the same batch is being stored at this moment; ask again for its answer".into(),
                1,
            ));
        }
        Ok(InFlightMark { of: Some(((key_id, idempotency), self.in_flight.clone())) })
    }

    /// Stores events; returns once they are durable and can be found.
    ///
    /// # Errors
    /// [`ServiceError::Busy`] where the queue is full or the database is away; with [`Wait::ForAnswer`] the events may
    /// be stored later then, and a retry of the same batch finds them. [`ServiceError::NotStorable`] where the database
    /// will never take them.
    pub async fn submit(&self, submission: Submission, wait: Wait) -> Result<()> {
        let (done, answer) = oneshot::channel();
        let busy = |why: &str| ServiceError::Busy(why.to_owned(), 1);
        let queue = self.queue.read().clone().ok_or_else(|| busy("the service is stopping; send again"))?;
        queue.try_send((submission, done)).map_err(|_| busy("the intake queue is full; slow down"))?;
        drop(queue);
        let away = || ServiceError::Busy("the database does not answer; send the same batch again".into(), 2);
        let answered = match wait {
            Wait::ForAnswer => tokio::time::timeout(ANSWER_WAIT, answer).await.map_err(|_| away())?,
            Wait::ForOutcome => answer.await,
        };
        answered.map_err(|_| away())?.map_err(Refused::into_error)
    }
}

/// Why a submission was not stored.
#[derive(Debug, Clone)]
enum Refused {
    /// Not now; again after so many seconds.
    Passing(String, u32),
    /// Never.
    Permanent(String),
}

impl Refused {
    fn into_error(self) -> ServiceError {
        match self {
            Refused::Passing(why, after_s) => ServiceError::Busy(why, after_s),
            Refused::Permanent(why) => ServiceError::NotStorable(why),
        }
    }
}

type Outcome = std::result::Result<(), Refused>;

/// See [`Intake::mark`].
pub struct InFlightMark {
    of: Option<((u32, [u8; 32]), InFlight)>,
}

impl Drop for InFlightMark {
    fn drop(&mut self) {
        if let Some((key, set)) = self.of.take() {
            set.lock().remove(&key);
        }
    }
}

/// A submission on its way, and its sender waiting for the answer.
type Queued = (Submission, oneshot::Sender<Outcome>);

/// A sender waiting for its answer, with what is needed to commit its events alone.
struct Waiting {
    pages: Vec<(HeadKey, Page)>,
    receipt: Option<Receipt>,
    done: oneshot::Sender<Outcome>,
    _mark: Option<InFlightMark>,
    _charge: Charge,
}

impl Waiting {
    /// A sender that has gone away will ask again, and be answered from its receipt.
    fn answer(self, outcome: Outcome) {
        let _ = self.done.send(outcome);
    }
}

struct Group {
    /// Nothing where the group could not be built, which only a defect could cause.
    built: Option<Vec<Built>>,
    waiting: Vec<Waiting>,
}

/// What the committer works with.
pub struct Committer {
    /// Where groups are committed.
    pub store: Store,
    /// The node's slot and epoch, which each commit proves.
    pub claim: Claim,
    /// Where committed pages become searchable.
    pub view: Arc<View>,
    /// What it counts.
    pub metrics: CommitFigures,
    /// The time.
    pub clock: Clock,
    /// How long a group waits for more to join it.
    pub wait: Duration,
    /// The journal table written to.
    pub table: Arc<AtomicU32>,
    /// Where small pages are joined.
    pub grown: Grown,
    /// What jobs have still to look at.
    pub admitted: Arc<Admitted>,
    /// Set where another process took this node's place.
    pub fenced: Arc<AtomicBool>,
    /// Since when commits fail, nanoseconds from 1970; 0 where the last one worked.
    pub stuck_since_ns: Arc<AtomicI64>,
}

/// The few figures the committer moves; the registry itself is in `Base`.
#[derive(Clone)]
pub struct CommitFigures {
    commits: prometheus_client::metrics::counter::Counter,
    seconds: prometheus_client::metrics::histogram::Histogram,
    retries: Retries,
}

impl CommitFigures {
    /// Shares the counters of `metrics`.
    pub fn of(metrics: &Metrics) -> Self {
        let (seconds, retries) = (metrics.commit_seconds.clone(), metrics.retries.clone());
        CommitFigures { commits: metrics.commits.clone(), seconds, retries }
    }
}

impl Committer {
    /// The way in, and the task's future, which ends once the way in is dropped and all it took is committed.
    pub fn start(self) -> (Intake, impl Future<Output = ()>) {
        let (queue, mut submissions) = mpsc::channel::<Queued>(QUEUE);
        let in_flight: InFlight = InFlight::default();
        let intake =
            Intake { queue: parking_lot::RwLock::new(Some(queue)), in_flight, disk_full: AtomicBool::new(false) };
        let write = async move {
            let mut seq = 0;
            let mut table_bytes = 0;
            loop {
                match tokio::time::timeout(IDLE, submissions.recv()).await {
                    Ok(Some(first)) => {
                        let group = gather_group(first, &mut submissions, self.wait).await;
                        let Some(group) = built(group).await else { continue };
                        self.write(group, &mut seq, &mut table_bytes).await;
                    }
                    Ok(None) => return,
                    Err(_) if self.is_idle(table_bytes) => {
                        self.rotate(&mut table_bytes).await;
                    }
                    Err(_) => {}
                }
            }
        };
        (intake, write)
    }

    /// Goes on in the next journal table; the sealer drops the old one once it is empty, but in a cluster. Where the next
    /// one is not free yet, it is asked again after an eighth of a table.
    async fn rotate(&self, table_bytes: &mut u64) {
        let current = JournalTable { slot: self.claim.slot, no: self.table.load(Ordering::SeqCst) };
        match self.store.next_journal_table(current).await {
            Ok(Some(next)) => {
                self.table.store(next.no, Ordering::SeqCst);
                *table_bytes = 0;
            }
            Ok(None) => *table_bytes = ROTATE_BYTES - ROTATE_BYTES / 8,
            // At the next group again.
            Err(_) => {}
        }
    }

    /// Whether a table stands there for nothing that would go by going on in another one.
    fn is_idle(&self, table_bytes: u64) -> bool {
        table_bytes > IDLE_ROTATE_BYTES && self.view.head_size().0 == 0 && !self.store.is_in_cluster()
    }

    async fn write(&self, group: Group, seq: &mut u64, table_bytes: &mut u64) {
        if *table_bytes > ROTATE_BYTES {
            self.rotate(table_bytes).await;
        }
        let Group { built, waiting } = group;
        let Some(built) = built else {
            let failed = "the events could not be stored; the service's log says why";
            return waiting.into_iter().for_each(|w| w.answer(Err(Refused::Permanent(failed.into()))));
        };
        let receipts = waiting.iter().filter_map(|w| w.receipt.clone()).collect();
        match self.write_rows(built, receipts, seq, table_bytes).await {
            Ok(heads) => {
                waiting.into_iter().for_each(|w| w.answer(Ok(())));
                self.grown.note(heads);
            }
            Err(Refused::Permanent(why)) if waiting.len() > 1 => {
                tracing::error!(
                    "a group of {} batches is committed one by one, since one can never be: {why}",
                    waiting.len()
                );
                for mut one in waiting {
                    let pages = std::mem::take(&mut one.pages);
                    let pages = pages.into_iter().map(|(key, page)| HeadPage::new(key, page)).collect();
                    let group = build_group(vec![(pages, one)]);
                    // One submission is not divided again.
                    Box::pin(self.write(group, seq, table_bytes)).await;
                }
            }
            Err(refused) => waiting.into_iter().for_each(|w| w.answer(Err(refused.clone()))),
        }
    }

    /// Commits rows and receipts and admits the rows to their heads; which heads these are.
    async fn write_rows(
        &self,
        built: Vec<Built>,
        receipts: Vec<Receipt>,
        seq: &mut u64,
        table_bytes: &mut u64,
    ) -> std::result::Result<BTreeSet<HeadKey>, Refused> {
        let table = JournalTable { slot: self.claim.slot, no: self.table.load(Ordering::SeqCst) };
        let after_seq = *seq;
        let (mut rows, mut pages) = (Vec::with_capacity(built.len()), Vec::with_capacity(built.len()));
        for (seq, Built { key, page, batch }) in (after_seq + 1..).zip(built) {
            let HeadKey { lane, day, late } = key;
            rows.push(JournalEntry { seq, lane, day, late, rows: page.rows(), batch });
            pages.push((key, page));
        }
        let mut commit = Commit { table, after_seq, rows, receipts: Vec::new() };
        let began = std::time::Instant::now();
        let outcome = self.commit_surely(&mut commit, &receipts).await;
        self.metrics.seconds.observe(began.elapsed().as_secs_f64());
        self.metrics.commits.inc();
        outcome?;
        *seq += commit.rows.len() as u64;
        *table_bytes += commit.rows.iter().map(|r| r.batch.len() as u64).sum::<u64>();
        Ok(self.admit(pages, after_seq, table))
    }

    /// Commits, however long the database is away: what may have been committed must become known. What can never be
    /// committed is returned at once.
    async fn commit_surely(&self, commit: &mut Commit, receipts: &[Receipt]) -> Outcome {
        let mut backoff = Backoff::new(Duration::from_millis(20), Duration::from_secs(1));
        loop {
            // A receipt answers repeats from the moment its events were stored, not from when that was first tried.
            let now_ns = (self.clock)();
            commit.receipts = receipts.iter().map(|receipt| receipt.made_at(now_ns)).collect();
            let error = match self.store.commit(&self.claim, commit).await {
                Ok(Committed::Yes) => {
                    self.stuck_since_ns.store(0, Ordering::SeqCst);
                    return Ok(());
                }
                Ok(Committed::ReceiptTaken) => {
                    let why = "another node stored the same batch; ask again for its answer";
                    return Err(Refused::Passing(why.into(), 1));
                }
                Err(e) => e,
            };
            if let StoreError::Fenced(name) = &error {
                tracing::error!("node `{name}` was taken over by another process; this one stops");
                self.fenced.store(true, Ordering::SeqCst);
                return Err(Refused::Passing("this node was replaced; send to the new one".into(), 5));
            }
            if !error.is_passing() {
                return Err(Refused::Permanent(format!("the database will not take the events: {error}")));
            }
            // Only the first failure of a row sets it.
            let _ = self.stuck_since_ns.compare_exchange(0, now_ns, Ordering::SeqCst, Ordering::SeqCst);
            tracing::warn!("a commit is tried again: {error}");
            self.metrics.retries.note("commit", &error);
            tokio::time::sleep(backoff.pause()).await;
            // A database that came back may take other packets than the one that went.
            self.store.read_limits().await;
        }
    }

    /// Puts committed pages into their heads; which heads these are.
    fn admit(&self, pages: Vec<(HeadKey, Page)>, after_seq: u64, table: JournalTable) -> BTreeSet<HeadKey> {
        let now_ns = (self.clock)();
        let mut heads = BTreeSet::new();
        for (seq, (key, page)) in (after_seq + 1..).zip(pages) {
            let reach = Reach::of(&page);
            let page = page.with_origin(self.claim.slot, self.claim.epoch, seq);
            self.view.admit(
                key,
                page,
                JournalRowRef { table, slot: self.claim.slot, epoch: self.claim.epoch, seq },
                now_ns,
            );
            self.admitted.note(reach);
            heads.insert(key);
        }
        heads
    }
}

/// What has come, and what comes within `wait` of the first.
async fn gather_group(first: Queued, queue: &mut mpsc::Receiver<Queued>, wait: Duration) -> Vec<Queued> {
    let weight = |(s, _): &Queued| s.pages.iter().map(|p| p.page.weight_bytes()).sum::<usize>();
    let rows = |(s, _): &Queued| s.pages.iter().map(|p| p.page.rows()).sum::<usize>();
    let (mut events, mut bytes) = (rows(&first), weight(&first));
    let mut group = vec![first];
    let until = tokio::time::Instant::now() + wait;
    while events < GROUP_EVENTS && bytes < GROUP_BYTES {
        let next = match queue.try_recv() {
            Ok(next) => Some(next),
            // A timer of no time takes a millisecond.
            Err(_) if wait.is_zero() => None,
            Err(_) => tokio::time::timeout_at(until, queue.recv()).await.ok().flatten(),
        };
        let Some(next) = next else { break };
        events += rows(&next);
        bytes += weight(&next);
        group.push(next);
    }
    group
}

/// Pages of a submission, and what waits for them.
fn waiting((submission, done): Queued) -> (Vec<HeadPage>, Waiting) {
    let Submission { pages, receipt, mark, charge } = submission;
    // Columns are shared, so a second list of pages costs little.
    let alone = pages.iter().map(|p| (p.key, p.page.clone())).collect();
    (pages, Waiting { pages: alone, receipt, done, _mark: mark, _charge: charge })
}

/// The group as what is written, worked out at once where that is soon done. Nothing where the work broke off, which only a
/// defect could cause: its senders get 503.
async fn built(group: Vec<Queued>) -> Option<Group> {
    let group: Vec<_> = group.into_iter().map(waiting).collect();
    let rows = group.iter().flat_map(|(pages, _)| pages).map(HeadPage::rows_to_encode).sum::<usize>();
    if rows <= ENCODED_AT_ONCE {
        // The committer goes on.
        return catch_unwind(AssertUnwindSafe(|| build_group(group))).ok();
    }
    tokio::task::spawn_blocking(move || build_group(group)).await.ok()
}

fn build_group(group: Vec<(Vec<HeadPage>, Waiting)>) -> Group {
    let (pages, waiting): (Vec<_>, Vec<_>) = group.into_iter().unzip();
    let pages = pages.into_iter().flatten().collect();
    let built = build(pages).inspect_err(|e| tracing::error!("a group could not be built: {e}")).ok();
    Group { built, waiting }
}
