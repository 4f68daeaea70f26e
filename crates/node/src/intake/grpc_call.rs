//! One unary call of gRPC over HTTP/2, as an exporter makes it: for the probe, which sends a single message.

use super::grpc::{LOGS, MEDIA_TYPE, PREFIX, framed};
use axum::http::{HeaderMap, Request};
use http_body_util::{BodyExt, Full, Limited};
use hyper::client::conn::http2;
use hyper_util::rt::{TokioExecutor, TokioIo};
use std::error::Error;
use tokio::net::TcpStream;

/// Bytes of an answer that are read.
const MAX_ANSWER: usize = 64 << 10;

/// Exports logs (`message` is an encoded request) to `address` (`host:port`) with `key`.
///
/// # Errors
/// Where the address cannot be reached, or answers otherwise than with an `OK`: its reason, where it gives one.
pub(super) async fn export_logs(address: &str, key: &str, message: &[u8]) -> Result<(), Box<dyn Error + Send + Sync>> {
    let stream = TcpStream::connect(address).await?;
    let (mut calls, connection) = http2::handshake(TokioExecutor::new(), TokioIo::new(stream)).await?;
    let connection = tokio::spawn(connection);
    let request = Request::post(format!("http://{address}{LOGS}"))
        .header("content-type", MEDIA_TYPE)
        .header("te", "trailers")
        .header("authorization", format!("Bearer {key}"))
        .body(Full::new(framed(message)))?;
    let (head, body) = calls.send_request(request).await?.into_parts();
    let body = Limited::new(body, MAX_ANSWER).collect().await?;
    connection.abort();
    // An answer without a message has its status in the headers.
    let status = |headers: &HeaderMap| headers.get("grpc-status").and_then(|v| v.to_str().ok()).map(str::to_owned);
    let trailers = body.trailers().cloned().unwrap_or_default();
    let (code, headers) = match status(&trailers) {
        Some(code) => (code, &trailers),
        None => (status(&head.headers).unwrap_or_default(), &head.headers),
    };
    if code == "0" && body.to_bytes().len() >= PREFIX {
        return Ok(());
    }
    let reason =
        headers.get("grpc-message").map(|v| percent_encoding::percent_decode(v.as_bytes()).decode_utf8_lossy());
    Err(reason.map_or_else(|| format!("answered HTTP {} and gRPC status `{code}`", head.status), Into::into).into())
}
