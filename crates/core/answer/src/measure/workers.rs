//! Pages worked on side by side, each worker with figures of its own.

use crate::scan::{Explanation, PageAt, Progress, Scope, Workers, read_or_leave_out};
use calvex_language::error::Result;
use calvex_language::query::{Filter, TimeRange};
use calvex_storage::columns::{PageRead, Rows};
use parking_lot::Mutex;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

/// Memory for figures that is taken however small the budget is; what goes beyond the budget stops the question.
const LEAST_BYTES: usize = 64 << 10;

/// Fewer values or groups than this are joined where they are.
pub(super) const MANY: usize = 8192;

/// Figures of some pages, of which the size is known.
pub(super) trait Figures: Send {
    /// A rough size in memory.
    fn weight_bytes(&self) -> usize;
}

/// Bytes that each of `parts` figures of a worker may take: half of the question's memory, for all who work beside each
/// other. The order of what was found and what is cut off take some, too.
pub(super) fn most_bytes(scope: &Scope, parts: usize) -> usize {
    (scope.budget.bytes() / (2 * scope.workers.width().max(1) * parts.max(1))).max(LEAST_BYTES)
}

/// What was made of pages.
pub(super) struct Gathered<F> {
    /// The figures of each worker.
    pub parts: Vec<F>,
    /// How many rows passed.
    pub rows: u64,
    /// What was read for them and left out.
    pub explain: Explanation,
}

/// Calls `add` with each page that has rows which pass, and with the figures of the worker who has it, `fresh` at first. What
/// they weigh is charged to the budget. Why it was ended early, if it was, is noted in `explain`.
pub(super) fn gather_pages<F: Figures>(
    scope: &Scope,
    (filter, range): (&Filter, &TimeRange),
    pages: &[(Arc<str>, PageAt)],
    explain: &mut Explanation,
    fresh: impl Fn() -> F + Sync,
    add: impl Fn(&mut F, &dyn PageRead, &Rows, &str) -> Result<()> + Sync,
) -> Gathered<F> {
    let idle: Mutex<Vec<F>> = Mutex::new(Vec::new());
    let done = AtomicUsize::new(0);
    let worked = scope.map(pages.len(), explain, |n| {
        let (lane, at) = &pages[n];
        let taken = idle.lock().pop();
        let mut figures = taken.unwrap_or_else(&fresh);
        let before = figures.weight_bytes();
        let (rows, explain) = read_or_leave_out(scope, filter, range, (lane, at), |page, rows| {
            let count = rows.count() as u64;
            if count > 0 {
                add(&mut figures, page, rows, lane)?;
            }
            Ok(count)
        });
        let after = figures.weight_bytes();
        scope.budget.charge(after.saturating_sub(before));
        scope.budget.release(before.saturating_sub(after));
        idle.lock().push(figures);
        if let Some(progress) = scope.progress {
            let done = done.fetch_add(1, Ordering::Relaxed) + 1;
            progress(Progress::Pages { done, total: pages.len() });
        }
        (rows, explain)
    });
    let mut gathered = Gathered { parts: idle.into_inner(), rows: 0, explain: Explanation::default() };
    for (rows, part) in worked.into_iter().flatten() {
        gathered.rows += rows;
        gathered.explain.add(part);
    }
    if scope.budget.is_spent() {
        explain.stopped.get_or_insert_with(|| scope.budget.reason());
    }
    gathered
}

/// Calls `work` with each task, side by side, and returns what came of each, in the order of the tasks.
pub(super) fn side_by_side<T: Send, U: Send>(
    workers: &dyn Workers,
    tasks: Vec<T>,
    work: impl Fn(T) -> U + Sync,
) -> Vec<U> {
    let slots: Vec<Mutex<(Option<T>, Option<U>)>> =
        tasks.into_iter().map(|task| Mutex::new((Some(task), None))).collect();
    workers.each(slots.len(), &|n| {
        let Some(slot) = slots.get(n) else { return };
        let task = slot.lock().0.take();
        let done = task.map(&work);
        slot.lock().1 = done;
    });
    slots.into_iter().filter_map(|slot| slot.into_inner().1).collect()
}
