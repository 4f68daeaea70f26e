//! Figures of a window that slides over steps: of each step, those of the last so many steps together.
//!
//! The cells of a window are joined by two stacks, so that a step costs two joins however long the window is (the queue of
//! two stacks: Hood and Melville, "Real-time queue operations in pure LISP", 1981).

use super::cells::{Cell, Cells};
use super::groups::Groups;
use super::partial::values_of;
use super::{GroupValue, MeasureAsk, Steps, gather};
use crate::scan::{Explanation, Scope};
use calvex_language::query::{Filter, Function, Measure, TimeRange};

/// Where windows stand.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Sliding {
    /// Start of the first step.
    pub from_ns: i64,
    /// Length of a step.
    pub step_ns: i64,
    /// Steps.
    pub steps: usize,
    /// Steps of a window.
    pub over: usize,
}

/// The windows of one group.
#[derive(Debug, Clone, PartialEq)]
pub struct GroupWindows {
    /// Its value of each field of `per`.
    pub values: Vec<GroupValue>,
    /// Of each step at whose end the window has an event, in order: the figure of each aggregate, NaN where there is none.
    pub points: Vec<(u32, Vec<f64>)>,
}

/// All of them.
#[derive(Debug, Clone, PartialEq)]
pub struct Windows {
    /// In no order.
    pub groups: Vec<GroupWindows>,
    /// Why events or groups are missing.
    pub limited: Option<String>,
    /// How it came about.
    pub explain: Explanation,
}

/// Works out windows over `sliding`. At the first steps, the windows are as long as what was read.
pub fn windows(scope: &Scope, filter: &Filter, measure: &Measure, sliding: Sliding) -> Windows {
    let length_ns = sliding.step_ns.saturating_mul(sliding.steps as i64);
    let range = TimeRange { from_ns: sliding.from_ns, to_ns: sliding.from_ns.saturating_add(length_ns) };
    let steps = Steps::Even { from_ns: sliding.from_ns, step_ns: sliding.step_ns, count: sliding.steps };
    let ask = MeasureAsk { filter, range, measure, steps };
    let (partial, explain) = gather(scope, &ask);
    let whole = &partial.groups;
    let limited = whole.overfull.then(|| "there are more groups and steps than fit".to_owned());
    let mut by_group: Vec<Vec<(u32, u32)>> = vec![Vec::new(); whole.len()];
    for ((group, step), cell) in whole.cells() {
        if let Some(cells) = by_group.get_mut(group as usize) {
            cells.push((step, cell));
        }
    }
    let mut groups = Vec::with_capacity(by_group.len());
    for (group, mut cells) in by_group.into_iter().enumerate() {
        cells.sort_unstable();
        let points = slide(whole, measure, &cells, sliding);
        scope.budget.charge(points.len() * (32 + 8 * measure.aggregates.len()));
        let values = values_of(&partial.fields, whole.key(group)).map(|value| value.to_value()).collect();
        groups.push(GroupWindows { values, points });
    }
    Windows { groups, limited, explain }
}

/// One aggregate's cells of a window: the older ones as joins from each to the end of their stack, the newer ones as one.
struct Queue<'a> {
    function: &'a Function,
    /// Cells of the whole.
    source: &'a Cells,
    /// `front[n]`: the `n + 1` newest cells of the older ones, joined.
    front: Cells,
    front_length: usize,
    back: Cells,
    back_cells: Vec<u32>,
}

impl<'a> Queue<'a> {
    fn new(function: &'a Function, source: &'a Cells) -> Self {
        let one = || {
            let mut cells = Cells::new(function);
            cells.resize(1);
            cells
        };
        Queue { function, source, front: one(), front_length: 0, back: one(), back_cells: Vec::new() }
    }

    fn push(&mut self, cell: u32) {
        self.back.join(0, self.source, cell as usize);
        self.back_cells.push(cell);
    }

    /// Takes the oldest away.
    fn pop(&mut self) {
        if self.front_length == 0 {
            let cells = std::mem::take(&mut self.back_cells);
            let mut front = Cells::new(self.function);
            front.resize(cells.len().max(1));
            for (n, cell) in cells.iter().rev().enumerate() {
                front.join(n, self.source, *cell as usize);
                if n > 0 {
                    front.join_own(n, n - 1);
                }
            }
            self.front = front;
            self.front_length = cells.len();
            let mut back = Cells::new(self.function);
            back.resize(1);
            self.back = back;
        }
        self.front_length = self.front_length.saturating_sub(1);
    }

    fn report(&self, events: u64, seconds: f64) -> f64 {
        let mut joined = Cells::new(self.function);
        joined.resize(1);
        if self.front_length > 0 {
            joined.join(0, &self.front, self.front_length - 1);
        }
        joined.join(0, &self.back, 0);
        match joined.report(self.function, 0, events, seconds).0 {
            Cell::Missing => f64::NAN,
            cell => cell.number().unwrap_or(f64::NAN),
        }
    }
}

/// The figures of one group, whose cells are given with their steps, in order.
fn slide(whole: &Groups, measure: &Measure, cells: &[(u32, u32)], sliding: Sliding) -> Vec<(u32, Vec<f64>)> {
    let mut queues: Vec<Queue> =
        measure.aggregates.iter().zip(&whole.states).map(|(a, source)| Queue::new(&a.function, source)).collect();
    let over = sliding.over.max(1);
    let mut points = Vec::with_capacity(cells.len());
    let (mut events, mut oldest, mut next) = (0u64, 0usize, 0usize);
    let of = |cell: u32| whole.events.get(cell as usize).copied().unwrap_or(0);
    let mut step = cells.first().map_or(0, |(step, _)| *step);
    while (step as usize) < sliding.steps {
        while let Some((at, cell)) = cells.get(next).filter(|(at, _)| *at <= step) {
            debug_assert!(*at == step);
            queues.iter_mut().for_each(|queue| queue.push(*cell));
            events += of(*cell);
            next += 1;
        }
        while let Some((_, cell)) = cells.get(oldest).filter(|(at, _)| *at as usize + over <= step as usize) {
            queues.iter_mut().for_each(Queue::pop);
            events -= of(*cell);
            oldest += 1;
        }
        if oldest == next {
            // Nothing is in the window until the next cell.
            match cells.get(next) {
                Some((at, _)) => step = *at,
                None => break,
            }
            continue;
        }
        let length = over.min(step as usize + 1) as f64 * sliding.step_ns as f64 / 1e9;
        points.push((step, queues.iter().map(|queue| queue.report(events, length)).collect()));
        step += 1;
    }
    points
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::measure::measure;
    use crate::testing::{Shelf, any_event, numbered, scope};
    use calvex_language::query::{Context, parse, parse_filter};
    use proptest::prelude::*;

    const STEP: i64 = 1_000_000_000;

    proptest! {
        /// Each window is what `measure` answers of its range.
        #[test]
        fn a_window_is_a_measure_of_its_range(
            events in prop::collection::vec(any_event(), 1..60),
            over in 1usize..7,
        ) {
            let mut events = events;
            events.iter_mut().enumerate().for_each(|(n, e)| e.time_ns = (n as i64 * 7_300_000_011).rem_euclid(20 * STEP));
            events.sort_by_key(|e| e.time_ns);
            let events = numbered(events);
            let mut shelf = Shelf::default();
            let view = shelf.seal(&events, 7);
            let scope = scope(&view, &shelf);
            let filter = parse_filter("").unwrap();
            for text in ["count", "rate", "share(severity>=error)", "p90(n)", "sum(n)", "max(n)", "distinct(service)"] {
                let parsed = parse(&format!("measure {text} per service"), &Context::utc(0)).query.measure.unwrap();
                let sliding = Sliding { from_ns: 0, step_ns: STEP, steps: 20, over };
                let found = windows(&scope, &filter, &parsed, sliding);
                for step in 0..20usize {
                    let from_ns = (step as i64 + 1 - over as i64).max(0) * STEP;
                    let range = TimeRange { from_ns, to_ns: (step as i64 + 1) * STEP };
                    let ask = MeasureAsk { filter: &filter, range, measure: &parsed, steps: Steps::None };
                    let table = measure(&scope, &ask);
                    let mut expected: Vec<(Vec<GroupValue>, f64)> = table
                        .groups
                        .into_iter()
                        .map(|g| (g.values, g.total[0].number().unwrap_or(f64::NAN)))
                        .collect();
                    expected.sort_by(|a, b| a.0.cmp(&b.0));
                    let mut got: Vec<(Vec<GroupValue>, f64)> = found
                        .groups
                        .iter()
                        .filter_map(|g| {
                            let point = g.points.iter().find(|(at, _)| *at as usize == step)?;
                            Some((g.values.clone(), point.1[0]))
                        })
                        .collect();
                    got.sort_by(|a, b| a.0.cmp(&b.0));
                    let same = expected.len() == got.len() && expected.iter().zip(&got).all(|(a, b)| {
                        a.0 == b.0 && (a.1 == b.1 || (a.1.is_nan() && b.1.is_nan()) || (a.1 - b.1).abs() < 1e-9 * a.1.abs())
                    });
                    prop_assert!(same, "{text} over {over} at {step}: {expected:?} {got:?}");
                }
            }
        }
    }
}
