//! Several nodes on one database: what this one knows of the others, and what of the common work it does.
//!
//! | | |
//! | --- | --- |
//! | [`beats`] | which nodes are dead |
//! | [`follow`] | looks at what the others did, four times a second; adopts the dead |
//! | [`duties`] | who does what one node does for all |
//! | [`orphans`] | segments that nothing names |

mod beats;
mod duties;
mod follow;
mod orphans;

pub use duties::{Doing, Duty};
pub use follow::{Following, look, page_of, turn};
pub use orphans::{list_orphans, longest_read_ns, sweep_listed};

use beats::Beats;
use calvex_store::{Claim, Node, Store};
use duties::Held;
use parking_lot::RwLock;
use std::time::{Duration, Instant};
use tokio::sync::watch;
use tokio::time::MissedTickBehavior;

/// Others are looked at this often.
pub const LOOK_EVERY: Duration = Duration::from_millis(250);
/// Others see by its beat that a node lives.
pub const BEAT_EVERY: Duration = Duration::from_secs(1);
/// An answer from a look that is older names the nodes that it may be behind.
const FRESH: Duration = Duration::from_secs(1);

/// What this node knows of all nodes.
pub struct Nodes {
    /// The database is private: there are no others, and never will be.
    alone: bool,
    known: RwLock<Known>,
    held: Held,
    /// This node is to take no events and no duties.
    draining: watch::Sender<bool>,
}

struct Known {
    nodes: Vec<Node>,
    /// When the last look that found an answer began.
    looked: Instant,
    looked_ns: i64,
    /// When a beat of this node was committed last.
    beat: Instant,
    /// By slot: epoch and beat, and since when they stand so.
    beats: Beats,
}

/// Moves the beat of a node that starts, so that one which takes long is not taken for dead; returns once another process
/// took its place.
pub async fn beat_while_starting(store: &Store, claim: &Claim) {
    let began = Instant::now();
    let mut timer = tokio::time::interval(BEAT_EVERY);
    timer.set_missed_tick_behavior(MissedTickBehavior::Delay);
    loop {
        timer.tick().await;
        // A node that starts has not looked at the others yet.
        let looked_ms = u32::try_from(began.elapsed().as_millis()).unwrap_or(u32::MAX);
        match store.beat(claim, looked_ms).await {
            Ok(true) => {}
            Ok(false) => return,
            // Where the database is away, the steps of the start wait for it.
            Err(e) => tracing::warn!("a beat failed: {e}"),
        }
    }
}

impl Nodes {
    /// Of a node that is alone on its database, or beside others.
    pub fn new(alone: bool) -> Self {
        let now = Instant::now();
        let known = Known { nodes: Vec::new(), looked: now, looked_ns: i64::MIN, beat: now, beats: Beats::default() };
        Nodes { alone, known: RwLock::new(known), held: Held::default(), draining: watch::Sender::new(false) }
    }

    /// Whether there are no others, and never will be.
    pub fn is_alone(&self) -> bool {
        self.alone
    }

    /// Takes note of a look that began then.
    fn note_look(&self, claim: &Claim, nodes: Vec<Node>, (began, began_ns): (Instant, i64)) {
        let draining = nodes.iter().any(|n| n.slot == claim.slot && n.epoch == claim.epoch && n.draining);
        self.draining.send_if_modified(|before| std::mem::replace(before, draining) != draining);
        let mut known = self.known.write();
        (known.nodes, known.looked, known.looked_ns) = (nodes, began, began_ns);
    }

    /// Takes note that a beat of this node was committed.
    pub fn note_beat(&self) {
        self.known.write().beat = Instant::now();
    }

    fn beat_age(&self) -> Duration {
        self.known.read().beat.elapsed()
    }

    /// How old the last look at the others is.
    pub fn look_age(&self) -> Duration {
        if self.alone { Duration::ZERO } else { self.known.read().looked.elapsed() }
    }

    /// Up to which moment, by this node's clock, everything is seen that any node acknowledged.
    pub fn seen_until(&self, now_ns: i64) -> i64 {
        if self.alone { now_ns } else { self.known.read().looked_ns.min(now_ns) }
    }

    /// Takes note of the beats of others.
    fn note_beats(&self, beats: &Beats) {
        self.known.write().beats.clone_from(beats);
    }

    /// For how long a node's beat has stood still.
    pub fn still_for(&self, node: &Node) -> Duration {
        self.known.read().beats.still_for(node, Instant::now())
    }

    /// How many nodes live, this one included.
    pub fn living(&self) -> u32 {
        let known = self.known.read();
        u32::try_from(known.nodes.iter().filter(|n| n.alive).count()).unwrap_or(1).max(1)
    }

    /// Where browsers reach the other nodes that live and take part, as far as they named that.
    pub fn other_urls(&self, claim: &Claim) -> Vec<String> {
        let known = self.known.read();
        let others = known.nodes.iter().filter(|n| n.alive && !n.draining && n.slot != claim.slot);
        others.filter(|n| !n.url.is_empty()).map(|n| n.url.clone()).collect()
    }

    /// Whether this node is to take no events and no duties.
    pub fn is_draining(&self) -> bool {
        *self.draining.borrow()
    }

    /// Returns once this node is drained.
    pub async fn drained(&self) {
        // It is not dropped while it is waited for.
        let _ = self.draining.subscribe().wait_for(|is| *is).await;
    }

    /// Which nodes an answer of this moment may be behind; none where the last look is fresh.
    pub fn unseen(&self, claim: &Claim) -> Option<String> {
        let age = self.look_age();
        if age <= FRESH {
            return None;
        }
        let known = self.known.read();
        let others = known.nodes.iter().filter(|n| n.alive && n.slot != claim.slot);
        let names: Vec<&str> = others.filter_map(|n| n.name.as_deref()).collect();
        let s = age.as_secs();
        (!names.is_empty()).then(|| format!("what {} acknowledged in the last {s} s", names.join(", ")))
    }

    /// Begins a turn of a duty; nothing where another node has it. While the guard lives the duty is not given up.
    pub fn doing(&self, duty: Duty) -> Option<Doing> {
        self.held.doing(duty, self.alone)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn node(slot: u16, alive: bool) -> Node {
        Node {
            slot,
            name: Some(format!("bank-{slot}")),
            epoch: 1,
            beat: 1,
            alive,
            version: String::new(),
            draining: false,
            looked_ms: 0,
            server: String::new(),
            url: String::new(),
        }
    }

    #[tokio::test]
    async fn who_waits_for_a_drain_goes_on_with_the_look_that_sees_it() {
        let claim = Claim { slot: 1, epoch: 1, name: "bank-1".into(), first_chunk: 1 };
        let nodes = Nodes::new(false);
        let note = |of: &[Node]| nodes.note_look(&claim, of.to_vec(), (Instant::now(), 0));
        note(&[node(1, true), Node { draining: true, ..node(2, true) }]);
        assert!(!nodes.is_draining(), "another one is");
        tokio::join!(nodes.drained(), async { note(&[Node { draining: true, ..node(1, true) }]) });
        assert!(nodes.is_draining());
        note(&[node(1, true)]);
        assert!(!nodes.is_draining());
    }

    #[test]
    fn an_answer_names_whom_it_may_be_behind() {
        let claim = Claim { slot: 1, epoch: 1, name: "bank-1".into(), first_chunk: 1 };
        let nodes = Nodes::new(false);
        let long_ago = Instant::now().checked_sub(Duration::from_secs(5)).unwrap();
        nodes.note_look(&claim, vec![node(1, true), node(2, true), node(3, false)], (long_ago, 7));
        assert_eq!(nodes.unseen(&claim).as_deref(), Some("what bank-2 acknowledged in the last 5 s"));
        assert_eq!((nodes.living(), nodes.seen_until(100)), (2, 7));
        nodes.note_look(&claim, vec![node(1, true), node(2, true)], (Instant::now(), 50));
        assert_eq!(nodes.unseen(&claim), None);
        nodes.note_look(&claim, vec![node(1, true), node(3, false)], (long_ago, 60));
        assert_eq!(nodes.unseen(&claim), None, "nobody else acknowledges anything");
        assert_eq!(Nodes::new(true).seen_until(100), 100);
    }
}
