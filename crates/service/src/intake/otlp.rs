//! `POST /v1/logs` and `POST /v1/traces`: OTLP over HTTP, protobuf and JSON.

use super::{body, refuse, take};
use crate::access::sender;
use crate::error::{Result, ServiceError};
use crate::state::Shared;
use axum::body::Body;
use axum::extract::State;
use axum::http::{HeaderMap, header};
use axum::response::{IntoResponse, Response};
use calvex_core::CoreError;
use calvex_core::batch::{BatchBuilder, Reading};
use calvex_store::StoreError;
use calvex_wire::api::SendAnswer;
use calvex_wire::otlp::{self, Encoding, logs, traces};
use prost::Message;
use serde::Serialize;
use serde::de::DeserializeOwned;

/// Takes an export request of logs and answers in its own encoding, with partial success where some were refused.
pub async fn post_logs(State(app): State<Shared>, headers: HeaderMap, content: Body) -> Result<Response> {
    export(&app, headers, content, "logs", logs::take, logs::answer).await
}

/// Takes an export request of spans, as [`post_logs`] does.
pub async fn post_traces(State(app): State<Shared>, headers: HeaderMap, content: Body) -> Result<Response> {
    export(&app, headers, content, "traces", traces::take, traces::answer).await
}

async fn export<Request, Answer>(
    app: &Shared,
    headers: HeaderMap,
    content: Body,
    what: &'static str,
    take_in: fn(Request, &mut BatchBuilder, &mut Reading) -> std::result::Result<(), CoreError>,
    tell: fn(i64, &str) -> Answer,
) -> Result<Response>
where
    Request: Message + Default + DeserializeOwned + 'static,
    Answer: Message + Serialize,
{
    let sender = sender(app, &headers).await?;
    let media_type = headers.get(header::CONTENT_TYPE).and_then(|v| v.to_str().ok()).unwrap_or("");
    let encoding = Encoding::from_media_type(media_type).ok_or_else(|| {
        refuse(app, &sender.name, "unknown-media-type", 1, media_type);
        ServiceError::Unsupported(format!(
            "content-type `{media_type}` is not OTLP; use application/x-protobuf or application/json"
        ))
    })?;
    let body = body::read(app, &sender.name, &headers, content).await?;
    let (app2, name) = (app.clone(), sender.name.clone());
    let hash = Some(blake3::hash(&body).into());
    let decode = move |batch: &mut BatchBuilder, reading: &mut Reading| match otlp::decode::<Request>(&body, encoding) {
        Ok(request) => Ok(take_in(request, batch, reading).map_err(StoreError::Core)?),
        Err(e) => {
            refuse(&app2, &name, "not-otlp", 1, &e);
            Err(ServiceError::BadRequest(format!("the body is no OTLP export request of {what}: {e}")))
        }
    };
    let answer = take(app, &headers, sender, super::Body { hash, decode }).await?;
    let bytes = otlp::encode(&tell(answer.refused as i64, &first_refusal(&answer)), encoding);
    Ok(([(header::CONTENT_TYPE, encoding.media_type())], bytes).into_response())
}

/// The first refusal of an answer, told with its record; else how many were set aside, which the protocol calls a warning.
pub(super) fn first_refusal(answer: &SendAnswer) -> String {
    match (answer.refusals.first(), answer.set_aside) {
        (Some(r), _) => format!("record {}: {}", r.line, r.message),
        (None, 0) => String::new(),
        (None, n) => format!("{n} records were set aside by a dial, a shaping rule or a quota"),
    }
}
