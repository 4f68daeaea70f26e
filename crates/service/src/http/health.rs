//! The service's own health.

use crate::access::Reader;
use crate::error::{Result, ServiceError};
use crate::state::Shared;
use axum::extract::State;
use axum::http::header;
use axum::response::IntoResponse;
use std::sync::atomic::Ordering;

/// `GET /healthz`: the process is alive.
pub async fn alive() -> &'static str {
    "alive\n"
}

/// `GET /readyz`: the database answers and the journal is replayed.
pub async fn ready(State(app): State<Shared>) -> Result<&'static str> {
    if !app.ready.load(Ordering::SeqCst) || app.fenced.load(Ordering::SeqCst) {
        return Err(ServiceError::Busy("the journal is not replayed yet, or this node was replaced".into(), 1));
    }
    app.store.ping().await?;
    Ok("ready\n")
}

/// `GET /metrics`: OpenMetrics.
pub async fn metrics(State(app): State<Shared>, _reader: Reader) -> impl IntoResponse {
    let (events, bytes) = app.view.head_size();
    app.metrics.head_events.set(events as i64);
    app.metrics.head_bytes.set(bytes as i64);
    app.metrics.chunks.set(app.view.chunk_count() as i64);
    ([(header::CONTENT_TYPE, "application/openmetrics-text; version=1.0.0; charset=utf-8")], app.metrics.encode())
}
