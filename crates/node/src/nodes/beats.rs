//! Which nodes are dead: a node whose beat stood still for [`STILL`] of this node's own monotonic clock, while this node's
//! own beats were committed. No wall clock is asked, and a database that stood still kills nobody.

use calvex_store::{Node, STILL};
use std::collections::HashMap;
use std::time::{Duration, Instant};

/// While this node's own last beat is older, nothing is known of the beats of others.
const OWN_BEAT: Duration = Duration::from_millis(2500);

/// The beats of others, as they were seen.
#[derive(Debug, Default, Clone)]
pub struct Beats {
    /// By slot: epoch and beat, and since when they stand so.
    seen: HashMap<u16, (u32, u64, Instant)>,
}

impl Beats {
    /// Takes note of the nodes as they stand at `now`; `own_age` is how old this node's last committed beat is.
    pub fn note(&mut self, nodes: &[Node], own_age: Duration, now: Instant) {
        self.seen.retain(|slot, _| nodes.iter().any(|n| n.slot == *slot));
        for node in nodes {
            let seen = self.seen.entry(node.slot).or_insert((node.epoch, node.beat, now));
            if (seen.0, seen.1) != (node.epoch, node.beat) || own_age > OWN_BEAT {
                *seen = (node.epoch, node.beat, now);
            }
        }
    }

    /// Whether a node's beat stood still for long enough at `now`.
    pub fn is_still(&self, node: &Node, now: Instant) -> bool {
        self.still_for(node, now) >= STILL
    }

    /// For how long a node's beat stood still at `now`.
    pub fn still_for(&self, node: &Node, now: Instant) -> Duration {
        let same = self.seen.get(&node.slot).filter(|seen| (seen.0, seen.1) == (node.epoch, node.beat));
        same.map_or(Duration::ZERO, |(.., since)| now.duration_since(*since))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn node(beat: u64) -> Node {
        Node {
            slot: 2,
            name: None,
            epoch: 1,
            beat,
            alive: true,
            version: String::new(),
            draining: false,
            looked_ms: 0,
            server: String::new(),
            url: String::new(),
        }
    }

    #[test]
    fn a_beat_that_stands_still_is_dead_unless_ones_own_stood_still_too() {
        let (mut beats, began) = (Beats::default(), Instant::now());
        let at = |s: u64| began + Duration::from_secs(s);
        let own = Duration::from_secs(1);
        beats.note(&[node(5)], own, at(0));
        beats.note(&[node(5)], own, at(9));
        assert!(!beats.is_still(&node(5), at(9)));
        assert!(beats.is_still(&node(5), at(10)));
        assert!(!beats.is_still(&node(6), at(10)), "it moved since it was looked at");
        // It moves: the time begins anew.
        beats.note(&[node(6)], own, at(11));
        assert!(!beats.is_still(&node(6), at(20)));
        // The database stood still for this node as well.
        beats.note(&[node(6)], Duration::from_secs(15), at(22));
        assert!(!beats.is_still(&node(6), at(31)));
        assert!(beats.is_still(&node(6), at(32)));
        beats.note(&[], own, at(33));
        assert!(!beats.is_still(&node(6), at(60)), "it is gone");
    }
}
