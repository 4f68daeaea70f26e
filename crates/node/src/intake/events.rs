//! `POST /v1/events`: NDJSON, or one JSON array of events.

use super::{body, take};
use crate::error::Result;
use crate::intake::sender::sender;
use crate::state::Receiving;
use axum::Json;
use axum::body::Body;
use axum::extract::State;
use axum::http::HeaderMap;
use calvex_intake::batch::{BatchBuilder, Reading};
use calvex_store::StoreError;
use calvex_wire::api::SendAnswer;
use calvex_wire::ndjson;
use std::sync::Arc;

/// Takes newline-delimited JSON. The media type is not looked at: what is not JSON refuses itself line by line.
pub async fn post_events(
    State(receiving): State<Arc<Receiving>>,
    headers: HeaderMap,
    content: Body,
) -> Result<Json<SendAnswer>> {
    let sender = sender(&receiving.auth, &headers).await?;
    let received = body::read(&receiving, &sender, &headers, content).await?;
    let bytes = received.bytes.clone();
    let decode = move |batch: &mut BatchBuilder, reading: &mut Reading| {
        Ok(ndjson::decode(&bytes, batch, reading).map_err(StoreError::Core)?)
    };
    Ok(Json(take(&receiving, &headers, sender, super::Body::received(received, decode)).await?))
}
