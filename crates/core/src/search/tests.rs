//! One answer from everywhere: head, chunk and both, against the plain meaning of a filter.

use super::*;
use crate::chunk::{BuiltChunk, ChunkSource, Directory, VerifiedPart, build_chunks};
use crate::columns::build_page;
use crate::error::{CoreError, Result};
use crate::event::{Event, EventId, Path, Severity, Value};
use crate::query::{Context, Filter, matches, parse};
use proptest::prelude::*;
use std::collections::HashMap;

/// Chunks in memory, stored bytes and all.
#[derive(Default)]
pub(crate) struct Shelf {
    parts: HashMap<(u64, u16), Vec<u8>>,
}

impl Shelf {
    pub(crate) fn put(&mut self, chunk: &BuiltChunk) -> Segment {
        for (n, part) in chunk.parts.iter().enumerate() {
            self.parts.insert((chunk.id, n as u16), part.clone());
        }
        Segment {
            lane: "main".into(),
            time_min: chunk.time_min,
            time_max: chunk.time_max,
            rows: chunk.rows,
            place: Place::Chunk(chunk.id),
        }
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
}

fn head(events: &[Event]) -> Segment {
    let mut events = events.to_vec();
    events.sort_by_key(Event::order_key);
    let page = build_page(&events).unwrap();
    let (time_min, time_max) = page.time_span();
    Segment { lane: "main".into(), time_min, time_max, rows: page.rows(), place: Place::Head(Arc::new(page)) }
}

use crate::columns::PageRead;

fn any_value() -> impl Strategy<Value = Value> {
    let leaf = prop_oneof![
        4 => prop_oneof![Just("BK-017"), Just("BK-001"), Just("lease ran out"), Just("409"), Just("Ä b")].prop_map(|t| Value::Text(t.into())),
        3 => (-2i64..5).prop_map(Value::Int),
        1 => prop_oneof![Just(1.0), Just(2.5), Just(-0.0), any::<f64>()].prop_map(Value::Float),
        1 => any::<bool>().prop_map(Value::Bool),
        1 => Just(Value::Null),
        1 => Just(Value::UInt(u64::MAX)),
    ];
    leaf.prop_recursive(2, 6, 3, |inner| {
        prop_oneof![
            prop::collection::vec(inner.clone(), 0..3).prop_map(Value::List),
            inner.prop_map(|v| Value::List(vec![Value::Object(vec![("bank".into(), v)])])),
        ]
    })
}

fn any_event() -> impl Strategy<Value = Event> {
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
        (0i64..40, 1u8..=24, text(&["", "slots", "edge"]), text(&["", "lease ran out", "door 17 opened", "BK-017 x"])),
        (any::<Option<bool>>(), fields),
    )
        .prop_map(|((time_ns, severity, service, message), (traced, mut fields))| {
            fields.sort_by(|(a, _), (b, _)| a.cmp(b));
            fields.dedup_by(|(a, _), (b, _)| a == b);
            Event {
                time_ns,
                severity: Severity(severity),
                service: service.into(),
                message: message.into(),
                trace: traced.map(|t| [if t { 1 } else { 2 }; 16]),
                fields,
                ..Event::default()
            }
        })
}

fn any_query() -> impl Strategy<Value = String> {
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
        "severity>=warn",
        "severity!=error",
        "service=slots",
        "service!=slots",
        "has service",
        "message*=\"ran\"",
        "message~/door \\d+/",
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
        "n=0",
        "\"BK\"",
        "slot.bank in (\"409\", 3)",
    ])
    .prop_map(String::from);
    leaf.prop_recursive(3, 8, 2, |inner| {
        prop_oneof![
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a}) ({b})")),
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a} or {b})")),
            inner.prop_map(|a| format!("not ({a})")),
        ]
    })
}

fn ids_of(found: &Found) -> Vec<EventId> {
    found.events.iter().map(|(e, _)| e.id).collect()
}

fn ask<'a>(filter: &'a Filter, range: TimeRange, order: Order, limit: usize) -> Find<'a> {
    Find { filter, range, order, after: None, limit }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]
    #[test]
    fn one_answer_from_everywhere(mut events in prop::collection::vec(any_event(), 1..40), text in any_query(), from in -1i64..30, len in 1i64..40, newest in any::<bool>()) {
        for (n, e) in events.iter_mut().enumerate() {
            e.id = EventId { node: 1, epoch: 1, seq: n as u64 / 7, place: n as u32 % 7 };
        }
        let parsed = parse(&text, &Context::utc(0));
        prop_assert_eq!(&parsed.mistakes, &vec![], "{}", text);
        let filter = parsed.query.filter;
        let range = TimeRange { from_ns: from, to_ns: from + len };
        let order = if newest { Order::Newest } else { Order::Oldest };

        let mut expected: Vec<&Event> = events.iter().filter(|e| range.contains(e.time_ns) && matches(&filter, e, "main")).collect();
        expected.sort_by_key(|e| e.order_key());
        if newest { expected.reverse(); }
        let expected_ids: Vec<EventId> = expected.iter().map(|e| e.id).collect();

        let mut shelf = Shelf::default();
        let mut serial = 0;
        let mut next = || { serial += 1; serial };
        let half = events.len() / 2;
        let views: Vec<Vec<Segment>> = {
            let mut chunk = |e: &[Event]| build_chunks(e.to_vec(), &mut next).unwrap().iter().map(|c| shelf.put(c)).collect::<Vec<_>>();
            let whole = chunk(&events);
            let mixed: Vec<Segment> = if half > 0 { chunk(&events[..half]).into_iter().chain([head(&events[half..])]).collect() } else { vec![head(&events)] };
            let split: Vec<Segment> = events.chunks(5).flat_map(&mut chunk).collect();
            vec![vec![head(&events)], whole, mixed, split]
        };
        for (nth, view) in views.iter().enumerate() {
            let found = find(view, &ask(&filter, range, order, 1000), &shelf, &|| None);
            prop_assert_eq!(&found.explain.left_out, &Vec::<String>::new());
            prop_assert_eq!(&ids_of(&found), &expected_ids, "view {} of {}", nth, text);
            for ((event, _), e) in found.events.iter().zip(&expected) {
                let mut event = event.clone();
                event.fields.sort_by(|(a, _), (b, _)| a.cmp(b));
                prop_assert_eq!(&event, *e);
            }
            // The same answer, a few at a time behind a cursor.
            let (mut paged, mut after) = (Vec::new(), None);
            loop {
                let found = find(view, &Find { after, ..ask(&filter, range, order, 3) }, &shelf, &|| None);
                paged.extend(ids_of(&found));
                after = found.events.last().map(|(e, _)| Cursor { time_ns: e.time_ns, id: e.id });
                if !found.more { break; }
            }
            prop_assert_eq!(&paged, &expected_ids, "paged view {} of {}", nth, text);
            let counted = histogram(view, &filter, range, 7, &shelf, &|| None);
            prop_assert_eq!(counted.total() as usize, expected_ids.len());
            for (i, bucket) in counted.buckets.iter().enumerate() {
                let lo = from + i as i64 * 7;
                let errors = expected.iter().filter(|e| (lo..lo + 7).contains(&e.time_ns) && e.severity.name() == "error").count();
                prop_assert_eq!(bucket[4] as usize, errors);
            }
        }
    }
}

#[test]
fn stops_early_and_says_what_it_skipped() {
    let mut shelf = Shelf::default();
    let mut view = Vec::new();
    for hour in 0..10i64 {
        let events = (0..100).map(|n| Event {
            time_ns: hour * 1000 + n,
            id: EventId { seq: hour as u64, place: n as u32, ..EventId::default() },
            message: format!("door {n} opened, hour{hour}"),
            ..Event::default()
        });
        view.extend(build_chunks(events.collect(), || hour as u64 + 1).unwrap().iter().map(|c| shelf.put(c)));
    }
    let run = |text: &str, range, limit| {
        let filter = parse(text, &Context::utc(0)).query.filter;
        find(&view, &ask(&filter, range, Order::Newest, limit), &shelf, &|| None)
    };
    let newest = run("door", TimeRange::ALL, 20);
    assert_eq!(
        (newest.events.len(), newest.more, newest.explain.chunks_read, newest.explain.skipped_by_order),
        (20, true, 1, 9)
    );
    let rare = run("hour3", TimeRange::ALL, 1000);
    assert_eq!((rare.events.len(), rare.explain.chunks_read), (100, 1));
    assert!(rare.explain.skipped_by_filter >= 8);
    let ranged = run("door", TimeRange { from_ns: 2000, to_ns: 3000 }, 1000);
    assert_eq!((ranged.events.len(), ranged.explain.skipped_by_time), (100, 9));
    let stopped =
        find(&view, &ask(&Filter::All, TimeRange::ALL, Order::Newest, 10), &shelf, &|| Some("time is up".into()));
    assert_eq!((stopped.events.len(), stopped.explain.stopped.as_deref()), (0, Some("time is up")));
}

#[test]
fn a_damaged_chunk_is_left_out_and_named() {
    let mut shelf = Shelf::default();
    let event = |n: u64| Event { time_ns: n as i64, id: EventId { seq: n, ..EventId::default() }, ..Event::default() };
    let view: Vec<Segment> = (1..=3u64)
        .map(|id| build_chunks(vec![event(id)], || id).unwrap().iter().map(|c| shelf.put(c)).next().unwrap())
        .collect();
    shelf.parts.get_mut(&(2, 1)).unwrap()[25] ^= 1;
    let found = find(&view, &ask(&Filter::All, TimeRange::ALL, Order::Newest, 10), &shelf, &|| None);
    assert_eq!(found.events.iter().map(|(e, _)| e.time_ns).collect::<Vec<_>>(), [3, 1]);
    assert_eq!(found.explain.left_out.len(), 1);
    assert!(found.explain.left_out[0].contains("chunk 2 part 1"), "{:?}", found.explain.left_out);
}
