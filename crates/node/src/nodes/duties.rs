//! What one node does for all. A node takes a duty that nobody has, the later the more it has already, so that duties
//! spread over the nodes; it keeps it until it stops, is drained, or is adopted.

use super::Nodes;
use crate::error::Result;
use calvex_store::{Claim, DutyOwner, Store};
use parking_lot::Mutex;
use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};
use tokio::sync::{OwnedRwLockReadGuard, RwLock};

/// A node waits so long, for each duty that it has, before it takes another one.
const HESITATION: Duration = Duration::from_secs(1);

/// A duty.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Duty {
    /// Judging alert rules, looking for error groups, calling again, heartbeats.
    Rules,
    /// Delivering messages.
    Messages,
    /// Merging chunks, and putting their filters side by side.
    Merging,
    /// Dropping what is kept no longer.
    Expiry,
}

impl Duty {
    /// Every duty.
    pub const ALL: [Duty; 4] = [Duty::Rules, Duty::Messages, Duty::Merging, Duty::Expiry];

    /// Its name in the database, and as it is listed.
    pub fn name(self) -> &'static str {
        match self {
            Duty::Rules => "rules",
            Duty::Messages => "messages",
            Duty::Merging => "merging",
            Duty::Expiry => "expiry",
        }
    }
}

/// A turn of a duty. While it lives the duty is not given up.
pub struct Doing {
    /// Counts how often this node took the duty: what was remembered of an earlier time is old.
    pub term: u64,
    _held: Option<OwnedRwLockReadGuard<Option<u64>>>,
}

/// The term of a duty, while this node has it; held for reading by each turn of it.
#[derive(Default)]
struct Term {
    is: Arc<RwLock<Option<u64>>>,
    /// No turn begins any more: it is to be given up.
    ending: AtomicBool,
}

/// The duties of this node.
#[derive(Default)]
pub(super) struct Held {
    of: Mutex<HashMap<Duty, Arc<Term>>>,
    free_since: Mutex<HashMap<Duty, Instant>>,
    terms: Mutex<u64>,
}

impl Held {
    fn term(&self, duty: Duty) -> Arc<Term> {
        self.of.lock().entry(duty).or_default().clone()
    }

    pub(super) fn doing(&self, duty: Duty, alone: bool) -> Option<Doing> {
        if alone {
            return Some(Doing { term: 0, _held: None });
        }
        let term = self.term(duty);
        let held = term.is.clone().try_read_owned().ok().filter(|_| !term.ending.load(Ordering::SeqCst))?;
        let term = (*held)?;
        Some(Doing { term, _held: Some(held) })
    }

    /// Since when a duty is seen to be nobody's.
    fn free_for(&self, duty: Duty, is_free: bool) -> Option<Duration> {
        let mut free = self.free_since.lock();
        if is_free {
            return Some(free.entry(duty).or_insert_with(Instant::now).elapsed());
        }
        free.remove(&duty);
        None
    }

    /// Has turns of a duty begin from now on, or none. False where a turn is under way and must end first: nothing waits
    /// for it here, since it may wait for a look itself.
    fn set(&self, duty: Duty, has: bool) -> bool {
        let term = self.term(duty);
        term.ending.store(!has, Ordering::SeqCst);
        let Ok(mut is) = term.is.try_write() else { return has };
        if is.is_some() != has {
            *is = has.then(|| {
                let mut terms = self.terms.lock();
                *terms += 1;
                *terms
            });
        }
        true
    }
}

impl Nodes {
    /// Takes note of who has which duty; takes free ones, and gives all up where this node is drained.
    ///
    /// # Errors
    /// Where the database fails.
    pub(super) async fn settle_duties(&self, store: &Store, claim: &Claim, owners: &[DutyOwner]) -> Result<()> {
        let draining = self.is_draining();
        let owner = |duty: Duty| owners.iter().find(|o| o.duty == duty.name());
        let is_own = |o: &DutyOwner| (o.slot, o.epoch) == (claim.slot, claim.epoch);
        let mut many = Duty::ALL.iter().filter(|duty| owner(**duty).is_some_and(is_own)).count() as u32;
        for duty in Duty::ALL {
            let has = owner(duty).is_some_and(is_own);
            let free_for = self.held.free_for(duty, owner(duty).is_none());
            if draining && has {
                // Where a turn is under way, at a later look.
                if self.held.set(duty, false) {
                    store.give_up_duty(claim, duty.name()).await?;
                    tracing::info!(duty = duty.name(), "a duty is given up");
                }
                continue;
            }
            let take = free_for.is_some_and(|free| free >= HESITATION * many) && !draining;
            let took = take && store.take_duty(claim, duty.name()).await?;
            if took {
                many += 1;
                tracing::info!(duty = duty.name(), "a duty is taken");
            }
            self.held.set(duty, has || took);
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_duty_is_given_up_once_its_turn_is_over() {
        let held = Held::default();
        assert!(held.doing(Duty::Rules, false).is_none() && held.doing(Duty::Rules, true).is_some());
        assert!(held.set(Duty::Rules, true));
        let turn = held.doing(Duty::Rules, false).unwrap();
        assert!(held.doing(Duty::Messages, false).is_none(), "another one is not held");
        assert!(held.set(Duty::Rules, true), "it has it, also while a turn is under way");
        assert!(held.doing(Duty::Rules, false).is_some(), "turns of two jobs of one duty go side by side");
        assert!(!held.set(Duty::Rules, false), "a turn is under way");
        assert!(held.doing(Duty::Rules, false).is_none(), "and no other begins");
        let first = turn.term;
        drop(turn);
        assert!(held.set(Duty::Rules, false));
        assert!(held.doing(Duty::Rules, false).is_none());
        assert!(held.set(Duty::Rules, true));
        assert_ne!(held.doing(Duty::Rules, false).unwrap().term, first, "what was remembered is old");
    }
}
