//! The story of a long-lived id in chapters: one for each trace that touches it, in time order, and between them the
//! events that belong to no trace.

use super::score::{Outcome, Score, ScoreOptions};
use calvex_language::model::{Event, TraceId, to_hex};
use std::collections::HashMap;

/// One trace of a story, or events without one.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, PartialEq, serde::Serialize, serde::Deserialize)]
pub struct Chapter {
    /// Its trace; none for events that belong to no trace.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trace: Option<String>,
    /// Nanoseconds from 1970 of its first event, as text: more digits than a double holds.
    pub start_ns: String,
    /// From its first event to its last, nanoseconds.
    pub took_ns: i64,
    /// What happened, in one line.
    pub headline: String,
    /// How it ended.
    pub outcome: Outcome,
    /// How many spans and events.
    pub events: usize,
    /// Its services by first event.
    pub services: Vec<String>,
}

/// The traces of events, in the order of their first event, at most `most`.
pub fn traces_of<'e>(events: impl Iterator<Item = &'e Event>, most: usize) -> Vec<TraceId> {
    let mut traces = Vec::new();
    for trace in events.filter_map(|event| event.trace) {
        if traces.len() < most && !traces.contains(&trace) {
            traces.push(trace);
        }
    }
    traces
}

/// Parts events, in time order, into chapters. Events without a trace that follow one another are one chapter.
pub fn chapters(events: &[&Event]) -> Vec<Chapter> {
    let mut parts: Vec<(Option<TraceId>, Vec<&Event>)> = Vec::new();
    let mut of_trace: HashMap<TraceId, usize> = HashMap::new();
    for event in events {
        let part = match event.trace {
            Some(trace) => *of_trace.entry(trace).or_insert_with(|| {
                parts.push((Some(trace), Vec::new()));
                parts.len() - 1
            }),
            None => match parts.last() {
                Some((None, _)) => parts.len() - 1,
                _ => {
                    parts.push((None, Vec::new()));
                    parts.len() - 1
                }
            },
        };
        if let Some((_, list)) = parts.get_mut(part) {
            list.push(event);
        }
    }
    parts.iter().map(|(trace, events)| chapter(*trace, events)).collect()
}

fn chapter(trace: Option<TraceId>, events: &[&Event]) -> Chapter {
    let score = Score::of(events, &ScoreOptions::default());
    Chapter {
        trace: trace.map(|trace| to_hex(&trace)),
        start_ns: events.first().map_or(0, |event| event.time_ns).to_string(),
        took_ns: score.took_ns,
        headline: score.headline,
        outcome: score.outcome,
        events: events.len(),
        services: super::services_of(events.iter().copied()).into_iter().map(|share| share.service).collect(),
    }
}
