//! Measures from everywhere against a slow evaluator that looks at one event after the other.

use super::slow::slowly;
use super::*;
use crate::scan::{OneByOne, Scope};
use crate::testing::{Shelf, Threads, any_event, any_query, numbered, scope};
use calvex_language::model::{Event, Path, Value};
use calvex_language::query::{Context, parse};
use jiff::tz::TimeZone;
use proptest::prelude::*;

fn any_measure() -> impl Strategy<Value = String> {
    let aggregate = prop::sample::select(vec![
        "count",
        "count(severity>=error) as bad",
        "share(lease or service=slots)",
        "rate",
        "distinct(n)",
        "distinct(message)",
        "distinct(slot.bank)",
        "sum(n)",
        "mean(took_ms)",
        "min(n)",
        "max(took_ms)",
        "p50(n)",
        "p99.9(took_ms)",
        "p90(took)",
        "sum(took)",
        "first(slot.bank)",
        "last(n)",
    ]);
    let per = prop::sample::select(vec![
        "service",
        "severity",
        "n",
        "slot.bank",
        "slot",
        "shape",
        "lane",
        "message",
        "kind",
        "status",
        "took",
    ]);
    let clauses = (
        prop::sample::subsequence(vec!["per", "every", "having", "top"], 0..=4),
        prop::collection::vec(per, 1..3),
        prop::sample::select(vec!["7ns", "10ns", "1s"]),
        prop::sample::select(vec!["> 1", "<= 2", "= 1"]),
        prop::sample::select(vec!["top 2", "top 100", "top 1 by count"]),
    );
    (prop::collection::vec(aggregate, 0..4), clauses).prop_map(|(aggregates, (with, per, every, having, top))| {
        let mut list = vec!["count"];
        aggregates.into_iter().filter(|a| *a != "count").for_each(|a| list.push(a));
        list.dedup();
        let mut text = format!("measure {}", list.join(", "));
        for clause in with {
            text += &match clause {
                "per" => {
                    let mut per = per.clone();
                    per.dedup();
                    format!(" per {}", per.join(", "))
                }
                "every" => format!(" every {every}"),
                "having" => format!(" having count {having}"),
                _ => format!(" {top}"),
            };
        }
        text
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(250))]
    #[test]
    fn one_table_from_everywhere(
        events in prop::collection::vec(any_event(), 1..40),
        filter in prop_oneof![Just(String::new()), any_query()],
        clause in any_measure(),
        from in -1i64..30,
        len in 1i64..40,
        threads in any::<bool>(),
    ) {
        let events = numbered(events);
        let text = format!("{filter} {clause}");
        let parsed = parse(&text, &Context::utc(0));
        prop_assert_eq!(&parsed.mistakes, &vec![], "{}", text);
        let (filter, measure) = (parsed.query.filter, parsed.query.measure.unwrap());
        let range = TimeRange { from_ns: from, to_ns: from + len };
        let steps = match &measure.every {
            Some(every) => Steps::over(&range, every.step_ns, &TimeZone::UTC).unwrap(),
            None => Steps::None,
        };
        let ask = MeasureAsk { filter: &filter, range, measure: &measure, steps };
        let expected = slowly(&ask, &events);
        let mut shelf = Shelf::default();
        for (name, view) in shelf.views(&events) {
            let scope = Scope { workers: if threads { &Threads } else { &OneByOne }, ..scope(&view, &shelf) };
            let table = super::measure(&scope, &ask);
            prop_assert_eq!(&table.explain.left_out, &Vec::<String>::new());
            prop_assert_eq!(&table.groups, &expected, "{} of {}", name, text);
            prop_assert!(table.limited.is_none() && table.errors.iter().all(Option::is_none));
        }
    }
}

/// Many values: estimates within their bound, from however many parts.
#[test]
fn estimates_keep_their_bound() {
    let event = |n: i64| Event {
        time_ns: n,
        fields: vec![(Path::root("took_ms"), Value::Int(n * 7919 % 100_003))],
        ..Event::default()
    };
    let events = numbered((0..20_000).map(event).collect());
    let mut shelf = Shelf::default();
    let view: Vec<_> = events.chunks(1900).flat_map(|e| shelf.seal(e, 700)).collect();
    let query = parse("measure p50(took_ms), p99(took_ms), distinct(took_ms), sum(took_ms)", &Context::utc(0)).query;
    let measure = query.measure.unwrap();
    let ask = MeasureAsk { filter: &query.filter, range: TimeRange::ALL, measure: &measure, steps: Steps::None };
    let exact = slowly(&ask, &events);
    let one = super::measure(&scope(&view, &shelf), &ask);
    let many = super::measure(&Scope { workers: &Threads, ..scope(&view, &shelf) }, &ask);
    assert_eq!(one.groups, many.groups);
    assert_eq!(one.errors.iter().map(Option::is_some).collect::<Vec<_>>(), [true, true, true, false]);
    for (reported, exact) in one.groups[0].total.iter().zip(&exact[0].total) {
        let (reported, exact) = (reported.number().unwrap(), exact.number().unwrap());
        assert!((reported - exact).abs() <= exact * 0.01, "{reported} for {exact}");
    }
}

/// Lists cost what they hold, not its square, and their combinations are bounded.
#[test]
fn long_lists_are_bounded() {
    let list = |from: i64, len: i64| Value::List((from..from + len).map(Value::Int).collect());
    let event = |n: i64| Event {
        time_ns: n,
        fields: ["a", "b", "c"].map(|name| (Path::root(name), list(n, 400))).to_vec(),
        ..Event::default()
    };
    let events = numbered((0..400).map(event).collect());
    let mut shelf = Shelf::default();
    let view: Vec<_> = events.chunks(200).flat_map(|e| shelf.seal(e, 200)).collect();
    let ask = |text: &str| {
        let query = parse(text, &Context::utc(0)).query;
        let measure = query.measure.unwrap();
        super::measure(
            &scope(&view, &shelf),
            &MeasureAsk { filter: &query.filter, range: TimeRange::ALL, measure: &measure, steps: Steps::None },
        )
    };
    let one = ask("measure count per a top 1000");
    assert_eq!((one.group_count, one.limited), (799, None));
    let all = ask("measure count per a, b, c");
    assert!(all.limited.is_some_and(|why| why.contains("left out")));
}

/// More groups than there is memory for: they are worked out share by share, and none is missing.
#[test]
fn however_many_groups_there_are_the_largest_are_found() {
    let path = |name: &str| Path::root(name);
    let event = |n: i64| {
        // Every fifth event is of a few accounts, all others of twelve thousand.
        let account = if n % 5 == 0 { n % 7 } else { 7 + n * 7919 % 12_000 };
        let fields = vec![
            (path("account"), Value::Text(format!("AC-{account:05}"))),
            (path("number"), Value::Int(account)),
            (path("took_ms"), Value::Int(n % 500)),
        ];
        Event { time_ns: n, service: ["slots", "edge"][n as usize % 2].into(), fields, ..Event::default() }
    };
    let events = numbered((0..30_000).map(event).collect());
    let mut shelf = Shelf::default();
    // More chunks than dictionaries that a worker knows by code at once.
    let view: Vec<_> = events.chunks(5000).flat_map(|e| shelf.seal(e, 700)).collect();
    for text in [
        "measure count per account top 9",
        "measure count per number",
        "measure count, sum(took_ms) as total per account top 9 by total",
        "service=slots measure count, max(took_ms) as most per number, service top 12",
        "measure count, mean(took_ms) per account, service top 20",
        "measure count, min(took_ms) as least, share(service=slots) per number, account top 9 by least",
        "measure count per account every 10000ns top 5",
        "measure count, distinct(took_ms) per account having count > 5",
    ] {
        let parsed = parse(text, &Context::utc(0));
        assert_eq!(parsed.mistakes, [], "{text}");
        let (filter, measure) = (parsed.query.filter, parsed.query.measure.unwrap());
        let range = TimeRange { from_ns: 0, to_ns: 30_000 };
        let steps = match &measure.every {
            Some(every) => Steps::over(&range, every.step_ns, &TimeZone::UTC).unwrap(),
            None => Steps::None,
        };
        let ask = MeasureAsk { filter: &filter, range, measure: &measure, steps };
        let mut expected = slowly(&ask, &events);
        let plenty = super::measure(&scope(&view, &shelf), &ask);
        expected.truncate(plenty.groups.len());
        assert_eq!(plenty.groups, expected, "{text}");
        for (threads, bytes) in [(false, 2 << 20), (true, 2 << 20), (false, 320 << 10), (true, 600 << 10)] {
            let budget = crate::scan::Budget::new(bytes);
            let workers: &dyn crate::scan::Workers = if threads { &Threads } else { &OneByOne };
            let passed = std::sync::atomic::AtomicU64::new(0);
            let passing = |_: &str, n: u64| {
                passed.fetch_add(n, std::sync::atomic::Ordering::Relaxed);
            };
            let few = Scope { budget: &budget, workers, passing: Some(&passing), ..scope(&view, &shelf) };
            let shares = super::measure(&few, &ask);
            assert_eq!(shares.explain.stopped, None, "{text}");
            assert_eq!((&shares.groups, shares.group_count), (&plenty.groups, plenty.group_count), "{text}");
            assert_eq!(shares.limited, plenty.limited);
            assert_eq!(budget.used(), 0, "what was taken is given back");
            let events = if text.starts_with("service") { 15_000 } else { 30_000 };
            assert_eq!(passed.into_inner(), events, "rows are counted in one pass alone");
        }
    }
}

/// Where even the smallest share does not fit, groups are missing, and what is reported of a group is of all of its events.
#[test]
fn groups_that_do_not_fit_are_missing_whole() {
    let event = |n: i64| {
        let account = n % 4500;
        let fields = vec![(Path::root("account"), Value::Text(format!("AC-{account:05}").repeat(600)))];
        Event { time_ns: n, service: ["slots", "edge"][account as usize % 2].into(), fields, ..Event::default() }
    };
    let events = numbered((0..9000).map(event).collect());
    let mut shelf = Shelf::default();
    let view: Vec<_> = events.chunks(4500).flat_map(|e| shelf.seal(e, 20)).collect();
    let query = parse("measure count per account, service top 4500", &Context::utc(0)).query;
    let measure = query.measure.unwrap();
    let ask = MeasureAsk { filter: &query.filter, range: TimeRange::ALL, measure: &measure, steps: Steps::None };
    // What one worker has no room for, another may have.
    let budget = crate::scan::Budget::new(1600 << 10);
    let table = super::measure(&Scope { budget: &budget, workers: &Threads, ..scope(&view, &shelf) }, &ask);
    assert_eq!(table.explain.stopped, None);
    assert!(table.limited.is_some_and(|why| why.contains("left out")));
    assert!(table.groups.len() > 100, "{}", table.groups.len());
    assert!(table.groups.iter().all(|group| group.total == [Cell::Count(2)]));
}
