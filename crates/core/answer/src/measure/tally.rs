//! The values of fields counted over pages: in one pass where they fit, and a share of them at a time where they do not.

use super::GroupValue;
use super::counted::Counted;
use super::counts::{Part, top_of};
use super::share::Share;
use super::value_table::PARTS;
use super::workers::{Figures, Gathered, MANY, gather_pages, most_bytes, side_by_side};
use crate::scan::{Explanation, OneByOne, PageAt, Scope, Workers};
use calvex_language::query::{Field, Filter, TimeRange};
use std::sync::Arc;

/// Bytes of a number that is kept.
const NUMBER_BYTES: usize = 16;

impl Figures for Vec<Counted> {
    fn weight_bytes(&self) -> usize {
        self.iter().map(Counted::weight_bytes).sum()
    }
}

/// What all workers counted of a field in one pass.
struct Sums {
    having: u64,
    missing: u64,
    /// The values that were counted.
    share: Share,
    /// They and their counts, with the most frequent of each part.
    parts: Vec<(Part, Vec<(GroupValue, u64)>)>,
}

/// What is known of a field.
pub(crate) struct FieldTally {
    /// The shares that are left to be counted.
    left: Vec<Share>,
    /// Events that have it.
    pub having: u64,
    /// Events that lack it.
    pub missing: u64,
    /// The most frequent values, the largest first, equal counts in the order of values.
    pub top: Vec<(GroupValue, u64)>,
    /// How many values there are.
    pub distinct: usize,
    /// Values in events that were not counted, since there were too many even for the smallest share.
    pub uncounted: u64,
    /// Numbers and how often each stands; none where they are not asked for, or too many.
    pub numbers: Option<Vec<(f64, u64)>>,
}

impl FieldTally {
    fn new(keeps_numbers: bool) -> Self {
        FieldTally {
            left: vec![Share::ALL],
            having: 0,
            missing: 0,
            top: Vec::new(),
            distinct: 0,
            uncounted: 0,
            numbers: keeps_numbers.then(Vec::new),
        }
    }

    /// Takes what a pass over `share` counted; what it had no room for is left.
    fn take(&mut self, share: Share, sums: Sums, top: usize, scope: &Scope) {
        if share == Share::ALL {
            (self.having, self.missing) = (sums.having, sums.missing);
        }
        self.left.extend(share.rest(sums.share));
        self.distinct += sums.parts.iter().map(|(part, _)| part.len()).sum::<usize>();
        self.uncounted += sums.parts.iter().map(|(part, _)| part.uncounted()).sum::<u64>();
        if let Some(numbers) = &mut self.numbers {
            let before = numbers.len();
            numbers.extend(sums.parts.iter().flat_map(|(part, _)| part.numbers()));
            scope.budget.charge((numbers.len() - before) * NUMBER_BYTES);
            if numbers.len() * NUMBER_BYTES > scope.budget.bytes() / 4 {
                scope.budget.release(numbers.len() * NUMBER_BYTES);
                self.numbers = None;
            }
        }
        let of_parts = sums.parts.into_iter().flat_map(|(_, top)| top);
        self.top = top_of(std::mem::take(&mut self.top).into_iter().chain(of_parts), top);
    }
}

/// Counts the values of `fields` in the events of `pages` that pass; of each field, the `top` most frequent are kept, and
/// all numbers with their counts where they are asked for. Beside it, how many events passed.
pub(crate) fn tally(
    scope: &Scope,
    filter: &Filter,
    range: TimeRange,
    fields: &[Field],
    top: usize,
    keeps_numbers: bool,
    pages: &[(Arc<str>, PageAt)],
    mut explain: Explanation,
) -> (u64, Vec<FieldTally>, Explanation) {
    let mut tallies: Vec<FieldTally> = fields.iter().map(|_| FieldTally::new(keeps_numbers)).collect();
    let mut events = None;
    loop {
        // A pass counts one share of each field that has one left.
        let asked: Vec<(usize, Share)> =
            tallies.iter_mut().enumerate().filter_map(|(n, tally)| Some((n, tally.left.pop()?))).collect();
        if asked.is_empty() && events.is_some() {
            break;
        }
        // Who follows a question hears of one pass.
        let scope = if events.is_none() { *scope } else { Scope { passing: None, progress: None, ..*scope } };
        let before = scope.budget.used();
        let (rows, sums, passed) = pass(&scope, (filter, range), fields, (&asked, top), pages, &mut explain);
        if events.is_none() {
            events = Some(rows);
            explain.add(passed);
        }
        scope.budget.release(scope.budget.used().saturating_sub(before));
        for ((n, share), sums) in asked.into_iter().zip(sums) {
            if let Some(tally) = tallies.get_mut(n) {
                tally.take(share, sums, top, &scope);
            }
        }
        if explain.stopped.is_some() {
            break;
        }
    }
    (events.unwrap_or(0), tallies, explain)
}

/// One pass over the pages: how many rows passed, and what was counted of each field that is asked for.
fn pass(
    scope: &Scope,
    (filter, range): (&Filter, TimeRange),
    fields: &[Field],
    (asked, top): (&[(usize, Share)], usize),
    pages: &[(Arc<str>, PageAt)],
    explain: &mut Explanation,
) -> (u64, Vec<Sums>, Explanation) {
    let most = most_bytes(scope, asked.len());
    let fresh = || asked.iter().map(|(_, share)| Counted::of(*share, most)).collect::<Vec<Counted>>();
    let gathered = gather_pages(scope, (filter, &range), pages, explain, fresh, |tallies, page, rows, lane| {
        let mut each = asked.iter().zip(tallies).filter_map(|((n, _), tally)| Some((fields.get(*n)?, tally)));
        each.try_for_each(|(field, tally)| tally.add(field, page, rows, lane))
    });
    let Gathered { parts, rows, explain: passed } = gathered;
    let mut of_workers: Vec<_> = parts.into_iter().map(Vec::into_iter).collect();
    let sums = asked.iter().map(|(_, share)| {
        let counted = of_workers.iter_mut().filter_map(Iterator::next).collect();
        joined(scope, *share, counted, top)
    });
    (rows, sums.collect(), passed)
}

/// What the workers counted of a field, of the smallest share that one of them had room for, and the `top` most frequent.
fn joined(scope: &Scope, share: Share, mut counted: Vec<Counted>, top: usize) -> Sums {
    Counted::add_up(&mut counted);
    let (having, missing) = counted.iter().fold((0, 0), |(h, m), c| (h + c.having, m + c.missing));
    let counts = side_by_side(scope.workers, counted, Counted::into_counts);
    let share = counts.iter().fold(share, |share, counts| share.smaller(counts.share()));
    let of_workers = side_by_side(scope.workers, counts, |mut counts| {
        counts.narrow(share);
        counts.into_parts()
    });
    let are_many = of_workers.iter().flatten().map(Part::len).sum::<usize>() > MANY;
    let mut of_workers: Vec<_> = of_workers.into_iter().map(Vec::into_iter).collect();
    let equal: Vec<Vec<Part>> =
        (0..PARTS).map(|_| of_workers.iter_mut().filter_map(Iterator::next).collect()).collect();
    let workers: &dyn Workers = if are_many { scope.workers } else { &OneByOne };
    let parts = side_by_side(workers, equal, |parts| {
        let part = Part::joined(parts);
        let top = part.top(top);
        (part, top)
    });
    Sums { having, missing, share, parts }
}
