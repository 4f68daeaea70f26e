//! Windows from the figures of their steps. A rule that counts over a quarter of an hour and is judged every minute reads the
//! minute that is new; what it counted in the fourteen before is kept.
//!
//! Windows slide by two stacks: what is newer is joined as it comes, what is older stands as joins to the end of its stack. So
//! nothing is taken away from a sum, which would not come back as it was.

use calvex_language::query::{Aggregate, Function, Measure};
use std::ops::Range;

/// How the figures of a window's steps become one.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Join {
    Sum(usize),
    /// The sum of a figure by the seconds of the window.
    Rate(usize),
    Least(usize),
    Most(usize),
    /// One sum by another.
    Share(usize, usize),
}

/// What is read of each step, and how windows are made of it.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Joined {
    /// What is measured of a step.
    pub of_step: Measure,
    joins: Vec<Join>,
}

/// Figures by step.
type Figures = Vec<(i64, Vec<f64>)>;

impl Joined {
    /// How a measure's windows are joined; none where one of its aggregates needs the events themselves.
    pub fn of(measure: &Measure) -> Option<Joined> {
        let mut of_step = Measure { aggregates: Vec::new(), ..measure.clone() };
        let mut joins = Vec::new();
        for aggregate in &measure.aggregates {
            let mut column = |function: Function| {
                of_step.aggregates.push(Aggregate { function, alias: None });
                of_step.aggregates.len() - 1
            };
            joins.push(match &aggregate.function {
                Function::Count(_) | Function::Sum(_) => Join::Sum(column(aggregate.function.clone())),
                Function::Rate => Join::Rate(column(Function::Count(None))),
                Function::Min(_) => Join::Least(column(aggregate.function.clone())),
                Function::Max(_) => Join::Most(column(aggregate.function.clone())),
                Function::Share(filter) => {
                    Join::Share(column(Function::Count(Some(filter.clone()))), column(Function::Count(None)))
                }
                Function::Distinct(_)
                | Function::Mean(_)
                | Function::Percentile(..)
                | Function::First(_)
                | Function::Last(_) => return None,
            });
        }
        Some(Joined { of_step, joins })
    }

    /// The windows of `over` steps that end at the steps wanted, where they have an event.
    pub fn windows(&self, steps: &[(i64, Vec<f64>)], over: i64, wanted: &Range<i64>, step_s: f64) -> Figures {
        let mut queue = Queue::new(&self.joins, self.of_step.aggregates.len());
        let mut windows = Figures::new();
        let (mut next, mut oldest) = (0, 0);
        let mut at = wanted.start;
        while at < wanted.end {
            while let Some((step, figures)) = steps.get(next).filter(|(step, _)| *step <= at) {
                if *step > at - over {
                    queue.push(figures);
                } else {
                    // Before any window that is wanted.
                    oldest = next + 1;
                }
                next += 1;
            }
            while let Some((step, _)) = steps.get(oldest).filter(|_| oldest < next)
                && *step <= at - over
            {
                queue.pop();
                oldest += 1;
            }
            if oldest < next {
                let figures = queue.joined();
                windows.push((at, self.joins.iter().map(|join| join.figure(&figures, over as f64 * step_s)).collect()));
                at += 1;
            } else {
                // Nothing stands in the windows up to the next step that has anything.
                let Some((step, _)) = steps.get(next) else { break };
                at = (*step).max(at + 1);
            }
        }
        windows
    }
}

impl Join {
    fn figure(self, figures: &[f64], window_s: f64) -> f64 {
        let of = |n: usize| figures.get(n).copied().unwrap_or(f64::NAN);
        match self {
            Join::Sum(n) | Join::Least(n) | Join::Most(n) => of(n),
            Join::Rate(n) => of(n) / window_s,
            Join::Share(part, whole) => of(part) / of(whole),
        }
    }
}

/// Two figures as one; one that is none leaves the other.
fn join(kind: Kind, a: f64, b: f64) -> f64 {
    match kind {
        _ if a.is_nan() => b,
        _ if b.is_nan() => a,
        Kind::Sum => a + b,
        Kind::Least => a.min(b),
        Kind::Most => a.max(b),
    }
}

#[derive(Debug, Clone, Copy, PartialEq)]
enum Kind {
    Sum,
    Least,
    Most,
}

/// The steps of a window, joined.
struct Queue {
    kinds: Vec<Kind>,
    /// The oldest last: each the join of itself and all that are newer in this stack.
    front: Vec<Vec<f64>>,
    back: Vec<Vec<f64>>,
    /// All of `back`.
    newer: Vec<f64>,
}

impl Queue {
    fn new(joins: &[Join], columns: usize) -> Self {
        let mut kinds = vec![Kind::Sum; columns];
        for join in joins {
            let (column, kind) = match *join {
                Join::Least(n) => (n, Kind::Least),
                Join::Most(n) => (n, Kind::Most),
                Join::Sum(n) | Join::Rate(n) | Join::Share(n, _) => (n, Kind::Sum),
            };
            if let Some(known) = kinds.get_mut(column) {
                *known = kind;
            }
        }
        Queue { newer: vec![f64::NAN; columns], kinds, front: Vec::new(), back: Vec::new() }
    }

    fn join_of(&self, a: &[f64], b: &[f64]) -> Vec<f64> {
        self.kinds.iter().zip(a.iter().zip(b)).map(|(kind, (a, b))| join(*kind, *a, *b)).collect()
    }

    fn push(&mut self, figures: &[f64]) {
        self.newer = self.join_of(&self.newer, figures);
        self.back.push(figures.to_vec());
    }

    /// Takes the oldest away.
    fn pop(&mut self) {
        if self.front.is_empty() {
            for figures in std::mem::take(&mut self.back).into_iter().rev() {
                let joined = match self.front.last() {
                    Some(newer) => self.join_of(&figures, newer),
                    None => figures,
                };
                self.front.push(joined);
            }
            self.newer.fill(f64::NAN);
        }
        self.front.pop();
    }

    fn joined(&self) -> Vec<f64> {
        match self.front.last() {
            Some(older) => self.join_of(older, &self.newer),
            None => self.newer.clone(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use calvex_language::query::{Context, parse};
    use proptest::prelude::*;

    fn joined(text: &str) -> Option<Joined> {
        Joined::of(&parse(&format!("measure {text}"), &Context::utc(0)).query.measure.unwrap())
    }

    #[test]
    fn what_needs_the_events_is_not_joined() {
        assert!(joined("count, sum(n), min(n), max(n), rate, share(a)").is_some());
        for text in ["mean(n)", "p90(n)", "distinct(n)", "count, mean(n)"] {
            assert_eq!(joined(text), None, "{text}");
        }
    }

    proptest! {
        /// Against each window's steps looked at one by one.
        #[test]
        fn windows_are_the_joins_of_their_steps(
            steps in prop::collection::btree_map(0i64..60, (0i64..9, -5i64..5, 0i64..4), 0..30),
            over in 1i64..12,
            from in 0i64..20,
        ) {
            let joined = joined("count, min(n), rate, share(a)").unwrap();
            let figures = |(count, least, part): (i64, i64, i64)| {
                let least = if least == -5 { f64::NAN } else { least as f64 };
                vec![count as f64, least, count as f64, part as f64, count as f64]
            };
            let rows: Figures = steps.iter().map(|(step, of)| (*step, figures(*of))).collect();
            let wanted = from..70;
            let found = joined.windows(&rows, over, &wanted, 10.0);
            let mut expected = Figures::new();
            for at in wanted {
                let within: Vec<&Vec<f64>> =
                    rows.iter().filter(|(step, _)| *step > at - over && *step <= at).map(|(_, f)| f).collect();
                if within.is_empty() {
                    continue;
                }
                let sum = |n: usize| within.iter().map(|f| f[n]).sum::<f64>();
                let least = within.iter().map(|f| f[1]).fold(f64::NAN, f64::min);
                let (rate, share) = (sum(2) / (over as f64 * 10.0), sum(3) / sum(4));
                expected.push((at, vec![sum(0), least, rate, share]));
            }
            prop_assert_eq!(format!("{:?}", found), format!("{:?}", expected));
        }
    }
}
