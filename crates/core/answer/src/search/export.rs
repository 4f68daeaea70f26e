//! Everything that passes, the oldest first, as lines of JSON. Segments and pages are taken by the beginning of their
//! time, a wave at a time; what lies before the beginning of all that is left is given out at once and forgotten.
//!
//! Lines of pages that overlap in time wait for one another. Once those that wait take a quarter of the budget, only the
//! rows of a page are written whose turn it is, and the page is read again for its rest. So memory is flat, also where
//! each page holds an event that came hours late.

use super::frontier::{Added, Frontier};
use super::lines::{Lines, write_lines};
use super::rank::{Rank, ranked_by_time};
use crate::scan::read_or_leave_out;
use crate::scan::{Explanation, Scope};
use calvex_language::query::{Filter, TimeRange};
use std::cmp::Reverse;
use std::collections::BinaryHeap;

/// Pieces of work of a wave, a worker; together no more than half the budget has room for.
const WAVE_PER_WORKER: usize = 2;
/// Bytes that the lines of a page take, mostly.
const PAGE_BYTES: usize = 8 << 20;
/// Bytes of lines given out at once.
const OUT_BYTES: usize = 256 << 10;

/// What is asked.
#[derive(Debug, Clone)]
pub struct Export<'a> {
    /// Which events.
    pub filter: &'a Filter,
    /// When.
    pub range: TimeRange,
    /// How many at most.
    pub limit: usize,
    /// Each with what was sent, below `sent`.
    pub sent: bool,
}

/// What was given out.
#[derive(Debug, Default)]
pub struct Exported {
    /// Events.
    pub events: usize,
    /// Whether there are more.
    pub more: bool,
    /// How it came about.
    pub explain: Explanation,
}

/// Lines of a page that are not given out yet.
#[derive(Default)]
struct Ready {
    ranks: Vec<Rank>,
    lines: Lines,
    next: usize,
    /// From which row on the page is to be read again.
    rest: Option<Rank>,
}

impl Ready {
    fn bytes(&self) -> usize {
        self.lines.bytes.capacity() + self.ranks.len() * (std::mem::size_of::<Rank>() + 4)
    }

    /// The line at `n`.
    fn line(&self, n: usize) -> &[u8] {
        let end = self.lines.ends.get(n).map_or(0, |e| *e as usize);
        let from = n.checked_sub(1).and_then(|b| self.lines.ends.get(b)).map_or(0, |e| *e as usize);
        self.lines.bytes.get(from..end).unwrap_or_default()
    }
}

/// Gives all lines to `out`, some at a time; it returns false to end the export.
pub fn export(scope: &Scope, ask: &Export, mut out: impl FnMut(Vec<u8>) -> bool) -> Exported {
    let mut done = Exported { explain: scope.explain(&ask.range), ..Exported::default() };
    let mut frontier = Frontier::new(scope, ask.filter, &ask.range, |span| i128::from(span.0));
    let (mut ready, mut free): (Vec<Ready>, Vec<usize>) = (Vec::new(), Vec::new());
    let mut next: BinaryHeap<Reverse<(Rank, usize)>> = BinaryHeap::new();
    let mut buffer = Vec::with_capacity(OUT_BYTES + (OUT_BYTES >> 2));
    let wave = (WAVE_PER_WORKER * scope.workers.width()).min(scope.budget.bytes() / 2 / PAGE_BYTES).max(1);
    while done.explain.stopped.is_none() && (frontier.bound().is_some() || !next.is_empty()) {
        let works = frontier.take(wave, |_| true);
        // What comes after the beginning of all that is left can be written later.
        let until = frontier.bound().filter(|_| scope.budget.is_low());
        let worked = scope.map(works.len(), &mut done.explain, |n| {
            works[n].run(scope, ask.filter, &ask.range, |lane, at, from| {
                read_or_leave_out(scope, ask.filter, &ask.range, (lane, at), |page, rows| {
                    let (ranked, rest) = in_turn(ranked_by_time(page, rows)?, from, until);
                    // Lines are written in the order of rows and given out in that of time, mostly the same.
                    let mut rows: Vec<usize> = ranked.iter().map(|(_, row)| *row).collect();
                    rows.sort_unstable();
                    let lines = write_lines(page, &rows, lane, ask.sent)?;
                    Ok(Ready { rest, ..in_order(ranked, &rows, lines) })
                })
            })
        });
        for (work, worked) in works.into_iter().zip(worked) {
            let Added::Read(lane, at, written) = frontier.add(work, worked, &mut done.explain) else { continue };
            if let Some(from) = written.rest {
                frontier.push_rest(lane, at, from);
            }
            let Some(first) = written.ranks.first() else { continue };
            scope.budget.charge(written.bytes());
            let place = free.pop().unwrap_or(ready.len());
            next.push(Reverse((*first, place)));
            match ready.get_mut(place) {
                Some(ready) => *ready = written,
                None => ready.push(written),
            }
        }
        // Nothing that is left begins before this.
        let bound = frontier.bound();
        while let Some(Reverse((rank, at))) = next.peek().copied() {
            if bound.is_some_and(|bound| rank.time() >= bound) {
                break;
            }
            if done.events == ask.limit {
                done.more = true;
                out(std::mem::take(&mut buffer));
                return done;
            }
            next.pop();
            let page = &mut ready[at];
            buffer.extend_from_slice(page.line(page.next));
            page.next += 1;
            done.events += 1;
            match page.ranks.get(page.next) {
                Some(rank) => next.push(Reverse((*rank, at))),
                None => {
                    scope.budget.release(page.bytes());
                    *page = Ready::default();
                    free.push(at);
                }
            }
            if buffer.len() >= OUT_BYTES
                && !out(std::mem::replace(&mut buffer, Vec::with_capacity(OUT_BYTES + (OUT_BYTES >> 2))))
            {
                done.explain.stopped = Some("the one who asked has gone".to_owned());
                return done;
            }
        }
    }
    if !buffer.is_empty() {
        out(buffer);
    }
    done
}

/// Of a page's rows those from `from` on and not after `until`; and the first of those that are left for later.
fn in_turn(
    mut ranked: Vec<(Rank, usize)>,
    from: Option<Rank>,
    until: Option<i128>,
) -> (Vec<(Rank, usize)>, Option<Rank>) {
    ranked.retain(|(rank, _)| from.is_none_or(|from| *rank >= from));
    let Some(until) = until else { return (ranked, None) };
    ranked.sort_unstable();
    let turn = ranked.partition_point(|(rank, _)| rank.time() <= until);
    let rest = ranked.get(turn).map(|(rank, _)| *rank);
    ranked.truncate(turn);
    (ranked, rest)
}

/// The lines of a page in the order of their ranks.
fn in_order(mut ranked: Vec<(Rank, usize)>, rows: &[usize], lines: Lines) -> Ready {
    ranked.sort_unstable();
    let ranks: Vec<Rank> = ranked.iter().map(|(rank, _)| *rank).collect();
    if ranked.iter().map(|(_, row)| row).eq(rows) {
        return Ready { ranks, lines, ..Ready::default() };
    }
    let written = Ready { lines, ..Ready::default() };
    let mut sorted =
        Lines { bytes: Vec::with_capacity(written.lines.bytes.len()), ends: Vec::with_capacity(rows.len()) };
    for (_, row) in &ranked {
        if let Ok(n) = rows.binary_search(row) {
            sorted.bytes.extend_from_slice(written.line(n));
            sorted.ends.push(sorted.bytes.len() as u32);
        }
    }
    Ready { ranks, lines: sorted, ..Ready::default() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::scan::Budget;
    use crate::testing::{Shelf, Threads, head, numbered, scope};
    use calvex_language::model::Event;
    use calvex_language::query::parse_filter;

    const SEGMENTS: i64 = 60;
    const ROWS: i64 = 40;

    /// Events of one time after the other, of which each segment has two that came hours late.
    fn nights() -> Vec<Event> {
        let time = |n: i64| match n % ROWS {
            0 => -1_000_000 + n * 7 % 1000,
            1 => -1_000_000 + n * 13 % 1000,
            _ => n,
        };
        let event = |n| Event { time_ns: time(n), message: "door 17 ".repeat(50), ..Event::default() };
        numbered((0..SEGMENTS * ROWS).map(event).collect())
    }

    #[test]
    fn late_events_in_every_page_do_not_keep_all_in_memory() {
        let (events, filter) = (nights(), parse_filter("").unwrap());
        let mut shelf = Shelf::default();
        let heads: Vec<_> = events.chunks(ROWS as usize).flat_map(head).collect();
        let chunks: Vec<_> = events.chunks(ROWS as usize).flat_map(|e| shelf.seal(e, 1000)).collect();
        let mut sorted: Vec<&Event> = events.iter().collect();
        sorted.sort_by_key(|e| e.order_key());
        let expected: Vec<String> = sorted
            .iter()
            .map(|e| serde_json::to_string(&calvex_language::model::answer_json(e, "main")).unwrap() + "\n")
            .collect();
        for view in [&heads, &chunks] {
            // A tenth of what the lines take.
            let budget = Budget::new(expected.concat().len() / 10);
            let scope = Scope { budget: &budget, workers: &Threads, ..scope(view, &shelf) };
            let (mut lines, range) = (Vec::new(), TimeRange { from_ns: i64::MIN, to_ns: i64::MAX });
            let exported = export(&scope, &Export { filter: &filter, range, limit: usize::MAX, sent: false }, |more| {
                lines.extend(more);
                true
            });
            assert_eq!(exported.explain.stopped, None);
            assert_eq!((exported.events, exported.more), (events.len(), false));
            assert!(lines == expected.concat().as_bytes(), "all of them, in order");
            assert_eq!(budget.used(), 0, "all is given back");
        }
    }
}
