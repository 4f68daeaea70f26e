//! OTLP over gRPC: the log and trace services of the protocol, on its standard port. The key comes as the metadata
//! `authorization: Bearer KEY`, and is checked before anything of the body is read.
//!
//! A unary call is an HTTP/2 request whose body is one message behind five bytes, so it passes the same gate as every
//! other way in: limits, budget, decoding slots.
//!
//! ```text
//! 0       1                    5
//! +-------+--------------------+-----------------
//! | 0 | 1 | length, big endian | message
//! +-------+--------------------+-----------------
//!   packed by `grpc-encoding` where 1
//! ```
//!
//! | what | status |
//! | --- | --- |
//! | no key, or one that is not good | `UNAUTHENTICATED` |
//! | a batch at fault, or too large | `INVALID_ARGUMENT`, which exporters do not repeat |
//! | not now: database away, disk nearly full, too much at once | `UNAVAILABLE`, which they do |
//! | metrics, another service or method | `UNIMPLEMENTED`, which they do not |

use super::body::{self, Packing, Received};
use super::otlp::{first_refusal, metrics_not_taken, take_export};
use super::refuse;
use crate::error::{Result, ServiceError};
use crate::intake::sender::{Sender, sender};
use crate::state::Receiving;
use axum::Router;
use axum::body::{Body, Bytes};
use axum::extract::State;
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::routing::post;
use calvex_wire::otlp::{Encoding, Signal};
use http_body_util::{BodyExt, Full};
use percent_encoding::{AsciiSet, CONTROLS, utf8_percent_encode};
use std::sync::Arc;

pub(super) const MEDIA_TYPE: &str = "application/grpc";
/// Where logs are taken.
pub(super) const LOGS: &str = "/opentelemetry.proto.collector.logs.v1.LogsService/Export";
/// Bytes before a message.
pub(super) const PREFIX: usize = 5;
/// What stands as `%XX` in a status' text: bytes that are not printable, and `%` itself.
const NOT_PLAIN: &AsciiSet = &CONTROLS.add(b'%');

/// Statuses of gRPC that are answered here, by their numbers (gRPC, "Status codes and their use in gRPC").
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Code {
    InvalidArgument = 3,
    PermissionDenied = 7,
    Unimplemented = 12,
    Internal = 13,
    Unavailable = 14,
    Unauthenticated = 16,
}

/// The services, by their paths.
pub fn router(receiving: Arc<Receiving>) -> Router {
    Router::new()
        .route(LOGS, post(logs))
        .route("/opentelemetry.proto.collector.trace.v1.TraceService/Export", post(spans))
        .route("/opentelemetry.proto.collector.metrics.v1.MetricsService/Export", post(metrics))
        .fallback(unimplemented)
        .with_state(receiving)
}

async fn logs(State(receiving): State<Arc<Receiving>>, headers: HeaderMap, body: Body) -> Response {
    answer(export(&receiving, headers, body, Signal::Logs).await)
}

async fn spans(State(receiving): State<Arc<Receiving>>, headers: HeaderMap, body: Body) -> Response {
    answer(export(&receiving, headers, body, Signal::Spans).await)
}

async fn metrics(State(receiving): State<Arc<Receiving>>, headers: HeaderMap) -> Response {
    let refused = sender(&receiving.auth, &headers).await.map(|sender| metrics_not_taken(&receiving, &sender.name));
    refusal(&refused.unwrap_or_else(|e| e))
}

async fn unimplemented() -> Response {
    status(Code::Unimplemented, "this port takes OTLP logs and traces")
}

/// Takes one call; the message of its answer.
async fn export(receiving: &Arc<Receiving>, headers: HeaderMap, body: Body, signal: Signal) -> Result<Vec<u8>> {
    let media_type = headers.get(header::CONTENT_TYPE).and_then(|v| v.to_str().ok()).unwrap_or("");
    if !media_type.get(..MEDIA_TYPE.len()).is_some_and(|t| t.eq_ignore_ascii_case(MEDIA_TYPE)) {
        refuse(&receiving.base, "gRPC port", "wrong-protocol", 1, media_type);
        return Err(ServiceError::Unsupported(format!("content-type `{media_type}` is not {MEDIA_TYPE}")));
    }
    let sender = sender(&receiving.auth, &headers).await?;
    let received = message(receiving, &sender, &headers, body).await?;
    let answer = take_export(receiving, &headers, sender, received, Encoding::Protobuf, signal).await?;
    Ok(signal.answer(answer.refused, &first_refusal(&answer), Encoding::Protobuf))
}

/// The one message of a call, unpacked.
async fn message(
    receiving: &Arc<Receiving>,
    sender: &Arc<Sender>,
    headers: &HeaderMap,
    body: Body,
) -> Result<Received> {
    let (bytes, charge) = body::read_packed(receiving, sender, body).await?;
    let bad = |reported: String| {
        refuse(&receiving.base, &sender.name, "not-otlp", 1, &reported);
        ServiceError::BadRequest(reported)
    };
    let bytes = Bytes::from(bytes);
    let length = bytes.get(1..PREFIX).and_then(|b| b.try_into().ok()).map(u32::from_be_bytes);
    if length.map(|n| n as usize) != bytes.len().checked_sub(PREFIX) {
        return Err(bad("the call does not have one whole message".into()));
    }
    let packing = match bytes.first() {
        Some(0) => Packing::None,
        Some(1) => {
            let named = headers.get("grpc-encoding").and_then(|v| v.to_str().ok()).unwrap_or("");
            match Packing::named(named) {
                Some(packing) if packing != Packing::None => packing,
                _ => return Err(bad(format!("grpc-encoding `{named}` is not known; use gzip, zstd or none"))),
            }
        }
        _ => return Err(bad("the message's first byte is neither 0 nor 1".into())),
    };
    body::unpack(receiving, sender, bytes.slice(PREFIX..), packing, charge).await
}

fn answer(done: Result<Vec<u8>>) -> Response {
    let message = match done {
        Ok(message) => message,
        Err(e) => return refusal(&e),
    };
    let trailers = async {
        let mut trailers = HeaderMap::new();
        trailers.insert("grpc-status", HeaderValue::from_static("0"));
        Some(Ok(trailers))
    };
    let body = Body::new(Full::new(framed(&message)).with_trailers(trailers));
    (StatusCode::OK, [(header::CONTENT_TYPE, MEDIA_TYPE)], body).into_response()
}

/// A message behind its five bytes, not packed.
pub(super) fn framed(message: &[u8]) -> Bytes {
    let mut framed = Vec::with_capacity(PREFIX + message.len());
    framed.push(0);
    framed.extend_from_slice(&(message.len() as u32).to_be_bytes());
    framed.extend_from_slice(message);
    framed.into()
}

fn refusal(error: &ServiceError) -> Response {
    let problem = error.problem();
    let code = match problem.status {
        401 => Code::Unauthenticated,
        403 => Code::PermissionDenied,
        404 => Code::Unimplemented,
        429 | 503 => Code::Unavailable,
        500 => Code::Internal,
        _ => Code::InvalidArgument,
    };
    status(code, &problem.detail)
}

/// An answer without a message: its status stands in the headers ("Trailers-Only" in gRPC over HTTP/2).
fn status(code: Code, reason: &str) -> Response {
    let reason = utf8_percent_encode(reason, NOT_PLAIN).to_string();
    let headers =
        [("content-type", MEDIA_TYPE.to_owned()), ("grpc-status", (code as u8).to_string()), ("grpc-message", reason)];
    (StatusCode::OK, headers, Body::empty()).into_response()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_refusal_is_a_status_of_grpc() {
        let cases = [
            (ServiceError::Busy("the disk is nearly full".into(), 5), "14"),
            (ServiceError::BadRequest("line 2: 100 % of\nn\u{fc}ll".into()), "3"),
            (ServiceError::TooMany("later".into(), 2), "14"),
        ];
        for (error, code) in cases {
            let detail = error.problem().detail;
            let headers = refusal(&error).headers().clone();
            assert_eq!(
                (&headers["content-type"], &headers["grpc-status"]),
                (&MEDIA_TYPE.parse().unwrap(), &code.parse().unwrap())
            );
            let reason = headers["grpc-message"].to_str().unwrap();
            assert!(!reason.contains('\n'), "{reason}");
            assert_eq!(percent_encoding::percent_decode_str(reason).decode_utf8().unwrap(), detail);
        }
    }
}
