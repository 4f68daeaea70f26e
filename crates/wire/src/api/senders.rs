//! Types of keys and dials: who may send, and how much of it is kept.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// What a key may send; anything where nothing is said.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct KeyLimits {
    /// The services it may send for.
    #[schemars(inner(length(min = 1, max = 128)))]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub services: Vec<String>,
    /// The lanes it may send to.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub lanes: Vec<String>,
    /// Events a second; twice as many may come at once.
    #[schemars(range(min = 1))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub per_second: Option<u32>,
    /// Events a day (of UTC); what comes beyond is set aside.
    #[schemars(range(min = 1))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub day_events: Option<u64>,
    /// Bytes a day, as arrivals count them; what comes beyond is set aside.
    #[schemars(range(min = 1))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub day_bytes: Option<u64>,
    /// From when on it is no longer good, RFC 3339.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub until: Option<String>,
    /// Whether what it sends is a past that is moved in: then old events do not count as late.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub past: bool,
}

/// To make a sender's key.
#[derive(Debug, Clone, Default, Serialize, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct NewKey {
    /// What it is called.
    #[schemars(regex(pattern = r"^[A-Za-z0-9._-]{1,64}$"))]
    pub name: String,
    /// Fields stamped on every event.
    pub fixed: BTreeMap<String, String>,
    /// What it may send.
    pub limits: KeyLimits,
    /// The team that it belongs to.
    pub team: Option<String>,
}

/// To give a key another secret.
#[derive(Debug, Clone, Default, Serialize, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct Rotation {
    /// Seconds that its earlier secrets still work.
    #[schemars(range(max = 34_560_000))]
    pub overlap_s: u32,
}

/// A key as listed.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default)]
pub struct Key {
    /// What it is called.
    pub name: String,
    /// Fields stamped on every event.
    pub fixed: BTreeMap<String, String>,
    /// What it may send.
    pub limits: KeyLimits,
    /// RFC 3339.
    pub created: String,
    /// The team that it belongs to.
    pub team: Option<String>,
    /// RFC 3339; none if still good.
    pub revoked: Option<String>,
    /// When it last sent, RFC 3339; none if never.
    pub last_used: Option<String>,
    /// `in use`, `ended` or `revoked`.
    pub state: String,
    /// Its secrets, the newest first.
    pub secrets: Vec<KeySecret>,
    /// Events and bytes stored today.
    pub used_today: (u64, u64),
}

/// A secret of a key.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct KeySecret {
    /// How it begins.
    pub prefix: String,
    /// RFC 3339.
    pub created: String,
    /// From when on it is no longer good, RFC 3339; none where it has no end.
    pub until: Option<String>,
}

/// To set a dial.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct NewDial {
    /// For which events: a filter, as `service=slots logger^="slots.lease"`.
    pub when: String,
    /// The least severity kept of them, by name.
    #[schemars(extend("enum" = ["trace", "debug", "info", "warn", "error", "fatal"]))]
    pub least: String,
    /// Seconds after which it ends by itself; not given where `until` is.
    #[schemars(range(min = 1, max = 34_560_000))]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub for_s: Option<u64>,
    /// Or when it ends, RFC 3339; never where neither is given.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub until: Option<String>,
    /// Why it was set, for others.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub why: String,
    /// The team for whose keys it holds; for every sender where none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub team: Option<String>,
}

/// A dial.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default)]
pub struct Dial {
    /// Its number.
    pub id: u32,
    /// For which events.
    pub when: String,
    /// The least severity kept of them.
    pub least: String,
    /// When it ends, RFC 3339; never if none.
    pub until: Option<String>,
    /// Why it was set.
    pub why: String,
    /// Who set it.
    pub who: String,
    /// When, RFC 3339.
    pub set: String,
    /// Whether it still works.
    pub in_force: bool,
    /// The team for whose keys it holds; for every sender where none.
    pub team: Option<String>,
}
