//! Each request has an id: the sender's own where it gives one, else a random one. It goes back in `x-request-id`, and
//! stands in every line of the service's log that is written while the request is worked on.

use axum::Router;
use axum::http::{HeaderName, HeaderValue, Request};
use std::time::Duration;
use tower_http::classify::ServerErrorsFailureClass;
use tower_http::request_id::{MakeRequestId, PropagateRequestIdLayer, RequestId, SetRequestIdLayer};
use tower_http::trace::TraceLayer;
use tracing::Span;

const HEADER: HeaderName = HeaderName::from_static("x-request-id");
/// Longest id that is taken over.
const MAX_ID: usize = 64;

#[derive(Clone, Copy)]
struct Random;

impl MakeRequestId for Random {
    fn make_request_id<B>(&mut self, _request: &Request<B>) -> Option<RequestId> {
        HeaderValue::from_str(&format!("{:016x}", rand::random::<u64>())).ok().map(RequestId::new)
    }
}

fn span<B>(request: &Request<B>) -> Span {
    let id = request.headers().get(HEADER).and_then(|v| v.to_str().ok()).unwrap_or("");
    tracing::info_span!("request", id, method = %request.method(), path = request.uri().path())
}

/// Gives every request of a router its id.
pub fn identified(router: Router) -> Router {
    let failed = |class: ServerErrorsFailureClass, took: Duration, _: &Span| {
        tracing::warn!(took_ms = took.as_millis() as u64, "answered {class}");
    };
    router
        .layer(PropagateRequestIdLayer::new(HEADER))
        .layer(TraceLayer::new_for_http().make_span_with(span).on_request(()).on_failure(failed))
        .layer(SetRequestIdLayer::new(HEADER, Random))
        // An id too long to be one is replaced.
        .layer(axum::middleware::map_request(async |mut request: axum::extract::Request| {
            if request.headers().get(HEADER).is_some_and(|id| id.len() > MAX_ID || id.to_str().is_err()) {
                request.headers_mut().remove(HEADER);
            }
            request
        }))
}
