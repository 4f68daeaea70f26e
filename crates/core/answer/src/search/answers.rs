//! Answers over a fixed part of the night (`golden/night.ndjson`), from everywhere an event can stand: head, chunk, both,
//! merged, pruned or not, with directories kept or read anew, one task after the other or at once; equal to what is
//! written down in `golden/answers.txt`, and to the slow evaluator. So are the cases of the language's golden file and
//! random queries made of what the events hold.

use super::*;
use crate::measure::slow::slowly;
use crate::measure::{Group, MeasureAsk, Steps, measure};
use crate::scan::{Budget, Cursor, Extent, Scope};
use crate::testing::{Shelf, Threads, numbered, scope};
use calvex_intake::normalise::{Arrival, Flattener, Known, Limits, PathRoles, RawEvent, normalise};
use calvex_language::error::Result;
use calvex_language::model::time::parse_time;
use calvex_language::model::{Event, PathTable, Value};
use calvex_language::query::{Context, Filter, Query, TimeRange, matches, parse};
use calvex_storage::chunk::{ChunkSource, Directory, VerifiedSegment};
use jiff::tz::TimeZone;
use parking_lot::Mutex;
use proptest::prelude::*;
use std::collections::HashMap;
use std::fmt::Write;
use std::sync::{Arc, LazyLock};

const NIGHT: &str = include_str!("golden/night.ndjson");

fn context() -> Context {
    Context::utc(parse_time("2026-10-04T03:20:00Z").unwrap())
}

/// The events as they come out of intake, in the order of the file.
fn night() -> Vec<Event> {
    let arrived_ns = parse_time("2026-10-04T03:15:00Z").unwrap();
    let ties = calvex_language::query::Ties::default();
    let arrival = Arrival { arrived_ns, sender: "night", fixed: &[], limits: Limits::default(), ties: &ties };
    let (mut paths, mut meanings, mut flattener) = (PathTable::default(), PathRoles::default(), Flattener::default());
    let mut event = |line: &str| {
        let fields = flattener.json(line, &mut paths, &arrival.limits).unwrap();
        let raw = RawEvent { fields: unborrowed(fields), known: Known::default() };
        let mut event = normalise(raw, &mut paths, &mut meanings, &arrival).unwrap().draft.into_event(&paths);
        event.fields.sort_by(|(a, _), (b, _)| a.cmp(b));
        event
    };
    numbered(NIGHT.lines().map(&mut event).collect())
}

fn unborrowed(
    fields: Vec<(calvex_language::model::PathId, calvex_language::model::Leaf)>,
) -> Vec<(calvex_language::model::PathId, calvex_language::model::Leaf<'static>)> {
    fields.into_iter().map(|(path, leaf)| (path, calvex_language::model::Leaf::owned(leaf.into_value()))).collect()
}

/// The night, and every view of it, made once.
struct Stage {
    events: Vec<Event>,
    shelf: Shelf,
    views: Vec<(&'static str, Vec<Extent>)>,
}

static STAGE: LazyLock<Stage> = LazyLock::new(|| {
    let events = night();
    let mut shelf = Shelf::default();
    let views = shelf.views(&events);
    Stage { events, shelf, views }
});

/// Keeps what it read, as the caches of a node do.
struct Kept<'a> {
    shelf: &'a Shelf,
    directories: Mutex<HashMap<u64, Arc<Directory>>>,
}

impl ChunkSource for Kept<'_> {
    fn directory(&self, chunk: u64) -> Result<Arc<Directory>> {
        if let Some(known) = self.directories.lock().get(&chunk) {
            return Ok(known.clone());
        }
        let read = self.shelf.directory(chunk)?;
        self.directories.lock().insert(chunk, read.clone());
        Ok(read)
    }
    fn segment(&self, chunk: u64, segment: u16) -> Result<VerifiedSegment> {
        self.shelf.segment(chunk, segment)
    }
}

static KEPT: LazyLock<Kept<'static>> =
    LazyLock::new(|| Kept { shelf: &STAGE.shelf, directories: Mutex::new(HashMap::new()) });

/// Calls `f` with each way to look at the night.
fn everywhere(mut f: impl FnMut(&str, &Scope)) {
    for (name, view) in &STAGE.views {
        f(name, &scope(view, &STAGE.shelf));
        f(name, &Scope { workers: &Threads, ..scope(view, &STAGE.shelf) });
        let kept = Scope { source: &*KEPT, ..scope(view, &STAGE.shelf) };
        f(name, &kept);
        f(name, &kept);
    }
}

/// The lines, from 1, of the events that pass, by the plain meaning of the filter.
fn lines_slowly(filter: &Filter, range: TimeRange) -> Vec<usize> {
    let passes = |e: &Event| range.contains(e.time_ns) && matches(filter, e, "main");
    let mut found: Vec<(usize, &Event)> = STAGE.events.iter().enumerate().filter(|(_, e)| passes(e)).collect();
    found.sort_by_key(|(_, e)| e.order_key());
    found.into_iter().map(|(n, _)| n + 1).collect()
}

fn lines_everywhere(text: &str, filter: &Filter, range: TimeRange) -> Vec<usize> {
    let expected = lines_slowly(filter, range);
    everywhere(|name, scope| {
        let ask = Find { filter, range, order: Order::Oldest, after: None, limit: 1000 };
        let found = find(scope, &ask);
        let line = |e: &Event| (e.id.seq * 7) as usize + e.id.ordinal as usize + 1;
        let lines: Vec<usize> = found.events.iter().map(|(e, _)| line(e)).collect();
        assert_eq!(lines, expected, "{name} of {text}");
        let counted = histogram(scope, filter, range, 0, i64::MAX);
        assert_eq!(counted.total(), expected.len() as u64, "{name} counted of {text}");
        let mut lines = Vec::new();
        let exported = export(scope, &Export { filter, range, limit: 1000, sent: false }, |more| {
            lines.extend(more);
            true
        });
        let reported: Vec<String> = found
            .events
            .iter()
            .map(|(e, lane)| serde_json::to_string(&calvex_language::model::answer_json(e, lane)).unwrap())
            .collect();
        assert_eq!(
            String::from_utf8(lines).unwrap().lines().collect::<Vec<_>>(),
            reported,
            "{name} exported of {text}"
        );
        assert_eq!((exported.events, exported.more), (reported.len(), false));
        // With the least memory there are fewer events at a time, never wrong ones, and all of them by paging.
        let mut paged = Vec::new();
        let mut after = None;
        loop {
            let nothing = Budget::new(2000);
            let found = find(&Scope { budget: &nothing, ..*scope }, &Find { after, ..ask.clone() });
            if let Some(why) = &found.explain.stopped {
                assert!(why.contains("search.memory_mib"), "{name} of {text}: {why}");
                break;
            }
            paged.extend(found.events.iter().map(|(e, _)| line(e)));
            after = found.events.last().map(|(e, _)| Cursor { time_ns: e.time_ns, id: e.id });
            if !found.more {
                assert_eq!(paged, expected, "{name} of {text}, a little at a time");
                break;
            }
            assert!(!found.events.is_empty(), "{name} of {text}: a page without an event");
        }
    });
    expected
}

fn table_everywhere(text: &str, query: &Query, range: TimeRange) -> Vec<Group> {
    let Some(asked) = &query.measure else { return Vec::new() };
    let steps = match &asked.every {
        Some(every) => Steps::over(&range, every.step_ns, &TimeZone::UTC).unwrap(),
        None => Steps::None,
    };
    let ask = MeasureAsk { filter: &query.filter, range, measure: asked, steps };
    let expected = slowly(&ask, &STAGE.events);
    everywhere(|name, scope| {
        let table = measure(scope, &ask);
        assert_eq!(table.groups, expected, "{name} of {text}");
        assert!(table.limited.is_none() && table.explain.left_out.is_empty());
        let nothing = Budget::new(1);
        let stopped = measure(&Scope { budget: &nothing, ..*scope }, &ask).explain.stopped;
        if !expected.is_empty() && expected.iter().any(|g| !g.values.is_empty()) {
            assert!(stopped.is_some_and(|why| why.contains("search.memory_mib")), "{name} of {text}");
        }
    });
    expected
}

fn range_of(query: &Query) -> TimeRange {
    let at = |text| parse_time(text).unwrap();
    let (now, day) = (at("2026-10-04T03:20:00Z"), at("2026-10-04T00:00:00Z"));
    let night = TimeRange { from_ns: at("2026-10-04T01:30:00Z"), to_ns: now };
    query.over.as_ref().map_or(night, |over| over.resolve(now, day))
}

/// A case is a query, then `=` with how many events pass and their first lines, or a `|` for each group of a measure.
/// `CALVEX_BLESS=1` writes the answers anew, to be read before they are committed.
#[test]
fn golden_answers() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/src/search/golden/answers.txt");
    let text = std::fs::read_to_string(path).unwrap();
    let mut reported = String::new();
    for case in text.split("\n\n").filter(|c| !c.trim().is_empty()) {
        let text = case.trim_start_matches('\n').lines().next().unwrap_or("");
        let parsed = parse(text, &context());
        assert_eq!(parsed.mistakes, [], "{text}");
        writeln!(reported, "{text}").unwrap();
        let range = range_of(&parsed.query);
        if parsed.query.measure.is_some() {
            for group in table_everywhere(text, &parsed.query, range).iter().take(8) {
                let values: Vec<String> = group.values.iter().map(|v| format!("{v:?}")).collect();
                writeln!(reported, "| {} | {:?}", values.join(", "), group.total).unwrap();
            }
        } else {
            let lines = lines_everywhere(text, &parsed.query.filter, range);
            let first: Vec<String> = lines.iter().take(12).map(usize::to_string).collect();
            writeln!(reported, "= {}: {}", lines.len(), first.join(" ")).unwrap();
        }
        reported.push('\n');
    }
    if std::env::var_os("CALVEX_BLESS").is_some() {
        std::fs::write(path, &reported).unwrap();
    } else {
        assert_eq!(reported, text);
    }
}

#[test]
fn the_golden_queries_of_the_language() {
    let cases = include_str!("../../../language/src/query/golden/parse.txt")
        .split("\n\n")
        .filter_map(|c| c.trim_start().lines().next());
    let mut run = 0;
    for text in cases {
        let parsed = parse(text, &context());
        if !parsed.mistakes.is_empty() {
            continue;
        }
        run += 1;
        let range = range_of(&parsed.query);
        lines_everywhere(text, &parsed.query.filter, range);
        table_everywhere(text, &parsed.query, range);
    }
    assert!(run > 30, "only {run} queries were run");
}

/// Conditions that at least one event of the night meets, or nearly.
static CONDITIONS: LazyLock<Vec<String>> = LazyLock::new(|| {
    let mut all = Vec::new();
    for event in &STAGE.events {
        let words: Vec<&str> = calvex_language::query::words_of(&event.message).collect();
        all.extend(words.iter().map(|w| format!("\"{w}\"")));
        all.extend(words.windows(2).map(|w| format!("\"{} {}\"", w[0], w[1])));
        all.extend(words.iter().filter(|w| w.chars().count() > 2).map(|w| {
            let begins: String = w.chars().take(2).collect();
            format!("{begins}*")
        }));
        all.extend([
            format!("service={}", event.service),
            format!("host!={:?}", event.host),
            format!("severity>={}", event.severity.name()),
            format!("message={:?}", event.message),
            format!("shape={}", calvex_language::model::shape::id_of(&event.message)),
        ]);
        if let Some(trace) = event.trace {
            all.push(format!("trace={}", calvex_language::model::to_hex(&trace)));
            all.push(calvex_language::model::to_hex(&trace));
        }
        for (path, value) in &event.fields {
            let name = path.dotted();
            all.push(format!("has .{name}"));
            match value {
                Value::Int(n) => all.extend([
                    format!(".{name}={n}"),
                    format!(".{name}>{n}"),
                    format!(".{name} between {} and {}", n - 3, n + 3),
                    n.to_string(),
                ]),
                Value::Text(t) => all.extend([
                    format!(".{name}={t:?}"),
                    format!(".{name}!={t:?}"),
                    format!(".{name} *= {:?}", t.chars().skip(1).take(3).collect::<String>()),
                ]),
                Value::Bool(b) => all.push(format!(".{name}={b}")),
                _ => {}
            }
        }
    }
    all.sort();
    all.dedup();
    all
});

fn any_condition() -> impl Strategy<Value = String> {
    let leaf = any::<prop::sample::Index>().prop_map(|n| n.get(&CONDITIONS).clone());
    leaf.prop_recursive(3, 6, 2, |inner| {
        prop_oneof![
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a}) ({b})")),
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a} or {b})")),
            inner.prop_map(|a| format!("not ({a})")),
        ]
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]
    #[test]
    fn random_queries_of_the_night(text in any_condition()) {
        let parsed = parse(&text, &context());
        prop_assert_eq!(&parsed.mistakes, &vec![], "{}", text);
        lines_everywhere(&text, &parsed.query.filter, TimeRange::ALL);
    }
}
