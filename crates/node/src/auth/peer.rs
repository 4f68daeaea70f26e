//! Where a request came from.

use crate::error::{Result, ServiceError};
use axum::extract::FromRequestParts;
use axum::http::request::Parts;

/// The address that a request came from.
#[derive(Debug, Clone, Copy)]
pub struct Peer(pub std::net::IpAddr);

impl<S: Send + Sync> FromRequestParts<S> for Peer {
    type Rejection = ServiceError;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self> {
        let missing = || ServiceError::BadRequest("the address of the request is not known".into());
        parts.extensions.get::<Peer>().copied().ok_or_else(missing)
    }
}
