//! `POST /v1/logs` and `POST /v1/traces`: OTLP over HTTP, protobuf and JSON.

use super::{body, refuse, take};
use crate::access::{Sender, sender};
use crate::error::{Result, ServiceError};
use crate::state::Shared;
use axum::body::Body;
use axum::extract::State;
use axum::http::{HeaderMap, header};
use axum::response::{IntoResponse, Response};
use calvex_core::batch::{BatchBuilder, Reading};
use calvex_store::StoreError;
use calvex_wire::api::SendAnswer;
use calvex_wire::otlp::{Encoding, Request, Signal};
use std::sync::Arc;

/// Takes an export request of logs and answers in its own encoding, with partial success where some were refused.
pub async fn post_logs(State(app): State<Shared>, headers: HeaderMap, content: Body) -> Result<Response> {
    export(&app, headers, content, Signal::Logs).await
}

/// Takes an export request of spans, as [`post_logs`] does.
pub async fn post_traces(State(app): State<Shared>, headers: HeaderMap, content: Body) -> Result<Response> {
    export(&app, headers, content, Signal::Spans).await
}

async fn export(app: &Shared, headers: HeaderMap, content: Body, signal: Signal) -> Result<Response> {
    let sender = sender(app, &headers).await?;
    let media_type = headers.get(header::CONTENT_TYPE).and_then(|v| v.to_str().ok()).unwrap_or("");
    let encoding = Encoding::from_media_type(media_type).ok_or_else(|| {
        refuse(app, &sender.name, "unknown-media-type", 1, media_type);
        ServiceError::Unsupported(format!(
            "content-type `{media_type}` is not OTLP; use application/x-protobuf or application/json"
        ))
    })?;
    let received = body::read(app, &sender, &headers, content).await?;
    let answer = take_export(app, &headers, sender, received, encoding, signal).await?;
    let bytes = signal.answer(answer.refused, &first_refusal(&answer), encoding);
    Ok(([(header::CONTENT_TYPE, encoding.media_type())], bytes).into_response())
}

/// Takes an export request that came over HTTP or gRPC. It is walked through and counted first; a request of more
/// records or bytes than one may have is refused before any record is decoded.
pub(super) async fn take_export(
    app: &Shared,
    headers: &HeaderMap,
    sender: Arc<Sender>,
    received: body::Received,
    encoding: Encoding,
    signal: Signal,
) -> Result<SendAnswer> {
    let (app2, name) = (app.clone(), sender.name.clone());
    let bytes = received.bytes.clone();
    let decode = move |batch: &mut BatchBuilder, reading: &mut Reading| {
        let told = |reason: &str, error: ServiceError| {
            refuse(&app2, &name, reason, 1, &error.to_string());
            error
        };
        let request = Request::read(&bytes, encoding, signal).map_err(|e| {
            let what = if signal == Signal::Logs { "logs" } else { "traces" };
            told("not-otlp", ServiceError::BadRequest(format!("the body is no OTLP export request of {what}: {e}")))
        })?;
        let most = app2.settings.mib("limits.unpacked_mib");
        if request.expanded_bytes > most {
            let error = format!(
                "the records have {} bytes with the resource and scope that each repeats, the limit is {most}; send smaller batches",
                request.expanded_bytes
            );
            return Err(told("body-too-large", ServiceError::TooLarge(error)));
        }
        batch.expect(request.records).map_err(StoreError::from)?;
        Ok(request.take(batch, reading).map_err(StoreError::Core)?)
    };
    take(app, headers, sender, super::Body::received(received, decode)).await
}

/// The first refusal of an answer, told with its record; else how many were set aside, which the protocol calls a warning.
pub(super) fn first_refusal(answer: &SendAnswer) -> String {
    match (answer.refusals.first(), answer.set_aside) {
        (Some(r), _) => format!("record {}: {}", r.line, r.message),
        (None, 0) => String::new(),
        (None, n) => format!("{n} records were set aside by a dial, a shaping rule or a quota"),
    }
}
