//! Search, histogram, story, and checking a query while it is typed.

use crate::access::Reader;
use crate::error::Result;
use crate::search;
use crate::state::Shared;
use axum::Json;
use axum::extract::{Path, State};
use calvex_core::query::{Context, parse};
use calvex_wire::api::{HistogramAnswer, SearchAnswer, SearchRequest, StoryAnswer};
use serde_json::{Value, json};

/// `POST /api/search`
pub async fn search(
    State(app): State<Shared>,
    reader: Reader,
    Json(ask): Json<SearchRequest>,
) -> Result<Json<SearchAnswer>> {
    Ok(Json(search::search(&app, &reader, ask).await?))
}

/// `POST /api/histogram`
pub async fn histogram(
    State(app): State<Shared>,
    reader: Reader,
    Json(ask): Json<SearchRequest>,
) -> Result<Json<HistogramAnswer>> {
    Ok(Json(search::counts(&app, &reader, ask).await?))
}

/// `POST /api/check`: mistakes and warnings of a query, and its one form.
pub async fn check(State(app): State<Shared>, _reader: Reader, Json(ask): Json<SearchRequest>) -> Json<Value> {
    let parsed = parse(&ask.query, &Context::utc((app.clock)()));
    Json(json!({ "canonical": parsed.query.canonical(), "mistakes": parsed.mistakes, "warnings": parsed.warnings }))
}

/// `GET /api/story/{id}`
pub async fn story(State(app): State<Shared>, reader: Reader, Path(id): Path<String>) -> Result<Json<StoryAnswer>> {
    Ok(Json(search::story(&app, &reader, &id).await?))
}
