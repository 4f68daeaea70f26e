//! Search, figures, story, and checking a query while it is typed. Where a client takes `application/x-ndjson`, answers
//! of searches and figures are streamed: progress, what is found so far, then the answer.

use super::ask::Ask;
use crate::answer::run::Listener;
use crate::answer::story::{self, StoryAsk};
use crate::answer::{compare, measure, search};
use crate::auth::Reader;
use crate::error::{Result, ServiceError};
use crate::intake::ledger::{Asked, arrivals as arrivals_of};
use crate::state::Reading;
use axum::Json;
use axum::body::{Body, Bytes};
use axum::extract::{Path, Query, State};
use axum::http::{HeaderMap, header};
use axum::response::{IntoResponse, Response};
use calvex_answer::scan::Progress;
use calvex_language::model::answer_json;
use calvex_wire::api::{
    ArrivalsAnswer, BreakdownAnswer, BreakdownRequest, CompareRequest, FoundId, PasteRequest, SearchRequest,
    StoryAnswer, StreamLine, WayIn,
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
    State(reading): State<Arc<Reading>>,
    reader: Reader,
    headers: HeaderMap,
    Ask(ask): Ask<SearchRequest>,
) -> Result<Response> {
    answer(&headers, move |listener| async move { search::search(&reading, &reader, ask, listener).await }).await
}

/// `POST /api/histogram`
pub async fn histogram(
    State(reading): State<Arc<Reading>>,
    reader: Reader,
    headers: HeaderMap,
    Ask(ask): Ask<SearchRequest>,
) -> Result<Response> {
    answer(&headers, move |listener| async move { search::counts(&reading, &reader, ask, listener).await }).await
}

/// `POST /api/measure`
pub async fn measure(
    State(reading): State<Arc<Reading>>,
    reader: Reader,
    headers: HeaderMap,
    Ask(ask): Ask<SearchRequest>,
) -> Result<Response> {
    answer(&headers, move |listener| async move { measure::measure(&reading, &reader, ask, listener).await }).await
}

/// `POST /api/tail`: events as they come, as NDJSON, until the client goes.
pub async fn tail(
    State(reading): State<Arc<Reading>>,
    reader: Reader,
    Ask(ask): Ask<SearchRequest>,
) -> Result<Response> {
    let (lines, mut waiting) = mpsc::channel::<Bytes>(LINES);
    let following = crate::answer::tail::Tail::begin(&reading, reader, &ask).await?;
    tokio::spawn(following.run(lines));
    let stream = futures_util::stream::poll_fn(move |context| {
        waiting.poll_recv(context).map(|next| next.map(Ok::<_, std::convert::Infallible>))
    });
    Ok(([(header::CONTENT_TYPE, NDJSON)], Body::from_stream(stream)).into_response())
}

/// `POST /api/export`: every event found, the oldest first, as NDJSON; the last line is the account.
pub async fn export(
    State(reading): State<Arc<Reading>>,
    reader: Reader,
    Ask(ask): Ask<SearchRequest>,
) -> Result<Response> {
    let (lines, mut waiting) = mpsc::channel::<Bytes>(LINES_EXPORTED);
    crate::answer::export::begin(&reading, &reader, ask, lines).await?;
    let stream = futures_util::stream::poll_fn(move |context| {
        waiting.poll_recv(context).map(|next| next.map(Ok::<_, std::convert::Infallible>))
    });
    Ok(([(header::CONTENT_TYPE, NDJSON)], Body::from_stream(stream)).into_response())
}

/// `POST /api/breakdown`
pub async fn breakdown(
    State(reading): State<Arc<Reading>>,
    reader: Reader,
    Ask(ask): Ask<BreakdownRequest>,
) -> Result<Json<BreakdownAnswer>> {
    Ok(Json(measure::breakdown(&reading, &reader, ask).await?))
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
    State(reading): State<Arc<Reading>>,
    reader: Reader,
    Query(ask): Query<ArrivalsAsk>,
) -> Result<Json<ArrivalsAnswer>> {
    let asked = Asked {
        hours: ask.hours.unwrap_or(24),
        service: ask.service.as_deref(),
        from: ask.from.unwrap_or(0),
        limit: ask.limit,
    };
    Ok(Json(arrivals_of(&reading.base, &reader, asked).await?))
}

/// `GET /api/ways-in`
pub async fn ways_in(State(reading): State<Arc<Reading>>, _reader: Reader) -> Json<Vec<WayIn>> {
    Json(reading.base.addresses.ways_in())
}

/// Answers whole, or line by line where the client asks for that. When the client goes, the work is dropped.
pub async fn answer<T, F>(headers: &HeaderMap, work: impl FnOnce(Option<Listener>) -> F) -> Result<Response>
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
        Progress::Differs(findings) => StreamLine::Findings(findings),
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
pub async fn story(
    State(reading): State<Arc<Reading>>,
    reader: Reader,
    Path(id): Path<String>,
    Query(ask): Query<StoryAsk>,
) -> Result<Json<StoryAnswer>> {
    Ok(Json(story::story(&reading, &reader, &id, &ask).await?))
}

/// `POST /api/compare`
pub async fn compare(
    State(reading): State<Arc<Reading>>,
    reader: Reader,
    headers: HeaderMap,
    Ask(ask): Ask<CompareRequest>,
) -> Result<Response> {
    answer(&headers, move |listener| async move { compare::compare(&reading, &reader, ask, listener).await }).await
}

/// `POST /api/paste`
pub async fn paste(
    State(reading): State<Arc<Reading>>,
    reader: Reader,
    Ask(ask): Ask<PasteRequest>,
) -> Result<Json<Vec<FoundId>>> {
    Ok(Json(story::pasted(&reading, reader.scope(), &ask.text).await?))
}
