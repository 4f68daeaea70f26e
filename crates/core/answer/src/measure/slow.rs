//! The slow evaluator: figures of events looked at one after the other, so plainly that they are right.

use super::*;
use calvex_language::model::{Event, to_hex};
use calvex_language::query::{Builtin, Field, Function, Num, matches};
use std::collections::BTreeMap;

/// Every value an event has of a field, each once.
fn values_of(event: &Event, field: &Field) -> Vec<GroupValue> {
    let text = |t: &str| if t.is_empty() { vec![] } else { vec![GroupValue::Text(t.to_owned())] };
    let mut out = match field {
        Field::Builtin(Builtin::Service) => text(&event.service),
        Field::Builtin(Builtin::Severity) => text(event.severity.name()),
        Field::Builtin(Builtin::Lane) => text("main"),
        Field::Builtin(Builtin::Message) => text(&event.message),
        Field::Builtin(Builtin::Shape) if event.message.is_empty() => vec![],
        Field::Builtin(Builtin::Shape) => {
            let mut template = String::new();
            calvex_language::model::template::split(&event.message, &mut template, |_| {});
            vec![GroupValue::Shape(calvex_language::model::shape::of_template(&template, |_| {}))]
        }
        Field::Builtin(Builtin::ErrorGroup) => {
            let group = calvex_language::query::matching::error_group_of(event);
            group.map(|group| GroupValue::Text(group.id)).into_iter().collect()
        }
        Field::Builtin(Builtin::Kind) => text(event.kind.name()),
        Field::Builtin(Builtin::Status) => {
            event.status.map(|s| GroupValue::Text(s.name().to_owned())).into_iter().collect()
        }
        Field::Builtin(Builtin::Trace) => event.trace.map(|id| GroupValue::Text(to_hex(&id))).into_iter().collect(),
        Field::Builtin(Builtin::Span) => event.span.map(|id| GroupValue::Text(to_hex(&id))).into_iter().collect(),
        Field::Builtin(Builtin::Parent) => event.parent.map(|id| GroupValue::Text(to_hex(&id))).into_iter().collect(),
        Field::Builtin(Builtin::Host) => text(&event.host),
        Field::Builtin(Builtin::Sender) => text(&event.sender),
        Field::Builtin(Builtin::Transformed) => {
            calvex_language::model::rules_of(&event.transformed).map(|rule| GroupValue::Text(rule.to_owned())).collect()
        }
        Field::Builtin(builtin) => own_number(event, *builtin).map(GroupValue::number).into_iter().collect(),
        Field::Sent(name) => {
            let mut out = Vec::new();
            for (path, value) in &event.fields {
                for found in calvex_language::query::matching::descend(path, value, name) {
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

/// A builtin as a number, where it is one.
fn own_number(event: &Event, builtin: Builtin) -> Option<Num> {
    let number = match builtin {
        Builtin::Time => event.time_ns,
        Builtin::Arrived => event.arrived_ns,
        Builtin::Severity => i64::from(event.severity.0),
        Builtin::Took => event.took_ns?,
        _ => return None,
    };
    Some(Num::int(i128::from(number)))
}

fn numbers_of(event: &Event, field: &Field) -> Vec<Num> {
    let mut out = Vec::new();
    if let Field::Builtin(builtin) = field {
        out.extend(own_number(event, *builtin));
    }
    if let Field::Sent(name) = field {
        for (path, value) in &event.fields {
            for found in calvex_language::query::matching::descend(path, value, name) {
                numbers::in_value(found, &mut |n| out.push(n));
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

/// The groups that an answer must have.
pub(crate) fn slowly(ask: &MeasureAsk, events: &[Event]) -> Vec<Group> {
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
            g.total[h.aggregate].number().and_then(|n| n.partial_cmp(&h.number)).is_some_and(|order| h.op.holds(order))
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
