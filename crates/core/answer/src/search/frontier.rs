//! What is still to be looked at, by where it could matter first: bloom sets that rule chunks out,
//! extents to be opened, pages to be read. `find` and `export` take from its front, a wave at a time.

use super::rank::Rank;
use crate::scan::{Explanation, Extent, Location, Scope};
use crate::scan::{PageAt, Reach, open, reach, sift};
use calvex_language::query::{Filter, TimeRange};
use std::collections::BTreeMap;
use std::sync::Arc;

/// A piece of work.
pub(super) enum Work<'a> {
    BloomSet(u64, Vec<&'a Extent>),
    Extent(&'a Extent),
    Page(Arc<str>, PageAt),
    /// A page that was read once, from the row of this rank on.
    Rest(Arc<str>, PageAt, Rank),
}

/// What a piece of work gave; `T` is what is made of a page.
pub(super) enum Done<'a, T> {
    Sifted(Vec<&'a Extent>, Explanation),
    Opened(Vec<PageAt>, Explanation),
    Read(T, Explanation),
}

impl<'a> Work<'a> {
    /// Does it, off the frontier; `read` looks at a page, or at its rest from a rank on.
    pub(super) fn run<T>(
        &self,
        scope: &Scope<'a>,
        filter: &Filter,
        range: &TimeRange,
        read: impl FnOnce(&Arc<str>, &PageAt, Option<Rank>) -> (T, Explanation),
    ) -> Done<'a, T> {
        match self {
            Work::BloomSet(id, chunks) => {
                let (left, explain) = sift(*id, chunks, filter, scope.source);
                Done::Sifted(left, explain)
            }
            Work::Extent(extent) => {
                let (pages, explain) = open(extent, filter, range, scope.source);
                Done::Opened(pages, explain)
            }
            Work::Page(lane, at) => {
                let (read, explain) = read(lane, at, None);
                Done::Read(read, explain)
            }
            Work::Rest(lane, at, from) => {
                let (read, explain) = read(lane, at, Some(*from));
                Done::Read(read, explain)
            }
        }
    }
}

/// The work that is left. `near` gives the end of a time span that could matter first; less comes first.
pub(super) struct Frontier<'a, N> {
    queue: BTreeMap<(i128, usize), Work<'a>>,
    serial: usize,
    near: N,
}

impl<'a, N: Fn((i64, i64)) -> i128> Frontier<'a, N> {
    /// All that touches `range`.
    pub(super) fn new(scope: &Scope<'a>, filter: &Filter, range: &TimeRange, near: N) -> Self {
        let mut frontier = Frontier { queue: BTreeMap::new(), serial: 0, near };
        for reached in reach(scope, filter, range) {
            let work = match reached {
                Reach::Extent(extent) => Work::Extent(extent),
                Reach::BloomSet(id, chunks) => Work::BloomSet(id, chunks),
            };
            frontier.push(work);
        }
        frontier
    }

    fn push(&mut self, work: Work<'a>) {
        let span = |s: &Extent| (self.near)((s.time_min, s.time_max));
        let bound = match &work {
            Work::BloomSet(_, chunks) => chunks.iter().map(|s| span(s)).min().unwrap_or(i128::MAX),
            Work::Extent(extent) => span(extent),
            Work::Page(_, page) => (self.near)(page.time_span()),
            Work::Rest(_, _, from) => from.time(),
        };
        self.queue.insert((bound, self.serial), work);
        self.serial += 1;
    }

    /// Where the first of what is left could matter; none where nothing is left.
    pub(super) fn bound(&self) -> Option<i128> {
        self.queue.first_key_value().map(|((bound, _), _)| *bound)
    }

    /// Takes the first pieces, at most `most`, while `wanted` says so of their bounds.
    pub(super) fn take(&mut self, most: usize, wanted: impl Fn(i128) -> bool) -> Vec<Work<'a>> {
        let mut works = Vec::new();
        while works.len() < most
            && let Some(entry) = self.queue.first_entry()
            && wanted(entry.key().0)
        {
            works.push(entry.remove());
        }
        works
    }

    /// Adds what sifting and opening gave; whether pages came of it.
    pub(super) fn add<T>(&mut self, work: Work<'a>, done: Option<Done<'a, T>>, explain: &mut Explanation) -> Added<T> {
        match (work, done) {
            (_, Some(Done::Sifted(left, part))) => {
                explain.add(part);
                left.into_iter().for_each(|extent| self.push(Work::Extent(extent)));
                Added::Nothing
            }
            (Work::Extent(extent), Some(Done::Opened(pages, part))) => {
                explain.add(part);
                let any = !pages.is_empty();
                pages.into_iter().for_each(|page| self.push(Work::Page(extent.lane.clone(), page)));
                if any { Added::Pages } else { Added::Nothing }
            }
            (Work::Page(lane, at) | Work::Rest(lane, at, _), Some(Done::Read(read, part))) => {
                explain.add(part);
                Added::Read(lane, at, read)
            }
            _ => Added::Nothing,
        }
    }

    /// Keeps the rest of a page, from the row of this rank on, for when it is that row's turn by time.
    pub(super) fn push_rest(&mut self, lane: Arc<str>, at: PageAt, from: Rank) {
        self.push(Work::Rest(lane, at, from));
    }

    /// How many pages are left.
    pub(super) fn pages(&self) -> usize {
        self.queue.values().filter(|w| matches!(w, Work::Page(..) | Work::Rest(..))).count()
    }

    /// How many chunks are left that were not opened.
    pub(super) fn chunks(&self) -> usize {
        let of = |work: &Work| match work {
            Work::BloomSet(_, chunks) => chunks.len(),
            Work::Extent(s) => usize::from(matches!(s.location, Location::Chunk(_))),
            Work::Page(..) | Work::Rest(..) => 0,
        };
        self.queue.values().map(of).sum()
    }
}

/// What became of a piece of work.
pub(super) enum Added<T> {
    /// Pages are to be read now.
    Pages,
    /// Of a page, this.
    Read(Arc<str>, PageAt, T),
    Nothing,
}
