//! Error groups from everywhere an event can stand, equal to what is folded from the events one after the other.

use super::*;
use crate::scan::Budget;
use crate::testing::{Shelf, Threads, any_event, any_query, numbered, scope};
use calvex_language::model::{Event, Path, Severity, Value};
use calvex_language::query::matching::error_group_of;
use calvex_language::query::{Context, matches, parse};
use proptest::prelude::*;
use std::collections::BTreeMap;

/// What is expected of a group: how many, the first, the last, the example.
type Expected = (u64, i64, i64, EventId);

fn slowly(events: &[Event], filter: &Filter, range: TimeRange) -> BTreeMap<String, Expected> {
    let mut groups: BTreeMap<String, Vec<&Event>> = BTreeMap::new();
    for event in events.iter().filter(|e| range.contains(e.time_ns) && matches(filter, e, "main")) {
        if let Some(group) = error_group_of(event) {
            groups.entry(group.id).or_default().push(event);
        }
    }
    let of = |list: Vec<&Event>| {
        let times = || list.iter().map(|e| e.time_ns);
        let example = list.iter().max_by_key(|e| (e.trace.is_some(), e.time_ns, e.id)).unwrap();
        (list.len() as u64, times().min().unwrap(), times().max().unwrap(), example.id)
    };
    groups.into_iter().map(|(id, list)| (id, of(list))).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]
    #[test]
    fn one_answer_from_everywhere(
        events in prop::collection::vec(any_event(), 1..40),
        text in any_query(),
        from in -1i64..30,
        len in 1i64..40,
    ) {
        let events = numbered(events);
        let filter = parse(&text, &Context::utc(0)).query.filter;
        let range = TimeRange { from_ns: from, to_ns: from + len };
        let expected = slowly(&events, &filter, range);
        let ask = ErrorsAsk { filter: &filter, range, top: 1000, points: 5 };
        let mut shelf = Shelf::default();
        for (name, view) in shelf.views(&events) {
            let scope = Scope { workers: &Threads, ..scope(&view, &shelf) };
            let found = errors(&scope, &ask);
            let folded: BTreeMap<String, Expected> = found
                .groups
                .iter()
                .map(|g| (g.group.id.clone(), (g.count, g.first_ns, g.last_ns, g.example.id)))
                .collect();
            prop_assert_eq!(&folded, &expected, "{} of {}", name, text);
            prop_assert_eq!(found.failures, expected.values().map(|e| e.0).sum::<u64>());
            prop_assert!(found.groups.iter().all(|g| g.trend.iter().map(|n| u64::from(*n)).sum::<u64>() == g.count));
            let nothing = Budget::new(1);
            let stopped = errors(&Scope { budget: &nothing, ..scope }, &ask).explain.stopped;
            prop_assert!(expected.is_empty() || stopped.is_some_and(|why| why.contains("search.memory_mib")));
        }
    }
}

fn failure(n: i64, stack: &str, release: &str) -> Event {
    Event {
        time_ns: n,
        severity: Severity(17),
        service: "slots".into(),
        message: format!("lease LS-{n} ran out"),
        fields: vec![
            (Path::new(["error", "stack"]), Value::Text(stack.into())),
            (Path::new(["service", "version"]), Value::Text(release.into())),
        ],
        ..Event::default()
    }
}

#[test]
fn a_group_has_its_trend_its_releases_and_an_example() {
    let claim = |line: i64| format!("LeaseGone: gone\n\tat fennmark.Store.claim(Store.java:{line})");
    let renew = "LeaseGone: gone\n\tat fennmark.Store.renew(Store.java:9)";
    let mut events: Vec<Event> = (0..40).map(|n| failure(n, &claim(n), if n < 30 { "41.1" } else { "41.2" })).collect();
    events[3].trace = Some([7; 16]);
    events.push(failure(40, renew, "41.2"));
    let events = numbered(events);
    let mut shelf = Shelf::default();
    for (name, view) in shelf.views(&events) {
        let range = TimeRange { from_ns: 0, to_ns: 80 };
        let found = errors(&scope(&view, &shelf), &ErrorsAsk { filter: &Filter::All, range, top: 1, points: 4 });
        assert_eq!((found.group_count, found.failures, found.groups.len()), (2, 41, 1), "{name}");
        let group = &found.groups[0];
        assert_eq!(group.trend, [20, 20, 0, 0], "{name}");
        assert_eq!(group.releases, [("41.1".to_owned(), 30), ("41.2".to_owned(), 10)], "{name}");
        assert_eq!((group.example.time_ns, group.example.trace), (3, Some([7; 16])), "{name}");
        assert_eq!(group.group.frames, ["fennmark.Store.claim"]);
        assert_eq!((group.service.as_str(), &*group.lanes[0].0, group.lanes.len()), ("slots", "main", 1));
    }
}
