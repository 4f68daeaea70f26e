//! The service's own health.

use crate::auth::Reader;
use crate::error::{Result, ServiceError};
use crate::state::Health;
use axum::extract::State;
use axum::http::header;
use axum::response::IntoResponse;
use std::sync::Arc;
use std::sync::atomic::Ordering;

/// `GET /healthz`: the process is alive.
pub async fn alive() -> &'static str {
    "alive\n"
}

/// Commits that fail for so long mean that intake cannot store.
const STUCK_NS: i64 = 3_000_000_000;

/// `GET /readyz`: whether events can be stored: the journal is replayed, this node was not replaced, commits work, the
/// disk has room, heads are sealed, and the database takes writes.
pub async fn ready(State(health): State<Arc<Health>>) -> Result<&'static str> {
    let not = |why: &str| Err(ServiceError::Busy(format!("not ready: {why}"), 1));
    if health.fenced.load(Ordering::SeqCst) {
        return not("another process took this node's place; stop one of the two");
    }
    if !health.ready.load(Ordering::SeqCst) {
        return not("the journal is not replayed yet");
    }
    if health.receiving.intake.disk_full.load(Ordering::Relaxed) {
        return not("the disk is at its reserve; free some, or shorten a lane's retention");
    }
    let stuck_ns = health.stuck_since_ns.load(Ordering::SeqCst);
    if stuck_ns > 0 && (health.base.clock)().saturating_sub(stuck_ns) > STUCK_NS {
        return not("commits fail; the service's log says why");
    }
    if health.sealer.is_failing() {
        return not("heads cannot be sealed; the service's log says why");
    }
    if let Some(why) = health.base.store.cannot_write().await? {
        return not(&why);
    }
    Ok("ready\n")
}

/// `GET /metrics`: OpenMetrics, without the lanes that may not be read.
pub async fn metrics(State(health): State<Arc<Health>>, reader: Reader) -> impl IntoResponse {
    let (events, bytes) = health.receiving.view.head_size();
    health.base.metrics.head_events.set(events as i64);
    health.base.metrics.head_bytes.set(bytes as i64);
    health.base.metrics.chunks.set(health.receiving.view.chunk_count() as i64);
    health.base.metrics.request_bytes.set(health.receiving.intake_budget.used() as i64);
    let config = health.base.config.get();
    let hidden: Vec<String> = config
        .lanes()
        .into_iter()
        .filter(|l| !reader.may_read(l.id))
        // Names of lanes have no signs that a label would escape.
        .map(|l| format!("lane=\"{}\"", l.name))
        .collect();
    let text = health.base.metrics.encode();
    let shown = |line: &&str| !hidden.iter().any(|label| line.contains(label.as_str()));
    let text = text.split_inclusive('\n').filter(shown).collect::<String>();
    ([(header::CONTENT_TYPE, "application/openmetrics-text; version=1.0.0; charset=utf-8")], text)
}
