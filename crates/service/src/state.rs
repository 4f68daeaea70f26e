//! What the parts of a running service share.

use crate::access::LoginLimiter;
use crate::access::{Lookups, Sender};
use crate::arrivals::Ledger;
use crate::catalogue::Catalogue;
use crate::limits::Limits;
use crate::listeners::Addresses;
use crate::metrics::Metrics;
use crate::pipeline::{Intake, View};
use crate::settings::Settings;
use calvex_store::records::access::ReaderRow;
use calvex_store::{Claim, PartCache, Store};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicI64};
use tokio::sync::Semaphore;

/// Nanoseconds from 1970, as an argument.
pub type Clock = Arc<dyn Fn() -> i64 + Send + Sync>;

/// The system's clock.
pub fn system_clock() -> Clock {
    Arc::new(|| i64::try_from(jiff::Timestamp::now().as_nanosecond()).unwrap_or(i64::MAX))
}

/// Shared by handlers and jobs.
pub struct App {
    pub settings: Settings,
    pub clock: Clock,
    pub store: Store,
    pub claim: Claim,
    pub catalogue: Catalogue,
    pub view: Arc<View>,
    pub intake: Intake,
    pub cache: PartCache,
    pub metrics: Metrics,
    pub keys: Lookups<Sender>,
    /// Where the ways in are; set once they are served.
    pub addresses: std::sync::OnceLock<Addresses>,
    /// What senders and lanes use up.
    pub limits: Limits,
    /// What came, and what became of it.
    pub ledger: Ledger,
    /// People by session or token.
    pub readers: Lookups<ReaderRow>,
    pub logins: LoginLimiter,
    /// What was proposed lately to those who type.
    pub proposals: crate::explore::Proposals,
    /// Decoding runs beside the async threads, at most this many at once.
    pub decode_slots: Arc<Semaphore>,
    /// Searching has slots of its own, so that no query can stop intake.
    pub search_slots: Arc<Semaphore>,
    /// Those who follow what comes have places of their own.
    pub tail_slots: Arc<Semaphore>,
    /// The threads that scan for all searches.
    pub searchers: crate::searchers::Searchers,
    /// Set once the journal is replayed.
    pub ready: AtomicBool,
    /// The earliest time admitted since rules looked last.
    pub touched_from_ns: Arc<AtomicI64>,
    /// Set by the committer when another process took this node's place.
    pub fenced: Arc<AtomicBool>,
    /// Held while chunks are merged: one merge at a time, and none of a chunk that is being merged.
    pub merging: tokio::sync::Mutex<()>,
    /// Held where catalogue and view change together in more than one step.
    pub upkeep: tokio::sync::Mutex<()>,
    /// Set once serving begins.
    pub sealer: std::sync::OnceLock<Arc<crate::pipeline::Sealer>>,
}

/// As handlers hold it.
pub type Shared = Arc<App>;
