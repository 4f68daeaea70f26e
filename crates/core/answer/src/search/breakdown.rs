//! Breakdown: the top values of one or several fields among the events that pass, in one pass over their columns.

use super::Spread;
use super::sampled::newest_first;
use crate::measure::{Coded, GroupValue, MISSING, code};
use crate::scan::{Budget, Explanation, Scope, open_all};
use crate::scan::{PageAt, read_or_leave_out};
use calvex_language::query::{Field, Filter, TimeRange};
use parking_lot::Mutex;
use std::collections::HashMap;
use std::sync::Arc;

/// Values counted of one field at most; further ones are counted together.
const MAX_VALUES: usize = 100_000;

/// Bytes that a counted value takes beside its text.
const VALUE_BYTES: usize = 96;

/// The values of one field.
#[derive(Debug, Clone, PartialEq)]
pub struct FieldCounts {
    /// The field.
    pub field: Field,
    /// Events that have it.
    pub having: u64,
    /// The most frequent values and the events with each; equal counts in the order of values.
    pub top: Vec<(GroupValue, u64)>,
    /// How many distinct values were counted.
    pub distinct: usize,
    /// Events whose value came after there were too many to count each by itself.
    pub uncounted: u64,
    /// How its numbers are spread, of those counted; none where no value is a number.
    pub spread: Option<Spread>,
}

/// The answer.
#[derive(Debug, Clone, PartialEq)]
pub struct Breakdown {
    /// Events that pass.
    pub events: u64,
    /// In the order asked.
    pub fields: Vec<FieldCounts>,
    /// How it came about.
    pub explain: Explanation,
}

#[derive(Default)]
struct Counts {
    having: u64,
    values: HashMap<GroupValue, u64>,
    uncounted: u64,
}

impl Counts {
    fn add(&mut self, value: GroupValue, n: u64, budget: &Budget) {
        if let Some(count) = self.values.get_mut(&value) {
            *count += n;
        } else if self.values.len() >= MAX_VALUES || budget.is_spent() {
            self.uncounted += n;
        } else {
            budget.charge(VALUE_BYTES + value.text_bytes());
            self.values.insert(value, n);
        }
    }
}

/// Counts the values of `fields`; `top` of each are given.
pub fn breakdown(scope: &Scope, filter: &Filter, range: TimeRange, fields: &[Field], top: usize) -> Breakdown {
    let mut explain = scope.explain(&range);
    let pages = open_all(scope, filter, &range, &mut explain);
    count(scope, filter, range, fields, top, &pages, explain)
}

/// As [`breakdown`], of the newest `pages` pages only: quick, for proposals.
pub fn newest_values(
    scope: &Scope,
    filter: &Filter,
    range: TimeRange,
    fields: &[Field],
    top: usize,
    pages: usize,
) -> Breakdown {
    let mut explain = scope.explain(&range);
    let mut newest = newest_first(scope, filter, &range, &mut explain);
    newest.truncate(pages);
    count(scope, filter, range, fields, top, &newest, explain)
}

fn count(
    scope: &Scope,
    filter: &Filter,
    range: TimeRange,
    fields: &[Field],
    top: usize,
    pages: &[(Arc<str>, PageAt)],
    mut explain: Explanation,
) -> Breakdown {
    // What pages have is added as they are done, so that what is kept is what is counted, not what each page held.
    let all: Mutex<(u64, Vec<Counts>)> = Mutex::new((0, fields.iter().map(|_| Counts::default()).collect()));
    let counted = scope.map(pages.len(), &mut explain, |n| {
        let (lane, at) = &pages[n];
        let (counted, explain) = read_or_leave_out(scope, filter, &range, (lane, at), |page, rows| {
            if rows.is_empty() {
                return Ok((0, Vec::new()));
            }
            let mut parts = Vec::with_capacity(fields.len());
            for field in fields {
                let coded = code(field, page, lane)?;
                let mut counts = vec![0u64; coded.values.len()];
                rows.iter().for_each(|row| counts[coded.first[row] as usize] += 1);
                let having = rows.count() as u64 - counts[MISSING as usize];
                coded
                    .more
                    .iter()
                    .filter(|(row, _)| rows.has(*row as usize))
                    .for_each(|(_, c)| counts[*c as usize] += 1);
                let Coded { values, .. } = coded;
                let values: Vec<(GroupValue, u64)> =
                    values.into_iter().zip(counts).skip(1).filter(|(_, n)| *n > 0).collect();
                parts.push((having, values));
            }
            Ok((rows.count() as u64, parts))
        });
        let (rows, parts) = counted;
        let mut all = all.lock();
        all.0 += rows;
        for (counts, (having, values)) in all.1.iter_mut().zip(parts) {
            counts.having += having;
            values.into_iter().for_each(|(value, n)| counts.add(value, n, scope.budget));
        }
        explain
    });
    for part in counted.into_iter().flatten() {
        explain.add(part);
    }
    if scope.budget.is_spent() {
        explain.stopped.get_or_insert_with(|| scope.budget.reason());
    }
    let (events, all) = all.into_inner();
    let reported = |(field, counts): (&Field, Counts)| {
        let distinct = counts.values.len();
        let spread = Spread::of(counts.values.iter().map(|(value, n)| (value, *n)));
        let mut values: Vec<(GroupValue, u64)> = counts.values.into_iter().collect();
        values.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
        values.truncate(top);
        FieldCounts {
            field: field.clone(),
            having: counts.having,
            top: values,
            distinct,
            uncounted: counts.uncounted,
            spread,
        }
    };
    Breakdown { events, fields: fields.iter().zip(all).map(reported).collect(), explain }
}
