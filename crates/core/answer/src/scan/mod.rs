//! The pages that can matter to a question, and going through them.
//!
//! Every question begins the same way, each step with its numbers in the [`Explanation`]: extents outside the range are
//! left out; blooms of many chunks say which chunks lack what is asked for (`pages::sift`); chunks are opened and their
//! pages pruned (`pages::open`); the pages left are scanned by [`Workers`] within a [`Budget`].

mod budget;
mod cursor;
mod explain;
mod pages;

pub use budget::Budget;
pub use cursor::Cursor;
pub use explain::Explanation;
pub(crate) use pages::{PageAt, Reach, all_of, open, open_all, reach, read_or_leave_out, sift};

use calvex_language::model::{Event, SEVERITY_COUNT};
use calvex_language::query::{Filter, TimeRange};
use calvex_storage::chunk::ChunkSource;
use calvex_storage::columns::{Page, Restriction};
use std::sync::Arc;

/// Where events stand.
#[derive(Debug, Clone)]
pub enum Location {
    /// In the head, in memory.
    Head(Arc<Page>),
    /// In a sealed chunk.
    Chunk(u64),
}

/// One head page or chunk of a view.
#[derive(Debug, Clone)]
pub struct Extent {
    /// The name of its lane.
    pub lane: Arc<str>,
    /// The earliest time in it.
    pub time_min: i64,
    /// The latest time in it.
    pub time_max: i64,
    /// How many events.
    pub rows: usize,
    /// Where it is read.
    pub location: Location,
    /// The bloom set that can rule the chunk out, and its number in it.
    pub bloom_set: Option<InBloomSet>,
    /// What may be read of it, where that is not all. Rows that several restrictions admit stand in several extents of
    /// one location, and no two of those admit the same row.
    pub restriction: Option<Arc<Restriction>>,
}

impl Extent {
    /// The chunk it is, if it is one.
    pub fn chunk(&self) -> Option<u64> {
        match self.location {
            Location::Chunk(id) => Some(id),
            Location::Head(_) => None,
        }
    }

    /// Whether a part of its rows alone may be read: then nothing may be said of it that was worked out over all.
    pub fn is_filtered(&self) -> bool {
        self.restriction.as_ref().is_some_and(|restriction| restriction.rows != Filter::All)
    }

    /// Whether the field at the dotted path is as absent.
    pub(crate) fn hides(&self, dotted: &str) -> bool {
        self.restriction.as_ref().is_some_and(|restriction| restriction.hidden.hides(dotted))
    }
}

/// Where a chunk stands in a bloom set.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct InBloomSet {
    /// The bloom set.
    pub id: u64,
    /// The number of the chunk in it.
    pub member: usize,
}

/// Asked between pages whether to go on: `Some` reason stops the search.
pub type Stop<'a> = &'a (dyn Fn() -> Option<String> + Sync);

/// Runs independent tasks, several at once where there are threads for it.
pub trait Workers: Sync {
    /// Calls `task` with each number below `tasks`, in any order, and returns when all are done.
    fn each(&self, tasks: usize, task: &(dyn Fn(usize) + Sync));
    /// How many tasks run at once.
    fn width(&self) -> usize;
}

/// One task after the other, on the caller's thread.
#[derive(Debug, Clone, Copy, Default)]
pub struct OneByOne;

impl Workers for OneByOne {
    fn each(&self, tasks: usize, task: &(dyn Fn(usize) + Sync)) {
        (0..tasks).for_each(task);
    }

    fn width(&self) -> usize {
        1
    }
}

/// Hears how many rows of a page of a lane passed.
pub type Passing<'a> = &'a (dyn Fn(&str, u64) + Sync);

/// What a question is asked of, and how it may be worked out.
#[derive(Clone, Copy)]
pub struct Scope<'a> {
    /// The extents of the lanes the reader may see, as they stood at one moment.
    pub view: &'a [Extent],
    /// Where chunks are read from.
    pub source: &'a dyn ChunkSource,
    /// Who scans.
    pub workers: &'a dyn Workers,
    /// When to give up.
    pub stop: Stop<'a>,
    /// Memory that the answer may take.
    pub budget: &'a Budget,
    /// Who follows how far it is; nobody, mostly.
    pub progress: Option<&'a (dyn Fn(Progress) + Sync)>,
    /// Who counts the rows that pass the question, by lane: where reads are recorded.
    pub passing: Option<Passing<'a>>,
}

/// What is reported while an answer is worked out.
#[derive(Debug)]
pub enum Progress {
    /// Pages looked at, of those known of.
    Pages {
        /// Done.
        done: usize,
        /// Known of.
        total: usize,
    },
    /// Further events of the answer: nothing found later can come before them.
    Found(Vec<(Event, Arc<str>)>),
    /// Counts of a histogram so far.
    Counted {
        /// Start of the first bucket.
        from_ns: i64,
        /// Length of a bucket.
        step_ns: i64,
        /// By severity.
        buckets: Vec<[u64; SEVERITY_COUNT]>,
    },
    /// What differs so far, the best first; the answer may have other findings.
    Differs(Vec<crate::finding::Finding>),
}

impl<'a> Scope<'a> {
    /// The extents that touch `range`.
    pub(crate) fn touching(&self, range: &TimeRange) -> impl Iterator<Item = &'a Extent> + use<'a> {
        let range = *range;
        self.view.iter().filter(move |s| range.touches(s.time_min, s.time_max))
    }

    /// An explanation that counts the chunks and those whose times lie outside.
    pub(crate) fn explain(&self, range: &TimeRange) -> Explanation {
        let is_chunk = |s: &&Extent| matches!(s.location, Location::Chunk(_));
        let chunks = self.view.iter().filter(is_chunk).count();
        let skipped_by_time = chunks - self.touching(range).filter(is_chunk).count();
        Explanation { chunks, skipped_by_time, ..Explanation::default() }
    }

    /// Calls `task` for each number below `tasks` and gives its results in order. Tasks after a stop give nothing, and
    /// the reason stands in `explain`.
    pub(crate) fn map<T: Send>(
        &self,
        tasks: usize,
        explain: &mut Explanation,
        task: impl Fn(usize) -> T + Sync,
    ) -> Vec<Option<T>> {
        let slots: Vec<parking_lot::Mutex<Option<T>>> = (0..tasks).map(|_| parking_lot::Mutex::new(None)).collect();
        let stopped = parking_lot::Mutex::new(None);
        self.workers.each(tasks, &|n| {
            if stopped.lock().is_some() {
                return;
            }
            let spent = || self.budget.is_spent().then(|| self.budget.reason());
            if let Some(reason) = (self.stop)().or_else(spent) {
                *stopped.lock() = Some(reason);
                return;
            }
            *slots[n].lock() = Some(task(n));
        });
        explain.stopped = explain.stopped.take().or(stopped.into_inner());
        slots.into_iter().map(parking_lot::Mutex::into_inner).collect()
    }
}
