//! What every request to the interface passes first. A body is read for those alone who may send one, within a time and
//! a size, and charged to a budget before it is held; a stranger may send no more than a name and a password.

use crate::admission::budget::Owner;
use crate::auth::Reader;
use crate::auth::peer::Peer;
use crate::error::{Result, ServiceError};
use crate::state::Auth;
use axum::body::Body;
use axum::extract::{Request, State};
use axum::http::{HeaderValue, Method, header};
use axum::middleware::Next;
use axum::response::Response;
use futures_util::StreamExt;
use std::sync::Arc;

/// Bytes of a sign-in.
const MAX_SIGN_IN: usize = 4 << 10;
/// Bytes of any other request's body.
const MAX_BODY: usize = 2 << 20;
/// The only paths whose body a stranger may send: a name and a password, or a one-time code and a password.
const OPEN: [&str; 2] = ["/login", "/redeem"];

/// Reads the body, and lets the request through; answers are kept by nobody on the way.
pub async fn pass(State(auth): State<Arc<Auth>>, request: Request, next: Next) -> Result<Response> {
    let (mut parts, body) = request.into_parts();
    let path = parts.uri.path().trim_end_matches('/');
    let (owner, limit) =
        if OPEN.iter().any(|open| path.strip_suffix(open).is_some_and(|root| root.is_empty() || root == "/api")) {
            let from = parts.extensions.get::<Peer>().map(|p| p.0);
            (from.map_or(Owner::Stranger, Owner::Address), MAX_SIGN_IN)
        } else if matches!(parts.method, Method::POST | Method::PUT | Method::DELETE | Method::PATCH) {
            let reader = Reader::of_request(&parts, &auth).await?;
            let owner = Owner::Person(reader.who.user_id);
            parts.extensions.insert(reader);
            (owner, MAX_BODY)
        } else {
            (Owner::Stranger, 0)
        };
    let mut charge = auth.api_budget.charge(owner);
    let (mut bytes, mut frames) = (Vec::new(), body.into_data_stream());
    let reading = async {
        while let Some(frame) = frames.next().await {
            let frame = frame.map_err(|e| ServiceError::BadRequest(format!("the body broke off: {e}")))?;
            let needed = bytes.len() + frame.len();
            if needed > limit {
                return Err(ServiceError::TooLarge(format!("the body is larger than {limit} bytes")));
            }
            charge.set_patiently(needed).await?;
            bytes.reserve_exact(frame.len());
            bytes.extend_from_slice(&frame);
        }
        Ok(())
    };
    let patience = auth.base.settings.seconds("limits.request_s");
    let late = || ServiceError::TooSlow(format!("the body did not come within {} s", patience.as_secs()));
    tokio::time::timeout(patience, reading).await.map_err(|_| late())??;
    let mut response = next.run(Request::from_parts(parts, Body::from(bytes))).await;
    response.headers_mut().entry(header::CACHE_CONTROL).or_insert(HeaderValue::from_static("no-store"));
    Ok(response)
}
