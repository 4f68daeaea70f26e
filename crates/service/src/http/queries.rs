//! Search, figures, story, and checking a query while it is typed. Where a client takes `application/x-ndjson`, answers
//! of searches and figures are streamed: progress, what is found so far, then the answer.

use super::ask::Ask;
use crate::answer::search::Listener;
use crate::answer::{measure, search};
use crate::auth::Reader;
use crate::error::{Result, ServiceError};
use crate::intake::ledger::{Asked, arrivals as arrivals_of};
use crate::state::Shared;
use axum::Json;
use axum::body::{Body, Bytes};
use axum::extract::{Path, Query, State};
use axum::http::{HeaderMap, header};
use axum::response::{IntoResponse, Response};
use calvex_answer::scan::Progress;
use calvex_language::model::answer_json;
use calvex_wire::api::{
    ArrivalsAnswer, BreakdownAnswer, BreakdownRequest, SearchRequest, StoryAnswer, StreamLine, WayIn,
};
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use tokio::sync::mpsc;

/// Lines waiting for a slow client at most; beyond, progress is left out, answers never.
const LINES: usize = 64;
/// Pieces of an export, of a quarter of a MiB each, that wait for a slow client at most.
const LINES_EXPORTED: usize = 8;
const NDJSON: &str = "application/x-ndjson";

/// `POST /api/search`
pub async fn search(
    State(app): State<Shared>,
    reader: Reader,
    headers: HeaderMap,
    Ask(ask): Ask<SearchRequest>,
) -> Result<Response> {
    answer(&headers, move |listener| async move { search::search(&app, &reader, ask, listener).await }).await
}

/// `POST /api/histogram`
pub async fn histogram(
    State(app): State<Shared>,
    reader: Reader,
    headers: HeaderMap,
    Ask(ask): Ask<SearchRequest>,
) -> Result<Response> {
    answer(&headers, move |listener| async move { search::counts(&app, &reader, ask, listener).await }).await
}

/// `POST /api/measure`
pub async fn measure(
    State(app): State<Shared>,
    reader: Reader,
    headers: HeaderMap,
    Ask(ask): Ask<SearchRequest>,
) -> Result<Response> {
    answer(&headers, move |listener| async move { measure::measure(&app, &reader, ask, listener).await }).await
}

/// `POST /api/tail`: events as they come, as NDJSON, until the client goes.
pub async fn tail(State(app): State<Shared>, reader: Reader, Ask(ask): Ask<SearchRequest>) -> Result<Response> {
    let (lines, mut waiting) = mpsc::channel::<Bytes>(LINES);
    let following = crate::answer::tail::Tail::begin(&app, reader, &ask)?;
    tokio::spawn(following.run(lines));
    let stream = futures_util::stream::poll_fn(move |context| {
        waiting.poll_recv(context).map(|next| next.map(Ok::<_, std::convert::Infallible>))
    });
    Ok(([(header::CONTENT_TYPE, NDJSON)], Body::from_stream(stream)).into_response())
}

/// `POST /api/export`: every event found, the oldest first, as NDJSON; the last line is the account.
pub async fn export(State(app): State<Shared>, reader: Reader, Ask(ask): Ask<SearchRequest>) -> Result<Response> {
    let (lines, mut waiting) = mpsc::channel::<Bytes>(LINES_EXPORTED);
    crate::answer::export::begin(&app, &reader, ask, lines).await?;
    let stream = futures_util::stream::poll_fn(move |context| {
        waiting.poll_recv(context).map(|next| next.map(Ok::<_, std::convert::Infallible>))
    });
    Ok(([(header::CONTENT_TYPE, NDJSON)], Body::from_stream(stream)).into_response())
}

/// `POST /api/breakdown`
pub async fn breakdown(
    State(app): State<Shared>,
    reader: Reader,
    Ask(ask): Ask<BreakdownRequest>,
) -> Result<Json<BreakdownAnswer>> {
    Ok(Json(measure::breakdown(&app, &reader, ask).await?))
}

/// What `GET /api/arrivals` may be asked for.
#[derive(Debug, Default, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ArrivalsAsk {
    /// How far back; 24 if not given.
    hours: Option<u32>,
    /// Only of this service.
    service: Option<String>,
    /// From which row of the arrivals on; 0 if not given.
    from: Option<u32>,
    /// Rows of the arrivals; 1000 if not given, 5000 at most.
    limit: Option<u32>,
}

/// `GET /api/arrivals`
pub async fn arrivals(
    State(app): State<Shared>,
    reader: Reader,
    Query(ask): Query<ArrivalsAsk>,
) -> Result<Json<ArrivalsAnswer>> {
    let asked = Asked {
        hours: ask.hours.unwrap_or(24),
        service: ask.service.as_deref(),
        from: ask.from.unwrap_or(0),
        limit: ask.limit,
    };
    Ok(Json(arrivals_of(&app, &reader, asked).await?))
}

/// `GET /api/ways-in`
pub async fn ways_in(State(app): State<Shared>, _reader: Reader) -> Json<Vec<WayIn>> {
    Json(app.addresses.get().map(crate::listen::Addresses::ways_in).unwrap_or_default())
}

/// Answers whole, or line by line where the client asks for that. When the client goes, the work is dropped.
async fn answer<T, F>(headers: &HeaderMap, work: impl FnOnce(Option<Listener>) -> F) -> Result<Response>
where
    T: Serialize + Send + 'static,
    F: Future<Output = Result<T>> + Send + 'static,
{
    let accepts = |v: &header::HeaderValue| v.to_str().is_ok_and(|v| v.contains(NDJSON));
    if !headers.get_all(header::ACCEPT).iter().any(accepts) {
        return Ok(Json(work(None).await?).into_response());
    }
    let (lines, mut waiting) = mpsc::channel::<Bytes>(LINES);
    let reported = lines.clone();
    let listener: Listener = Arc::new(move |progress| {
        // A client that does not keep up misses progress, not the answer.
        let _ = reported.try_send(line(&progress_line::<T>(progress)));
    });
    let work = work(Some(listener));
    tokio::spawn(async move {
        let last = tokio::select! {
            done = work => match done {
                Ok(answer) => StreamLine::Answer(answer),
                Err(e) => StreamLine::Problem(ServiceError::problem(&e)),
            },
            () = lines.closed() => return,
        };
        let _ = lines.send(line(&last)).await;
    });
    let stream = futures_util::stream::poll_fn(move |context| {
        waiting.poll_recv(context).map(|next| next.map(Ok::<_, std::convert::Infallible>))
    });
    Ok(([(header::CONTENT_TYPE, NDJSON)], Body::from_stream(stream)).into_response())
}

fn progress_line<T>(progress: Progress) -> StreamLine<T> {
    match progress {
        Progress::Pages { done, total } => StreamLine::Progress { done, total },
        Progress::Found(events) => StreamLine::Events(events.iter().map(|(e, lane)| answer_json(e, lane)).collect()),
        Progress::Counted { from_ns, step_ns, buckets } => {
            StreamLine::Counts { from_ns: from_ns.to_string(), step_ns, buckets }
        }
    }
}

fn line<T: Serialize>(reported: &StreamLine<T>) -> Bytes {
    let mut bytes = serde_json::to_vec(reported).unwrap_or_default();
    bytes.push(b'\n');
    bytes.into()
}

/// `GET /api/story/{id}`
pub async fn story(State(app): State<Shared>, reader: Reader, Path(id): Path<String>) -> Result<Json<StoryAnswer>> {
    Ok(Json(search::story(&app, &reader, &id).await?))
}
