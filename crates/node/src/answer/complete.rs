//! Step 11, what helps to ask: proposals while a query is typed, ranges as people say them, the fields among the events
//! found. Nothing is proposed from a lane the reader may not read: all of it is asked of the reader's own view.

use crate::admission::remembered::Remembered;
use crate::answer::measure::field_of;
use crate::answer::run::{run, run_following};
use crate::answer::search::{context_of, plan, range_answer, timed};
use crate::auth::Reader;
use crate::error::{Result, ServiceError};
use crate::state::Reading;
use calvex_answer::search::{Find, Order, find, newest_values, sampled_fields};
use calvex_language::model::time::format_utc;
use calvex_language::model::{shape, template};
use calvex_language::query::{
    Builtin, Field, Filter, Spoken, TimeRange, Wanted, cursor_point, parse_filter, read_range, written_path,
    written_value,
};
use calvex_wire::api::{
    CompleteAnswer, CompleteRequest, FoundField, FoundFieldsAnswer, Proposal, RangeMeant, SearchRequest, ShapeAnswer,
    ShapeRequest, SpokenRange, TemplateVariable, ValueCount,
};
use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// Pages whose fields are listed.
const FIELD_PAGES: usize = 64;
/// Pages whose fields and values are proposed.
const PROPOSED_PAGES: usize = 24;
/// Proposals given at most.
const MAX_PROPOSALS: usize = 40;
/// Distinct values of a field that are looked through.
const MAX_VALUES: usize = 5000;
/// Most fields that are listed.
const MAX_FIELDS: usize = 1000;
/// Lists of proposals that are kept.
const MAX_WISHES: usize = 500;
/// Messages of a shape whose variables are counted.
const SHAPE_EVENTS: usize = 1000;

/// What was proposed lately: somebody types several letters a second. By the lanes that may be read, what was wanted
/// (the fields, or the values of one), and the range.
pub struct Proposals {
    known: Remembered<Wish, Arc<Vec<Proposal>>>,
}

type Wish = (String, Option<String>, i64, i64);

impl Default for Proposals {
    fn default() -> Self {
        Proposals { known: Remembered::new(MAX_WISHES, Duration::from_secs(30)) }
    }
}

/// What can stand at a place of a query.
///
/// # Errors
/// Mistakes in the range.
pub async fn complete(reading: &Arc<Reading>, reader: &Reader, ask: CompleteRequest) -> Result<CompleteAnswer> {
    if ask.query.len() > 16 * 1024 {
        return Err(ServiceError::BadRequest("a query has at most 16384 characters; shorten it".into()));
    }
    let at = cursor_point(&ask.query, ask.at);
    let range = SearchRequest { from: ask.from, to: ask.to, zone: ask.zone, ..SearchRequest::default() };
    let range = plan(reading, &range)?.range;
    let typed = at.typed.to_lowercase();
    let mut proposals = match &at.wanted {
        Wanted::Nothing => Vec::new(),
        Wanted::Aggregate => words(AGGREGATES, "aggregate"),
        Wanted::Range => words(RANGES, "range"),
        Wanted::Field => fields(reading, reader, range).await?.as_ref().clone(),
        Wanted::Term => {
            let mut all = fields(reading, reader, range).await?.as_ref().clone();
            all.extend(words(WORDS, "word"));
            all
        }
        Wanted::Value(name) => values(reading, reader, range, name).await?.as_ref().clone(),
    };
    // What begins so comes before what holds it further on; within each, what most events have.
    let rank = |p: &Proposal| {
        let text = p.text.trim_start_matches(['"', '`', '.']).to_lowercase();
        if text.starts_with(&typed) {
            Some(0)
        } else if text.contains(&typed) {
            Some(1)
        } else {
            None
        }
    };
    proposals.retain(|p| rank(p).is_some());
    proposals.sort_by_key(|p| rank(p));
    proposals.truncate(MAX_PROPOSALS);
    // One that is typed out already is no help.
    if proposals.len() == 1 && proposals.iter().all(|p| p.text.to_lowercase() == typed) {
        proposals.clear();
    }
    Ok(CompleteAnswer { from: at.from, proposals })
}

const WORDS: &[(&str, &str)] = &[
    ("and", "both"),
    ("or", "either"),
    ("not", "events without"),
    ("has ", "a field is there"),
    ("measure ", "figures instead of events"),
    ("over ", "the time range"),
];
const AGGREGATES: &[(&str, &str)] = &[
    ("count", "events"),
    ("rate", "events a second"),
    ("count(", "events that pass a filter"),
    ("share(", "their share, 0 to 1"),
    ("distinct(", "different values"),
    ("sum(", "of a number"),
    ("mean(", "of a number"),
    ("min(", "of a number"),
    ("max(", "of a number"),
    ("p50(", "the middle"),
    ("p95(", "95 of 100 are less"),
    ("p99(", "99 of 100 are less"),
    ("first(", "the earliest value"),
    ("last(", "the latest value"),
];
const RANGES: &[(&str, &str)] = &[
    ("last 15m", "a quarter of an hour"),
    ("last 1h", "an hour"),
    ("last 6h", "six hours"),
    ("last 1d", "a day"),
    ("today", "since midnight"),
];

fn words(list: &[(&str, &str)], kind: &str) -> Vec<Proposal> {
    let proposal = |(text, note): &(&str, &str)| Proposal {
        text: (*text).to_owned(),
        kind: kind.to_owned(),
        events: None,
        note: (*note).to_owned(),
    };
    list.iter().map(proposal).collect()
}

/// A range that is the same for a minute, so that what was worked out for it is known again.
fn settled(range: TimeRange) -> (i64, i64) {
    const MINUTE_NS: i64 = 60_000_000_000;
    (range.from_ns.div_euclid(MINUTE_NS), range.to_ns.div_euclid(MINUTE_NS))
}

async fn known<F>(
    reading: &Arc<Reading>,
    reader: &Reader,
    range: TimeRange,
    what: Option<String>,
    look: F,
) -> Result<Arc<Vec<Proposal>>>
where
    F: Future<Output = Result<Vec<Proposal>>>,
{
    let key = (reader.scope().key(), what, settled(range).0, settled(range).1);
    if let Some(found) = reading.proposals.known.get(&key, Instant::now()) {
        return Ok(found);
    }
    let found = Arc::new(look.await?);
    reading.proposals.known.insert(key, found.clone(), Instant::now());
    Ok(found)
}

async fn fields(reading: &Arc<Reading>, reader: &Reader, range: TimeRange) -> Result<Arc<Vec<Proposal>>> {
    let look = async {
        let sampled =
            run(reading, reader.scope(), move |scope| sampled_fields(scope, &Filter::All, range, PROPOSED_PAGES))
                .await?;
        let own = Builtin::ALL.iter().map(|(_, name)| Proposal {
            text: (*name).to_owned(),
            kind: "part".to_owned(),
            events: None,
            note: "of every event".to_owned(),
        });
        let ties = reading.base.config.get();
        let ties = ties.ties().iter().filter(|t| Builtin::from_name(&t.name).is_none()).map(|t| Proposal {
            text: t.name.clone(),
            kind: "tie".to_owned(),
            events: None,
            note: t.spellings.join(", "),
        });
        let mut sent: Vec<Proposal> = sampled
            .fields
            .into_iter()
            .map(|(path, field)| Proposal {
                text: written_path(&path),
                kind: "field".to_owned(),
                events: Some(field.having),
                note: field.types.into_iter().collect::<Vec<_>>().join(", "),
            })
            .collect();
        sent.sort_by_key(|p| std::cmp::Reverse(p.events));
        Ok(own.chain(ties).chain(sent).collect())
    };
    known(reading, reader, range, None, look).await
}

async fn values(reading: &Arc<Reading>, reader: &Reader, range: TimeRange, name: &str) -> Result<Arc<Vec<Proposal>>> {
    let Ok(Filter::Has(mut field)) = parse_filter(&format!("has {name}")).map_err(|_| ()) else {
        return Ok(Arc::default());
    };
    // Times, messages and ids of one event each are not worth proposing.
    if let Field::Builtin(Builtin::Time | Builtin::Arrived | Builtin::Message | Builtin::Span | Builtin::Parent) = field
    {
        return Ok(Arc::default());
    }
    field.tie_up(reading.base.config.get().ties());
    let look = async {
        let asked = [field];
        let found = run(reading, reader.scope(), move |scope| {
            newest_values(scope, &Filter::All, range, &asked, MAX_VALUES, PROPOSED_PAGES)
        })
        .await?;
        let proposal = |(value, n): (calvex_answer::measure::GroupValue, u64)| {
            let text = match value.to_json() {
                serde_json::Value::String(text) => written_value(&text),
                other => other.to_string(),
            };
            let note = if matches!(value, calvex_answer::measure::GroupValue::Shape(_)) {
                value.to_string()
            } else {
                String::new()
            };
            Proposal { text, kind: "value".to_owned(), events: Some(n), note }
        };
        Ok(found
            .fields
            .into_iter()
            .flat_map(|f| f.top)
            .filter(|(v, _)| v.to_json() != serde_json::Value::Null)
            .map(proposal)
            .collect())
    };
    known(reading, reader, range, Some(name.to_owned()), look).await
}

/// What a range as people say it means.
///
/// # Errors
/// What is not understood.
pub fn range_meant(reading: &Arc<Reading>, ask: &SpokenRange) -> Result<RangeMeant> {
    let context = context_of(reading, ask.zone.as_deref())?;
    if ask.text.len() > 256 {
        return Err(ServiceError::BadRequest("a range has at most 256 characters".into()));
    }
    match read_range(&ask.text, &context).map_err(ServiceError::BadRequest)? {
        Spoken::Last(ns) => {
            let now = TimeRange { from_ns: context.now_ns.saturating_sub(ns), to_ns: context.now_ns.saturating_add(1) };
            Ok(RangeMeant { from: format!("now-{}", length(ns)), to: "now".into(), now: range_answer(&now) })
        }
        Spoken::Fixed(range) => Ok(RangeMeant {
            from: format_utc(range.from_ns, 9),
            to: format_utc(range.to_ns, 9),
            now: range_answer(&range),
        }),
    }
}

/// A length in the greatest unit of which it is a whole number.
fn length(ns: i64) -> String {
    let units = [
        ("d", 86_400_000_000_000),
        ("h", 3_600_000_000_000),
        ("m", 60_000_000_000),
        ("s", 1_000_000_000),
        ("ms", 1_000_000),
    ];
    let fits = units.iter().find(|(_, unit)| ns % unit == 0);
    fits.map_or_else(|| format!("{}ms", (ns / 1_000_000).max(1)), |(name, unit)| format!("{}{name}", ns / unit))
}

/// The fields among the events found.
///
/// # Errors
/// Mistakes in the request.
pub async fn found_fields(reading: &Arc<Reading>, reader: &Reader, ask: SearchRequest) -> Result<FoundFieldsAnswer> {
    let began = Instant::now();
    let plan = plan(reading, &ask)?;
    let (filter, range) = (plan.query.filter.clone(), plan.range);
    let (sampled, reads) =
        run_following(reading, reader.scope(), None, move |scope| sampled_fields(scope, &filter, range, FIELD_PAGES))
            .await?;
    let mut fields: Vec<FoundField> = sampled
        .fields
        .into_iter()
        .map(|(path, field)| FoundField {
            field: written_path(&path),
            types: field.types.into_iter().map(str::to_owned).collect(),
            having: field.having,
        })
        .collect();
    fields.sort_by(|a, b| b.having.cmp(&a.having).then_with(|| a.field.cmp(&b.field)));
    fields.truncate(MAX_FIELDS);
    fields.retain(|f| field_of(&f.field).is_ok());
    Ok(FoundFieldsAnswer {
        events: sampled.events,
        whole: sampled.whole,
        fields,
        canonical: plan.query.canonical(),
        range: range_answer(&plan.range),
        explain: timed(sampled.explain, began, reads),
    })
}

/// What a shape's messages hold: of one message, or of the newest that have it.
///
/// # Errors
/// Mistakes in the request.
pub async fn shape(reading: &Arc<Reading>, reader: &Reader, ask: ShapeRequest) -> Result<ShapeAnswer> {
    let (id, messages) = match (ask.message, ask.shape) {
        (Some(message), None) => (shape::id_of(&message), vec![message]),
        (None, Some(id)) => {
            let search = SearchRequest {
                query: ask.query,
                from: ask.from,
                to: ask.to,
                zone: ask.zone,
                ..SearchRequest::default()
            };
            let plan = plan(reading, &search)?;
            let of_shape = parse_filter(&format!("shape={}", serde_json::Value::from(id.as_str())));
            let filter = of_shape.map_err(ServiceError::Query)?.and(plan.query.filter);
            let range = plan.range;
            let found = run(reading, reader.scope(), move |scope| {
                let ask = Find { filter: &filter, range, order: Order::Newest, after: None, limit: SHAPE_EVENTS };
                find(scope, &ask)
            })
            .await?;
            (id, found.events.into_iter().map(|(event, _)| event.message).collect())
        }
        _ => return Err(ServiceError::BadRequest("give `message` or `shape`, one of them".into())),
    };
    let mut shown = String::new();
    let mut places: Vec<HashMap<String, u64>> = Vec::new();
    for message in &messages {
        let mut place = 0;
        shown = shape::of_message(message, |variable| {
            if places.len() <= place {
                places.push(HashMap::new());
            }
            if let Some(values) = places.get_mut(place) {
                *values.entry(variable.to_owned()).or_default() += 1;
            }
            place += 1;
        });
    }
    // What stands between two holes ends with the word before the second.
    let before = shown.split(template::HOLE).map(|part| part.split_whitespace().next_back().unwrap_or("").to_owned());
    let reported = |(before, values): (String, HashMap<String, u64>)| {
        let distinct = values.len();
        let mut values: Vec<(String, u64)> = values.into_iter().collect();
        values.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
        values.truncate(10);
        let top = values.into_iter().map(|(value, count)| ValueCount { value: value.into(), template: None, count });
        TemplateVariable { before, distinct, top: top.collect() }
    };
    Ok(ShapeAnswer {
        shape: id,
        template: template::shown(&shown),
        events: messages.len(),
        places: before.zip(places).map(reported).collect(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lengths_are_whole() {
        for (ns, text) in [
            (900_000_000_000, "15m"),
            (86_400_000_000_000, "1d"),
            (5_400_000_000_000, "90m"),
            (1_500_000_000, "1500ms"),
        ] {
            assert_eq!(length(ns), text);
        }
    }
}
