//! What tests share: chunks in memory, random events and queries.
#![allow(clippy::unwrap_used, reason = "a test that fails should stop")]

use crate::chunk::{
    BuiltChunk, ChunkBloom, ChunkPage, ChunkSource, Directory, VerifiedSegment, build_bloom_set, build_chunks_of,
    chunk_bloom, without_blooms,
};
use crate::columns::{Page, PageRead, build_page};
use calvex_language::error::{CoreError, Result};
use calvex_language::model::{Event, EventId, Kind, Path, Severity, Status, Value};
use proptest::prelude::*;
use std::collections::HashMap;
use std::sync::Arc;

/// A chunk on the shelf.
#[derive(Debug, Clone)]
pub struct Shelved {
    /// Its id.
    pub id: u64,
    /// The earliest time in it.
    pub time_min: i64,
    /// The latest time in it.
    pub time_max: i64,
    /// How many events.
    pub rows: usize,
}

/// Chunks in memory, stored bytes and all.
#[derive(Default)]
pub struct Shelf {
    /// Bytes by chunk and segment.
    pub segments: HashMap<(u64, u16), Vec<u8>>,
    whole: HashMap<u64, Arc<ChunkBloom>>,
    serial: u64,
}

impl Shelf {
    /// Takes a chunk.
    pub fn put(&mut self, chunk: &BuiltChunk) -> Shelved {
        for (n, segment) in chunk.segments.iter().enumerate() {
            self.segments.insert((chunk.id, n as u16), segment.clone());
        }
        Shelved { id: chunk.id, time_min: chunk.time_min, time_max: chunk.time_max, rows: chunk.rows }
    }

    fn build(&mut self, sources: &[&dyn PageRead], page_rows: usize) -> Vec<Shelved> {
        let serial = &mut self.serial;
        let next = || {
            *serial += 1;
            *serial
        };
        let built = build_chunks_of(sources, page_rows, next).unwrap();
        built.iter().map(|chunk| self.put(chunk)).collect()
    }

    /// Seals `events` as one head would be, with pages of a few rows.
    pub fn seal(&mut self, events: &[Event], page_rows: usize) -> Vec<Shelved> {
        let page = page_of(events);
        self.build(&[&page], page_rows)
    }

    /// Merges chunks into new ones; the old stay readable.
    pub fn merge(&mut self, chunks: &[u64], page_rows: usize) -> Vec<Shelved> {
        let mut pages = Vec::new();
        for id in chunks {
            let directory = self.directory(*id).unwrap();
            pages.extend((0..directory.pages.len()).map(|p| (directory.clone(), p)));
        }
        let shelf = Shelf { segments: self.segments.clone(), ..Shelf::default() };
        let sources: Vec<ChunkPage> = pages.into_iter().map(|(d, p)| ChunkPage::passing(d, p, &shelf)).collect();
        let sources: Vec<&dyn PageRead> = sources.iter().map(|p| p as &dyn PageRead).collect();
        self.build(&sources, page_rows)
    }

    /// The same chunk under another id and without blooms: nothing is pruned by them.
    pub fn unpruned(&mut self, chunk: u64) -> u64 {
        self.serial += 1;
        let segments = (0u16..).map_while(|n| self.segments.get(&(chunk, n)).cloned());
        let segments: Vec<Vec<u8>> = without_blooms(segments.collect(), chunk, self.serial);
        for (n, segment) in segments.into_iter().enumerate() {
            self.segments.insert((self.serial, n as u16), segment);
        }
        self.serial
    }

    /// The id of a bloom set of these chunks. Of every third the bloom as a whole is at hand.
    pub fn bloom_set(&mut self, chunks: &[u64]) -> u64 {
        let filters: Vec<_> = chunks.iter().map(|c| (*c, Arc::new(chunk_bloom(*c, self).unwrap()))).collect();
        self.serial += 1;
        let segments = build_bloom_set(self.serial, &filters);
        self.whole.extend(filters.into_iter().step_by(3));
        for (n, segment) in segments.into_iter().enumerate() {
            self.segments.insert((self.serial, n as u16), segment);
        }
        self.serial
    }
}

impl ChunkSource for Shelf {
    fn directory(&self, chunk: u64) -> Result<Arc<Directory>> {
        Ok(Arc::new(Directory::read(chunk, &self.segment(chunk, 0)?)?))
    }
    fn segment(&self, chunk: u64, segment: u16) -> Result<VerifiedSegment> {
        let bytes = self.segments.get(&(chunk, segment)).cloned();
        VerifiedSegment::check(bytes.ok_or_else(|| CoreError::Unavailable("gone".into()))?, chunk, segment)
    }
    fn chunk_bloom(&self, chunk: u64) -> Option<Arc<ChunkBloom>> {
        self.whole.get(&chunk).cloned()
    }
}

/// One page of events, in order.
pub fn page_of(events: &[Event]) -> Page {
    let mut events = events.to_vec();
    events.sort_by_key(Event::order_key);
    build_page(&events).unwrap()
}

/// Gives each event an id, as commits of seven would.
pub fn numbered(mut events: Vec<Event>) -> Vec<Event> {
    for (n, e) in events.iter_mut().enumerate() {
        e.id = EventId { node: 1, epoch: 1, seq: n as u64 / 7, ordinal: n as u32 % 7 };
    }
    events
}

/// Any value that a field may have, of few different ones.
pub fn any_value() -> impl Strategy<Value = Value> {
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

/// Any event of a small world, so that queries of [`any_query`] find some.
pub fn any_event() -> impl Strategy<Value = Event> {
    let paths = [
        Path::new(["slot", "bank"]),
        Path::new(["slot.bank"]),
        Path::root("slot"),
        Path::root("took_ms"),
        Path::root("n"),
        Path::new(["error", "type"]),
        Path::root("stack"),
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
                transformed: ["", "cards", "cards,stamp", "stamp"]
                    .get(severity as usize % 6)
                    .copied()
                    .unwrap_or("")
                    .into(),
                fields,
                ..Event::default()
            }
        })
}

/// Any query of a small world.
pub fn any_query() -> impl Strategy<Value = String> {
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
        "transformed=cards",
        "transformed!=stamp",
        "has transformed",
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
        "has error_group",
        "error_group!=x",
    ])
    .prop_map(String::from);
    let shape = format!("shape={}", calvex_language::model::shape::id_of("door 17 opened"));
    let failure =
        Event { severity: Severity(17), service: "slots".into(), message: "door 17 opened".into(), ..Event::default() };
    let group = calvex_language::query::matching::error_group_of(&failure).map_or_else(String::new, |g| g.id);
    let leaf = prop_oneof![30 => leaf, 1 => Just(shape), 1 => Just(format!("error_group={group}"))];
    leaf.prop_recursive(3, 8, 2, |inner| {
        prop_oneof![
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a}) ({b})")),
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a} or {b})")),
            inner.prop_map(|a| format!("not ({a})")),
        ]
    })
}

/// Changes to some bytes: where (in thousandths of the length), and what they become.
pub type Edits = Vec<(u16, u8)>;

/// Bytes with changes, cut where `cut` is below 2000: at so many two-thousandths.
pub fn edited(bytes: &[u8], edits: &Edits, cut: u16) -> Vec<u8> {
    let mut bytes = bytes.to_vec();
    for (place, value) in edits {
        let at = usize::from(*place) * bytes.len() / usize::from(u16::MAX);
        if let Some(byte) = bytes.get_mut(at) {
            *byte = *value;
        }
    }
    if cut < 2000 {
        bytes.truncate(usize::from(cut) * bytes.len() / 2000);
    }
    bytes
}
