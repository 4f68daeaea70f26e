//! Step 7, group commit. One task gathers submissions and builds their pages, a second commits group after group; so
//! the next group is built while the last one is written. A sender's answer waits for the commit of its group.

use super::View;
use super::group::{Built, HeadPage, build};
use crate::error::{Result, ServiceError};
use crate::metrics::Metrics;
use crate::state::Clock;
use calvex_core::batch::HeadKey;
use calvex_core::columns::PageRead;
use calvex_store::{Claim, Commit, Committed, JournalRow, JournalRowRef, ROTATE_BYTES, ReceiptRow, Store, StoreError};
use parking_lot::Mutex;
use std::collections::{BTreeSet, HashSet};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicI64, AtomicU32, Ordering};
use std::time::Duration;
use tokio::sync::{mpsc, oneshot};

/// Events at which a group is full.
const GROUP_EVENTS: usize = 32_768;
/// Rough bytes at which a group is full.
const GROUP_BYTES: usize = 16 << 20;
/// Submissions waiting at most; beyond, senders are told to come back.
const QUEUE: usize = 256;
/// An emptied journal table beyond this size is left for a new one once nothing has come for a while, so that its file
/// does not stand there until the next rotation.
const IDLE_ROTATE_BYTES: u64 = 512 << 10;
const IDLE: Duration = Duration::from_secs(2);
/// How long a sender waits for its commit.
const ANSWER_WAIT: Duration = Duration::from_secs(20);

/// A receipt to be committed with a submission.
#[derive(Debug, Clone)]
pub struct Receipt {
    pub key_id: u32,
    pub idempotency: [u8; 32],
    pub body: [u8; 32],
    pub answer: Vec<u8>,
}

/// One request's events.
pub struct Submission {
    /// Each with its head.
    pub pages: Vec<HeadPage>,
    pub receipt: Option<Receipt>,
    done: oneshot::Sender<Result<()>>,
}

type InFlight = Arc<Mutex<HashSet<(u32, [u8; 32])>>>;

/// The way in to the pipeline.
pub struct Intake {
    queue: parking_lot::RwLock<Option<mpsc::Sender<Submission>>>,
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
    /// [`ServiceError::Busy`] where the queue is full or the database is away; the events may be stored later then,
    /// and a retry under the same idempotency key finds them.
    pub async fn submit(
        &self,
        pages: Vec<HeadPage>,
        receipt: Option<Receipt>,
        mark: Option<InFlightMark>,
    ) -> Result<()> {
        let (done, answer) = oneshot::channel();
        let busy = |why: &str| ServiceError::Busy(why.to_owned(), 1);
        let queue = self.queue.read().clone().ok_or_else(|| busy("the service is stopping; send again"))?;
        queue.try_send(Submission { pages, receipt, done }).map_err(|_| busy("the intake queue is full; slow down"))?;
        drop(queue);
        // From here the committer ends the mark.
        if let Some(mut mark) = mark {
            mark.of = None;
        }
        let waited = tokio::time::timeout(ANSWER_WAIT, answer).await;
        let away = || ServiceError::Busy("the database does not answer; send the same batch again".into(), 2);
        waited.map_err(|_| away())?.map_err(|_| away())?
    }
}

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

/// A sender waiting for its answer.
type Waiting = (Option<Receipt>, oneshot::Sender<Result<()>>);

struct Group {
    /// Nothing where the group could not be built, which only a defect could cause.
    built: Option<Vec<Built>>,
    submissions: Vec<Waiting>,
}

/// What the committer works with.
pub struct Committer {
    pub store: Store,
    pub claim: Claim,
    pub view: Arc<View>,
    pub metrics: CommitFigures,
    pub clock: Clock,
    pub wait: Duration,
    /// The journal table written to.
    pub table: Arc<AtomicU32>,
    pub touched_from_ns: Arc<AtomicI64>,
    pub fenced: Arc<AtomicBool>,
}

/// The few figures the committer moves; the registry itself lives with the app.
#[derive(Clone)]
pub struct CommitFigures {
    commits: prometheus_client::metrics::counter::Counter,
    seconds: prometheus_client::metrics::histogram::Histogram,
}

impl CommitFigures {
    /// Shares the counters of `metrics`.
    pub fn of(metrics: &Metrics) -> Self {
        CommitFigures { commits: metrics.commits.clone(), seconds: metrics.commit_seconds.clone() }
    }
}

impl Committer {
    /// The way in, and the two tasks' future, which ends once the way in is dropped and all it took is committed.
    pub fn start(self) -> (Intake, impl Future<Output = ()>) {
        let (queue, mut submissions) = mpsc::channel::<Submission>(QUEUE);
        let in_flight: InFlight = InFlight::default();
        let intake = Intake {
            queue: parking_lot::RwLock::new(Some(queue)),
            in_flight: in_flight.clone(),
            disk_full: AtomicBool::new(false),
        };
        let (groups, mut built) = mpsc::channel::<Group>(1);
        let wait = self.wait;
        let gather = async move {
            while let Some(first) = submissions.recv().await {
                let group = gather_group(first, &mut submissions, wait).await;
                let Ok(group) = tokio::task::spawn_blocking(move || build_group(group)).await else { continue };
                if groups.send(group).await.is_err() {
                    return;
                }
            }
        };
        let write = async move {
            let mut seq = 0;
            let mut table_bytes = 0;
            loop {
                match tokio::time::timeout(IDLE, built.recv()).await {
                    Ok(Some(group)) => self.write(group, &in_flight, &mut seq, &mut table_bytes).await,
                    Ok(None) => return,
                    Err(_) if table_bytes > IDLE_ROTATE_BYTES && self.view.head_size().0 == 0 => {
                        self.rotate(&mut table_bytes).await;
                    }
                    Err(_) => {}
                }
            }
        };
        (intake, async move {
            tokio::join!(gather, write);
        })
    }

    /// Goes on in a new journal table; the sealer drops the old one once it is empty.
    async fn rotate(&self, table_bytes: &mut u64) {
        let next = self.table.load(Ordering::SeqCst) + 1;
        if self.store.add_journal_table(next).await.is_ok() {
            self.table.store(next, Ordering::SeqCst);
            *table_bytes = 0;
        }
    }

    async fn write(&self, group: Group, in_flight: &InFlight, seq: &mut u64, table_bytes: &mut u64) {
        if *table_bytes > ROTATE_BYTES {
            self.rotate(table_bytes).await;
        }
        let table = self.table.load(Ordering::SeqCst);
        let now_ns = (self.clock)();
        let after_seq = *seq;
        let Some(built) = group.built else {
            let failed = Err(("the events could not be stored; the service's log says why".to_owned(), 30));
            return answer(group.submissions, in_flight, &failed);
        };
        let rows: Vec<JournalRow> = (after_seq + 1..)
            .zip(&built)
            .map(|(seq, b)| JournalRow {
                seq,
                lane: b.key.lane,
                day: b.key.day,
                late: b.key.late,
                rows: b.page.rows(),
                batch: b.batch.clone(),
            })
            .collect();
        let receipt = |r: &Receipt| ReceiptRow {
            key_id: r.key_id,
            idempotency: r.idempotency,
            body: r.body,
            answer: r.answer.clone(),
            made_ns: now_ns,
        };
        let receipts = group.submissions.iter().filter_map(|(r, _)| r.as_ref().map(receipt)).collect();
        let commit = Commit { table, after_seq, rows, receipts };
        let began = std::time::Instant::now();
        let outcome = self.commit_surely(&commit).await;
        self.metrics.seconds.observe(began.elapsed().as_secs_f64());
        self.metrics.commits.inc();
        let mut heads = BTreeSet::new();
        if outcome.is_ok() {
            *seq += commit.rows.len() as u64;
            *table_bytes += commit.rows.iter().map(|r| r.batch.len() as u64).sum::<u64>();
            heads = self.admit(built, after_seq, table, now_ns);
        }
        answer(group.submissions, in_flight, &outcome);
        heads.into_iter().for_each(|key| self.view.compact(key));
    }

    /// Commits, however long the database is away: what may have been committed must become known.
    async fn commit_surely(&self, commit: &Commit) -> std::result::Result<(), (String, u32)> {
        let mut pause = Duration::from_millis(20);
        loop {
            match self.store.commit(&self.claim, commit).await {
                Ok(Committed::Yes) => return Ok(()),
                Ok(Committed::ReceiptTaken) => {
                    return Err(("another node stored the same batch; ask again for its answer".into(), 1));
                }
                Err(StoreError::Fenced(name)) => {
                    tracing::error!("node `{name}` was taken over by another process; this one stops");
                    self.fenced.store(true, Ordering::SeqCst);
                    return Err(("this node was replaced; send to the new one".into(), 5));
                }
                Err(e) => {
                    tracing::warn!("a commit is tried again: {e}");
                    tokio::time::sleep(pause).await;
                    pause = (pause * 2).min(Duration::from_secs(1));
                }
            }
        }
    }

    /// Puts committed pages into their heads; which heads these are.
    fn admit(&self, built: Vec<Built>, after_seq: u64, table: u32, now_ns: i64) -> BTreeSet<HeadKey> {
        let mut heads = BTreeSet::new();
        for (seq, b) in (after_seq + 1..).zip(built) {
            self.touched_from_ns.fetch_min(b.page.time_span().0, Ordering::SeqCst);
            let page = b.page.with_origin(self.claim.node, self.claim.epoch, seq);
            self.view.admit(b.key, page, JournalRowRef { table, epoch: self.claim.epoch, seq }, now_ns);
            heads.insert(b.key);
        }
        heads
    }
}

async fn gather_group(first: Submission, queue: &mut mpsc::Receiver<Submission>, wait: Duration) -> Vec<Submission> {
    let weight = |s: &Submission| s.pages.iter().map(|p| p.page.weight_bytes()).sum::<usize>();
    let rows = |s: &Submission| s.pages.iter().map(|p| p.page.rows()).sum::<usize>();
    let (mut events, mut bytes) = (rows(&first), weight(&first));
    let mut group = vec![first];
    let until = tokio::time::Instant::now() + wait;
    while events < GROUP_EVENTS && bytes < GROUP_BYTES {
        match tokio::time::timeout_at(until, queue.recv()).await {
            Ok(Some(next)) => {
                events += rows(&next);
                bytes += weight(&next);
                group.push(next);
            }
            Ok(None) | Err(_) => break,
        }
    }
    group
}

fn build_group(group: Vec<Submission>) -> Group {
    let mut pages = Vec::new();
    let mut submissions = Vec::with_capacity(group.len());
    for submission in group {
        pages.extend(submission.pages);
        submissions.push((submission.receipt, submission.done));
    }
    let built = build(pages).inspect_err(|e| tracing::error!("a group could not be built: {e}")).ok();
    Group { built, submissions }
}

/// Tells the senders of a group what became of it.
fn answer(submissions: Vec<Waiting>, in_flight: &InFlight, outcome: &std::result::Result<(), (String, u32)>) {
    let mut marks = in_flight.lock();
    for (receipt, done) in submissions {
        if let Some(r) = receipt {
            marks.remove(&(r.key_id, r.idempotency));
        }
        let told = outcome.as_ref().copied().map_err(|(why, after)| ServiceError::Busy(why.clone(), *after));
        // A sender that has gone away will ask again, and be answered from its receipt.
        let _ = done.send(told);
    }
}
