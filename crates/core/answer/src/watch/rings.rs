//! What was read for a rule's earlier judgements: of each question that it asks, the figures of the steps that are judged
//! already. A judgement reads only the steps that came since, and those that late events touched.

use crate::measure::GroupValue;
use hashbrown::HashMap;
use std::collections::BTreeMap;
use std::ops::Range;

/// One group's figures: of each step, from the first read on, where its window has an event.
pub(super) type Row = (Vec<GroupValue>, Vec<(i64, Vec<f64>)>);
/// Figures of one group by step.
pub(super) type Steps = BTreeMap<i64, Vec<f64>>;

/// Bytes that the rings of one rule may take; beyond, a rule is judged by reading all anew.
const MAX_BYTES: usize = 48 << 20;
/// Rough bytes of a step of a group.
const STEP_BYTES: usize = 72;

/// The rings of one rule, one a question.
#[derive(Debug, Default)]
pub struct Rings {
    rings: Vec<Ring>,
}

/// One question's figures, steps by their number from 1970.
#[derive(Debug, Default)]
pub(super) struct Ring {
    /// The steps that are held.
    held: Range<i64>,
    rows: HashMap<Vec<GroupValue>, Steps>,
}

impl Rings {
    /// Lets go of what lies at or behind a moment, as events came there.
    pub fn forget_from(&mut self, at_ns: i64, step_ns: i64) {
        let step = at_ns.div_euclid(step_ns);
        self.rings.iter_mut().for_each(|ring| ring.keep(i64::MIN, step));
    }

    /// Rough bytes of all.
    pub fn bytes(&self) -> usize {
        self.rings.iter().map(Ring::bytes).sum()
    }

    /// The ring of a question, by its number.
    pub(super) fn of(&mut self, question: usize) -> &mut Ring {
        if self.bytes() > MAX_BYTES {
            self.rings.clear();
        }
        while self.rings.len() <= question {
            self.rings.push(Ring::default());
        }
        &mut self.rings[question]
    }
}

impl Ring {
    fn bytes(&self) -> usize {
        self.rows.values().map(|steps| 64 + steps.len() * STEP_BYTES).sum()
    }

    /// Which of the steps wanted must be read: those before what is held, and those behind. What is held before them goes.
    pub fn missing(&mut self, wanted: &Range<i64>) -> [Range<i64>; 2] {
        if wanted.end < self.held.start || wanted.start > self.held.end || self.held.is_empty() {
            self.rows.clear();
            self.held = wanted.start..wanted.start;
        }
        self.keep(wanted.start, i64::MAX);
        let before = wanted.start..self.held.start.max(wanted.start);
        [before, self.held.end.min(wanted.end)..wanted.end]
    }

    /// Keeps only steps from `from` up to `to`.
    fn keep(&mut self, from: i64, to: i64) {
        let held = self.held.start.max(from)..self.held.end.min(to);
        self.held = held.start.min(held.end)..held.end;
        for steps in self.rows.values_mut() {
            let mut kept = steps.split_off(&self.held.start);
            kept.split_off(&self.held.end);
            *steps = kept;
        }
        self.rows.retain(|_, steps| !steps.is_empty());
    }

    /// How many groups are held, and whether this is one of them.
    pub fn groups(&self, group: &[GroupValue]) -> (usize, bool) {
        (self.rows.len(), self.rows.contains_key(group))
    }

    /// Adds figures of a group.
    pub fn add(&mut self, group: Vec<GroupValue>, steps: impl Iterator<Item = (i64, Vec<f64>)>) {
        self.rows.entry(group).or_default().extend(steps);
    }

    /// Steps that were read are whole.
    pub fn holds(&mut self, steps: Range<i64>) {
        self.held = self.held.start.min(steps.start)..self.held.end.max(steps.end);
    }

    /// The figures of the steps wanted, by group.
    pub fn rows(&self, wanted: &Range<i64>) -> Vec<Row> {
        let of = |steps: &Steps| steps.range(wanted.clone()).map(|(step, figures)| (*step, figures.clone())).collect();
        let rows = self.rows.iter().map(|(group, steps)| (group.clone(), of(steps)));
        rows.filter(|(_, steps): &(_, Vec<_>)| !steps.is_empty()).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn held(ring: &Ring) -> Vec<i64> {
        ring.rows(&(i64::MIN..i64::MAX)).into_iter().flat_map(|(_, steps)| steps).map(|(step, _)| step).collect()
    }

    #[test]
    fn only_what_is_new_or_was_touched_is_read() {
        let mut rings = Rings::default();
        let read = |rings: &mut Rings, wanted: Range<i64>| {
            let ring = rings.of(0);
            let missing = ring.missing(&wanted);
            for steps in missing.iter().filter(|steps| !steps.is_empty()) {
                ring.add(vec![GroupValue::Bool(true)], steps.clone().map(|step| (step, vec![1.0])));
                ring.holds(steps.clone());
            }
            missing
        };
        assert_eq!(read(&mut rings, 10..20), [10..10, 10..20]);
        assert_eq!(read(&mut rings, 12..23), [12..12, 20..23]);
        assert_eq!(held(rings.of(0)), (12..23).collect::<Vec<i64>>());
        rings.forget_from(15, 1);
        assert_eq!(held(rings.of(0)), [12, 13, 14]);
        assert_eq!(read(&mut rings, 13..24), [13..13, 15..24]);
        assert_eq!(read(&mut rings, 5..24), [5..13, 24..24], "what lies before was let go");
        assert_eq!(held(rings.of(0)), (5..24).collect::<Vec<i64>>());
        assert_eq!(read(&mut rings, 40..41), [40..40, 40..41], "what lies between was never read");
        assert_eq!(held(rings.of(0)), [40]);
        assert!(rings.bytes() > 0);
    }
}
