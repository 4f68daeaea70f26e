//! One answer from everywhere: head, chunk, both, merged, pruned or not, against the plain meaning of a filter.

use super::*;
use crate::scan::{Budget, Cursor, Explanation, Extent, OneByOne, Progress, Scope};
use crate::testing::{Shelf, Threads, any_event, any_query, numbered, scope};
use calvex_language::model::{Event, EventId};
use calvex_language::query::{Builtin, Context, Field, Filter, TimeRange, matches, parse};
use proptest::prelude::*;

fn ids_of(found: &Found) -> Vec<EventId> {
    found.events.iter().map(|(e, _)| e.id).collect()
}

fn ask<'a>(filter: &'a Filter, range: TimeRange, order: Order, limit: usize) -> Find<'a> {
    Find { filter, range, order, after: None, limit }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]
    #[test]
    fn one_answer_from_everywhere(
        events in prop::collection::vec(any_event(), 1..40),
        text in any_query(),
        from in -1i64..30,
        len in 1i64..40,
        newest in any::<bool>(),
    ) {
        let events = numbered(events);
        let parsed = parse(&text, &Context::utc(0));
        prop_assert_eq!(&parsed.mistakes, &vec![], "{}", text);
        let filter = parsed.query.filter;
        let range = TimeRange { from_ns: from, to_ns: from + len };
        let order = if newest { Order::Newest } else { Order::Oldest };

        let mut expected: Vec<&Event> =
            events.iter().filter(|e| range.contains(e.time_ns) && matches(&filter, e, "main")).collect();
        expected.sort_by_key(|e| e.order_key());
        if newest {
            expected.reverse();
        }
        let expected_ids: Vec<EventId> = expected.iter().map(|e| e.id).collect();

        let mut shelf = Shelf::default();
        for (name, view) in shelf.views(&events) {
            let scope = Scope { workers: if newest { &Threads } else { &OneByOne }, ..scope(&view, &shelf) };
            let found = find(&scope, &ask(&filter, range, order, 1000));
            prop_assert_eq!(&found.explain.left_out, &Vec::<String>::new());
            prop_assert_eq!(&ids_of(&found), &expected_ids, "{} of {}", name, text);
            for ((event, _), e) in found.events.iter().zip(&expected) {
                let mut event = event.clone();
                event.fields.sort_by(|(a, _), (b, _)| a.cmp(b));
                prop_assert_eq!(&event, *e);
            }
            // The same answer, a few at a time behind a cursor.
            let (mut paged, mut after) = (Vec::new(), None);
            loop {
                let found = find(&scope, &Find { after, ..ask(&filter, range, order, 3) });
                paged.extend(ids_of(&found));
                after = found.events.last().map(|(e, _)| Cursor { time_ns: e.time_ns, id: e.id });
                if !found.more {
                    break;
                }
            }
            prop_assert_eq!(&paged, &expected_ids, "paged {} of {}", name, text);
            // What is sent on the way is the answer, in its order.
            let reported = parking_lot::Mutex::new(Vec::new());
            let note = |p| if let Progress::Found(events) = p { reported.lock().extend(events) };
            let whole = find(&Scope { progress: Some(&note), ..scope }, &ask(&filter, range, order, 5));
            prop_assert_eq!(&whole.events, &*reported.lock(), "sent {} of {}", name, text);
            let counted = histogram(&scope, &filter, range, from, 7);
            prop_assert_eq!(counted.total() as usize, expected_ids.len());
            for (i, bucket) in counted.buckets.iter().enumerate() {
                let lo = from + i as i64 * 7;
                let in_bucket = |e: &&&Event| (lo..lo + 7).contains(&e.time_ns) && e.severity.name() == "error";
                prop_assert_eq!(bucket[4] as usize, expected.iter().filter(in_bucket).count());
            }
            let services = breakdown(&scope, &filter, range, &[Field::Builtin(Builtin::Service)], 10);
            let slots = expected.iter().filter(|e| e.service == "slots").count() as u64;
            let reported = services.fields[0].top.iter().find(|(v, _)| v.to_string() == "slots").map_or(0, |(_, n)| *n);
            prop_assert_eq!((services.events as usize, reported), (expected_ids.len(), slots));
            // With the least memory an answer is whole, or says that it is not.
            let nothing = Budget::new(1);
            let least = Scope { budget: &nothing, ..scope };
            let stopped = |explain: &Explanation| explain.stopped.as_ref().is_some_and(|w| w.contains("search.memory_mib"));
            let counted = histogram(&least, &filter, range, from, 7);
            prop_assert!(stopped(&counted.explain) || counted.total() as usize == expected_ids.len(), "{} of {}", name, text);
            nothing.release(nothing.used());
            let services = breakdown(&least, &filter, range, &[Field::Builtin(Builtin::Service)], 10);
            let whole = services.events as usize == expected_ids.len() && services.fields[0].top.len() < 10;
            prop_assert!(stopped(&services.explain) || whole, "{} of {}", name, text);
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
            id: EventId { seq: hour as u64, ordinal: n as u32, ..EventId::default() },
            message: format!("door {n} opened, hour{hour}"),
            ..Event::default()
        });
        view.extend(shelf.seal(&events.collect::<Vec<_>>(), 100));
    }
    let run = |text: &str, range, limit| {
        let filter = parse(text, &Context::utc(0)).query.filter;
        find(&scope(&view, &shelf), &ask(&filter, range, Order::Newest, limit))
    };
    let newest = run("door", TimeRange::ALL, 20);
    assert_eq!(
        (newest.events.len(), newest.more, newest.explain.chunks_read, newest.explain.skipped_by_order),
        (20, true, 1, 9)
    );
    let rare = run("hour3", TimeRange::ALL, 1000);
    assert_eq!((rare.events.len(), rare.explain.chunks_read), (100, 1));
    assert!(rare.explain.skipped_by_bloom >= 8);
    let ranged = run("door", TimeRange { from_ns: 2000, to_ns: 3000 }, 1000);
    assert_eq!((ranged.events.len(), ranged.explain.skipped_by_time), (100, 9));
    let late = Scope { stop: &|| Some("time is up".into()), ..scope(&view, &shelf) };
    let stopped = find(&late, &ask(&Filter::All, TimeRange::ALL, Order::Newest, 10));
    assert_eq!((stopped.events.len(), stopped.explain.stopped.as_deref()), (0, Some("time is up")));
}

#[test]
fn a_damaged_chunk_is_left_out_and_named() {
    let mut shelf = Shelf::default();
    let event = |n: u64| Event { time_ns: n as i64, id: EventId { seq: n, ..EventId::default() }, ..Event::default() };
    let view: Vec<Extent> = (1..=3u64).flat_map(|n| shelf.seal(&[event(n)], 100)).collect();
    shelf.chunks.segments.get_mut(&(2, 1)).unwrap()[25] ^= 1;
    let found = find(&scope(&view, &shelf), &ask(&Filter::All, TimeRange::ALL, Order::Newest, 10));
    assert_eq!(found.events.iter().map(|(e, _)| e.time_ns).collect::<Vec<_>>(), [3, 1]);
    assert_eq!(found.explain.left_out.len(), 1);
    assert!(found.explain.left_out[0].contains("chunk 2 segment 1"), "{:?}", found.explain.left_out);
}
