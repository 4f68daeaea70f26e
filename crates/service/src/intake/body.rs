//! Step 2: the bytes of a request, bounded as sent and as decompressed.

use crate::error::{Result, ServiceError};
use crate::state::Shared;
use axum::body::{Body, Bytes};
use axum::http::{HeaderMap, header};
use std::io::Read;

/// Reads and decompresses a body (`identity`, `gzip`, `zstd`).
pub async fn read(app: &Shared, sender: &str, headers: &HeaderMap, body: Body) -> Result<Bytes> {
    let (limit, unpacked) = (app.settings.mib("limits.body_mib"), app.settings.mib("limits.unpacked_mib"));
    let refuse = |reason: &str, error: ServiceError| {
        super::refuse(app, sender, reason, 1, &error.to_string());
        error
    };
    let too_large = |what: &str, limit: usize| {
        refuse(
            "body-too-large",
            ServiceError::TooLarge(format!("the body is larger than {limit} bytes{what}; send smaller batches")),
        )
    };
    let patience = app.settings.seconds("limits.request_s");
    let read = tokio::time::timeout(patience, axum::body::to_bytes(body, limit)).await.map_err(|_| {
        let told = format!("the body did not come within {} s; send smaller batches", patience.as_secs());
        refuse("slow-body", ServiceError::TooSlow(told))
    })?;
    let packed = read.map_err(|e| {
        // The length limit and a broken connection come as one error type.
        let text = e.to_string();
        if text.contains("length limit") {
            too_large("", limit)
        } else {
            refuse("broken-body", ServiceError::BadRequest(format!("the body broke off: {text}")))
        }
    })?;
    let encoding = headers
        .get(header::CONTENT_ENCODING)
        .and_then(|v| v.to_str().ok())
        .unwrap_or("identity")
        .trim()
        .to_ascii_lowercase();
    if encoding == "identity" || encoding.is_empty() {
        return Ok(packed);
    }
    if encoding != "gzip" && encoding != "zstd" {
        let told = format!("content-encoding `{encoding}` is not known; use gzip, zstd or none");
        return Err(refuse("unknown-encoding", ServiceError::Unsupported(told)));
    }
    let name = encoding.clone();
    let unpack = tokio::task::spawn_blocking(move || {
        let mut out = Vec::new();
        let bound = unpacked as u64 + 1;
        let read = match encoding.as_str() {
            "gzip" => flate2::read::MultiGzDecoder::new(&packed[..]).take(bound).read_to_end(&mut out),
            _ => zstd::Decoder::new(&packed[..]).and_then(|d| d.take(bound).read_to_end(&mut out)),
        };
        read.map(|_| out)
    });
    let out = unpack.await.map_err(|e| ServiceError::BadRequest(e.to_string()))?;
    let out =
        out.map_err(|e| refuse("broken-encoding", ServiceError::BadRequest(format!("the body is not {name}: {e}"))))?;
    if out.len() > unpacked {
        return Err(too_large(" when decompressed", unpacked));
    }
    Ok(out.into())
}
