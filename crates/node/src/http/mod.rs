//! HTTP as far as events and questions pass it: what surrounds every request on its way in and out, the paths that
//! senders use, and the handlers of questions. The table of the interface's paths, and the handlers of all else, are
//! `calvex-service`'s.

pub mod ask;
pub mod errors;
mod gate;
pub mod queries;
mod request_id;

use crate::error::ServiceError;
use crate::intake::{post_events, post_logs, post_metrics, post_traces};
use crate::state::Parts;
use axum::Router;
use axum::http::{HeaderName, HeaderValue, StatusCode, header};
use axum::middleware::{from_fn_with_state, map_response};
use axum::response::{IntoResponse, Response};
use axum::routing::{MethodRouter, post};
use request_id::identified;
use tower_http::catch_panic::CatchPanicLayer;
use tower_http::compression::CompressionLayer;
use tower_http::set_header::SetResponseHeaderLayer;

/// Largest plain-text error that is re-wrapped as a problem document.
const MAX_PLAIN_ERROR: usize = 4096;

/// The interface behind its gate: who asks is known and bounded before a body is read.
pub fn gated(parts: &Parts, api: Router<Parts>) -> Router<Parts> {
    api.fallback(no_such_path).layer(from_fn_with_state(parts.auth.clone(), gate::pass))
}

/// All of the main port: interface and console, and the paths that senders use, of which `level` shows a sender its dials.
pub fn served(parts: Parts, pages: Router<Parts>, level: MethodRouter<Parts>, content_policy: &'static str) -> Router {
    // Before anything is compressed: what is turned into a problem must still be readable.
    let pages = pages.layer(map_response(as_problem)).layer(CompressionLayer::new());
    let set = |name: HeaderName, value| SetResponseHeaderLayer::if_not_present(name, HeaderValue::from_static(value));
    let all = pages
        .merge(intake(level).layer(map_response(as_problem)))
        .layer(set(header::CONTENT_SECURITY_POLICY, content_policy))
        .layer(set(header::X_CONTENT_TYPE_OPTIONS, "nosniff"))
        .layer(set(header::REFERRER_POLICY, "no-referrer"))
        .layer(CatchPanicLayer::new());
    // A browser that once came by TLS comes by nothing else for a year (RFC 6797).
    let all = match parts.base.addresses.encrypted {
        true => all.layer(set(header::STRICT_TRANSPORT_SECURITY, "max-age=31536000")),
        false => all,
    };
    identified(all.with_state(parts))
}

/// Only what sends: for OTLP's standard port.
pub fn sending(parts: Parts, level: MethodRouter<Parts>) -> Router {
    let paths = intake(level).fallback(no_such_path).layer(map_response(as_problem));
    paths.layer(CatchPanicLayer::new()).with_state(parts)
}

/// What the framework answered to a request that is none, in plain text or without a word, as a problem.
async fn as_problem(response: Response) -> Response {
    let plain = |v: &HeaderValue| v.as_bytes().starts_with(b"text/plain");
    if !response.status().is_client_error() || !response.headers().get(header::CONTENT_TYPE).is_none_or(plain) {
        return response;
    }
    let status = response.status();
    if status == StatusCode::METHOD_NOT_ALLOWED {
        let allowed = response.headers().get(header::ALLOW).cloned();
        let methods = allowed.as_ref().and_then(|v| v.to_str().ok()).unwrap_or("another method").to_owned();
        let mut problem = ServiceError::WrongMethod(methods).into_response();
        problem.headers_mut().extend(allowed.map(|methods| (header::ALLOW, methods)));
        return problem;
    }
    let reported = axum::body::to_bytes(response.into_body(), MAX_PLAIN_ERROR).await.unwrap_or_default();
    let reported = String::from_utf8_lossy(&reported).into_owned();
    match status {
        StatusCode::UNSUPPORTED_MEDIA_TYPE => ServiceError::Unsupported(format!("{reported}; send application/json")),
        StatusCode::PAYLOAD_TOO_LARGE => ServiceError::TooLarge(reported),
        _ => ServiceError::BadRequest(format!("{reported}; GET /api/openapi.json shows what is taken")),
    }
    .into_response()
}

/// The paths that senders use, each with a slash behind it too: joined to an address that ends in one they still fit.
fn intake(level: MethodRouter<Parts>) -> Router<Parts> {
    let paths = [
        ("/v1/events", post(post_events)),
        ("/v1/logs", post(post_logs)),
        ("/v1/traces", post(post_traces)),
        ("/v1/metrics", post(post_metrics)),
        ("/v1/dials", level),
    ];
    let both = |router: Router<Parts>, (path, answer): (&str, MethodRouter<Parts>)| {
        router.route(path, answer.clone()).route(&format!("{path}/"), answer)
    };
    paths.into_iter().fold(Router::new(), both)
}

/// What a path that does not exist is answered.
pub async fn no_such_path() -> ServiceError {
    let ways = "events go to /v1/events, OTLP to /v1/logs and /v1/traces";
    calvex_store::StoreError::Missing(format!("such path; {ways}, GET /api/openapi.json lists the others")).into()
}
