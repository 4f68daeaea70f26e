//! Error groups, and what people say about them.

use super::ask::Ask;
use super::queries::answer;
use crate::answer::errors;
use crate::auth::{Editor, Reader};
use crate::error::Result;
use crate::state::Reading;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::Response;
use calvex_wire::api::{ErrorsRequest, SayOfGroup};
use std::sync::Arc;

/// `POST /api/errors`: the failures of a range, folded into problems.
pub async fn groups(
    State(reading): State<Arc<Reading>>,
    reader: Reader,
    headers: HeaderMap,
    Ask(ask): Ask<ErrorsRequest>,
) -> Result<Response> {
    answer(&headers, move |listener| async move { errors::errors(&reading, &reader, ask, listener).await }).await
}

/// `PUT /api/errors/{id}`: says that a group is known, resolved, or new after all.
pub async fn say(
    State(reading): State<Arc<Reading>>,
    Editor(reader): Editor,
    Path(id): Path<String>,
    Ask(ask): Ask<SayOfGroup>,
) -> Result<StatusCode> {
    errors::say(&reading, &reader, &id, ask).await?;
    Ok(StatusCode::NO_CONTENT)
}
