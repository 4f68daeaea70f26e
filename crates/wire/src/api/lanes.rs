//! Lanes, the routes to them, and the chunks their events stand in.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A lane.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Lane {
    /// Letters, digits, `-`, `_` and `.`, the same as in the address.
    #[schemars(regex(pattern = r"^[A-Za-z0-9._-]{1,64}$"))]
    pub name: String,
    /// Days that events are kept after their own day.
    #[schemars(range(min = 1, max = 36_500))]
    pub retention_days: u32,
    /// Whether those who may not read it may know that it exists.
    #[serde(default = "yes")]
    pub listed: bool,
    /// Events it takes a day (of UTC); any number if none. What comes beyond is set aside.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub day_events: Option<u64>,
    /// Bytes it takes a day, as arrivals count them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub day_bytes: Option<u64>,
    /// The team that owns it: its people manage it. Left out, it stays; empty for none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub owner: Option<String>,
    /// Whether each time that somebody reads it is recorded. Left out, it stays.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub audited: Option<bool>,
    /// Events in sealed chunks; set by the service.
    #[serde(default)]
    pub sealed_events: u64,
    /// Bytes of sealed chunks; set by the service.
    #[serde(default)]
    pub sealed_bytes: u64,
}

fn yes() -> bool {
    true
}

/// A route; they are tried in order.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Route {
    /// Which events.
    pub filter: String,
    /// Where they go.
    pub lane: String,
    /// The team for whose keys it holds; for every sender where none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub team: Option<String>,
}

/// A chunk as the catalogue knows it.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ChunkSummary {
    /// In hex.
    pub id: String,
    /// The lane's name.
    pub lane: String,
    /// The earliest event, RFC 3339.
    pub from: String,
    /// The latest event, RFC 3339.
    pub to: String,
    /// Events.
    pub rows: u32,
    /// Bytes of all segments.
    pub bytes: u64,
    /// How many segments.
    pub segments: u16,
    /// Whether its events came late.
    pub late: bool,
}

/// A node of the database.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct NodeListed {
    /// Its name.
    pub name: String,
    /// Its number, which stands in the ids of its events.
    pub slot: u16,
    /// Raised by every start.
    pub epoch: u32,
    /// Moved every second while it lives.
    pub beat: u64,
    /// Whether it was started and has not stopped in order.
    pub alive: bool,
    /// The version of calvex that it runs.
    pub version: String,
    /// It takes no events and no duties.
    pub draining: bool,
    /// What it does for all nodes: `rules`, `messages`, `merging`, `expiry`.
    pub duties: Vec<String>,
    /// At its last beat: milliseconds since it looked at what the others did.
    pub looked_ms: u32,
    /// The database server that took its last beat.
    pub server: String,
    /// Where browsers reach it, by its `node.url`; empty where that is not set.
    pub url: String,
    /// Seconds for which its beat has stood still, as the node that answers sees it, from two on.
    pub still_s: Option<u64>,
    /// Whether it is the one that answers.
    pub answers: bool,
}

/// What is changed of a node.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NodeChange {
    /// Whether it is to take no events and no duties.
    pub draining: bool,
}
