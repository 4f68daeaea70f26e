//! Senders that go on whatever happens to the nodes: each sends a batch again until a node acknowledges it, and remembers
//! what was acknowledged. What is found afterwards is compared with that.

use crate::hostile::client;
use crate::service::Service;
use anyhow::{Result, ensure};
use serde_json::json;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use tokio::task::JoinHandle;

/// Events of a batch.
const BATCH: u64 = 5;
/// One batch of so many is two days late.
const LATE: u64 = 10;
/// Rounds from here on are pauses between two rounds.
pub const PAUSES: u64 = 1_000_000;
/// How long one request may take.
const REQUEST: Duration = Duration::from_secs(20);

/// What senders did.
#[derive(Debug, Default, Clone)]
pub struct Account {
    /// The doors that were acknowledged, by round.
    pub acknowledged: BTreeMap<u64, BTreeSet<u64>>,
    /// Tries that did not succeed, by status; `none` where there was no answer.
    pub retries: BTreeMap<String, u64>,
    /// The longest that a sender waited from one acknowledgement to the next.
    pub longest_wait: Duration,
    /// When each acknowledged batch of refusals happened, in nanoseconds.
    pub refusals_ns: Vec<i64>,
}

/// Senders that run until this is ended.
pub struct Pump {
    stop: Arc<AtomicBool>,
    round: Arc<AtomicU64>,
    account: Arc<Mutex<Account>>,
    senders: Vec<JoinHandle<Result<()>>>,
}

struct Sender {
    name: u64,
    nodes: Vec<(String, String)>,
    pause: Duration,
    stop: Arc<AtomicBool>,
    round: Arc<AtomicU64>,
    account: Arc<Mutex<Account>>,
}

impl Pump {
    /// Starts so many senders to these nodes; each pauses between two batches.
    pub fn start(nodes: &[Service], senders: u64, pause: Duration) -> Self {
        // One key for all: what one node took, another one takes no more from the same sender.
        let key = nodes.first().map(|s| s.key.trim().to_owned()).unwrap_or_default();
        let ways: Vec<(String, String)> = nodes.iter().map(|s| (s.url.clone(), key.clone())).collect();
        let (stop, round, account) = (Arc::default(), Arc::default(), Arc::default());
        let mut pump = Pump { stop, round, account, senders: Vec::new() };
        for name in 0..senders {
            let (stop, round, account) = (pump.stop.clone(), pump.round.clone(), pump.account.clone());
            let sender = Sender { name, nodes: ways.clone(), pause, stop, round, account };
            pump.senders.push(tokio::spawn(sender.run()));
        }
        pump
    }

    /// What follows belongs to another round.
    pub fn begin_round(&self, round: u64) {
        self.round.store(round, Ordering::SeqCst);
    }

    /// What was done so far.
    pub fn account(&self) -> Account {
        self.account.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// How many events were acknowledged so far.
    pub fn acknowledged(&self) -> usize {
        self.account().acknowledged.values().map(BTreeSet::len).sum()
    }

    /// Ends the senders. What was under way is sent until it is acknowledged.
    ///
    /// # Errors
    /// Where a sender could not go on.
    pub async fn end(mut self) -> Result<Account> {
        self.stop.store(true, Ordering::SeqCst);
        for sender in self.senders.drain(..) {
            sender.await??;
        }
        Ok(self.account())
    }
}

impl Sender {
    fn note(&self, change: impl FnOnce(&mut Account)) {
        change(&mut self.account.lock().unwrap_or_else(PoisonError::into_inner));
    }

    async fn run(self) -> Result<()> {
        let client = client()?;
        let (mut n, mut at, mut of_before) = (0u64, self.name as usize, 0);
        let mut last = Instant::now();
        while !self.stop.load(Ordering::SeqCst) {
            let round = self.round.load(Ordering::SeqCst);
            let doors: Vec<u64> = (0..BATCH).map(|k| self.name * 10_000_000 + n * BATCH + k).collect();
            // The first batch of a round is what a rule is raised by.
            let is_refused = round != of_before && round < PAUSES;
            of_before = round;
            let late_s = if n % LATE == LATE - 1 && !is_refused { 2 * 86_400 } else { 0 };
            let at_s = jiff::Timestamp::now().as_second() - late_s;
            let time = jiff::Timestamp::from_second(at_s)?.to_string();
            let msg = if is_refused { "door refused" } else { "door" };
            let event = |door: &u64| json!({ "time": time, "msg": msg, "door": door, "round": round });
            let body: String = doors.iter().map(|door| format!("{}\n", event(door))).collect();
            // The same batch until it is acknowledged, by whichever node takes it.
            loop {
                let Some((url, key)) = self.nodes.get(at % self.nodes.len()) else { return Ok(()) };
                let request = client.post(format!("{url}/v1/events")).bearer_auth(key).timeout(REQUEST);
                let request = request.header("Idempotency-Key", format!("{}-{n}", self.name)).body(body.clone());
                let status = request.send().await.map(|answer| answer.status());
                if status.as_ref().is_ok_and(|status| status.is_success()) {
                    self.note(|account| {
                        account.longest_wait = account.longest_wait.max(last.elapsed());
                        account.acknowledged.entry(round).or_default().extend(&doors);
                        account.refusals_ns.extend(is_refused.then_some(at_s * 1_000_000_000));
                    });
                    last = Instant::now();
                    break;
                }
                let why = status.map_or_else(|_| "none".to_owned(), |status| status.as_u16().to_string());
                self.note(|account| *account.retries.entry(why).or_default() += 1);
                at += 1;
                tokio::time::sleep(Duration::from_millis(50)).await;
            }
            n += 1;
            tokio::time::sleep(self.pause).await;
        }
        Ok(())
    }
}

/// The doors that a node finds, of one round or of all. An answer that could not look at everything is an error.
///
/// # Errors
/// Where the node does not answer in full, or an event stands twice.
pub fn doors(service: &Service, round: Option<u64>) -> Result<BTreeSet<u64>> {
    let query = round.map_or_else(|| "door".to_owned(), |round| format!("door round={round}"));
    let (mut found, mut twice) = (HashMap::new(), Vec::new());
    for event in service.search(&query, &["--from", "now-4d"])? {
        if let Some(door) = event["fields"]["door"].as_u64()
            && let Some(before) = found.insert(door, event["id"].clone())
        {
            twice.push(format!("door {door} as {before} and {}", event["id"]));
        }
    }
    ensure!(twice.is_empty(), "{} events stand twice: {:?}", twice.len(), twice.iter().take(5).collect::<Vec<_>>());
    Ok(found.into_keys().collect())
}
