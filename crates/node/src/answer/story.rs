//! Stories: everything tied to one id, drawn; and the ids in whatever a person pastes.

use super::run::run_following;
use super::search::{hidden_lanes, timed};
use crate::auth::{ReadScope, Reader};
use crate::error::{Result, ServiceError};
use crate::state::Reading;
use calvex_answer::compare::any_trace;
use calvex_answer::scan::Explanation;
use calvex_answer::search::{Find, Found, Order, find};
use calvex_answer::story::{
    Chapter, MAX_DRAWN, PastedId, Score, ScoreOptions, Tie, chapters, duration_text, ids_in, services_of, story_filter,
    traces_of,
};
use calvex_language::model::time::format_utc;
use calvex_language::model::{Event, answer_json, parse_span, to_hex};
use calvex_language::query::{Builtin, Field, Filter, Literal, Op, Test, Ties, TimeRange};
use calvex_wire::api::{FoundId, RelatedId, StoryAnswer};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::time::Instant;

/// Traces of one id that become chapters at most.
const MAX_CHAPTERS: usize = 50;
/// Related ids at most.
const MAX_RELATED: usize = 24;
/// Events of a pasted id that are looked at.
const PASTED: usize = 100;

/// How a story is drawn.
#[derive(Debug, Clone, Default, serde::Deserialize, schemars::JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct StoryAsk {
    /// Keys of bundles that are drawn span by span, joined by commas.
    pub open: String,
    /// `all` gives every service a column of its own.
    pub columns: String,
    /// Where the story is shown; given, the answer has the story as Markdown with this link.
    pub link: String,
}

type Located = (Event, Arc<str>);

/// Everything tied to an id.
///
/// # Errors
/// Where the id holds nothing to look for.
pub async fn story(reading: &Arc<Reading>, reader: &Reader, id: &str, ask: &StoryAsk) -> Result<StoryAnswer> {
    let began = Instant::now();
    let id = id.trim();
    let (tie, filter) = filter_of(id)
        .ok_or_else(|| ServiceError::BadRequest(format!("`{id}` holds no letter or digit; paste an id")))?;
    let query = filter.to_string();
    let ((found, more, explain), reads) =
        run_following(reading, reader.scope().asking("story", id, &TimeRange::ALL), None, move |scope| {
            let found = look_up(scope, &filter, MAX_DRAWN);
            if tie == Tie::Trace {
                return (found.events, found.more, found.explain);
            }
            // All of the traces that the id touches: what happened to it is more than the events that name it.
            let traces = traces_of(found.events.iter().map(|(event, _)| event), MAX_CHAPTERS);
            if traces.is_empty() {
                return (found.events, found.more, found.explain);
            }
            let whole = look_up(scope, &Filter::Or(vec![filter, any_trace(&traces)]), MAX_DRAWN);
            let (more, mut explain) = (whole.more || found.more, found.explain);
            explain.add(whole.explain);
            (whole.events, more, explain)
        })
        .await?;
    let events: Vec<&Event> = found.iter().map(|(event, _)| event).collect();
    let options = ScoreOptions {
        open: ask.open.split(',').filter(|key| !key.is_empty()).map(str::to_owned).collect(),
        every_column: ask.columns == "all",
    };
    let mut score = Score::of(&events, &options);
    let parts = if tie == Tie::Trace { Vec::new() } else { chapters(&events) };
    let parts = if parts.len() > 1 { parts } else { Vec::new() };
    if !parts.is_empty() {
        score.headline = in_chapters(id, &parts, score.took_ns);
    }
    // What is longer than an address is none.
    let link = Some(ask.link.as_str()).filter(|link| (1..=2048).contains(&link.len()));
    let markdown = link.map(|link| score.markdown(&events, link));
    let lanes: BTreeSet<&str> = found.iter().map(|(_, lane)| &**lane).collect();
    Ok(StoryAnswer {
        id: id.to_owned(),
        tie: if tie == Tie::Trace { "trace" } else { "id" }.to_owned(),
        query,
        services: services_of(events.iter().copied()),
        related: related(&events, reading.base.config.get().ties(), id),
        events: found.iter().map(|(event, lane)| answer_json(event, lane)).collect(),
        score: Some(score),
        markdown,
        chapters: parts,
        lanes: lanes.into_iter().map(str::to_owned).collect(),
        lanes_not_readable: hidden_lanes(reading, reader),
        more,
        explain: timed(explain, began, reads),
    })
}

/// The filter of an id; of a span's id that span, so that its trace is found.
fn filter_of(id: &str) -> Option<(Tie, Filter)> {
    if parse_span(id).is_some() {
        let literal = Literal { text: id.to_ascii_lowercase(), quoted: false, number: None };
        return Some((Tie::Id, Filter::Compare(Field::Builtin(Builtin::Span), Test::Compare(Op::Eq, literal))));
    }
    story_filter(id)
}

fn look_up(scope: &calvex_answer::scan::Scope, filter: &Filter, limit: usize) -> Found {
    find(scope, &Find { filter, range: TimeRange::ALL, order: Order::Oldest, after: None, limit })
}

/// The line of a story in several chapters: how many over how long, and the first that did not end well, else the last.
fn in_chapters(id: &str, chapters: &[Chapter], took_ns: i64) -> String {
    use calvex_answer::story::Outcome;
    let unwell = chapters.iter().find(|chapter| chapter.outcome != Outcome::Well);
    let which = unwell.or(chapters.last()).map_or("", |chapter| chapter.headline.as_str());
    format!("{id} in {} chapters over {}: {which}", chapters.len(), duration_text(took_ns))
}

/// Other ids that the events carry, by the ties they are known as; the traces first.
fn related(events: &[&Event], ties: &Ties, id: &str) -> Vec<RelatedId> {
    let mut found: BTreeMap<(String, String), usize> = BTreeMap::new();
    let mut add = |tie: &str, id: String| *found.entry((tie.to_owned(), id)).or_default() += 1;
    for event in events {
        if let Some(trace) = event.trace {
            add("trace", to_hex(&trace));
        }
        for (path, value) in &event.fields {
            if let (Some(tie), Some(text)) = (ties.of_field(&path.dotted()), value.as_text())
                && (1..=128).contains(&text.len())
            {
                add(&tie.name, text.to_owned());
            }
        }
    }
    let mut list: Vec<((String, String), usize)> =
        found.into_iter().filter(|((_, found), _)| !found.eq_ignore_ascii_case(id)).collect();
    list.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
    list.truncate(MAX_RELATED);
    list.into_iter().map(|((tie, id), _)| RelatedId { tie, id }).collect()
}

/// The ids in a text, each with what is tied to it; those without an event last.
///
/// # Errors
/// Where no search slot is free.
pub async fn pasted(reading: &Arc<Reading>, scope: ReadScope, text: &str) -> Result<Vec<FoundId>> {
    let ids: Vec<(PastedId, String)> = ids_in(text);
    let looked = run_following(reading, scope.asking("paste", text, &TimeRange::ALL), None, move |scope| {
        let look = |(kind, id): (PastedId, String)| {
            let found = filter_of(&id).map_or_else(Found::default, |(_, filter)| look_up(scope, &filter, PASTED));
            let Found { events, more, explain } = found;
            (found_id(kind, id, &events, more), explain)
        };
        ids.into_iter().map(look).collect::<Vec<(FoundId, Explanation)>>()
    });
    let (looked, _) = looked.await?;
    let mut found: Vec<FoundId> = looked.into_iter().map(|(found, _)| found).collect();
    found.sort_by_key(|found| found.events == 0);
    Ok(found)
}

fn found_id(kind: PastedId, id: String, events: &[Located], more: bool) -> FoundId {
    let trace = events.iter().find_map(|(event, _)| event.trace).filter(|_| kind == PastedId::Span);
    FoundId {
        id,
        kind,
        events: events.len(),
        more,
        first: events.first().map(|(event, _)| format_utc(event.time_ns, 3)),
        trace: trace.map(|trace| to_hex(&trace)),
    }
}
