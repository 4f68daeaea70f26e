//! The format: every segment by truncation and flips, large pages, and many columns.

use super::*;
use crate::columns::{Column, ColumnKey, PageRead, Rows, Values, build_page, materialise_all};
use calvex_language::model::{Event, EventId, Kind, Path, Status, Value};
use proptest::prelude::*;
use std::collections::{HashMap, HashSet};
use std::sync::{Arc, Mutex};

pub(super) struct Shelf(pub(super) Vec<Vec<u8>>);

impl ChunkSource for Shelf {
    fn directory(&self, chunk: u64) -> calvex_language::error::Result<Arc<Directory>> {
        Ok(Arc::new(Directory::read(chunk, &self.segment(chunk, 0)?)?))
    }
    fn segment(&self, chunk: u64, segment: u16) -> calvex_language::error::Result<VerifiedSegment> {
        let bytes = self.0.get(segment as usize).cloned();
        VerifiedSegment::check(bytes.unwrap_or_default(), chunk, segment)
    }
}

pub(super) fn event(n: u32) -> Event {
    Event {
        id: EventId { node: 1, epoch: 2, seq: u64::from(n) / 100, ordinal: n % 100 },
        time_ns: 1_791_081_521_000_000_000 + i64::from(n) * 1_000_003,
        message: format!("lease LS-{n} ran out before door {} confirmed", n % 30),
        service: "slots".into(),
        fields: vec![
            (Path::new(["slot", "bank"]), Value::Text(format!("BK-{:03}", n % 40))),
            (Path::root("late_by_ms"), Value::Int(i64::from(n % 977))),
        ],
        ..Event::default()
    }
}

pub(super) fn build(events: &[Event], page_rows: usize, next_id: impl FnMut() -> u64) -> Vec<BuiltChunk> {
    let pages: Vec<_> = events.chunks(1000).map(|e| build_page(e).unwrap()).collect();
    let sources: Vec<&dyn PageRead> = pages.iter().map(|p| p as &dyn PageRead).collect();
    build_chunks_of(&sources, page_rows, next_id).unwrap()
}

fn read_all(chunk: &BuiltChunk) -> Vec<Event> {
    let shelf = Shelf(chunk.segments.clone());
    let directory = shelf.directory(chunk.id).unwrap();
    let page = |p| materialise_all(&ChunkPage::new(directory.clone(), p, &shelf)).unwrap();
    (0..directory.pages.len()).flat_map(page).collect()
}

#[test]
fn large_chunks_come_back_exactly_in_time_order() {
    let events: Vec<Event> = (0..20_000).map(event).collect();
    let shuffled: Vec<Event> = events.iter().rev().cloned().collect();
    let chunks = build(&shuffled, 8192, || 7);
    assert_eq!(chunks.len(), 1);
    let mut back = read_all(&chunks[0]);
    back.iter_mut().for_each(|e| e.fields.reverse());
    assert!(back == events, "events differ");
    assert!(chunks[0].segments[1..].iter().all(|p| p.len() <= SEGMENT_BYTES + 20));
}

/// A shelf whose columns stay decoded.
struct Keeping(Shelf, Mutex<HashMap<ColumnAt, Arc<Column>>>, Mutex<HashSet<ColumnAt>>);

impl ChunkSource for Keeping {
    fn directory(&self, chunk: u64) -> calvex_language::error::Result<Arc<Directory>> {
        self.0.directory(chunk)
    }
    fn segment(&self, chunk: u64, segment: u16) -> calvex_language::error::Result<VerifiedSegment> {
        self.0.segment(chunk, segment)
    }
    fn columns(&self) -> Option<&dyn KeptColumns> {
        Some(self)
    }
}

impl KeptColumns for Keeping {
    fn get(&self, at: ColumnAt) -> Option<Arc<Column>> {
        self.1.lock().unwrap().get(&at).cloned()
    }
    fn keep(&self, at: ColumnAt, column: &Arc<Column>) {
        self.1.lock().unwrap().insert(at, column.clone());
    }
    fn was_asked_for(&self, at: ColumnAt) -> bool {
        !self.2.lock().unwrap().insert(at)
    }
}

#[test]
fn columns_that_are_kept_are_decoded_once() {
    let events: Vec<Event> = (0..300).map(event).collect();
    let chunk = build(&events, 100, || 7).remove(0);
    let mut shelf = Keeping(Shelf(chunk.segments), Mutex::default(), Mutex::default());
    let directory = shelf.directory(chunk.id).unwrap();
    let page = |shelf: &Keeping, n| materialise_all(&ChunkPage::new(directory.clone(), n, shelf)).unwrap();
    let first: Vec<_> = (0..3).map(|n| page(&shelf, n)).collect();
    // Nothing is left to be read: what is kept is all that is needed, and of each page its own.
    shelf.0.0.clear();
    let again: Vec<_> = (0..3).map(|n| page(&shelf, n)).collect();
    assert_eq!(first, again);
    assert_ne!(first[0], first[1]);
}

#[test]
fn a_column_of_which_few_rows_are_asked_for_is_kept_when_it_is_asked_for_again() {
    let event = |n: i64| Event {
        time_ns: n,
        fields: vec![(Path::root("parcel"), Value::Text(format!("PL-{n:05}")))],
        ..Event::default()
    };
    let chunk = build(&(0..400).map(event).collect::<Vec<_>>(), 400, || 7).remove(0);
    let shelf = Keeping(Shelf(chunk.segments), Mutex::default(), Mutex::default());
    let directory = shelf.directory(chunk.id).unwrap();
    let index = directory.keys.iter().position(|key| matches!(key, ColumnKey::Field(p, _) if p.is("parcel"))).unwrap();
    let rows = Rows::of(&[17, 170], 400);
    let texts = || {
        let column = ChunkPage::new(directory.clone(), 0, &shelf).column_of(index, &rows).unwrap().unwrap();
        let Values::Texts { dictionary, codes } = &column.values else { panic!("no texts") };
        rows.iter().map(|row| dictionary.get(codes[row] as usize).to_owned()).collect::<Vec<_>>()
    };
    let kept = || shelf.1.lock().unwrap().len();
    assert_eq!((texts(), kept()), (vec!["PL-00017".to_owned(), "PL-00170".to_owned()], 0));
    assert_eq!((texts(), kept()), (vec!["PL-00017".to_owned(), "PL-00170".to_owned()], 1));
}

/// Numbers that fill their span are asked of zones; the filter of the whole has them, made at once or made again.
#[test]
fn dense_numbers_are_found_by_their_span() {
    let events: Vec<Event> = (0..3000).map(event).collect();
    let chunk = &build(&events, 500, || 7)[0];
    let shelf = Shelf(chunk.segments.clone());
    let directory = shelf.directory(7).unwrap();
    let late = directory.keys.iter().position(|k| matches!(k, ColumnKey::Field(p, _) if p.is("late_by_ms")));
    assert!((0..6).all(|page| directory.block(late.unwrap(), page).unwrap().dense));
    assert_eq!(chunk_bloom(7, &shelf).unwrap(), chunk.bloom);
    let may = |query: &str| {
        let filter = calvex_language::query::parse_filter(query).unwrap();
        let pages = pages_that_may_match(&filter, &directory, &shelf).unwrap();
        (chunk_may_match(&filter, &chunk.bloom), pages.iter().collect::<Vec<_>>())
    };
    // 977 numbers over and over: the first page has those below 500, the third 23 to 522, others wrap around.
    assert_eq!(may("late_by_ms=530"), (true, vec![1, 3, 4, 5]));
    let (chunk_may, pages) = may("530");
    assert!(chunk_may && [1, 3, 4, 5].iter().all(|page| pages.contains(page)));
    assert_eq!(may("late_by_ms=977").1, [] as [usize; 0]);
    assert_eq!(may("lease_by_ms=499").1, [] as [usize; 0]);
}

/// A value whose words stand in every page is known by its own key; in chunks of earlier formats by its words alone.
#[test]
fn texts_of_short_words_are_found_by_their_own_key() {
    let seal = |n: u32| Value::Text(format!("SL-{}", n / 1000));
    let nested = |n: u32| Value::List(vec![Value::Text(format!("10.0.{}.{}", n / 1000, n % 2))]);
    let other = |n: u32| Value::Text(format!("sl {} 10 0 {}", n % 3, n % 2));
    let events: Vec<Event> = (0..3000)
        .map(|n| Event {
            fields: vec![
                (Path::from_stored("address"), nested(n)),
                (Path::from_stored("other"), other(n)),
                (Path::from_stored("seal"), seal(n)),
            ],
            ..event(n)
        })
        .collect();
    let chunk = &build(&events, 500, || 7)[0];
    let shelf = Shelf(chunk.segments.clone());
    let directory = shelf.directory(7).unwrap();
    let may = |query: &str, directory: &Directory| {
        let filter = calvex_language::query::parse_filter(query).unwrap();
        let pages = pages_that_may_match(&filter, directory, &shelf).unwrap();
        pages.iter().collect::<Vec<_>>()
    };
    let holds = |query: &str, wanted: &[usize]| {
        assert!(chunk_may_match(&calvex_language::query::parse_filter(query).unwrap(), &chunk.bloom), "{query}");
        let pages = may(query, &directory);
        assert!(wanted.iter().all(|page| pages.contains(page)) && pages.len() < 6, "{query}: {pages:?}");
    };
    holds("seal=SL-1", &[2, 3]);
    holds("seal in (SL-0, SL-2)", &[0, 1, 4, 5]);
    holds("address=10.0.2.1", &[4, 5]);
    let absent: usize = (3..103).map(|n| may(&format!("seal=SL-{n}"), &directory).len()).sum();
    assert!(absent < 60, "one of ten pages at most: {absent}");
    // As words, it stands wherever they do; and without keys of whole texts, these are all there is to ask for.
    assert_eq!(may("sl", &directory).len(), 6);
    let mut earlier = Directory::read(7, &shelf.segment(7, 0).unwrap()).unwrap();
    earlier.version = 3;
    assert_eq!(may("seal=SL-1", &earlier).len(), 6);
}

/// How a word begins is known by its first four letters, unless the same could begin an id.
#[test]
fn beginnings_of_words_are_found_by_four_letters() {
    let message = |n: u32| match n / 500 {
        1 => format!("seal rare{n} broken"),
        3 => "TÜRÖFFNER klemmt".to_owned(),
        _ => format!("door {n} rang"),
    };
    let events: Vec<Event> = (0..3000).map(|n| Event { message: message(n), ..event(n) }).collect();
    let chunk = &build(&events, 500, || 7)[0];
    let shelf = Shelf(chunk.segments.clone());
    let directory = shelf.directory(7).unwrap();
    let may = |query: &str| {
        let filter = calvex_language::query::parse_filter(query).unwrap();
        let pages = pages_that_may_match(&filter, &directory, &shelf).unwrap();
        pages.iter().collect::<Vec<_>>()
    };
    let holds = |query: &str, wanted: &[usize]| {
        assert!(chunk_may_match(&calvex_language::query::parse_filter(query).unwrap(), &chunk.bloom), "{query}");
        let pages = may(query);
        assert!(wanted.iter().all(|page| pages.contains(page)) && pages.len() < 6, "{query}: {pages:?}");
    };
    holds("rare7*", &[1]);
    holds("rare*", &[1]);
    holds("türö*", &[3]);
    holds("seal-rare*", &[1]);
    let absent: usize =
        ('a'..='z').flat_map(|a| ('g'..='k').map(move |b| format!("q{a}{b}k*"))).map(|q| may(&q).len()).sum();
    assert!(absent < 130 * 6 / 10, "one of ten pages at most: {absent}");
    // Too short to decide, or the beginning of an id as well.
    assert_eq!(may("rar*").len(), 6);
    assert_eq!(may("deaf*").len(), 6);
}

#[test]
fn incompressible_text_is_spread_over_parts() {
    let noise = |n: u32| {
        let mut x = u64::from(n) + 1;
        let step = |_| {
            x = x.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            char::from(b'!' + (x >> 57) as u8 % 90)
        };
        (0..60_000).map(step).collect::<String>()
    };
    let events: Vec<Event> = (0..200).map(|n| Event { message: noise(n), ..event(n) }).collect();
    let chunks = build(&events, 8192, || 1);
    assert!(chunks[0].segments.len() > 2);
    assert!(chunks[0].segments[1..].iter().all(|p| p.len() <= SEGMENT_BYTES + 20));
    assert_eq!(read_all(&chunks[0]).len(), events.len());
}

/// Ten thousand paths in one lane: the most used stay columns, the others overflow, and nothing is lost.
#[test]
fn very_many_paths_overflow() {
    let wide = |n: u32| Event {
        fields: (0..100).map(|i| (Path::root(&format!("f{:05}", n * 100 + i)), Value::Int(i64::from(i)))).collect(),
        ..event(n)
    };
    let mut events: Vec<Event> = (0..100).map(wide).collect();
    events.iter_mut().for_each(|e| e.fields.push((Path::root("usual"), Value::Text("here".into()))));
    let chunks = build(&events, 16, || 1);
    let directory = Directory::read(1, &VerifiedSegment::check(chunks[0].segments[0].clone(), 1, 0).unwrap()).unwrap();
    assert!(directory.keys.len() <= crate::columns::MAX_FIELD_COLUMNS + crate::columns::BuiltinColumn::ALL.len());
    let mut back = read_all(&chunks[0]);
    for (a, b) in back.iter_mut().zip(&mut events) {
        a.fields.sort_by(|(a, _), (b, _)| a.cmp(b));
        b.fields.sort_by(|(a, _), (b, _)| a.cmp(b));
    }
    assert!(back == events, "events differ");
}

proptest! {
    /// What was put in comes out, whatever it is: any JSON, any time, merged or not.
    #[test]
    fn any_events_come_back_exactly(events in prop::collection::vec(exact_event(), 1..30), page_rows in 1usize..9) {
        let mut expected: Vec<Event> = crate::testing::numbered(events);
        let mut shelf = crate::testing::Shelf::default();
        let ids = |chunks: Vec<crate::testing::Shelved>| chunks.into_iter().map(|c| c.id).collect::<Vec<_>>();
        let pieces: Vec<u64> = expected.chunks(7).flat_map(|e| ids(shelf.seal(e, page_rows))).collect();
        let merged = ids(shelf.merge(&pieces, page_rows + 1));
        expected.sort_by_key(Event::order_key);
        for chunks in [&pieces, &merged] {
            let mut found = Vec::new();
            for chunk in chunks {
                let directory = shelf.directory(*chunk).unwrap();
                for page in 0..directory.pages.len() {
                    found.extend(materialise_all(&ChunkPage::new(directory.clone(), page, &shelf)).unwrap());
                }
            }
            // A chunk is in order; pieces of a time overlap.
            found.sort_by_key(Event::order_key);
            found.iter_mut().for_each(|event| event.fields.sort_by(|(a, _), (b, _)| a.cmp(b)));
            prop_assert_eq!(&found, &expected);
        }
    }
}

fn exact_value() -> impl Strategy<Value = Value> {
    let leaf = prop_oneof![
        Just(Value::Null),
        any::<bool>().prop_map(Value::Bool),
        any::<i64>().prop_map(Value::Int),
        ((i64::MAX as u64 + 1)..=u64::MAX).prop_map(Value::UInt),
        any::<f64>().prop_map(Value::Float),
        any::<u64>().prop_map(|bits| Value::Float(f64::from_bits(bits))),
        (-99_999i64..99_999).prop_map(|n| Value::Float(n as f64 / 100.0)),
        "[1-9][0-9]{20,40}(\\.[0-9]{1,9})?(e[0-9]{1,5})?".prop_map(Value::Decimal),
        ".*".prop_map(Value::Text),
        "(PX|BK)-[0-9]{1,5}|[0-9a-f]{8}-[0-9a-f]{4}|00[0-9]{2}".prop_map(Value::Text),
        any::<Vec<u8>>().prop_map(Value::Bytes),
        Just(Value::Object(Vec::new())),
    ];
    leaf.prop_recursive(3, 12, 4, |inner| {
        let object = prop::collection::btree_map(".{0,6}", inner.clone(), 1..3);
        prop_oneof![
            prop::collection::vec(inner, 0..4).prop_map(Value::List),
            object.prop_map(|o| Value::List(vec![Value::Object(o.into_iter().collect())])),
        ]
    })
}

fn exact_event() -> impl Strategy<Value = Event> {
    let path = prop::collection::vec("[ab.\u{1f}\u{1b}é]{0,3}", 1..3)
        .prop_map(|segments| Path::new(segments.iter().map(String::as_str)));
    let time = prop_oneof![any::<i64>(), -10_000_000_000i64..10_000_000_000, Just(i64::MIN), Just(i64::MAX - 1)];
    let message = prop_oneof![".{0,40}", "door [0-9]{1,3} (of|\u{1a}|é) BK-0[0-9]{2}", "[a-f0-9-]{0,20}"];
    let ids = (any::<Option<[u8; 16]>>(), any::<Option<[u8; 8]>>(), any::<Option<[u8; 8]>>());
    let span = prop_oneof![Just(None), (any::<i64>(), 0u8..3).prop_map(Some)];
    let fields = prop::collection::btree_map(path, exact_value(), 0..5);
    (time, any::<i64>(), any::<Option<i64>>(), (1u8..=24, ".{0,9}", ".{0,9}", ".{0,9}"), message, (ids, span), fields)
        .prop_map(
            |(
                time_ns,
                arrived_ns,
                sent_time_ns,
                (severity, service, host, layout),
                message,
                ((trace, span, parent), took),
                fields,
            )| Event {
                time_ns,
                arrived_ns,
                sent_time_ns,
                severity: calvex_language::model::Severity(severity),
                service,
                host,
                layout,
                message,
                trace,
                span,
                parent,
                kind: if took.is_some() { Kind::Span } else { Kind::Log },
                took_ns: took.map(|(ns, _)| ns),
                status: took.and_then(|(_, status)| Status::from_byte(status)),
                fields: fields.into_iter().collect(),
                ..Event::default()
            },
        )
}

#[test]
fn each_truncation_and_flip_is_an_error_that_names_the_part() {
    let chunk = &build(&(0..50).map(event).collect::<Vec<_>>(), 20, || 0xa1)[0];
    for (n, segment) in chunk.segments.iter().enumerate() {
        let location = format!("chunk a1 segment {n}");
        for cut in 0..segment.len() {
            let error = VerifiedSegment::check(segment[..cut].to_vec(), 0xa1, n as u16).unwrap_err().to_string();
            assert!(error.contains(&location), "{error}");
        }
        for at in 0..segment.len() {
            let mut damaged = segment.clone();
            damaged[at] ^= 1 << (at % 8);
            let error = VerifiedSegment::check(damaged, 0xa1, n as u16).unwrap_err().to_string();
            assert!(error.contains(&location), "{error}");
        }
    }
}

#[test]
fn bytes_that_a_checksum_lets_through_never_panic() {
    let chunk = &build(&(0..50).map(event).collect::<Vec<_>>(), 20, || 1)[0];
    let payload = VerifiedSegment::check(chunk.segments[0].clone(), 1, 0).unwrap().payload().to_vec();
    for at in 0..payload.len().min(2000) {
        let mut forged = payload.clone();
        forged[at] ^= 0x55;
        let segment = segment::seal_segment(1, 0, &forged);
        if let Ok(directory) = Directory::read(1, &VerifiedSegment::check(segment, 1, 0).unwrap()) {
            let shelf = Shelf(chunk.segments.clone());
            let directory = Arc::new(directory);
            for page in 0..directory.pages.len() {
                let page = ChunkPage::new(directory.clone(), page, &shelf);
                let _ = materialise_all(&page);
                let _ = page.time_span();
            }
        }
    }
}

fn golden(name: &str) -> String {
    format!("{}/src/chunk/golden/{name}", env!("CARGO_MANIFEST_DIR"))
}

fn blessing() -> bool {
    std::env::var_os("CALVEX_BLESS").is_some()
}

/// Segments in one file, each behind its length (u32 LE).
fn write_segments(name: &str, segments: &[Vec<u8>]) {
    let with_length = |s: &Vec<u8>| [&(s.len() as u32).to_le_bytes()[..], s].concat();
    std::fs::write(golden(name), segments.iter().flat_map(with_length).collect::<Vec<u8>>()).unwrap();
}

fn read_segments(name: &str) -> Vec<Vec<u8>> {
    let bytes = std::fs::read(golden(name)).unwrap();
    let (mut at, mut segments) = (0, Vec::new());
    while at < bytes.len() {
        let length = u32::from_le_bytes(bytes[at..at + 4].try_into().unwrap()) as usize;
        segments.push(bytes[at + 4..at + 4 + length].to_vec());
        at += 4 + length;
    }
    segments
}

/// One golden chunk of each format version stays readable for ever. `CALVEX_BLESS=1` writes that of the current one
/// anew, which is right only before the version is first released.
#[test]
fn golden_chunks() {
    if blessing() {
        let chunk = &build(&(0..20).map(event).collect::<Vec<_>>(), 8, || 1)[0];
        write_segments(&format!("v{VERSION}.bin"), &chunk.segments);
    }
    for version in 1..=VERSION {
        let segments = read_segments(&format!("v{version}.bin"));
        let mut back =
            read_all(&BuiltChunk { id: 1, segments, bloom: ChunkBloom::default(), rows: 20, time_min: 0, time_max: 0 });
        back.iter_mut().for_each(|e| e.fields.reverse());
        assert_eq!(back, (0..20).map(event).collect::<Vec<_>>(), "format {version}");
    }
}

/// One golden journal batch of each version, as for chunks. That of version 1 holds the page of the golden chunk of
/// version 1, whose blocks had the same form.
#[test]
fn golden_batches() {
    let events: Vec<Event> = (0..20).map(event).collect();
    if blessing() {
        let page = build_page(&events).unwrap();
        std::fs::write(golden(&format!("batch-v{}.bin", journal::VERSION)), journal::encode_batch(&page)).unwrap();
    }
    for version in 1..=journal::VERSION {
        let bytes = std::fs::read(golden(&format!("batch-v{version}.bin"))).unwrap();
        let page = journal::decode_batch(&bytes, "1-2-0").unwrap().with_origin(1, 2, 0);
        let mut back = materialise_all(&page).unwrap();
        back.iter_mut().for_each(|e| e.fields.sort_by(|(a, _), (b, _)| b.cmp(a)));
        assert_eq!(back, events, "batch version {version}");
    }
}

/// The golden bloom set stays readable: each of its chunks is found by its keys.
#[test]
fn golden_bloom_set() {
    let name = "bloom-set-v1.bin";
    if blessing() {
        let bloom = |chunk: u64| {
            let events: Vec<Event> = (0..40).map(|n| event(chunk as u32 * 1000 + n)).collect();
            let built = build(&events, 20, || chunk).remove(0);
            (chunk, Arc::new(built.bloom))
        };
        write_segments(name, &build_bloom_set(99, &[bloom(1), bloom(2), bloom(3)]));
    }
    struct Set(Vec<Vec<u8>>);
    impl ChunkSource for Set {
        fn directory(&self, chunk: u64) -> calvex_language::error::Result<Arc<Directory>> {
            Err(calvex_language::CoreError::damaged(format!("chunk {chunk}"), "only the bloom set is here"))
        }
        fn segment(&self, chunk: u64, segment: u16) -> calvex_language::error::Result<VerifiedSegment> {
            VerifiedSegment::check(self.0.get(usize::from(segment)).cloned().unwrap_or_default(), chunk, segment)
        }
    }
    let set = Set(read_segments(name));
    for (query, member) in [("\"LS-1007\"", 0), ("\"LS-2039\"", 1), ("\"LS-3001\"", 2)] {
        let filter = calvex_language::query::parse_filter(query).unwrap();
        let found: Vec<usize> = chunks_that_may_match(&filter, 99, &set).unwrap().iter().collect();
        assert_eq!(found, [member], "{query}");
    }
}
