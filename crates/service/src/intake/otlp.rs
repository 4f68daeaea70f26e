//! `POST /v1/logs`: OTLP over HTTP, protobuf and JSON.

use super::{body, take};
use crate::access::sender;
use crate::error::{Result, ServiceError};
use crate::state::Shared;
use axum::body::Body;
use axum::extract::State;
use axum::http::{HeaderMap, header};
use axum::response::{IntoResponse, Response};
use calvex_core::batch::{BatchBuilder, Reading};
use calvex_store::StoreError;
use calvex_wire::otlp::{Encoding, decode_logs, encode_answer, take_logs};

/// Takes an export request of logs and answers in its own encoding, with partial success where some were refused.
pub async fn post_logs(State(app): State<Shared>, headers: HeaderMap, content: Body) -> Result<Response> {
    let sender = sender(&app, &headers).await?;
    let media_type = headers.get(header::CONTENT_TYPE).and_then(|v| v.to_str().ok()).unwrap_or("");
    let encoding = Encoding::from_media_type(media_type).ok_or_else(|| {
        app.metrics.refuse("unknown-media-type", 1);
        ServiceError::Unsupported(format!(
            "content-type `{media_type}` is not OTLP; use application/x-protobuf or application/json"
        ))
    })?;
    let body = body::read(&app, &headers, content).await?;
    let refuse = app.clone();
    let decode = move |bytes: &[u8], batch: &mut BatchBuilder, reading: &mut Reading| match decode_logs(bytes, encoding)
    {
        Ok(request) => Ok(take_logs(request, batch, reading).map_err(StoreError::Core)?),
        Err(e) => {
            refuse.metrics.refuse("not-otlp", 1);
            Err(ServiceError::BadRequest(format!("the body is no OTLP export request of logs: {e}")))
        }
    };
    let answer = take(&app, &headers, sender, body, decode).await?;
    let first = answer.refusals.first().map(|r| format!("record {}: {}", r.line, r.message)).unwrap_or_default();
    let bytes = encode_answer(answer.refused as i64, &first, encoding);
    Ok(([(header::CONTENT_TYPE, encoding.media_type())], bytes).into_response())
}
