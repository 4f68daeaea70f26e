//! Measures from everywhere against a slow evaluator that looks at one event after the other.

use super::*;
use crate::event::{Event, Value};
use crate::query::{Context, Field, Function, Num, Op, OwnPart, matches, parse};
use crate::search::{OneByOne, Scope};
use crate::testing::{Shelf, Threads, any_event, any_query, numbered, scope};
use jiff::tz::TimeZone;
use proptest::prelude::*;
use std::collections::BTreeMap;

/// Every value an event has of a field, each once.
fn values_of(event: &Event, field: &Field) -> Vec<GroupValue> {
    let text = |t: &str| if t.is_empty() { vec![] } else { vec![GroupValue::Text(t.to_owned())] };
    let mut out = match field {
        Field::Own(OwnPart::Service) => text(&event.service),
        Field::Own(OwnPart::Severity) => text(event.severity.name()),
        Field::Own(OwnPart::Lane) => text("main"),
        Field::Own(OwnPart::Message) => text(&event.message),
        Field::Own(OwnPart::Shape) if event.message.is_empty() => vec![],
        Field::Own(OwnPart::Shape) => {
            let mut template = String::new();
            crate::event::template::split(&event.message, &mut template, |_| {});
            vec![GroupValue::Shape(template)]
        }
        Field::Own(_) => vec![],
        Field::Sent(name) => {
            let mut out = Vec::new();
            for (path, value) in &event.fields {
                for found in crate::query::matching::descend(path, value, name) {
                    GroupValue::of(found, &mut out);
                }
            }
            out
        }
    };
    out.sort();
    out.dedup();
    out
}

fn numbers_of(event: &Event, field: &Field) -> Vec<Num> {
    let mut out = Vec::new();
    if let Field::Sent(name) = field {
        for (path, value) in &event.fields {
            for found in crate::query::matching::descend(path, value, name) {
                partial::in_value(found, &mut |n| out.push(n));
            }
        }
    }
    out
}

/// One figure of some events.
fn figure(function: &Function, events: &[&Event], seconds: f64) -> Cell {
    let number = |n: Option<f64>| n.map_or(Cell::Missing, Cell::Number);
    let passing = |f| events.iter().filter(|e| matches(f, e, "main")).count();
    let numbers = |f| events.iter().flat_map(|e| numbers_of(e, f)).collect::<Vec<Num>>();
    let sum = |f| {
        let mut sum = Sum::default();
        numbers(f).into_iter().for_each(|n: Num| match n.whole {
            Some(w) => sum.add_int(w),
            None => sum.add_float(n.float),
        });
        sum
    };
    let end = |f, op: std::cmp::Ordering| {
        let mut best: Option<Num> = None;
        for n in numbers(f).into_iter().filter(|n| !n.float.is_nan()) {
            if best.is_none_or(|b| n.order(b) == Some(op)) {
                best = Some(n);
            }
        }
        best.map_or(Cell::Missing, |n| Cell::Value(GroupValue::number(n)))
    };
    let moment = |f, latest: bool| {
        let mut ordered: Vec<&&Event> = events.iter().filter(|e| !values_of(e, f).is_empty()).collect();
        ordered.sort_by_key(|e| e.order_key());
        let at = if latest { ordered.last() } else { ordered.first() };
        at.map_or(Cell::Missing, |e| Cell::Value(values_of(e, f).remove(0)))
    };
    match function {
        Function::Count(None) => Cell::Count(events.len() as u64),
        Function::Count(Some(f)) => Cell::Count(passing(f) as u64),
        Function::Share(f) => number((!events.is_empty()).then(|| passing(f) as f64 / events.len() as f64)),
        Function::Rate => number((seconds > 0.0).then(|| events.len() as f64 / seconds)),
        Function::Distinct(f) => {
            let mut all: Vec<GroupValue> = events.iter().flat_map(|e| values_of(e, f)).collect();
            all.sort();
            all.dedup();
            Cell::Count(all.len() as u64)
        }
        Function::Sum(f) => number((sum(f).count > 0).then(|| sum(f).total())),
        Function::Mean(f) => number(sum(f).mean()),
        Function::Min(f) => end(f, std::cmp::Ordering::Less),
        Function::Max(f) => end(f, std::cmp::Ordering::Greater),
        Function::Percentile(p, f) => {
            let mut all: Vec<f64> = numbers(f).iter().map(|n| n.float).filter(|n| n.is_finite()).collect();
            all.sort_by(f64::total_cmp);
            let rank = (p.parse::<f64>().unwrap() / 100.0 * all.len() as f64).ceil() as usize;
            number(all.get(rank.max(1) - 1).copied())
        }
        Function::First(f) => moment(f, false),
        Function::Last(f) => moment(f, true),
    }
}

/// The groups an event stands in.
fn groups_of(event: &Event, per: &[Field]) -> Vec<Vec<GroupValue>> {
    per.iter().fold(vec![Vec::new()], |groups, field| {
        let mut values = values_of(event, field);
        if values.is_empty() {
            values.push(GroupValue::Missing);
        }
        let with = |g: &Vec<GroupValue>, v: &GroupValue| g.iter().cloned().chain([v.clone()]).collect::<Vec<_>>();
        groups.iter().flat_map(|g| values.iter().map(move |v| with(g, v))).collect()
    })
}

fn slowly(ask: &MeasureAsk, events: &[Event]) -> Vec<Group> {
    let passing = |e: &&Event| ask.range.contains(e.time_ns) && matches(ask.filter, e, "main");
    let mut groups: BTreeMap<Vec<GroupValue>, Vec<&Event>> = BTreeMap::new();
    if ask.measure.per.is_empty() {
        groups.insert(Vec::new(), Vec::new());
    }
    for event in events.iter().filter(passing) {
        for group in groups_of(event, &ask.measure.per) {
            groups.entry(group).or_default().push(event);
        }
    }
    let seconds = |from: i64, to: i64| {
        let length = i128::from(to.min(ask.range.to_ns)) - i128::from(from.max(ask.range.from_ns));
        length.max(0) as f64 / 1e9
    };
    let figures = |events: &[&Event], seconds: f64| -> Vec<Cell> {
        ask.measure.aggregates.iter().map(|a| figure(&a.function, events, seconds)).collect()
    };
    let mut out: Vec<Group> = groups
        .into_iter()
        .map(|(values, events)| {
            let total = figures(&events, seconds(ask.range.from_ns, ask.range.to_ns));
            let mut steps = Vec::new();
            if ask.measure.every.is_some() {
                for (from, to) in (0..ask.steps.count()).map(|n| ask.steps.span(n, &ask.range)) {
                    let within: Vec<&Event> =
                        events.iter().filter(|e| (from..to).contains(&e.time_ns)).copied().collect();
                    steps.push(figures(&within, seconds(from, to)));
                }
            }
            Group { values, total, steps }
        })
        .collect();
    if let Some(h) = &ask.measure.having {
        out.retain(|g| {
            g.total[h.aggregate].number().is_some_and(|n| match h.op {
                Op::Gt => n > h.number,
                Op::Le => n <= h.number,
                _ => n == h.number,
            })
        });
    }
    let by = ask.measure.top.as_ref().and_then(|t| t.by).unwrap_or(0);
    out.sort_by(|a, b| match (a.total[by].number(), b.total[by].number()) {
        (Some(l), Some(r)) => r.total_cmp(&l).then_with(|| a.values.cmp(&b.values)),
        (l, r) => r.is_some().cmp(&l.is_some()).then_with(|| a.values.cmp(&b.values)),
    });
    out.truncate(ask.measure.top.as_ref().map_or(1000, |t| t.groups));
    out
}

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
        "first(slot.bank)",
        "last(n)",
    ]);
    let per = prop::sample::select(vec!["service", "severity", "n", "slot.bank", "slot", "shape", "lane", "message"]);
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
        let ask = MeasureAsk { filter: &filter, range, measure: &measure, steps, budget_bytes: 64 << 20 };
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
        fields: vec![(crate::event::Path::root("took_ms"), Value::Int(n * 7919 % 100_003))],
        ..Event::default()
    };
    let events = numbered((0..20_000).map(event).collect());
    let mut shelf = Shelf::default();
    let view: Vec<_> = events.chunks(1900).flat_map(|e| shelf.seal(e, 700)).collect();
    let query = parse("measure p50(took_ms), p99(took_ms), distinct(took_ms), sum(took_ms)", &Context::utc(0)).query;
    let measure = query.measure.unwrap();
    let ask = MeasureAsk {
        filter: &query.filter,
        range: TimeRange::ALL,
        measure: &measure,
        steps: Steps::None,
        budget_bytes: 64 << 20,
    };
    let exact = slowly(&ask, &events);
    let one = super::measure(&scope(&view, &shelf), &ask);
    let many = super::measure(&Scope { workers: &Threads, ..scope(&view, &shelf) }, &ask);
    assert_eq!(one.groups, many.groups);
    assert_eq!(one.errors.iter().map(Option::is_some).collect::<Vec<_>>(), [true, true, true, false]);
    for (told, exact) in one.groups[0].total.iter().zip(&exact[0].total) {
        let (told, exact) = (told.number().unwrap(), exact.number().unwrap());
        assert!((told - exact).abs() <= exact * 0.01, "{told} for {exact}");
    }
}
