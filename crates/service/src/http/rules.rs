//! Rules as documents: checked, and played over the past.

use super::ask::Ask;
use crate::answer::rehearse;
use crate::auth::Reader;
use crate::error::Result;
use crate::state::Reading;
use axum::Json;
use axum::extract::State;
use calvex_wire::api::{CheckedRule, RehearsalAnswer, RehearseRequest, RuleText};
use std::sync::Arc;

/// `POST /api/rules/check`: what a document says, in a sentence, or all that is wrong with it.
pub async fn check(State(reading): State<Arc<Reading>>, _reader: Reader, Ask(ask): Ask<RuleText>) -> Json<CheckedRule> {
    Json(rehearse::check(&reading, &ask.document))
}

/// `POST /api/rules/rehearse`: when a rule would have been raised, as the reader sees events.
pub async fn rehearse(
    State(reading): State<Arc<Reading>>,
    reader: Reader,
    Ask(ask): Ask<RehearseRequest>,
) -> Result<Json<RehearsalAnswer>> {
    Ok(Json(rehearse::rehearse(&reading, &reader, ask).await?))
}
