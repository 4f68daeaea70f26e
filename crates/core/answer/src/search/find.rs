//! The newest (or oldest) events that pass, by (time, id), reading no more than it takes to be sure.

use super::frontier::{Added, Frontier, Work};
use crate::scan::{Budget, Cursor, Explanation, Progress, Scope};
use crate::scan::{PageAt, read_or_leave_out};
use calvex_language::error::Result;
use calvex_language::model::{Event, EventId};
use calvex_language::query::{Filter, TimeRange};
use calvex_storage::columns::{OrderKeys, PageRead, Rows, materialise};
use std::collections::{BTreeMap, BinaryHeap};
use std::sync::Arc;

/// Which end comes first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
#[allow(missing_docs)]
pub enum Order {
    #[default]
    Newest,
    Oldest,
}

/// What is asked.
#[derive(Debug, Clone)]
pub struct Find<'a> {
    /// Which events.
    pub filter: &'a Filter,
    /// When.
    pub range: TimeRange,
    /// Which end first.
    pub order: Order,
    /// Only what comes after it, in the order asked.
    pub after: Option<Cursor>,
    /// How many at most.
    pub limit: usize,
}

/// What was found.
#[derive(Debug, Default)]
pub struct Found {
    /// In the order asked, each with its lane.
    pub events: Vec<(Event, Arc<str>)>,
    /// Whether there are more.
    pub more: bool,
    /// How the answer came about.
    pub explain: Explanation,
}

/// Sorts so that the greatest is what comes last in the order asked.
#[derive(Debug, PartialEq, Eq, PartialOrd, Ord, Clone, Copy)]
pub(super) struct Rank(i128, i128, i128);

impl Rank {
    /// The time, of a rank by the oldest first.
    pub(super) fn time(self) -> i128 {
        self.0
    }
}

fn rank(order: Order, (time_ns, id): (i64, EventId)) -> Rank {
    let origin = i128::from(id.node) << 32 | i128::from(id.epoch);
    let within = i128::from(id.seq) << 32 | i128::from(id.ordinal);
    match order {
        Order::Oldest => Rank(i128::from(time_ns), origin, within),
        Order::Newest => Rank(-i128::from(time_ns), -origin, -within),
    }
}

/// Bytes that a page or a candidate takes while a search goes on.
const PAGE_BYTES: usize = 128;
const CANDIDATE_BYTES: usize = std::mem::size_of::<(Rank, usize, usize)>();
/// Events that are read at once at the end, and rough bytes of them, between two looks at the budget.
const READ_AT_ONCE: usize = 256;
const READ_BYTES: usize = 8 << 20;

/// Pieces of the first wave; each wave is twice as large as the last, up to so many a worker.
const WAVE_PER_WORKER: usize = 16;

/// Finds events. Segments and pages are taken in the order in which they could hold the next event, a wave at a time;
/// the search ends when nothing left can come before the last of a full answer.
pub fn find(scope: &Scope, ask: &Find) -> Found {
    let mut explain = scope.explain(&ask.range);
    // What could come first, by the near end of its time span.
    let near = |span: (i64, i64)| match ask.order {
        Order::Newest => -i128::from(span.1),
        Order::Oldest => i128::from(span.0),
    };
    let mut frontier = Frontier::new(scope, ask.filter, &ask.range, near);
    let mut best: BinaryHeap<(Rank, usize, usize)> = BinaryHeap::new();
    let mut pages: Vec<(Arc<str>, PageAt)> = Vec::new();
    let wanted = ask.limit.saturating_add(1);
    let mut wave = 1;
    let mut reported = Reported::default();

    while explain.stopped.is_none() {
        let settled = |bound: i128| best.len() == wanted && best.peek().is_some_and(|(worst, _, _)| worst.0 < bound);
        let works = frontier.take(wave, |bound| !settled(bound));
        if works.is_empty() {
            break;
        }
        let mut opened_pages = false;
        let scans = works.iter().any(|w| matches!(w, Work::Page(..)));
        let done = scope.map(works.len(), &mut explain, |n| {
            works[n].run(scope, ask.filter, &ask.range, |lane, at, _| {
                read_or_leave_out(scope, ask.filter, &ask.range, (lane, at), |page, rows| {
                    candidates(page, rows, ask, wanted)
                })
            })
        });
        for (work, done) in works.into_iter().zip(done) {
            match frontier.add(work, done, &mut explain) {
                Added::Pages => opened_pages = true,
                Added::Read(lane, at, found) => {
                    reported.pages += 1;
                    if found.is_empty() {
                        continue;
                    }
                    for (rank, row) in found {
                        if best.len() < wanted {
                            best.push((rank, pages.len(), row));
                            scope.budget.charge(CANDIDATE_BYTES);
                        } else if best.peek().is_some_and(|worst| rank < worst.0) {
                            best.pop();
                            best.push((rank, pages.len(), row));
                        }
                    }
                    pages.push((lane, at));
                    scope.budget.charge(PAGE_BYTES);
                }
                Added::Nothing => {}
            }
        }
        if let Some(progress) = scope.progress {
            let total = reported.pages + frontier.pages();
            progress(Progress::Pages { done: reported.pages, total });
            let settled = reported.settle(&best, frontier.bound(), ask.limit);
            if !settled.is_empty() {
                let (events, _) = gathered(scope, &settled, &pages, &mut explain);
                let bytes = events.iter().map(|(e, _)| e.weight_bytes()).sum();
                progress(Progress::Found(events));
                // They are on their way; the answer reads them once more.
                scope.budget.release(bytes);
            }
        }
        // While chunks open to pages that are still to be scanned, the first of these may be all that is needed.
        if scans || !opened_pages {
            wave = (wave * 2).min(WAVE_PER_WORKER * scope.workers.width());
        }
    }
    explain.skipped_by_order = if explain.stopped.is_none() { frontier.chunks() } else { 0 };
    collect(scope, best, &pages, ask.limit, explain)
}

/// The `rows` of a page, each with its rank by the oldest first.
pub(super) fn ranked_by_time(page: &dyn PageRead, rows: &Rows) -> Result<Vec<(Rank, usize)>> {
    if rows.is_empty() {
        return Ok(Vec::new());
    }
    let keys = OrderKeys::of(page)?;
    rows.iter().map(|row| Ok((rank(Order::Oldest, keys.get(row)?), row))).collect()
}

/// The matching rows of a page that could be among the `wanted` first.
fn candidates(page: &dyn PageRead, rows: &Rows, ask: &Find, wanted: usize) -> Result<Vec<(Rank, usize)>> {
    if rows.is_empty() {
        return Ok(Vec::new());
    }
    let keys = OrderKeys::of(page)?;
    let after = ask.after.map(|after| rank(ask.order, (after.time_ns, after.id)));
    let mut heap: BinaryHeap<(Rank, usize)> = BinaryHeap::new();
    for row in rows.iter() {
        let rank = rank(ask.order, keys.get(row)?);
        if after.is_some_and(|after| rank <= after) {
            continue;
        }
        if heap.len() < wanted {
            heap.push((rank, row));
        } else if heap.peek().is_some_and(|worst| rank < worst.0) {
            heap.pop();
            heap.push((rank, row));
        }
    }
    Ok(heap.into_vec())
}

/// How much was sent while the search goes on.
#[derive(Default)]
struct Reported {
    pages: usize,
    events: usize,
}

impl Reported {
    /// Events not sent yet that nothing within `bound` can come before.
    fn settle(
        &mut self,
        best: &BinaryHeap<(Rank, usize, usize)>,
        bound: Option<i128>,
        limit: usize,
    ) -> Vec<(Rank, usize, usize)> {
        let mut ordered = best.clone().into_sorted_vec();
        ordered.truncate(limit);
        ordered.retain(|(rank, _, _)| bound.is_none_or(|bound| rank.0 < bound));
        let settled = ordered.split_off(self.events.min(ordered.len()));
        self.events += settled.len();
        settled
    }
}

fn collect(
    scope: &Scope,
    best: BinaryHeap<(Rank, usize, usize)>,
    pages: &[(Arc<str>, PageAt)],
    limit: usize,
    mut explain: Explanation,
) -> Found {
    let mut winners = best.into_sorted_vec();
    let more = winners.len() > limit;
    winners.truncate(limit);
    let (events, cut) = gathered(scope, &winners, pages, &mut explain);
    Found { events, more: more || cut, explain }
}

/// The events of `winners`, in their order, and whether the budget cut them off: then there are fewer, but one at
/// least, and the rest is found behind the last of them.
fn gathered(
    scope: &Scope,
    winners: &[(Rank, usize, usize)],
    pages: &[(Arc<str>, PageAt)],
    explain: &mut Explanation,
) -> (Vec<(Event, Arc<str>)>, bool) {
    let mut events = Vec::new();
    let mut rest = winners;
    while !rest.is_empty() {
        if !events.is_empty() && scope.budget.is_spent() {
            return (events, true);
        }
        // By what an event of its page weighs in the middle; whole pages bound what that may miss.
        let mut bytes = 0;
        let fits = |(_, page, _): &&(Rank, usize, usize)| {
            bytes += pages[*page].1.event_bytes();
            bytes <= READ_BYTES
        };
        let most = if scope.budget.is_spent() { 1 } else { READ_AT_ONCE };
        let (some, others) = rest.split_at(rest.iter().take(most).take_while(fits).count().max(1));
        let read = read_events(scope, some, pages, explain);
        scope.budget.charge(read.iter().map(|(e, _)| e.weight_bytes()).sum());
        events.extend(read);
        rest = others;
    }
    (events, false)
}

/// The events of `winners`, in their order.
fn read_events(
    scope: &Scope,
    winners: &[(Rank, usize, usize)],
    pages: &[(Arc<str>, PageAt)],
    explain: &mut Explanation,
) -> Vec<(Event, Arc<str>)> {
    let mut by_page: BTreeMap<usize, Vec<(usize, usize)>> = BTreeMap::new();
    for (nth, (_, page, row)) in winners.iter().enumerate() {
        by_page.entry(*page).or_default().push((*row, nth));
    }
    let mut wanted: Vec<(usize, Vec<(usize, usize)>)> = by_page.into_iter().collect();
    wanted.iter_mut().for_each(|(_, rows)| rows.sort_unstable());
    // The budget was asked already; what it still has room for is read in any case.
    let room = Budget::new(usize::MAX / 2);
    let scope = &Scope { budget: &room, ..*scope };
    let read = scope.map(wanted.len(), explain, |n| {
        let (page, rows) = &wanted[n];
        let rows: Vec<usize> = rows.iter().map(|(row, _)| *row).collect();
        pages[*page].1.with(scope.source, |p| materialise(p, &rows))
    });
    let mut slots: Vec<Option<(Event, Arc<str>)>> = winners.iter().map(|_| None).collect();
    for ((page, rows), events) in wanted.into_iter().zip(read) {
        match events {
            Some(Ok(events)) => {
                for (event, (_, nth)) in events.into_iter().zip(rows) {
                    slots[nth] = Some((event, pages[page].0.clone()));
                }
            }
            Some(Err(e)) => explain.add(Explanation { left_out: vec![e.to_string()], ..Explanation::default() }),
            None => {}
        }
    }
    slots.into_iter().flatten().collect()
}
