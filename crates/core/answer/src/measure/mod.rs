//! `measure`: figures from columns. Pages are worked on side by side, each worker with figures of its own; what they
//! have is joined at the end, and the order of joining changes nothing (a property test holds it to that).

mod cells;
mod coded;
mod counted;
mod counts;
mod distinct;
mod grouper;
mod groups;
mod joined_parts;
mod numbering;
mod numbers;
mod partial;
mod parts;
mod plain;
mod quantiles;
mod ranked;
mod share;
#[cfg(test)]
pub(crate) mod slow;
mod steps;
mod sum;
mod table;
mod tally;
mod value;
mod value_table;
mod values;
mod whole_counts;
mod windows;
mod worker_groups;
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
use calvex_storage::columns::{PageRead, Rows};
use joined_parts::JoinedParts;
use partial::Partial;
use parts::PartedGroups;
use share::Share;
use worker_groups::WorkerGroups;
use workers::{MANY, gather_pages, most_bytes, side_by_side};

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
    let most = most_bytes(scope, 1);
    let (mut parts, explain) = gather_groups(scope, ask, share, Some(most));
    // The smallest share that one of the workers had room for.
    let taken = parts.iter().fold(share, |share, part| share.smaller(part.share()));
    left.extend(share.rest(taken));
    parts.iter_mut().for_each(|part| part.narrow(taken));
    let table = table_from(scope, ask, taken, parts, explain);
    scope.budget.release(scope.budget.used().saturating_sub(before));
    table
}

/// Of several workers' groups of a share. Where they are many and in parts, the parts are put together side by side.
fn table_from(scope: &Scope, ask: &MeasureAsk, share: Share, parts: Vec<WorkerGroups>, explain: Explanation) -> Table {
    let are_many = parts.iter().map(WorkerGroups::group_count).sum::<usize>() > MANY;
    if !are_many || !parts.iter().any(WorkerGroups::has_parts) {
        // On the workers' threads: what follows a long scan may be long too.
        let whole = |parts: Vec<WorkerGroups>| joined(ask, share, parts.into_iter().map(WorkerGroups::into_whole));
        let of_all = |parts| Table::of(ask, whole(parts), Explanation::default());
        return match side_by_side(scope.workers, vec![parts], of_all).pop() {
            Some(table) => Table { explain, ..table },
            None => Table::of(ask, Partial::new(ask, share), explain),
        };
    }
    let (few, many): (Vec<Partial>, Vec<Option<PartedGroups>>) =
        parts.into_iter().map(WorkerGroups::into_parts).unzip();
    let joined = JoinedParts::of(scope.workers, ask, many.into_iter().flatten().collect(), few);
    let tables = side_by_side(scope.workers, share.smallest().collect(), |(n, _)| {
        joined.groups(n).map(|groups| Table::of_groups(ask, groups, joined.fields(), Explanation::default()))
    });
    let mut table = Table::of(ask, Partial::new(ask, share), explain);
    tables.into_iter().flatten().for_each(|other| table.join(ask, other));
    table
}

/// All of several workers' groups of a share.
fn joined(ask: &MeasureAsk, share: Share, parts: impl IntoIterator<Item = Partial>) -> Partial {
    let mut parts = parts.into_iter();
    let mut whole = parts.next().unwrap_or_else(|| Partial::new(ask, share));
    parts.for_each(|part| whole.take(&part.fields, &[part.groups]));
    whole
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

/// The cells of every group and step; where they are very many, some are left out.
fn gather(scope: &Scope, ask: &MeasureAsk) -> (Partial, Explanation) {
    let (parts, explain) = gather_groups(scope, ask, Share::ALL, None);
    (joined(ask, Share::ALL, parts.into_iter().map(WorkerGroups::into_whole)), explain)
}

/// The cells of every group of a share, or of a smaller one where they take more than `most` bytes, and step, by worker.
fn gather_groups(
    scope: &Scope,
    ask: &MeasureAsk,
    share: Share,
    most: Option<usize>,
) -> (Vec<WorkerGroups>, Explanation) {
    let mut explain = scope.explain(&ask.range);
    let pages = open_all(scope, ask.filter, &ask.range, &mut explain);
    let fresh = || WorkerGroups::new(ask, share, most);
    let add = |parts: &mut WorkerGroups, page: &dyn PageRead, rows: &Rows, lane: &str| parts.add(ask, page, rows, lane);
    let gathered = gather_pages(scope, (ask.filter, &ask.range), &pages, &mut explain, fresh, add);
    explain.add(gathered.explain);
    (gathered.parts, explain)
}

#[cfg(test)]
mod tests;
