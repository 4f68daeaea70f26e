//! `POST /v1/logs` and `POST /v1/traces`: OTLP over HTTP, protobuf and JSON.

use super::{body, refuse, take};
use crate::error::{Result, ServiceError};
use crate::intake::sender::{Sender, sender};
use crate::state::Receiving;
use axum::body::Body;
use axum::extract::State;
use axum::http::{HeaderMap, HeaderValue, header};
use axum::response::{IntoResponse, Response};
use calvex_intake::batch::{BatchBuilder, Reading};
use calvex_store::StoreError;
use calvex_wire::api::SendAnswer;
use calvex_wire::otlp::{Encoding, OtlpStatus, Request, Signal};
use std::sync::Arc;

/// Takes an export request of logs and answers in its own encoding, with partial success where some were refused.
pub async fn post_logs(State(receiving): State<Arc<Receiving>>, headers: HeaderMap, content: Body) -> Response {
    export(receiving, headers, content, Signal::Logs).await
}

/// Takes an export request of spans, as [`post_logs`] does.
pub async fn post_traces(State(receiving): State<Arc<Receiving>>, headers: HeaderMap, content: Body) -> Response {
    export(receiving, headers, content, Signal::Spans).await
}

/// Metrics are not taken. An exporter gives a batch up at this answer, and arrivals show who sends them.
pub async fn post_metrics(State(receiving): State<Arc<Receiving>>, headers: HeaderMap, content: Body) -> Response {
    let refused = async {
        let sender = sender(&receiving.auth, &headers).await?;
        body::drain(content.into_data_stream()).await;
        Err(metrics_not_taken(&receiving, &sender.name))
    };
    answered(refused.await, encoding_of(&headers).1)
}

/// Counts an export of metrics, and what it is answered with.
pub(super) fn metrics_not_taken(receiving: &Arc<Receiving>, sender: &str) -> ServiceError {
    refuse(&receiving.base, sender, "not-taken", 1, "metrics");
    let reported = "way in for metrics; logs and spans are taken, so switch the exporter of metrics off";
    StoreError::Missing(reported.into()).into()
}

/// The media type of a request, and the encoding of OTLP that it means.
fn encoding_of(headers: &HeaderMap) -> (&str, Option<Encoding>) {
    let media_type = headers.get(header::CONTENT_TYPE).and_then(|v| v.to_str().ok()).unwrap_or("");
    (media_type, Encoding::from_media_type(media_type))
}

/// The answer in the request's encoding; one that has none of OTLP's is answered with a problem.
fn answered(done: Result<Vec<u8>>, encoding: Option<Encoding>) -> Response {
    match (done, encoding) {
        (Ok(bytes), Some(encoding)) => ([(header::CONTENT_TYPE, encoding.media_type())], bytes).into_response(),
        (Ok(bytes), None) => bytes.into_response(),
        (Err(error), None) => error.into_response(),
        (Err(error), Some(encoding)) => {
            let status = OtlpStatus::of_http(error.problem().status, error.problem().detail);
            let (mut parts, _) = error.into_response().into_parts();
            parts.headers.insert(header::CONTENT_TYPE, HeaderValue::from_static(encoding.media_type()));
            parts.headers.remove(header::CONTENT_LENGTH);
            Response::from_parts(parts, Body::from(status.encode_as(encoding)))
        }
    }
}

async fn export(receiving: Arc<Receiving>, headers: HeaderMap, content: Body, signal: Signal) -> Response {
    let (media_type, encoding) = encoding_of(&headers);
    let exporting = async {
        let sender = sender(&receiving.auth, &headers).await?;
        let encoding = encoding.ok_or_else(|| {
            refuse(&receiving.base, &sender.name, "unknown-media-type", 1, media_type);
            ServiceError::Unsupported(format!(
                "content-type `{media_type}` is not OTLP; use application/x-protobuf or application/json"
            ))
        })?;
        let received = body::read(&receiving, &sender, &headers, content).await?;
        let answer = take_export(&receiving, &headers, sender, received, encoding, signal).await?;
        Ok(signal.answer(answer.refused, &first_refusal(&answer), encoding))
    };
    answered(exporting.await, encoding)
}

/// Takes an export request that came over HTTP or gRPC. It is walked through and counted first; a request of more
/// records or bytes than one may have is refused before any record is decoded.
pub(super) async fn take_export(
    receiving: &Arc<Receiving>,
    headers: &HeaderMap,
    sender: Arc<Sender>,
    received: body::Received,
    encoding: Encoding,
    signal: Signal,
) -> Result<SendAnswer> {
    let (own, name) = (receiving.clone(), sender.name.clone());
    let bytes = received.bytes.clone();
    let decode = move |batch: &mut BatchBuilder, reading: &mut Reading| {
        let reported = |reason: &str, error: ServiceError| {
            refuse(&own.base, &name, reason, 1, &error.to_string());
            error
        };
        let request = Request::read(&bytes, encoding, signal).map_err(|e| {
            let what = if signal == Signal::Logs { "logs" } else { "traces" };
            reported("not-otlp", ServiceError::BadRequest(format!("the body is no OTLP export request of {what}: {e}")))
        })?;
        let most = own.base.settings.mib("limits.unpacked_mib");
        if request.expanded_bytes > most {
            let error = format!(
                "the records have {} bytes with the resource and scope that each repeats, the limit is {most}; send smaller batches",
                request.expanded_bytes
            );
            return Err(reported("body-too-large", ServiceError::TooLarge(error)));
        }
        batch.expect(request.records).map_err(StoreError::from)?;
        Ok(request.take(batch, reading).map_err(StoreError::Core)?)
    };
    take(receiving, headers, sender, super::Body::received(received, decode)).await
}

/// The first refusal of an answer, reported with its record; else how many were set aside, which the protocol calls a warning.
pub(super) fn first_refusal(answer: &SendAnswer) -> String {
    match (answer.refusals.first(), answer.set_aside) {
        (Some(r), _) => format!("record {}: {}", r.line, r.message),
        (None, 0) => String::new(),
        (None, n) => format!("{n} records were set aside by a dial, a transform rule or a quota"),
    }
}
