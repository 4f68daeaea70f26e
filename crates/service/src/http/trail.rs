//! The audit trail, as auditors read and check it.

use axum::Json;
use axum::extract::{Query, State};
use calvex_language::domain::trail::Entry;
use calvex_language::model::time::{format_utc, parse_time};
use calvex_language::model::to_hex;
use calvex_node::auth::Auditor;
use calvex_node::error::{Result, ServiceError};
use calvex_node::state::Base;
use calvex_store::records::TrailAsk;
use calvex_wire::api::{TrailEntry, TrailVerified};
use std::sync::Arc;

/// Entries where the request names no number, and at most.
const LIMIT: u32 = 100;
const MAX_LIMIT: u32 = 1_000;
/// Checks of the whole trail at once.
static CHECKING: tokio::sync::Semaphore = tokio::sync::Semaphore::const_new(1);

/// Which entries are asked for.
#[derive(Debug, Default, serde::Deserialize, schemars::JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct TrailQuery {
    /// From this time on, RFC 3339.
    pub from: Option<String>,
    /// Before this time, RFC 3339.
    pub to: Option<String>,
    /// Of this person, team or program alone.
    pub who: Option<String>,
    /// With this in their words.
    pub word: Option<String>,
    /// Before the entry of this id.
    pub before: Option<u64>,
    /// At most so many; 100 if not given.
    pub limit: Option<u32>,
}

fn time(text: Option<&str>) -> Result<Option<i64>> {
    let wrong =
        |text: &str| ServiceError::BadRequest(format!("`{text}` is no time; write one such as 2026-10-04T02:10:00Z"));
    text.filter(|t| !t.is_empty()).map(|t| parse_time(t).ok_or_else(|| wrong(t))).transpose()
}

/// `GET /api/trail`: the latest first.
pub async fn trail(
    State(base): State<Arc<Base>>,
    Auditor(_): Auditor,
    Query(asked): Query<TrailQuery>,
) -> Result<Json<Vec<TrailEntry>>> {
    let some = |text: &Option<String>| text.clone().filter(|t| !t.is_empty());
    let (who, word) = (some(&asked.who), some(&asked.word));
    let ask = TrailAsk {
        from_ns: time(asked.from.as_deref())?,
        to_ns: time(asked.to.as_deref())?,
        who: who.as_deref(),
        word: word.as_deref(),
        before_id: asked.before,
        limit: asked.limit.unwrap_or(LIMIT).clamp(1, MAX_LIMIT),
    };
    let listed = |(id, e): (u64, Entry)| TrailEntry {
        id,
        at: format_utc(e.at_ns, 3),
        link: (e.n > 0).then(|| format!("{}/{}/{}", e.node, e.epoch, e.n)),
        who: e.who,
        token: e.token,
        act: e.act,
        what: e.what,
        before: e.before,
    };
    Ok(Json(base.store.trail(&ask).await?.into_iter().map(listed).collect()))
}

/// `POST /api/trail/verify`: checks every link.
pub async fn verify(State(base): State<Arc<Base>>, Auditor(auditor): Auditor) -> Result<Json<TrailVerified>> {
    let busy = |_| ServiceError::Busy("the trail is being checked already; try again later".into(), 5);
    let _alone = CHECKING.try_acquire().map_err(busy)?;
    base.store.audit(&auditor.act(&base, "check audit trail", "")).await?;
    let checked = base.store.check_trail().await?;
    let head = |(node, epoch, n, hash): (u16, u32, u64, [u8; 32])| format!("{node}/{epoch}/{n} {}", to_hex(&hash));
    Ok(Json(TrailVerified {
        entries: checked.entries,
        unchained: checked.unchained,
        broken: checked.broken.map(|broken| broken.to_string()),
        heads: checked.heads.into_iter().map(head).collect(),
    }))
}
