//! What became of a body, for the service's own figures and for the account of arrivals.

use super::prepare::Taken;
use super::sender::Sender;
use crate::metrics::LaneLabel;
use crate::state::{Base, Receiving};
use calvex_intake::arrivals::Tally;
use calvex_storage::columns::PageRead;
use std::collections::BTreeMap;

/// What of a batch was stored, kept until its commit is known.
pub(super) struct ToStore {
    tallies: Vec<(u32, bool, Vec<Tally>)>,
    events_by_lane: BTreeMap<u32, u64>,
    timed: bool,
}

impl ToStore {
    /// Takes the account of a batch that is about to be stored.
    pub(super) fn of(batch: &mut Taken) -> Self {
        let mut events_by_lane: BTreeMap<u32, u64> = BTreeMap::new();
        batch.pages.iter().for_each(|p| *events_by_lane.entry(p.key.lane).or_default() += p.page.rows() as u64);
        ToStore { tallies: std::mem::take(&mut batch.tallies), events_by_lane, timed: batch.timed }
    }

    /// It was stored.
    pub(super) fn stored(self, receiving: &Receiving, sender: &Sender) {
        let now_ns = (receiving.base.clock)();
        for (lane, late, tallies) in self.tallies {
            let late = late && !sender.limits.past;
            receiving.base.ledger.stored(now_ns, &sender.name, lane, late, self.timed, tallies);
        }
        let config = receiving.base.config.get();
        for (lane, events) in self.events_by_lane {
            let label = LaneLabel { lane: config.name(lane).to_string() };
            receiving.base.metrics.stored.get_or_create(&label).inc_by(events);
        }
    }

    /// It was not: what was admitted does not count against quotas.
    pub(super) fn give_back(self, receiving: &Receiving, sender: &Sender) {
        for (lane, _, tallies) in &self.tallies {
            let (events, bytes) = tallies.iter().fold((0, 0), |(n, b), t| (n + t.events, b + t.bytes));
            receiving.limits.give_back(&sender.name, *lane, (receiving.base.clock)(), events, bytes);
        }
    }
}

/// Counts what of a batch was refused, set aside, or changed by transform rules.
pub(super) fn not_stored(receiving: &Receiving, sender: &Sender, batch: Taken) {
    for (reason, count, sample) in batch.refused {
        refuse(&receiving.base, &sender.name, reason, count as u64, &sample);
    }
    let now_ns = (receiving.base.clock)();
    receiving.base.ledger.used(now_ns, &sender.name);
    for (cause, aside) in batch.aside {
        receiving.base.metrics.set_aside.inc_by(aside.tallies.iter().map(|t| t.events).sum());
        receiving.base.ledger.set_aside(now_ns, &sender.name, &cause, aside.lane, aside.tallies);
    }
    receiving.base.ledger.held(now_ns, batch.held);
}

/// Counts what was not taken, for the service's own figures and for arrivals.
pub fn refuse(base: &Base, sender: &str, reason: &str, count: u64, sample: &str) {
    base.metrics.refuse(reason, count);
    let covered = base.config.get().transforms().cover(sample).into_owned();
    base.ledger.refused((base.clock)(), sender, reason, count, &covered);
}
