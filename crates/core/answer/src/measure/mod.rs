//! `measure`: figures from columns. Pages are worked on side by side, each worker with figures of its own; what they
//! have is joined at the end, and the order of joining changes nothing (a property test holds it to that).

mod cells;
mod coded;
mod distinct;
mod grouper;
mod partial;
mod quantiles;
#[cfg(test)]
pub(crate) mod slow;
mod steps;
mod sum;
mod table;
mod value;
mod windows;

pub use cells::Cell;
pub use distinct::Distinct;
pub use quantiles::Quantiles;
pub use steps::{MAX_STEPS, Steps};
pub use sum::Sum;
pub use table::{Group, Table};
pub use value::GroupValue;
pub use windows::{GroupWindows, Sliding, Windows, windows};

pub(crate) use coded::{Coded, MISSING, code};

use crate::scan::{Explanation, Progress, Scope, open_all, read_or_leave_out};
use calvex_language::query::{Filter, Measure, TimeRange};
use parking_lot::Mutex;
use partial::Partial;

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
/// by the table.
pub fn measure(scope: &Scope, ask: &MeasureAsk) -> Table {
    let (whole, explain) = gather(scope, ask);
    Table::of(ask, whole, explain)
}

/// The cells of every group and step.
fn gather(scope: &Scope, ask: &MeasureAsk) -> (Partial, Explanation) {
    let mut explain = scope.explain(&ask.range);
    let pages = open_all(scope, ask.filter, &ask.range, &mut explain);
    let idle: Mutex<Vec<Partial>> = Mutex::new(Vec::new());
    let done = std::sync::atomic::AtomicUsize::new(0);
    let parts = scope.map(pages.len(), &mut explain, |n| {
        let (lane, at) = &pages[n];
        let mut partial = idle.lock().pop().unwrap_or_else(|| Partial::new(ask));
        let before = partial.weight_bytes();
        let ((), explain) = read_or_leave_out(scope, ask.filter, &ask.range, (lane, at), |page, rows| {
            if rows.is_empty() { Ok(()) } else { partial.add(ask, page, rows, lane) }
        });
        // The table at the end takes about as much again.
        scope.budget.charge(partial.weight_bytes().saturating_sub(before) * 2);
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
    let mut whole = parts.next().unwrap_or_else(|| Partial::new(ask));
    parts.for_each(|part| whole.join(&part));
    (whole, explain)
}

#[cfg(test)]
mod tests;
