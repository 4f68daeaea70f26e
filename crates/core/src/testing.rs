//! What the tests of several modules share: chunks in memory, random events and queries, and one set of events seen
//! from everywhere an event can stand.

use crate::chunk::{
    BuiltChunk, ChunkPage, ChunkSource, Directory, VerifiedPart, WholeFilter, build_chunks_of, build_rollup,
    whole_filter, without_filter,
};
use crate::columns::{Page, PageRead, build_page};
use crate::error::{CoreError, Result};
use crate::event::{Event, EventId, Kind, Path, Severity, Status, Value};
use crate::search::Budget;
use crate::search::{OneByOne, Place, RolledUp, Scope, Segment, Workers};
use proptest::prelude::*;
use std::collections::HashMap;
use std::sync::Arc;

/// Chunks in memory, stored bytes and all.
#[derive(Default)]
pub(crate) struct Shelf {
    pub parts: HashMap<(u64, u16), Vec<u8>>,
    whole: HashMap<u64, Arc<WholeFilter>>,
    serial: u64,
}

impl Shelf {
    pub fn put(&mut self, chunk: &BuiltChunk) -> Segment {
        for (n, part) in chunk.parts.iter().enumerate() {
            self.parts.insert((chunk.id, n as u16), part.clone());
        }
        Segment {
            lane: "main".into(),
            time_min: chunk.time_min,
            time_max: chunk.time_max,
            rows: chunk.rows,
            place: Place::Chunk(chunk.id),
            rollup: None,
        }
    }

    fn build(&mut self, sources: &[&dyn PageRead], page_rows: usize) -> Vec<BuiltChunk> {
        let serial = &mut self.serial;
        let next = || {
            *serial += 1;
            *serial
        };
        build_chunks_of(sources, page_rows, next).unwrap()
    }

    /// Seals `events` as one head would be, with pages of a few rows.
    pub fn seal(&mut self, events: &[Event], page_rows: usize) -> Vec<Segment> {
        let page = page_of(events);
        self.build(&[&page], page_rows).iter().map(|c| self.put(c)).collect()
    }

    /// Merges chunks into new ones; the old stay readable.
    pub fn merge(&mut self, segments: &[Segment], page_rows: usize) -> Vec<Segment> {
        let mut pages = Vec::new();
        for segment in segments {
            let Place::Chunk(id) = segment.place else { continue };
            let directory = self.directory(id).unwrap();
            pages.extend((0..directory.pages.len()).map(|p| (directory.clone(), p)));
        }
        let built = {
            let shelf = Shelf { parts: self.parts.clone(), ..Shelf::default() };
            let sources: Vec<ChunkPage> = pages.into_iter().map(|(d, p)| ChunkPage::passing(d, p, &shelf)).collect();
            let sources: Vec<&dyn PageRead> = sources.iter().map(|p| p as &dyn PageRead).collect();
            self.build(&sources, page_rows)
        };
        built.iter().map(|c| self.put(c)).collect()
    }

    /// The same chunks under other ids and without membership filters.
    pub fn unpruned(&mut self, segments: &[Segment]) -> Vec<Segment> {
        let mut out = Vec::new();
        for segment in segments {
            let Place::Chunk(id) = segment.place else { continue };
            self.serial += 1;
            let parts = (0u16..).map_while(|n| self.parts.get(&(id, n)).cloned());
            let parts: Vec<Vec<u8>> = without_filter(parts.collect(), id, self.serial);
            for (n, part) in parts.into_iter().enumerate() {
                self.parts.insert((self.serial, n as u16), part);
            }
            out.push(Segment { place: Place::Chunk(self.serial), ..segment.clone() });
        }
        out
    }

    /// The same chunks in a roll-up, but for every third, whose filter is at hand.
    pub fn rolled_up(&mut self, segments: &[Segment]) -> Vec<Segment> {
        let chunks: Vec<u64> = segments.iter().filter_map(Segment::chunk).collect();
        let filters: Vec<_> = chunks.iter().map(|c| (*c, Arc::new(whole_filter(*c, self).unwrap()))).collect();
        self.serial += 1;
        let id = self.serial;
        let parts = build_rollup(id, &filters);
        self.whole.extend(filters.into_iter().step_by(3));
        parts.into_iter().enumerate().for_each(|(n, part)| drop(self.parts.insert((id, n as u16), part)));
        let placed = |(place, s): (usize, &Segment)| {
            let rollup = (place % 3 > 0).then_some(RolledUp { id, place });
            Segment { rollup, ..s.clone() }
        };
        segments.iter().enumerate().map(placed).collect()
    }

    /// One set of events from everywhere: named views of the same events.
    pub fn views(&mut self, events: &[Event]) -> Vec<(&'static str, Vec<Segment>)> {
        let (left, right) = events.split_at(events.len() / 2);
        let whole = self.seal(events, 6);
        let split: Vec<Segment> = events.chunks(5).flat_map(|e| self.seal(e, 2)).collect();
        let mut mixed = if left.is_empty() { Vec::new() } else { self.seal(left, 4) };
        mixed.extend(head(right));
        let merged = self.merge(&split, 7);
        let again = self.merge(&merged, 3);
        let unpruned = self.unpruned(&whole);
        let small: Vec<Segment> = events.chunks(4).flat_map(|e| self.seal(e, 3)).collect();
        let mut rolled_up: Vec<Segment> = small.chunks(16).flat_map(|chunks| self.rolled_up(chunks)).collect();
        // Of some nothing is known but by their pages.
        rolled_up.iter_mut().skip(5).step_by(7).for_each(|s| s.rollup = None);
        let halves: Vec<Segment> = head(left).into_iter().chain(head(right)).collect();
        vec![
            ("head", head(events)),
            ("two heads", halves),
            ("chunk", whole),
            ("many chunks", split),
            ("mixed", mixed),
            ("merged", merged),
            ("merged again", again),
            ("unpruned", unpruned),
            ("rolled up", rolled_up),
        ]
    }
}

impl ChunkSource for Shelf {
    fn directory(&self, chunk: u64) -> Result<Arc<Directory>> {
        Ok(Arc::new(Directory::read(chunk, &self.part(chunk, 0)?)?))
    }
    fn part(&self, chunk: u64, part: u16) -> Result<VerifiedPart> {
        let bytes = self.parts.get(&(chunk, part)).cloned();
        VerifiedPart::check(bytes.ok_or_else(|| CoreError::Unavailable("gone".into()))?, chunk, part)
    }
    fn whole(&self, chunk: u64) -> Option<Arc<WholeFilter>> {
        self.whole.get(&chunk).cloned()
    }
}

fn page_of(events: &[Event]) -> Page {
    let mut events = events.to_vec();
    events.sort_by_key(Event::order_key);
    build_page(&events).unwrap()
}

/// A head of one page; none where there are no events.
pub(crate) fn head(events: &[Event]) -> Vec<Segment> {
    if events.is_empty() {
        return Vec::new();
    }
    let page = page_of(events);
    let (time_min, time_max) = page.time_span();
    vec![Segment {
        lane: "main".into(),
        time_min,
        time_max,
        rows: page.rows(),
        place: Place::Head(Arc::new(page)),
        rollup: None,
    }]
}

/// Three tasks at once, so that answers are joined from parts.
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

pub(crate) fn scope<'a>(view: &'a [Segment], shelf: &'a Shelf) -> Scope<'a> {
    Scope { view, source: shelf, workers: &OneByOne, stop: &|| None, budget: &ROOM, progress: None }
}

/// Gives each event an id, as commits of seven would.
pub(crate) fn numbered(mut events: Vec<Event>) -> Vec<Event> {
    for (n, e) in events.iter_mut().enumerate() {
        e.id = EventId { node: 1, epoch: 1, seq: n as u64 / 7, place: n as u32 % 7 };
    }
    events
}

pub(crate) fn any_value() -> impl Strategy<Value = Value> {
    let leaf = prop_oneof![
        4 => prop_oneof![Just("BK-017"), Just("BK-001"), Just("lease ran out"), Just("409"), Just("Ä b")].prop_map(|t| Value::Text(t.into())),
        3 => (-2i64..5).prop_map(Value::Int),
        1 => prop_oneof![Just(1.0), Just(2.5), Just(-0.0), any::<f64>()].prop_map(Value::Float),
        1 => any::<bool>().prop_map(Value::Bool),
        1 => Just(Value::Null),
        1 => Just(Value::UInt(u64::MAX)),
        1 => prop_oneof![Just("1e400"), Just("18446744073709551616")].prop_map(|t| Value::Decimal(t.into())),
    ];
    leaf.prop_recursive(2, 6, 3, |inner| {
        prop_oneof![
            prop::collection::vec(inner.clone(), 0..3).prop_map(Value::List),
            inner.prop_map(|v| Value::List(vec![Value::Object(vec![("bank".into(), v)])])),
        ]
    })
}

pub(crate) fn any_event() -> impl Strategy<Value = Event> {
    let paths = [
        Path::new(["slot", "bank"]),
        Path::new(["slot.bank"]),
        Path::root("slot"),
        Path::root("took_ms"),
        Path::root("n"),
    ];
    let fields = prop::collection::vec((prop::sample::select(paths.to_vec()), any_value()), 0..4);
    let text = |list: &'static [&'static str]| prop::sample::select(list.to_vec());
    (
        (
            0i64..40,
            1u8..=24,
            text(&["", "slots", "edge"]),
            text(&[
                "",
                "lease ran out",
                "door 17 opened",
                "door 4 opened",
                "door 409 opened after 17 s",
                "BK-017 x",
                "id 5b8aa5a2-cafe-beef is BK",
                "lease 17",
            ]),
        ),
        (any::<Option<bool>>(), fields, prop_oneof![3 => Just(None), 1 => (0i64..5, 0u8..3).prop_map(Some)]),
    )
        .prop_map(|((time_ns, severity, service, message), (traced, mut fields, span))| {
            fields.sort_by(|(a, _), (b, _)| a.cmp(b));
            fields.dedup_by(|(a, _), (b, _)| a == b);
            Event {
                time_ns,
                severity: Severity(severity),
                service: service.into(),
                message: message.into(),
                trace: traced.map(|t| [if t { 1 } else { 2 }; 16]),
                kind: if span.is_some() { Kind::Span } else { Kind::Log },
                took_ns: span.map(|(ns, _)| ns),
                status: span.and_then(|(_, status)| Status::from_byte(status)),
                shaped: ["", "cards", "cards,stamp", "stamp"].get(severity as usize % 6).copied().unwrap_or("").into(),
                fields,
                ..Event::default()
            }
        })
}

pub(crate) fn any_query() -> impl Strategy<Value = String> {
    let leaf = prop::sample::select(vec![
        "lease",
        "ran*",
        "\"ran out\"",
        "BK-017",
        "17",
        "409",
        "2.5",
        "-1",
        "slot.bank=BK-017",
        "slot.bank!=BK-017",
        "slot=2",
        "took_ms>1",
        "took_ms<=2ms",
        "took_ms between 0 and 2",
        "n=2.5",
        "n!=1",
        "n>=409",
        "n=409",
        "n=true",
        "n in (1, 2, BK-001)",
        "has slot",
        "has slot.bank",
        "has n",
        "has trace",
        "shaped=cards",
        "shaped!=stamp",
        "has shaped",
        "severity>=warn",
        "severity!=error",
        "service=slots",
        "service!=slots",
        "has service",
        "message*=\"ran\"",
        "message~/door \\d+/",
        "message~/ran out/",
        "message~/door (17|4) opened af/",
        "message ~ /(r| opened )after/",
        "message~/^lease (RAN|17)/i",
        "slot.bank~/e ran o/",
        "slot.bank~/^bk/i",
        "n^=BK",
        "n=18446744073709551615",
        "trace=01010101010101010101010101010101",
        "02020202020202020202020202020202",
        "lane=main",
        "lane!=main",
        "time>=1970-01-01T00:00:00Z",
        "kind=log",
        "status=1",
        "status=error",
        "status!=ok",
        "took>2ns",
        "took<=1us",
        "has took",
        "kind=span",
        "kind!=log",
        "n=0",
        "\"BK\"",
        "slot.bank in (\"409\", 3)",
        "n=18446744073709551616",
        "n>1000",
        "\"door 17\"",
        "opened",
        "\"opened after\"",
        "cafe",
        "cafe*",
        "\"beef is\"",
        "doo*",
        "message=\"door 17 opened\"",
        "message!=\"lease 17\"",
        "message$=opened",
        "has message",
        "has shape",
    ])
    .prop_map(String::from);
    let shape = format!("shape={}", crate::event::template::shape_of("door 17 opened"));
    let leaf = prop_oneof![30 => leaf, 1 => Just(shape)];
    leaf.prop_recursive(3, 8, 2, |inner| {
        prop_oneof![
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a}) ({b})")),
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a} or {b})")),
            inner.prop_map(|a| format!("not ({a})")),
        ]
    })
}
