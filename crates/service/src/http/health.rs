//! The service's own health.

use axum::extract::State;
use axum::http::header;
use axum::response::IntoResponse;
use calvex_node::auth::Reader;
use calvex_node::error::{Result, ServiceError};
use calvex_node::state::{Health, Reading};
use std::sync::Arc;

/// `GET /healthz`: the process is alive.
pub async fn alive() -> &'static str {
    "alive\n"
}

/// `GET /readyz`: whether events can be stored: the journal is replayed, this node was not replaced, commits work, the
/// disk has room, heads are sealed, and the database takes writes.
pub async fn ready(State(health): State<Arc<Health>>) -> Result<&'static str> {
    match health.why_not_ready().await? {
        Some(why) => Err(ServiceError::Busy(format!("not ready: {why}"), 1)),
        None => Ok("ready\n"),
    }
}

/// `GET /metrics`: OpenMetrics, without the lanes that may not be read.
pub async fn metrics(
    State(health): State<Arc<Health>>,
    State(reading): State<Arc<Reading>>,
    reader: Reader,
) -> impl IntoResponse {
    let (events, bytes) = health.receiving.view.head_size();
    health.base.metrics.head_events.set(events as i64);
    health.base.metrics.head_bytes.set(bytes as i64);
    health.base.metrics.chunks.set(health.receiving.view.chunk_count() as i64);
    health.base.metrics.request_bytes.set(health.receiving.intake_budget.used() as i64);
    health.base.metrics.kept_bytes.set(reading.kept_bytes() as i64);
    health.base.metrics.question_bytes.set(reading.budgets.used() as i64);
    let config = health.base.config.get();
    let scope = reader.scope();
    // A part of a lane has no counters of its own.
    let hidden: Vec<String> = config
        .lanes()
        .into_iter()
        .filter(|l| !scope.reads_all_rows(l.id))
        // Names of lanes have no signs that a label would escape.
        .map(|l| format!("lane=\"{}\"", l.name))
        .collect();
    let text = health.base.metrics.encode();
    let shown = |line: &&str| !hidden.iter().any(|label| line.contains(label.as_str()));
    let text = text.split_inclusive('\n').filter(shown).collect::<String>();
    ([(header::CONTENT_TYPE, "application/openmetrics-text; version=1.0.0; charset=utf-8")], text)
}
