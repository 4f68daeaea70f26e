//! `measure`: figures from columns. Pages are worked on side by side, each worker with figures of its own; what they
//! have is joined at the end, and the order of joining changes nothing (a property test holds it to that).

mod cells;
mod coded;
mod counts;
mod distinct;
mod grouper;
mod partial;
mod quantiles;
mod share;
#[cfg(test)]
pub(crate) mod slow;
mod steps;
mod sum;
mod table;
mod tally;
mod value;
mod value_table;
mod windows;

pub use cells::Cell;
pub use distinct::Distinct;
pub use quantiles::Quantiles;
pub use steps::{MAX_STEPS, Steps};
pub use sum::Sum;
pub use table::{Group, Table};
pub use value::{GroupValue, ValueRef};
pub use windows::{GroupWindows, Sliding, Windows, windows};

pub(crate) use coded::{Coded, MISSING, code};
pub(crate) use tally::{FieldTally, tally};

use crate::scan::{Explanation, Progress, Scope, open_all, read_or_leave_out};
use calvex_language::query::{Filter, Function, Measure, TimeRange};
use parking_lot::Mutex;
use partial::Partial;
use share::Share;

/// Memory for groups that is taken however small the budget is; what goes beyond the budget stops the question.
const LEAST_BYTES: usize = 64 << 10;

/// What is asked.
#[derive(Debug, Clone)]
pub struct MeasureAsk<'a> {
    /// Which events.
    pub filter: &'a Filter,
    /// When.
    pub range: TimeRange,
    /// What is worked out of them.
    pub measure: &'a Measure,
    /// Where the steps of `every` begin.
    pub steps: Steps,
}

/// Works out a `measure`. The filter of a group's figures is that of the whole query; what stopped or was left out is
/// by the table. Where the groups are too many to be worked out at once, a share of them is at a time.
pub fn measure(scope: &Scope, ask: &MeasureAsk) -> Table {
    if let Some(table) = counted(scope, ask) {
        return table;
    }
    let mut left = vec![Share::ALL];
    let mut table: Option<Table> = None;
    while let Some(share) = left.pop() {
        // Who follows a question hears of one pass.
        let scope = if table.is_none() { *scope } else { Scope { passing: None, progress: None, ..*scope } };
        let before = scope.budget.used();
        let (whole, explain) = gather(&scope, ask, share, Room::Shares);
        left.extend(share.rest(whole.share()));
        let part = Table::of(ask, whole, explain);
        scope.budget.release(scope.budget.used().saturating_sub(before));
        match &mut table {
            None => table = Some(part),
            Some(table) => table.join(ask, part),
        }
        if table.as_ref().is_some_and(|table| table.explain.stopped.is_some()) {
            break;
        }
    }
    table.unwrap_or_else(|| Table::of(ask, Partial::new(ask, Share::ALL), scope.explain(&ask.range)))
}

/// The table, where all that is asked for is how many events have each value of one field.
fn counted(scope: &Scope, ask: &MeasureAsk) -> Option<Table> {
    let Measure { aggregates, per, every: None, having: None, .. } = ask.measure else { return None };
    let [_] = per.as_slice() else { return None };
    if !aggregates.iter().all(|aggregate| aggregate.function == Function::Count(None)) {
        return None;
    }
    let mut explain = scope.explain(&ask.range);
    let pages = open_all(scope, ask.filter, &ask.range, &mut explain);
    let (_, tallies, explain) = tally(scope, ask.filter, ask.range, per, table::wanted(ask), false, &pages, explain);
    Some(Table::of_counts(ask, tallies.into_iter().next()?, explain))
}

/// How much room there is for groups.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Room {
    /// So much for all of them; what goes beyond is left out.
    Whole,
    /// Part of the question's memory: beyond, a smaller share of the groups is kept.
    Shares,
}

/// The cells of every group of a share, or of a smaller one, and step.
fn gather(scope: &Scope, ask: &MeasureAsk, share: Share, room: Room) -> (Partial, Explanation) {
    let mut explain = scope.explain(&ask.range);
    let pages = open_all(scope, ask.filter, &ask.range, &mut explain);
    let idle: Mutex<Vec<Partial>> = Mutex::new(Vec::new());
    let done = std::sync::atomic::AtomicUsize::new(0);
    // Half of the memory for all who work beside each other; the order of groups and what is cut off take some, too.
    let most = (scope.budget.bytes() / (2 * scope.workers.width().max(1))).max(LEAST_BYTES);
    let parts = scope.map(pages.len(), &mut explain, |n| {
        let (lane, at) = &pages[n];
        let mut partial = idle.lock().pop().unwrap_or_else(|| Partial::new(ask, share));
        let before = partial.weight_bytes();
        if room == Room::Shares {
            partial.make_room(most);
        }
        let ((), explain) = read_or_leave_out(scope, ask.filter, &ask.range, (lane, at), |page, rows| {
            if rows.is_empty() { Ok(()) } else { partial.add(ask, page, rows, lane) }
        });
        if room == Room::Shares && !ask.measure.per.is_empty() {
            partial.shrink(most);
        }
        let after = partial.weight_bytes();
        scope.budget.charge(after.saturating_sub(before));
        scope.budget.release(before.saturating_sub(after));
        idle.lock().push(partial);
        if let Some(progress) = scope.progress {
            let done = done.fetch_add(1, std::sync::atomic::Ordering::Relaxed) + 1;
            progress(Progress::Pages { done, total: pages.len() });
        }
        explain
    });
    for part in parts.into_iter().flatten() {
        explain.add(part);
    }
    if scope.budget.is_spent() {
        explain.stopped.get_or_insert_with(|| scope.budget.reason());
    }
    let mut parts = idle.into_inner().into_iter();
    let mut whole = parts.next().unwrap_or_else(|| Partial::new(ask, share));
    parts.for_each(|part| whole.join(&part));
    (whole, explain)
}

#[cfg(test)]
mod tests;
