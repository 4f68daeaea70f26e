//! What the tests of this crate share: one set of events seen from everywhere an event can stand.

use crate::scan::{Budget, Extent, InBloomSet, Location, OneByOne, Scope, Workers};
use calvex_language::error::Result;
use calvex_language::model::Event;
use calvex_storage::chunk::{ChunkBloom, ChunkSource, Directory, VerifiedSegment};
use calvex_storage::columns::PageRead;
use calvex_storage::testing::{Shelved, page_of};
pub(crate) use calvex_storage::testing::{any_event, any_query, numbered};
use std::sync::Arc;

/// Chunks in memory, as segments of a view.
#[derive(Default)]
pub(crate) struct Shelf {
    pub chunks: calvex_storage::testing::Shelf,
}

fn segment(chunk: Shelved) -> Extent {
    let Shelved { id, time_min, time_max, rows } = chunk;
    Extent {
        lane: "main".into(),
        time_min,
        time_max,
        rows,
        location: Location::Chunk(id),
        bloom_set: None,
        restriction: None,
    }
}

impl Shelf {
    /// Seals `events` as one head would be, with pages of a few rows.
    pub fn seal(&mut self, events: &[Event], page_rows: usize) -> Vec<Extent> {
        self.chunks.seal(events, page_rows).into_iter().map(segment).collect()
    }

    /// Merges chunks into new ones; the old stay readable.
    pub fn merge(&mut self, segments: &[Extent], page_rows: usize) -> Vec<Extent> {
        let chunks: Vec<u64> = segments.iter().filter_map(Extent::chunk).collect();
        self.chunks.merge(&chunks, page_rows).into_iter().map(segment).collect()
    }

    /// The same chunks under other ids and without blooms.
    pub fn unpruned(&mut self, segments: &[Extent]) -> Vec<Extent> {
        let unpruned =
            |s: &Extent| Some(Extent { location: Location::Chunk(self.chunks.unpruned(s.chunk()?)), ..s.clone() });
        segments.iter().filter_map(unpruned).collect()
    }

    /// The same chunks in a bloom set, but for every third, whose bloom is at hand.
    pub fn in_bloom_sets(&mut self, segments: &[Extent]) -> Vec<Extent> {
        let chunks: Vec<u64> = segments.iter().filter_map(Extent::chunk).collect();
        let id = self.chunks.bloom_set(&chunks);
        let placed = |(place, s): (usize, &Extent)| {
            let bloom_set = (place % 3 > 0).then_some(InBloomSet { id, member: place });
            Extent { bloom_set, ..s.clone() }
        };
        segments.iter().enumerate().map(placed).collect()
    }

    /// One set of events from everywhere: named views of the same events.
    pub fn views(&mut self, events: &[Event]) -> Vec<(&'static str, Vec<Extent>)> {
        let (left, right) = events.split_at(events.len() / 2);
        let whole = self.seal(events, 6);
        let split: Vec<Extent> = events.chunks(5).flat_map(|e| self.seal(e, 2)).collect();
        let mut mixed = if left.is_empty() { Vec::new() } else { self.seal(left, 4) };
        mixed.extend(head(right));
        let merged = self.merge(&split, 7);
        let again = self.merge(&merged, 3);
        let unpruned = self.unpruned(&whole);
        let small: Vec<Extent> = events.chunks(4).flat_map(|e| self.seal(e, 3)).collect();
        let mut in_bloom_sets: Vec<Extent> = small.chunks(16).flat_map(|chunks| self.in_bloom_sets(chunks)).collect();
        // Of some nothing is known but by their pages.
        in_bloom_sets.iter_mut().skip(5).step_by(7).for_each(|s| s.bloom_set = None);
        let halves: Vec<Extent> = head(left).into_iter().chain(head(right)).collect();
        vec![
            ("head", head(events)),
            ("two heads", halves),
            ("chunk", whole),
            ("many chunks", split),
            ("mixed", mixed),
            ("merged", merged),
            ("merged again", again),
            ("unpruned", unpruned),
            ("rolled up", in_bloom_sets),
        ]
    }
}

impl ChunkSource for Shelf {
    fn directory(&self, chunk: u64) -> Result<Arc<Directory>> {
        self.chunks.directory(chunk)
    }
    fn segment(&self, chunk: u64, segment: u16) -> Result<VerifiedSegment> {
        self.chunks.segment(chunk, segment)
    }
    fn chunk_bloom(&self, chunk: u64) -> Option<Arc<ChunkBloom>> {
        self.chunks.chunk_bloom(chunk)
    }
}

/// A head of one page; none where there are no events.
pub(crate) fn head(events: &[Event]) -> Vec<Extent> {
    if events.is_empty() {
        return Vec::new();
    }
    let page = page_of(events);
    let (time_min, time_max) = page.time_span();
    vec![Extent {
        lane: "main".into(),
        time_min,
        time_max,
        rows: page.rows(),
        location: Location::Head(Arc::new(page)),
        bloom_set: None,
        restriction: None,
    }]
}

/// Three tasks at once, so that answers are joined from segments.
pub(crate) struct Threads;

impl Workers for Threads {
    fn each(&self, tasks: usize, task: &(dyn Fn(usize) + Sync)) {
        let next = std::sync::atomic::AtomicUsize::new(0);
        std::thread::scope(|scope| {
            for _ in 0..3.min(tasks) {
                scope.spawn(|| {
                    loop {
                        let n = next.fetch_add(1, std::sync::atomic::Ordering::SeqCst);
                        if n >= tasks {
                            return;
                        }
                        task(n);
                    }
                });
            }
        });
    }

    fn width(&self) -> usize {
        3
    }
}

/// Room for any answer of a test.
static ROOM: std::sync::LazyLock<Budget> = std::sync::LazyLock::new(|| Budget::new(usize::MAX / 2));

pub(crate) fn scope<'a>(view: &'a [Extent], shelf: &'a Shelf) -> Scope<'a> {
    Scope { view, source: shelf, workers: &OneByOne, stop: &|| None, budget: &ROOM, progress: None, passing: None }
}
