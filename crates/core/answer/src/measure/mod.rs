//! `measure`: figures from columns. Pages are worked on side by side, each worker with figures of its own; what they
//! have is joined at the end, and the order of joining changes nothing (a property test holds it to that).

mod cells;
mod coded;
mod counted;
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
mod workers;

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

use crate::scan::{Explanation, Scope, open_all};
use calvex_language::query::{Filter, Function, Measure, TimeRange};
use partial::Partial;
use share::Share;
use workers::{gather_pages, most_bytes};

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
    let mut left = Vec::new();
    let mut table = table_of(scope, ask, Share::ALL, &mut left);
    // Who follows a question hears of one pass.
    let scope = Scope { passing: None, progress: None, ..*scope };
    while table.explain.stopped.is_none()
        && let Some(share) = left.pop()
    {
        let part = table_of(&scope, ask, share, &mut left);
        table.join(ask, part);
    }
    table
}

/// The groups of a share, or of a smaller one; the shares of the others are added to those that are left.
fn table_of(scope: &Scope, ask: &MeasureAsk, share: Share, left: &mut Vec<Share>) -> Table {
    let before = scope.budget.used();
    let (whole, explain) = gather(scope, ask, share, Room::Shares);
    left.extend(share.rest(whole.share()));
    let table = Table::of(ask, whole, explain);
    scope.budget.release(scope.budget.used().saturating_sub(before));
    table
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
    let most = most_bytes(scope, 1);
    let fresh = || Partial::new(ask, share);
    let gathered =
        gather_pages(scope, (ask.filter, &ask.range), &pages, &mut explain, fresh, |partial, page, rows, lane| {
            if room == Room::Shares {
                partial.make_room(most);
            }
            partial.add(ask, page, rows, lane)?;
            if room == Room::Shares && !ask.measure.per.is_empty() {
                partial.shrink(most);
            }
            Ok(())
        });
    explain.add(gathered.explain);
    let mut parts = gathered.parts.into_iter();
    let mut whole = parts.next().unwrap_or_else(fresh);
    parts.for_each(|part| whole.join(&part));
    (whole, explain)
}

#[cfg(test)]
mod tests;
