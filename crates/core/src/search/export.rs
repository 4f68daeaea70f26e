//! Everything that passes, the oldest first, as lines of JSON. Segments and pages are taken by the beginning of their
//! time, a wave at a time; what lies before the beginning of all that is left is given out at once and forgotten, so that
//! memory is that of the pages which overlap, however many events there are.

use super::find::{Rank, candidates_by_time};
use super::frontier::{Added, Frontier};
use super::lines::{Lines, write_lines};
use super::{Explanation, Scope};
use crate::query::{Filter, TimeRange};
use std::cmp::Reverse;
use std::collections::BinaryHeap;

/// Pieces of work of a wave, a worker.
const WAVE_PER_WORKER: usize = 2;
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
    let mut ready: Vec<Ready> = Vec::new();
    let mut next: BinaryHeap<Reverse<(Rank, usize)>> = BinaryHeap::new();
    let mut buffer = Vec::with_capacity(OUT_BYTES + (OUT_BYTES >> 2));
    let wave = WAVE_PER_WORKER * scope.workers.width().max(1);
    while done.explain.stopped.is_none() && (frontier.bound().is_some() || !next.is_empty()) {
        let works = frontier.take(wave, |_| true);
        let worked = scope.map(works.len(), &mut done.explain, |n| {
            works[n].run(scope, ask.filter, &ask.range, |lane, at| {
                let mut explain = Explanation::default();
                let written = at.with(scope.source, |page| {
                    let ranked = candidates_by_time(page, ask.filter, &ask.range, lane, at.is_head(), &mut explain)?;
                    // Lines are written in the order of rows and given out in that of time, mostly the same.
                    let mut rows: Vec<usize> = ranked.iter().map(|(_, row)| *row).collect();
                    rows.sort_unstable();
                    let lines = write_lines(page, &rows, lane)?;
                    Ok(in_order(ranked, &rows, lines))
                });
                let ready = written.unwrap_or_else(|e| {
                    explain.left_out.push(e.to_string());
                    Ready::default()
                });
                (ready, explain)
            })
        });
        for (work, worked) in works.into_iter().zip(worked) {
            if let Added::Read(_, _, written) = frontier.add(work, worked, &mut done.explain)
                && let Some(first) = written.ranks.first()
            {
                scope.budget.charge(written.bytes());
                next.push(Reverse((*first, ready.len())));
                ready.push(written);
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
                }
            }
            if buffer.len() >= OUT_BYTES
                && !out(std::mem::replace(&mut buffer, Vec::with_capacity(OUT_BYTES + (OUT_BYTES >> 2))))
            {
                done.explain.stopped = Some("the one who asked has gone".to_owned());
                return done;
            }
        }
        if next.is_empty() {
            ready.clear();
        }
    }
    if !buffer.is_empty() {
        out(buffer);
    }
    done
}

/// The lines of a page in the order of their ranks.
fn in_order(mut ranked: Vec<(Rank, usize)>, rows: &[usize], lines: Lines) -> Ready {
    ranked.sort_unstable();
    let ranks: Vec<Rank> = ranked.iter().map(|(rank, _)| *rank).collect();
    if ranked.iter().map(|(_, row)| row).eq(rows) {
        return Ready { ranks, lines, next: 0 };
    }
    let written = Ready { ranks: Vec::new(), lines, next: 0 };
    let mut sorted =
        Lines { bytes: Vec::with_capacity(written.lines.bytes.len()), ends: Vec::with_capacity(rows.len()) };
    for (_, row) in &ranked {
        if let Ok(n) = rows.binary_search(row) {
            sorted.bytes.extend_from_slice(written.line(n));
            sorted.ends.push(sorted.bytes.len() as u32);
        }
    }
    Ready { ranks, lines: sorted, next: 0 }
}
