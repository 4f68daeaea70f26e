//! The values of fields counted over pages: in one pass where they fit, and a share of them at a time where they do not.

use super::coded::{MISSING, code};
use super::counts::ValueCounts;
use super::share::Share;
use super::{GroupValue, LEAST_BYTES};
use crate::scan::{Explanation, PageAt, Progress, Scope, read_or_leave_out};
use calvex_language::error::Result;
use calvex_language::query::{Field, Filter, TimeRange};
use calvex_storage::columns::{PageRead, Rows};
use parking_lot::Mutex;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

/// Bytes of a number that is kept.
const NUMBER_BYTES: usize = 16;

/// What one worker counted of one field in one pass.
struct Counted {
    having: u64,
    missing: u64,
    counts: ValueCounts,
    uncounted: u64,
}

impl Counted {
    fn of(share: Share) -> Self {
        Counted { having: 0, missing: 0, counts: ValueCounts::of(share), uncounted: 0 }
    }

    /// Adds the values of the rows of a page, and makes room where they take more than `most` bytes.
    fn add(&mut self, field: &Field, page: &dyn PageRead, rows: &Rows, lane: &str, most: usize) -> Result<()> {
        let coded = code(field, page, rows, lane)?;
        let mut counts = vec![0u64; coded.len()];
        rows.iter().for_each(|row| counts[coded.first[row] as usize] += 1);
        let missing = counts[MISSING as usize];
        self.missing += missing;
        self.having += rows.count() as u64 - missing;
        coded.more.iter().for_each(|(_, code)| counts[*code as usize] += 1);
        let grows = self.counts.weight_bytes() < most;
        for (value, n) in coded.values().zip(counts).skip(1).filter(|(_, n)| *n > 0) {
            if !self.counts.add(value, value.hash64(), n, grows) {
                self.uncounted += n;
            }
        }
        while self.counts.weight_bytes() >= most
            && let Some(half) = self.counts.share().half()
        {
            self.counts.narrow(half);
        }
        Ok(())
    }

    fn join(&mut self, other: &Counted) {
        self.having += other.having;
        self.missing += other.missing;
        self.uncounted += other.uncounted;
        self.counts.join(&other.counts);
    }
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
    fn take(&mut self, share: Share, counted: Counted, top: usize, scope: &Scope) {
        if share == Share::ALL {
            (self.having, self.missing) = (counted.having, counted.missing);
        }
        self.left.extend(share.rest(counted.counts.share()));
        self.distinct += counted.counts.len();
        self.uncounted += counted.uncounted;
        self.top.extend(counted.counts.top(top));
        self.top.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
        self.top.truncate(top);
        if let Some(numbers) = &mut self.numbers {
            let before = numbers.len();
            numbers.extend(counted.counts.numbers());
            scope.budget.charge((numbers.len() - before) * NUMBER_BYTES);
            if numbers.len() * NUMBER_BYTES > scope.budget.bytes() / 4 {
                scope.budget.release(numbers.len() * NUMBER_BYTES);
                self.numbers = None;
            }
        }
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
        let (rows, counted, passed) = pass(&scope, filter, range, fields, &asked, pages, &mut explain);
        if events.is_none() {
            events = Some(rows);
            explain.add(passed);
        }
        scope.budget.release(scope.budget.used().saturating_sub(before));
        for ((n, share), counted) in asked.into_iter().zip(counted) {
            if let Some(tally) = tallies.get_mut(n) {
                tally.take(share, counted, top, &scope);
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
    filter: &Filter,
    range: TimeRange,
    fields: &[Field],
    asked: &[(usize, Share)],
    pages: &[(Arc<str>, PageAt)],
    explain: &mut Explanation,
) -> (u64, Vec<Counted>, Explanation) {
    // Half of the memory, for all fields and all who count beside each other.
    let most = scope.budget.bytes() / (2 * scope.workers.width().max(1) * asked.len().max(1));
    let most = most.max(LEAST_BYTES);
    let done = AtomicUsize::new(0);
    let fresh = || asked.iter().map(|(_, share)| Counted::of(*share)).collect::<Vec<Counted>>();
    let weight = |tallies: &[Counted]| tallies.iter().map(|t| t.counts.weight_bytes()).sum::<usize>();
    let idle: Mutex<Vec<Vec<Counted>>> = Mutex::new(Vec::new());
    let counted = scope.map(pages.len(), explain, |n| {
        let (lane, at) = &pages[n];
        let mut tallies = idle.lock().pop().unwrap_or_else(fresh);
        let before = weight(&tallies);
        let (rows, explain) = read_or_leave_out(scope, filter, &range, (lane, at), |page, rows| {
            if rows.is_empty() {
                return Ok(0);
            }
            for ((n, _), tally) in asked.iter().zip(&mut tallies) {
                if let Some(field) = fields.get(*n) {
                    tally.add(field, page, rows, lane, most)?;
                }
            }
            Ok(rows.count() as u64)
        });
        let after = weight(&tallies);
        scope.budget.release(before.saturating_sub(after));
        scope.budget.charge(after.saturating_sub(before));
        idle.lock().push(tallies);
        if let Some(progress) = scope.progress {
            let done = done.fetch_add(1, Ordering::Relaxed) + 1;
            progress(Progress::Pages { done, total: pages.len() });
        }
        (rows, explain)
    });
    let (mut rows, mut passed) = (0, Explanation::default());
    for (more, part) in counted.into_iter().flatten() {
        rows += more;
        passed.add(part);
    }
    if scope.budget.is_spent() {
        explain.stopped.get_or_insert_with(|| scope.budget.reason());
    }
    let mut all = idle.into_inner().into_iter();
    let mut whole = all.next().unwrap_or_else(fresh);
    for other in all {
        whole.iter_mut().zip(&other).for_each(|(whole, other)| whole.join(other));
    }
    (rows, whole, passed)
}
