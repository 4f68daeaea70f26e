//! The answer to a `measure`: groups with their figures, ordered, filtered and cut as asked.

use super::cells::{Cell, Cells};
use super::groups::Groups;
use super::partial::{Partial, values_of};
use super::ranked::keep_first;
use super::tally::FieldTally;
use super::values::Values;
use super::{GroupValue, MeasureAsk, distinct, quantiles};
use crate::scan::Explanation;
use calvex_language::query::{Function, Op};
use std::cmp::Ordering;

/// Groups given where `top` asks for none.
const DEFAULT_GROUPS: usize = 1000;

/// One group.
#[derive(Debug, Clone, PartialEq)]
pub struct Group {
    /// Its value of each field of `per`.
    pub values: Vec<GroupValue>,
    /// Its figures over the whole range, one an aggregate.
    pub total: Vec<Cell>,
    /// With `every`: its figures step by step.
    pub steps: Vec<Vec<Cell>>,
}

/// The answer.
#[derive(Debug, Clone, PartialEq)]
pub struct Table {
    /// Start and end of each step; none without `every`.
    pub steps: Vec<(i64, i64)>,
    /// Largest first, by the aggregate that `top` names, or the first.
    pub groups: Vec<Group>,
    /// How many groups there were before `top` or the limit.
    pub group_count: usize,
    /// Whether there was no room for some groups.
    pub(super) overfull: bool,
    /// Why groups are missing that were not asked to be left out.
    pub limited: Option<String>,
    /// By aggregate: how far its figures may be off, relative to them; `None` where they are exact.
    pub errors: Vec<Option<f64>>,
    /// How it came about.
    pub explain: Explanation,
}

impl Table {
    pub(super) fn of(ask: &MeasureAsk, whole: Partial, explain: Explanation) -> Table {
        Table::of_groups(ask, whole.groups, &whole.fields, explain)
    }

    /// Of groups, and the values of each field.
    pub(super) fn of_groups(ask: &MeasureAsk, mut whole: Groups, fields: &[Values], explain: Explanation) -> Table {
        let functions: Vec<&Function> = ask.measure.aggregates.iter().map(|a| &a.function).collect();
        // Figures of all events together are given where there are no events, too.
        if ask.measure.per.is_empty() {
            whole.with_whole();
        }
        let count = whole.len();
        let stepped = ask.measure.every.is_some();
        // A group that has one cell has its figures there.
        let joined = (!whole.has_one_step()).then(|| totals_of(&whole, &functions));
        let (totals, events) = match &joined {
            Some((totals, events)) => (totals, events),
            None => (&whole.states, &whole.events),
        };
        let mut by_group: Vec<Vec<(u32, u32)>> = vec![Vec::new(); if stepped { count } else { 0 }];
        if stepped {
            whole.cells().for_each(|((group, step), cell)| by_group[group as usize].push((step, cell)));
        }
        let mut errors = vec![None; functions.len()];
        let mut report = |state: &Cells, n: usize, cell: usize, events: u64, seconds: f64| {
            let (reported, estimated) = state.report(functions[n], cell, events, seconds);
            if estimated {
                errors[n] = Some(match functions[n] {
                    Function::Distinct(_) => distinct::ERROR,
                    _ => quantiles::ERROR,
                });
            }
            reported
        };
        let seconds = |from: i64, to: i64| {
            let (from, to) = (from.max(ask.range.from_ns), to.min(ask.range.to_ns));
            (i128::from(to) - i128::from(from)).max(0) as f64 / 1e9
        };
        let spans: Vec<(i64, i64)> =
            if stepped { (0..ask.steps.count()).map(|n| ask.steps.span(n, &ask.range)).collect() } else { Vec::new() };
        let all = seconds(ask.range.from_ns, ask.range.to_ns);
        let mut figure = |n: usize, group: usize| report(&totals[n], n, group, events[group], all).number();
        let mut found: Vec<u32> = (0..count as u32).filter(|group| whole.is_whole(*group as usize)).collect();
        if let Some(having) = &ask.measure.having {
            let passes = |n: f64| holds(having.op, n, having.number);
            found.retain(|group| figure(having.aggregate, *group as usize).is_some_and(passes));
        }
        let group_count = found.len();
        let limited = limited(ask, group_count, whole.overfull);
        // Only the groups that are asked for are built.
        let by = ask.measure.top.as_ref().and_then(|t| t.by).unwrap_or(0);
        let mut found: Vec<(Option<f64>, u32)> = found.into_iter().map(|g| (figure(by, g as usize), g)).collect();
        let by_number = |(a, _): &(Option<f64>, u32), (b, _): &(Option<f64>, u32)| larger_first(*a, *b);
        let values = |group: u32| values_of(fields, whole.key(group as usize));
        keep_first(&mut found, wanted(ask), by_number, |a, b| {
            by_number(a, b).then_with(|| values(a.1).cmp(values(b.1)))
        });
        let mut groups: Vec<(usize, Group)> = Vec::with_capacity(found.len());
        for (_, id) in found {
            let id = id as usize;
            let reported = |n: usize| report(&totals[n], n, id, events[id], all);
            let total = (0..functions.len()).map(reported).collect();
            let values = values(id as u32).map(|value| value.to_value()).collect();
            groups.push((id, Group { values, total, steps: Vec::new() }));
        }
        if stepped {
            // The values of a step without events.
            let mut empty: Vec<Cells> = functions.iter().map(|f| Cells::new(f)).collect();
            empty.iter_mut().for_each(|e| e.resize(1));
            for (id, group) in &mut groups {
                let mut cells = vec![None; spans.len()];
                by_group[*id].iter().for_each(|(step, cell)| {
                    if let Some(slot) = cells.get_mut(*step as usize) {
                        *slot = Some(*cell as usize);
                    }
                });
                for (cell, (from, to)) in cells.into_iter().zip(&spans) {
                    let seconds = seconds(*from, *to);
                    let reported = |n: usize| match cell {
                        Some(cell) => report(&whole.states[n], n, cell, whole.events[cell], seconds),
                        None => report(&empty[n], n, 0, 0, seconds),
                    };
                    group.steps.push((0..functions.len()).map(reported).collect());
                }
            }
        }
        let groups = groups.into_iter().map(|(_, g)| g).collect();
        Table { steps: spans, groups, group_count, overfull: whole.overfull, limited, errors, explain }
    }

    /// From the counts of the values of the one field that is asked for.
    pub(super) fn of_counts(ask: &MeasureAsk, tally: FieldTally, explain: Explanation) -> Table {
        let aggregates = ask.measure.aggregates.len();
        let of = |(value, n): (GroupValue, u64)| Group {
            values: vec![value],
            total: vec![Cell::Count(n); aggregates],
            steps: Vec::new(),
        };
        let missing = (tally.missing > 0).then_some((GroupValue::Missing, tally.missing));
        let group_count = tally.distinct + usize::from(missing.is_some());
        let mut groups: Vec<Group> = tally.top.into_iter().chain(missing).map(of).collect();
        cut(ask, &mut groups);
        let overfull = tally.uncounted > 0;
        let limited = limited(ask, group_count, overfull);
        Table { steps: Vec::new(), groups, group_count, overfull, limited, errors: vec![None; aggregates], explain }
    }

    /// Adds the groups of another share.
    pub(super) fn join(&mut self, ask: &MeasureAsk, other: Table) {
        self.overfull |= other.overfull;
        self.groups.extend(other.groups);
        cut(ask, &mut self.groups);
        self.group_count += other.group_count;
        self.limited = limited(ask, self.group_count, self.overfull);
        self.errors.iter_mut().zip(other.errors).for_each(|(own, other)| *own = own.or(other));
        self.explain.stopped = self.explain.stopped.take().or(other.explain.stopped);
    }
}

/// How many groups are asked for.
pub(super) fn wanted(ask: &MeasureAsk) -> usize {
    ask.measure.top.as_ref().map_or(DEFAULT_GROUPS, |top| top.groups)
}

/// Why groups are missing, of so many.
fn limited(ask: &MeasureAsk, group_count: usize, overfull: bool) -> Option<String> {
    if overfull {
        let text = "there were more groups than fit; events of the others are left out, narrow the query";
        return Some(text.to_owned());
    }
    let too_many = ask.measure.top.is_none() && group_count > DEFAULT_GROUPS;
    too_many.then(|| format!("the {DEFAULT_GROUPS} largest of {group_count} groups; ask for more with top"))
}

/// Largest first, those without a number last.
fn larger_first(a: Option<f64>, b: Option<f64>) -> Ordering {
    match (a, b) {
        (Some(a), Some(b)) => b.total_cmp(&a),
        (a, b) => b.is_some().cmp(&a.is_some()),
    }
}

/// Puts groups in order, by the figure that `top` names and equal ones by their values, and keeps those that are asked for.
fn cut(ask: &MeasureAsk, groups: &mut Vec<Group>) {
    let by = ask.measure.top.as_ref().and_then(|t| t.by).unwrap_or(0);
    let number = |group: &Group| group.total.get(by).and_then(Cell::number);
    let by_number = |a: &Group, b: &Group| larger_first(number(a), number(b));
    keep_first(groups, wanted(ask), by_number, |a, b| by_number(a, b).then_with(|| a.values.cmp(&b.values)));
}

/// The figures of each group over all of its steps, and its events.
fn totals_of(whole: &Groups, functions: &[&Function]) -> (Vec<Cells>, Vec<u64>) {
    let count = whole.len();
    let mut totals: Vec<Cells> = functions.iter().map(|f| Cells::new(f)).collect();
    totals.iter_mut().for_each(|t| t.resize(count));
    let mut events = vec![0u64; count];
    for ((group, _), cell) in whole.cells() {
        events[group as usize] += whole.events[cell as usize];
        for (total, state) in totals.iter_mut().zip(&whole.states) {
            total.join(group as usize, state, cell as usize);
        }
    }
    (totals, events)
}

fn holds(op: Op, a: f64, b: f64) -> bool {
    match op {
        Op::Eq => a == b,
        Op::Ne => a != b,
        Op::Lt => a < b,
        Op::Le => a <= b,
        Op::Gt => a > b,
        Op::Ge => a >= b,
    }
}
