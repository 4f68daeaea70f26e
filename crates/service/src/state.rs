//! What the parts of a running service share.

use crate::admission::budget::Budget;
use crate::admission::slots::Slots;
use crate::auth::cache::AuthCache;
use crate::auth::sign_in::SignIns;
use crate::config::LiveConfig;
use crate::config::settings::Settings;
use crate::intake::ledger::Ledger;
use crate::intake::limits::Limits;
use crate::intake::sender::Sender;
use crate::listen::Addresses;
use crate::metrics::Metrics;
use crate::pipeline::{Intake, View};
use calvex_store::records::access::Principal;
use calvex_store::{Claim, SegmentCache, Store};
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
    pub config: LiveConfig,
    /// The installation's own id: new with each database, and with each restore.
    pub installation: String,
    pub view: Arc<View>,
    pub intake: Intake,
    /// Memory of requests that send, from their first byte to their commit.
    pub intake_budget: Arc<Budget>,
    /// Memory of requests to the interface.
    pub api_budget: Arc<Budget>,
    /// Files that may be open, as the system says.
    pub open_files: u64,
    pub cache: SegmentCache,
    pub metrics: Metrics,
    pub keys: AuthCache<Sender>,
    /// Where the ways in are; set once they are served.
    pub addresses: std::sync::OnceLock<Addresses>,
    /// What senders and lanes use up.
    pub limits: Limits,
    /// What came, and what became of it.
    pub ledger: Ledger,
    /// People by session or token.
    pub readers: AuthCache<Principal>,
    /// Slows those who are refused again and again.
    pub strangers: crate::auth::strangers::Strangers,
    /// Limits on signing in.
    pub sign_ins: SignIns,
    /// What was proposed lately to those who type.
    pub proposals: crate::answer::complete::Proposals,
    /// Decoding runs beside the async threads, at most this many at once.
    pub decode_slots: Arc<Slots>,
    /// Searching has slots of its own, so that no query can stop intake.
    pub search_slots: Arc<Semaphore>,
    /// Exports have slots of their own: they last for as long as their clients take.
    pub export_slots: Arc<Semaphore>,
    /// Rules have slots of their own, so that readers cannot keep them from being judged.
    pub rule_slots: Arc<Semaphore>,
    /// Those who follow what comes have places of their own.
    pub tail_slots: Arc<Semaphore>,
    /// The threads for work whose length an outsider decides.
    pub behind: crate::admission::behind::Behind,
    /// The threads that scan for all searches.
    pub search_pool: crate::answer::search_pool::SearchPool,
    /// Set once the journal is replayed.
    pub ready: AtomicBool,
    /// The earliest time admitted since rules looked last.
    pub touched_from_ns: Arc<AtomicI64>,
    /// Set by the committer when another process took this node's place.
    pub fenced: Arc<AtomicBool>,
    /// Since when commits fail, nanoseconds from 1970; 0 where the last one worked.
    pub stuck_since_ns: Arc<AtomicI64>,
    /// Heads' days whose chunks could not be merged, and when that is tried again, nanoseconds from 1970.
    pub merges_failed: parking_lot::Mutex<std::collections::HashMap<calvex_intake::batch::HeadKey, i64>>,
    /// Held while chunks are merged: one merge at a time, and none of a chunk that is being merged.
    pub merging: tokio::sync::Mutex<()>,
    /// Held where catalogue and view change together in more than one step.
    pub upkeep: tokio::sync::Mutex<()>,
    /// Set once serving begins.
    pub sealer: std::sync::OnceLock<Arc<crate::pipeline::Sealer>>,
}

/// As handlers hold it.
pub type Shared = Arc<App>;

/// Connections of one way in, where the system lets so many files be open.
const MAX_HTTP: usize = 4096;
const MAX_STREAMS: usize = 512;

impl App {
    /// How many connections a way in holds at once; all together leave the system half of its files.
    pub fn connections_of(&self, way_in: &str) -> usize {
        let most = if way_in.ends_with("port") { MAX_HTTP } else { MAX_STREAMS };
        let eighth = usize::try_from(self.open_files / 8).unwrap_or(usize::MAX);
        most.min(eighth).max(16)
    }
}
