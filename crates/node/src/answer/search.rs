//! Step 11, answers: what a reader asks, planned over the lanes it may read; searches and histograms.

pub use crate::answer::reads::timed;

use crate::answer::run::{Listener, run, run_figures, run_following};
use crate::auth::Reader;
use crate::error::{Result, ServiceError};
use crate::state::Reading;
use calvex_answer::scan::Cursor;
use calvex_answer::search::{Find, Histogram, Order, field_names, find, histogram, unknown_fields};
use calvex_intake::dial::Dial;
use calvex_language::model::time::{SECOND_NS, format_utc};
use calvex_language::model::{answer_json, answer_with_sent, shape};
use calvex_language::query::{
    Builtin, Context, Field, Filter, Mistake, Op, Query, Test, TimeRange, parse, read_moment,
};
use calvex_wire::api::{EmptyAnswer, HistogramAnswer, RangeAnswer, SearchAnswer, SearchRequest};
use std::sync::Arc;
use std::time::Instant;

/// Events of one answer at most.
const MAX_LIMIT: usize = 1000;
/// Buckets of a histogram at most.
const MAX_BUCKETS: usize = 2000;
/// The range where none is asked for.
const DEFAULT_RANGE_NS: i64 = 3600 * SECOND_NS;

/// A request, understood.
pub struct Plan {
    /// The query.
    pub query: Query,
    /// What is odd in it, though it can be asked.
    pub warnings: Vec<Mistake>,
    /// From when to when.
    pub range: TimeRange,
}

/// Understands query and range of a request.
///
/// # Errors
/// Mistakes with their places.
pub fn plan(reading: &Reading, ask: &SearchRequest) -> Result<Plan> {
    let context = context_of(reading, ask.zone.as_deref())?;
    let parsed = parse(&ask.query, &context);
    if !parsed.mistakes.is_empty() {
        return Err(ServiceError::Query(parsed.mistakes));
    }
    let range = match parsed.query.range(&context) {
        Some(range) => range,
        None => {
            let to_ns = bound(ask.to.as_deref(), &context)?.unwrap_or(context.now_ns.saturating_add(1));
            let from_ns = bound(ask.from.as_deref(), &context)?.unwrap_or(to_ns.saturating_sub(DEFAULT_RANGE_NS));
            TimeRange { from_ns, to_ns }
        }
    };
    if range.from_ns >= range.to_ns {
        return Err(ServiceError::BadRequest(format!(
            "the range {} is empty; its start must lie before its end",
            range.describe()
        )));
    }
    let mut query = parsed.query;
    query.tie_up(reading.base.config.get().ties());
    Ok(Plan { query, warnings: parsed.warnings, range })
}

/// What the times of a request are read against.
///
/// # Errors
/// Where the zone is none.
pub fn context_of(reading: &Reading, zone: Option<&str>) -> Result<Context> {
    Ok(Context { now_ns: (reading.base.clock)(), zone: zone_of(zone)? })
}

/// The zone of a request.
///
/// # Errors
/// Where it is none.
pub fn zone_of(zone: Option<&str>) -> Result<jiff::tz::TimeZone> {
    match zone {
        None | Some("") => Ok(jiff::tz::TimeZone::UTC),
        Some(name) => jiff::tz::TimeZone::get(name).map_err(|_| {
            ServiceError::BadRequest(format!("`{name}` is no time zone; use a name such as UTC or Europe/Oslo"))
        }),
    }
}

/// A bound given beside the query: RFC 3339, `now-15m`, or as people say it (`yesterday 2am`).
fn bound(text: Option<&str>, context: &Context) -> Result<Option<i64>> {
    let Some(text) = text.filter(|t| !t.is_empty()) else { return Ok(None) };
    let meant = if text.len() > 256 {
        Err(String::from("a time has at most 256 characters"))
    } else {
        read_moment(text, context)
    };
    meant.map(Some).map_err(|_| {
        ServiceError::BadRequest(format!("`{text}` is no time; try 2026-10-04T02:10:00Z, now-15m or yesterday 2am"))
    })
}

/// A range as answered.
pub fn range_answer(range: &TimeRange) -> RangeAnswer {
    RangeAnswer { from: format_utc(range.from_ns, 9), to: format_utc(range.to_ns, 9) }
}

/// Answers a search.
///
/// # Errors
/// Mistakes in the request; never for what merely could not be read, which the explanation shows.
pub async fn search(
    reading: &Arc<Reading>,
    reader: &Reader,
    ask: SearchRequest,
    listener: Option<Listener>,
) -> Result<SearchAnswer> {
    let began = Instant::now();
    let plan = plan(reading, &ask)?;
    if plan.query.measure.is_some() {
        return Err(ServiceError::BadRequest(
            "the query measures; ask POST /api/measure, or leave `measure` out for events".into(),
        ));
    }
    let order = match ask.order.as_deref() {
        None | Some("" | "newest") => Order::Newest,
        Some("oldest") => Order::Oldest,
        Some(other) => {
            return Err(ServiceError::BadRequest(format!("order `{other}` is not known; use newest or oldest")));
        }
    };
    let limit = ask.limit.unwrap_or(100).clamp(1, MAX_LIMIT);
    let after: Option<Cursor> = ask
        .cursor
        .as_deref()
        .filter(|c| !c.is_empty())
        .map(str::parse)
        .transpose()
        .map_err(ServiceError::BadRequest)?;
    let (filter, range) = (plan.query.filter.clone(), plan.range);
    let scope = reader.scope().asking("search", &ask.query, &range);
    let (found, reads) = run_following(reading, scope, listener, move |scope| {
        find(scope, &Find { filter: &filter, range, order, after, limit })
    })
    .await?;
    let empty =
        if found.events.is_empty() && after.is_none() { Some(why_empty(reading, reader, &plan).await?) } else { None };
    let form = if ask.sent { answer_with_sent } else { answer_json };
    let cursor = found.more.then(|| found.events.last()).flatten();
    Ok(SearchAnswer {
        cursor: cursor.map(|(e, _)| Cursor { time_ns: e.time_ns, id: e.id }.to_string()),
        events: found.events.iter().map(|(e, lane)| form(e, lane)).collect(),
        canonical: plan.query.canonical(),
        range: range_answer(&plan.range),
        notes: old_shapes(&plan.query.filter, found.events.iter().map(|(event, _)| event.message.as_str())),
        warnings: plan.warnings,
        explain: timed(found.explain, began, reads),
        empty,
    })
}

/// Ids of shapes of one query that are looked at for being of an earlier cut.
const MAX_OLD_SHAPES: usize = 4;

/// The services a filter asks for by name.
fn named_services(filter: &Filter) -> Vec<String> {
    let mut names = Vec::new();
    filter.walk(&mut |f| match f {
        Filter::Compare(Field::Builtin(Builtin::Service), Test::Compare(Op::Eq, l)) => names.push(l.text.clone()),
        Filter::Compare(Field::Builtin(Builtin::Service), Test::In(list)) => {
            names.extend(list.iter().map(|l| l.text.clone()))
        }
        _ => {}
    });
    names
}

/// Of the ids of shapes that a filter names, those that an earlier cut gave to messages that were found, and what is their
/// id now.
fn old_shapes<'a>(filter: &Filter, messages: impl Iterator<Item = &'a str> + Clone) -> Vec<String> {
    let mut named = Vec::new();
    filter.walk(&mut |f| match f {
        Filter::Compare(Field::Builtin(Builtin::Shape), Test::Compare(Op::Eq, l)) => named.push(l.text.clone()),
        Filter::Compare(Field::Builtin(Builtin::Shape), Test::In(list)) => {
            named.extend(list.iter().map(|l| l.text.clone()))
        }
        _ => {}
    });
    named.truncate(MAX_OLD_SHAPES);
    let note = |id: String| {
        let message = messages.clone().find(|m| shape::old_id_of(m) == id)?;
        let now = shape::id_of(message);
        // Where nothing but numbers varies, both cuts may agree.
        (now != id).then(|| format!("shape={id} is of an earlier cut of shapes and finds a part of shape={now}"))
    };
    named.into_iter().filter_map(note).collect()
}

async fn why_empty(reading: &Arc<Reading>, reader: &Reader, plan: &Plan) -> Result<EmptyAnswer> {
    let (filter, range) = (plan.query.filter.clone(), plan.range);
    let services = named_services(&filter);
    let asked = services.clone();
    let (in_range, unknown, last_seen) = run(reading, reader.scope(), move |scope| {
        let all = histogram(scope, &Filter::All, range, range.from_ns, i64::MAX);
        let named = filter.sent_fields();
        let known = field_names(scope, &range, &named);
        let unknown = unknown_fields(named, &known);
        let last_seen = asked.first().and_then(|service| {
            let query =
                calvex_language::query::parse_filter(&format!("service={}", serde_json::Value::from(service.as_str())))
                    .ok()?;
            let ask = Find { filter: &query, range: TimeRange::ALL, order: Order::Newest, after: None, limit: 1 };
            find(scope, &ask).events.first().map(|(e, _)| e.time_ns)
        });
        (all.total(), unknown, last_seen)
    })
    .await?;
    let config = reading.base.config.get();
    let hidden = hidden_lanes(reading, reader);
    let mut reasons = Vec::new();
    match in_range {
        0 => reasons.push("No event at all stands in this range, in the lanes you may read.".to_owned()),
        n => reasons.push(format!("{n} events stand in this range; none passes the filter.")),
    }
    for hint in &unknown {
        let near = match hint.near.as_slice() {
            [] => String::new(),
            list => format!(" Did you mean {}?", list.join(" or ")),
        };
        reasons.push(format!("No event in range has `{}`.{near}", hint.field));
    }
    if let Some(service) = services.first() {
        reasons.push(match last_seen {
            Some(at) => format!("Service `{service}` was last heard at {}.", format_utc(at, 3)),
            None => format!("Service `{service}` was never heard in the lanes you may read."),
        });
    }
    // A dial that names another service cannot be why; one that names none, or this one, may.
    let now_ns = (reading.base.clock)();
    let may_be_why = |dial: &&Dial| {
        let named = named_services(&dial.filter);
        dial.in_force(now_ns) && (named.is_empty() || services.is_empty() || named.iter().any(|n| services.contains(n)))
    };
    for dial in config.dials().iter().filter(may_be_why).take(3) {
        let until = dial.until_ns.map_or_else(String::new, |ns| format!(" until {}", format_utc(ns, 0)));
        reasons.push(match dial.filter.to_string() {
            which if which.is_empty() => format!("A dial keeps only {} and worse{until}.", dial.least.name()),
            which => format!("A dial keeps only {} and worse of `{which}`{until}.", dial.least.name()),
        });
    }
    plan.query.filter.walk(&mut |f| {
        if let Filter::Compare(Field::Builtin(part @ (Builtin::Status | Builtin::Took)), _) = f {
            reasons.push(format!(
                "`{0}` is the builtin of spans; a sent field of that name is written `.{0}`.",
                part.name()
            ));
        }
    });
    if !hidden.is_empty() {
        reasons.push(format!("Lanes you may not read: {}.", hidden.join(", ")));
    }
    Ok(EmptyAnswer {
        in_range,
        unknown_fields: unknown,
        lanes_not_readable: hidden,
        service_last_seen: last_seen.map(|t| format_utc(t, 9)),
        reasons,
    })
}

/// Lengths a bucket may have.
const STEPS_S: [f64; 23] = [
    0.001, 0.01, 0.1, 0.5, 1.0, 2.0, 5.0, 10.0, 15.0, 30.0, 60.0, 120.0, 300.0, 600.0, 900.0, 1800.0, 3600.0, 7200.0,
    14_400.0, 21_600.0, 43_200.0, 86_400.0, 604_800.0,
];

/// The step that gives about `buckets`, never many more.
fn step_ns(range: &TimeRange, buckets: usize) -> i64 {
    let length = range.to_ns.saturating_sub(range.from_ns) as f64;
    let ideal = length / buckets.clamp(1, MAX_BUCKETS) as f64;
    let step = STEPS_S.iter().map(|s| s * 1e9).find(|s| *s >= ideal).unwrap_or(ideal);
    step.max(1.0) as i64
}

/// Counts over time. Buckets begin at whole steps, so the first may begin before the range.
///
/// # Errors
/// Mistakes in the request.
pub async fn counts(
    reading: &Arc<Reading>,
    reader: &Reader,
    ask: SearchRequest,
    listener: Option<Listener>,
) -> Result<HistogramAnswer> {
    let began = Instant::now();
    let plan = plan(reading, &ask)?;
    let step = step_ns(&plan.range, ask.buckets.unwrap_or(100));
    let (filter, range) = (plan.query.filter.clone(), plan.range);
    let scope = reader.scope().asking("counts", &ask.query, &range);
    let counted = run_figures(reading, scope, listener, move |scope| {
        histogram(scope, &filter, range, range.from_ns.div_euclid(step).saturating_mul(step), step)
    });
    let (Histogram { from_ns, step_ns, buckets, explain }, reads) = counted.await?;
    Ok(HistogramAnswer {
        range: range_answer(&plan.range),
        from_ns: from_ns.to_string(),
        step_ns,
        total: buckets.iter().flatten().sum(),
        buckets,
        canonical: plan.query.canonical(),
        explain: timed(explain, began, reads),
    })
}

/// The lanes that were not searched because they may not be read, of those that may be named. All of them, whatever the
/// question: which of them hold something would be an answer out of them.
pub(super) fn hidden_lanes(reading: &Arc<Reading>, reader: &Reader) -> Vec<String> {
    let config = reading.base.config.get();
    config.lanes().into_iter().filter(|l| !reader.may_read(l.id) && l.listed).map(|l| l.name.clone()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use calvex_language::query::parse_filter;

    #[test]
    fn steps_are_round_and_few() {
        let range = |s: i64| TimeRange { from_ns: 0, to_ns: s * SECOND_NS };
        assert_eq!(step_ns(&range(3600), 60), 60 * SECOND_NS);
        assert_eq!(step_ns(&range(4800), 100), 60 * SECOND_NS);
        assert_eq!(step_ns(&range(1), 100), 10_000_000);
        assert!(step_ns(&TimeRange::ALL, 100) > 0);
    }

    #[test]
    fn an_id_of_an_earlier_cut_is_noted_with_the_one_of_today() {
        let messages = ["door 4 of user=anna", "door 5 of user=jun"];
        let (old, now) = (shape::old_id_of(messages[0]), shape::id_of(messages[0]));
        let filter = parse_filter(&format!("shape={old} or shape in (1, 2)")).unwrap();
        let notes = old_shapes(&filter, messages.iter().copied());
        assert_eq!(notes, [format!("shape={old} is of an earlier cut of shapes and finds a part of shape={now}")]);
        let filter = parse_filter(&format!("shape={now}")).unwrap();
        assert_eq!(old_shapes(&filter, messages.iter().copied()), Vec::<String>::new());
    }
}
