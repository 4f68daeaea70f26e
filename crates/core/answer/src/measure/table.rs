//! The answer to a `measure`: groups with their figures, ordered, filtered and cut as asked.

use super::cells::{Cell, Cells};
use super::partial::Partial;
use super::{GroupValue, MeasureAsk, distinct, quantiles};
use crate::scan::Explanation;
use calvex_language::query::{Function, Op};

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
    /// Why groups are missing that were not asked to be left out.
    pub limited: Option<String>,
    /// By aggregate: how far its figures may be off, relative to them; `None` where they are exact.
    pub errors: Vec<Option<f64>>,
    /// How it came about.
    pub explain: Explanation,
}

impl Table {
    pub(super) fn of(ask: &MeasureAsk, mut whole: Partial, explain: Explanation) -> Table {
        let functions: Vec<&Function> = ask.measure.aggregates.iter().map(|a| &a.function).collect();
        // Figures of all events together are given where there are no events, too.
        if ask.measure.per.is_empty() && whole.groups.is_empty() {
            whole.groups.insert(Vec::new(), 0);
        }
        let count = whole.groups.len();
        let mut totals: Vec<Cells> = functions.iter().map(|f| Cells::new(f)).collect();
        totals.iter_mut().for_each(|t| t.resize(count));
        let mut events = vec![0u64; count];
        let mut by_group: Vec<Vec<(u32, u32)>> = vec![Vec::new(); count];
        for ((group, step), cell) in &whole.cells {
            by_group[*group as usize].push((*step, *cell));
            events[*group as usize] += whole.events[*cell as usize];
            for (total, state) in totals.iter_mut().zip(&whole.states) {
                total.join(*group as usize, state, *cell as usize);
            }
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
        let stepped = ask.measure.every.is_some();
        let spans: Vec<(i64, i64)> =
            if stepped { (0..ask.steps.count()).map(|n| ask.steps.span(n, &ask.range)).collect() } else { Vec::new() };
        let mut groups: Vec<(u32, Group)> = whole
            .groups
            .iter()
            .map(|(values, id)| {
                let all = seconds(ask.range.from_ns, ask.range.to_ns);
                let reported = |n: usize| report(&totals[n], n, *id as usize, events[*id as usize], all);
                let total = (0..functions.len()).map(reported).collect();
                (*id, Group { values: values.clone(), total, steps: Vec::new() })
            })
            .collect();
        if let Some(having) = &ask.measure.having {
            groups.retain(|(_, g)| {
                g.total.get(having.aggregate).and_then(Cell::number).is_some_and(|n| holds(having.op, n, having.number))
            });
        }
        let by = ask.measure.top.as_ref().and_then(|t| t.by).unwrap_or(0);
        groups.sort_by(|(_, a), (_, b)| {
            let number = |g: &Group| g.total.get(by).and_then(Cell::number);
            let (left, right) = (number(a), number(b));
            // Largest first, those without a number last, equal ones in the order of their values.
            let larger = match (left, right) {
                (Some(l), Some(r)) => r.total_cmp(&l),
                (l, r) => r.is_some().cmp(&l.is_some()),
            };
            larger.then_with(|| a.values.cmp(&b.values))
        });
        let group_count = groups.len();
        let wanted = ask.measure.top.as_ref().map(|t| t.groups);
        let mut limited = None;
        if wanted.is_none() && groups.len() > DEFAULT_GROUPS {
            limited = Some(format!("the {DEFAULT_GROUPS} largest of {group_count} groups; ask for more with top"));
        }
        if whole.overfull {
            limited =
                Some("there were more groups than fit; events of the others are left out, narrow the query".into());
        }
        groups.truncate(wanted.unwrap_or(DEFAULT_GROUPS));
        if stepped {
            // The values of a step without events.
            let mut empty: Vec<Cells> = functions.iter().map(|f| Cells::new(f)).collect();
            empty.iter_mut().for_each(|e| e.resize(1));
            for (id, group) in &mut groups {
                let mut cells = vec![None; spans.len()];
                by_group[*id as usize].iter().for_each(|(step, cell)| {
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
        Table { steps: spans, groups, group_count, limited, errors, explain }
    }
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
