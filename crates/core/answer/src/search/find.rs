//! The newest (or oldest) events that pass, by (time, id), reading no more than it takes to be sure.

use super::frontier::{Added, Frontier, Work};
use super::gather::{Candidate, gather};
use super::rank::{Rank, TopK, rank};
use crate::scan::{Cursor, Explanation, Extent, Progress, Scope};
use crate::scan::{PageAt, read_or_leave_out};
use calvex_language::error::Result;
use calvex_language::model::Event;
use calvex_language::query::{Filter, TimeRange};
use calvex_storage::columns::{OrderKeys, PageRead, Rows};
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

/// Bytes that a page or a candidate takes while a search goes on.
const PAGE_BYTES: usize = 128;
const CANDIDATE_BYTES: usize = std::mem::size_of::<Candidate>();
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
    let mut best = Best::new(ask.limit);
    let mut wave = 1;
    while explain.stopped.is_none() {
        let works = frontier.take(wave, |bound| !best.settles(bound));
        if works.is_empty() {
            break;
        }
        let mut opened_pages = false;
        let scans = works.iter().any(|w| matches!(w, Work::Page(..)));
        let done = scope.map(works.len(), &mut explain, |n| {
            works[n].run(scope, ask.filter, &ask.range, |lane, at, _| {
                read_or_leave_out(scope, ask.filter, &ask.range, (lane, at), |page, rows| candidates(page, rows, ask))
            })
        });
        for (work, done) in works.into_iter().zip(done) {
            match frontier.add(work, done, &mut explain) {
                Added::Pages => opened_pages = true,
                Added::Read(lane, at, found) => best.add(scope, lane, at, found),
                Added::Nothing => {}
            }
        }
        if let Some(progress) = scope.progress {
            progress(Progress::Pages { done: best.read, total: best.read + frontier.pages() });
            best.report(scope, progress, frontier.bound(), &mut explain);
        }
        // While chunks open to pages that are still to be scanned, the first of these may be all that is needed.
        if scans || !opened_pages {
            wave = (wave * 2).min(WAVE_PER_WORKER * scope.workers.width());
        }
    }
    explain.skipped_by_order = if explain.stopped.is_none() { frontier.chunks() } else { 0 };
    best.finish(scope, explain)
}

/// The time of the earliest event that may be read, or a little before it; far ahead where there is none.
pub fn earliest_ns(scope: &Scope) -> i64 {
    const NEVER_NS: i64 = i64::MAX / 2;
    if !scope.view.iter().any(Extent::is_filtered) {
        return scope.view.iter().map(|extent| extent.time_min).min().unwrap_or(NEVER_NS);
    }
    let ask = Find { filter: &Filter::All, range: TimeRange::ALL, order: Order::Oldest, after: None, limit: 1 };
    find(scope, &ask).events.first().map_or(NEVER_NS, |(event, _)| event.time_ns)
}

/// The matching rows of a page that could be among the first.
fn candidates(page: &dyn PageRead, rows: &Rows, ask: &Find) -> Result<Vec<(Rank, usize)>> {
    if rows.is_empty() {
        return Ok(Vec::new());
    }
    let keys = OrderKeys::of(page)?;
    let after = ask.after.map(|after| rank(ask.order, (after.time_ns, after.id)));
    let mut first = TopK::new(ask.limit.saturating_add(1));
    for row in rows.iter() {
        let rank = rank(ask.order, keys.get(row)?);
        if after.is_none_or(|after| rank > after) {
            first.offer((rank, row));
        }
    }
    Ok(first.into_vec())
}

/// The first events so far, by where they stand.
struct Best {
    /// One more than asked: whether there are more is part of the answer.
    first: TopK<Candidate>,
    /// The pages that candidates stand in.
    pages: Vec<(Arc<str>, PageAt)>,
    limit: usize,
    /// Pages that were read.
    read: usize,
    /// Events that were reported while the search goes on.
    reported: usize,
}

impl Best {
    fn new(limit: usize) -> Self {
        let first = TopK::new(limit.saturating_add(1));
        Best { first, pages: Vec::new(), limit, read: 0, reported: 0 }
    }

    /// Whether nothing at `bound` or beyond can be among the first.
    fn settles(&self, bound: i128) -> bool {
        self.first.worst().is_some_and(|worst| worst.rank.time() < bound)
    }

    /// Adds what a page has.
    fn add(&mut self, scope: &Scope, lane: Arc<str>, at: PageAt, found: Vec<(Rank, usize)>) {
        self.read += 1;
        if found.is_empty() {
            return;
        }
        let page = self.pages.len();
        for (rank, row) in found {
            if self.first.offer(Candidate { rank, page, row }) {
                scope.budget.charge(CANDIDATE_BYTES);
            }
        }
        self.pages.push((lane, at));
        scope.budget.charge(PAGE_BYTES);
    }

    /// Reports the events that nothing left can come before and that were not reported yet.
    fn report(&mut self, scope: &Scope, progress: &dyn Fn(Progress), bound: Option<i128>, explain: &mut Explanation) {
        let mut settled = self.first.sorted();
        settled.truncate(self.limit);
        settled.retain(|candidate| bound.is_none_or(|bound| candidate.rank.time() < bound));
        let fresh = settled.split_off(self.reported.min(settled.len()));
        self.reported += fresh.len();
        if fresh.is_empty() {
            return;
        }
        let (events, _) = gather(scope, &fresh, &self.pages, explain);
        let bytes = events.iter().map(|(e, _)| e.weight_bytes()).sum();
        progress(Progress::Found(events));
        // They are on their way; the answer reads them once more.
        scope.budget.release(bytes);
    }

    /// Reads the events.
    fn finish(self, scope: &Scope, mut explain: Explanation) -> Found {
        let mut winners = self.first.sorted();
        let more = winners.len() > self.limit;
        winners.truncate(self.limit);
        let (events, cut) = gather(scope, &winners, &self.pages, &mut explain);
        Found { events, more: more || cut, explain }
    }
}
