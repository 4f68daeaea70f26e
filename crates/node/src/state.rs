//! The parts of a running service. Each is handed to those who need it and to no one else; `run` puts them together.
//!
//! | part | who holds it |
//! | --- | --- |
//! | [`Base`] | every other part: settings, clock, database, what the node knows of lanes and rules |
//! | [`Auth`] | whoever must know who asks or sends |
//! | [`Receiving`] | the ways in |
//! | [`Reading`] | whoever answers questions of events, alert rules included |
//! | [`Upkeep`] | sealing, merging, expiry |
//! | [`Health`] | the two paths that show how the service is |

use crate::admission::behind::Behind;
use crate::admission::budget::Budget;
use crate::admission::slots::Slots;
use crate::answer::budgets::Budgets;
use crate::answer::complete::Proposals;
use crate::answer::overview::Standings;
use crate::answer::rehearse::Rehearsals;
use crate::answer::search_pool::SearchPool;
use crate::auth::cache::AuthCache;
use crate::auth::provider::Provider;
use crate::auth::sign_in::SignIns;
use crate::auth::strangers::Strangers;
use crate::config::LiveConfig;
use crate::config::settings::Settings;
use crate::error::Result;
use crate::intake::ledger::Ledger;
use crate::intake::limits::Limits;
use crate::intake::sender::Sender;
use crate::listen::{Addresses, Certificates};
use crate::metrics::Metrics;
use crate::nodes::{Following, Nodes};
use crate::pipeline::admitted::Admitted;
use crate::pipeline::{Intake, Sealer, View};
use axum::extract::FromRef;
use calvex_language::domain::access::{Actor, Principal};
use calvex_store::records::Act;
use calvex_store::{Claim, ColumnCache, SegmentCache, Store};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicI64, Ordering};
use tokio::sync::Semaphore;

/// Nanoseconds from 1970, as an argument.
pub type Clock = Arc<dyn Fn() -> i64 + Send + Sync>;

/// The system's clock.
pub fn system_clock() -> Clock {
    Arc::new(|| i64::try_from(jiff::Timestamp::now().as_nanosecond()).unwrap_or(i64::MAX))
}

/// What every part stands on.
pub struct Base {
    /// What the service is set to.
    pub settings: Settings,
    /// The time.
    pub clock: Clock,
    /// The database.
    pub store: Store,
    /// This node's slot and epoch in it.
    pub claim: Claim,
    /// What this node knows of lanes, routes, transform rules, dials and ties, kept current.
    pub config: LiveConfig,
    /// The installation's own id: new with each database, and with each restore.
    pub installation: String,
    /// The service's own figures.
    pub metrics: Metrics,
    /// What came, and what became of it.
    pub ledger: Ledger,
    /// Where the ways in are.
    pub addresses: Addresses,
    /// What those are encrypted with that are.
    pub certificates: Option<Arc<Certificates>>,
    /// The nodes of the database, as this one knows them.
    pub nodes: Nodes,
    /// Files that may be open, as the system says.
    pub open_files: u64,
}

impl Base {
    /// Reads lanes, routes, rules, dials and ties anew.
    ///
    /// # Errors
    /// Where the database fails; what was known stays.
    pub async fn reload_config(&self) -> Result<()> {
        self.config.reload(&self.store, (self.clock)()).await
    }

    /// What `by` does now, for the audit trail.
    pub fn act<'a>(&self, by: &'a str, act: &'static str, what: impl Into<String>) -> Act<'a> {
        let chain = (self.claim.slot, self.claim.epoch);
        let by = Actor { name: by, token: None };
        Act { at_ns: (self.clock)(), by, act, what: what.into(), before: None, chain }
    }
}

/// Who asks and who sends, and the limits on trying.
pub struct Auth {
    /// What every part stands on.
    pub base: Arc<Base>,
    /// Senders by key.
    pub keys: AuthCache<Sender>,
    /// People by session or token.
    pub readers: AuthCache<Principal>,
    /// Who else says who somebody is.
    pub provider: Option<Provider>,
    /// Slows those who are refused again and again.
    pub strangers: Strangers,
    /// Limits on signing in.
    pub sign_ins: SignIns,
    /// Memory of requests to the interface.
    pub api_budget: Arc<Budget>,
    /// The threads for work whose length an outsider decides.
    pub behind: Arc<Behind>,
}

/// What the ways in need.
pub struct Receiving {
    /// What every part stands on.
    pub base: Arc<Base>,
    /// Who sends.
    pub auth: Arc<Auth>,
    /// Heads and chunks, as searches see them.
    pub view: Arc<View>,
    /// The way to the journal.
    pub intake: Intake,
    /// Memory of requests that send, from their first byte to their commit.
    pub intake_budget: Arc<Budget>,
    /// Decoding runs beside the async threads, at most this many at once.
    pub decode_slots: Arc<Slots>,
    /// What senders and lanes use up.
    pub limits: Limits,
    /// The threads for work whose length an outsider decides.
    pub behind: Arc<Behind>,
}

/// What questions of events need.
pub struct Reading {
    /// What every part stands on.
    pub base: Arc<Base>,
    /// Who asks.
    pub auth: Arc<Auth>,
    /// Heads and chunks, as searches see them.
    pub view: Arc<View>,
    /// Segments of chunks that were read lately.
    pub cache: Arc<SegmentCache>,
    /// Searching has slots of its own, so that no query can stop intake.
    pub search_slots: Arc<Semaphore>,
    /// Exports have slots of their own: they last for as long as their clients take.
    pub export_slots: Arc<Semaphore>,
    /// Rules have slots of their own, so that readers cannot keep them from being judged.
    pub rule_slots: Arc<Semaphore>,
    /// Columns of the pages that rules looked at lately.
    pub rule_columns: ColumnCache,
    /// Columns of which figures were worked out lately; nothing where the settings give them no room.
    pub columns: Option<ColumnCache>,
    /// Those who follow what comes have places of their own.
    pub tail_slots: Arc<Semaphore>,
    /// The threads that scan for all searches.
    pub search_pool: SearchPool,
    /// The memory of the questions that are being answered.
    pub budgets: Budgets,
    /// How services stand, worked out lately.
    pub standings: Standings,
    /// What was read for rehearsals lately.
    pub rehearsals: Rehearsals,
    /// What was proposed lately to those who type.
    pub proposals: Proposals,
    /// The threads for work whose length an outsider decides.
    pub behind: Arc<Behind>,
}

impl Reading {
    /// Bytes of chunk parts and columns that are kept for questions.
    pub fn kept_bytes(&self) -> u64 {
        self.cache.bytes() + self.rule_columns.bytes() + self.columns.as_ref().map_or(0, ColumnCache::bytes)
    }
}

/// What sealing, merging and expiry need.
pub struct Upkeep {
    /// What every part stands on.
    pub base: Arc<Base>,
    /// Heads and chunks, as searches see them.
    pub view: Arc<View>,
    /// Segments of chunks that were read lately.
    pub cache: Arc<SegmentCache>,
    /// Makes chunks of heads.
    pub sealer: Arc<Sealer>,
    /// Heads' days whose chunks could not be merged, and when that is tried again, nanoseconds from 1970.
    pub merges_failed: parking_lot::Mutex<std::collections::HashMap<calvex_intake::batch::HeadKey, i64>>,
    /// Segments that nothing named when they were listed, and when they may go, nanoseconds from 1970.
    pub orphans: parking_lot::Mutex<Vec<(i64, calvex_store::Orphans)>>,
    /// What other nodes did, as far as it was looked at.
    pub following: tokio::sync::Mutex<Following>,
    /// What jobs have still to look at.
    pub admitted: Arc<Admitted>,
    /// Held while chunks are merged: one merge at a time, and none of a chunk that is being merged.
    pub merging: tokio::sync::Mutex<()>,
    /// Held where catalogue and view change together in more than one step.
    pub swapping: tokio::sync::Mutex<()>,
}

/// What is asked of the service's own health.
pub struct Health {
    /// What every part stands on.
    pub base: Arc<Base>,
    /// The ways in.
    pub receiving: Arc<Receiving>,
    /// Makes chunks of heads.
    pub sealer: Arc<Sealer>,
    /// Set once the journal is replayed.
    pub ready: AtomicBool,
    /// Set by the committer when another process took this node's place.
    pub fenced: Arc<AtomicBool>,
    /// Since when commits fail, nanoseconds from 1970; 0 where the last one worked.
    pub stuck_since_ns: Arc<AtomicI64>,
}

/// Commits that fail for so long mean that intake cannot store.
const STUCK_NS: i64 = 3_000_000_000;

impl Health {
    /// Why events cannot be stored now; none where they can.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn why_not_ready(&self) -> Result<Option<String>> {
        let not = |why: &str| Ok(Some(why.to_owned()));
        if self.fenced.load(Ordering::SeqCst) {
            return not("another process took this node's place; stop one of the two");
        }
        if self.base.nodes.is_draining() {
            return not("this node is drained; `calvex admin node drain NAME --end` has it take events again");
        }
        if !self.ready.load(Ordering::SeqCst) {
            return not("the journal is not replayed yet");
        }
        if self.receiving.intake.disk_full.load(Ordering::Relaxed) {
            return not("the disk is at its reserve; free some, or shorten a lane's retention");
        }
        let stuck_ns = self.stuck_since_ns.load(Ordering::SeqCst);
        if stuck_ns > 0 && (self.base.clock)().saturating_sub(stuck_ns) > STUCK_NS {
            return not("commits fail; the service's log says why");
        }
        if self.sealer.is_failing() {
            return not("heads cannot be sealed; the service's log says why");
        }
        Ok(self.base.store.cannot_write().await?)
    }
}

/// All of them, for the routers alone: a handler takes the part it needs.
#[derive(Clone)]
pub struct Parts {
    /// What every other part stands on.
    pub base: Arc<Base>,
    /// Who asks and who sends.
    pub auth: Arc<Auth>,
    /// What the ways in need.
    pub receiving: Arc<Receiving>,
    /// What questions of events need.
    pub reading: Arc<Reading>,
    /// What sealing, merging and expiry need.
    pub upkeep: Arc<Upkeep>,
    /// What is asked of the service's own health.
    pub health: Arc<Health>,
}

macro_rules! part {
    ($($field:ident: $part:ident),+) => {$(
        impl FromRef<Parts> for Arc<$part> {
            fn from_ref(parts: &Parts) -> Self {
                parts.$field.clone()
            }
        }
    )+};
}

part!(base: Base, auth: Auth, receiving: Receiving, reading: Reading, upkeep: Upkeep, health: Health);

/// Connections of one way in, where the system lets so many files be open.
const MAX_HTTP: usize = 4096;
const MAX_STREAMS: usize = 512;

impl Base {
    /// How many connections a way in holds at once; all together leave the system half of its files.
    pub fn connections_of(&self, way_in: &str) -> usize {
        let most = if way_in.ends_with("port") { MAX_HTTP } else { MAX_STREAMS };
        let eighth = usize::try_from(self.open_files / 8).unwrap_or(usize::MAX);
        most.min(eighth).max(16)
    }
}
