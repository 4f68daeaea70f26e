//! Types of alert rules, and of what they raised.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// An alert rule to be made.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct NewRule {
    /// What it is called.
    #[schemars(length(min = 1, max = 128))]
    pub name: String,
    /// Which events are counted: a filter.
    pub query: String,
    /// Length of the window in seconds.
    #[schemars(range(min = 5, max = 604_800))]
    pub window_s: u32,
    /// Raised when the count in the window is above.
    pub above: u64,
    /// Seconds the condition must hold first.
    pub hold_s: u32,
    /// Seconds after a window's end until it is judged; 30 if not given.
    pub delay_s: Option<u32>,
    /// How far back late events may have windows judged again; 3600 if not given.
    pub late_s: Option<u32>,
    /// Where a signed webhook goes.
    pub webhook: Option<String>,
    /// Whom mail goes to.
    pub mail: Option<String>,
}

/// A rule as listed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[allow(missing_docs)]
pub struct Rule {
    pub id: u64,
    pub name: String,
    pub query: String,
    pub window_s: u32,
    pub above: u64,
    pub hold_s: u32,
    pub delay_s: u32,
    pub late_s: u32,
    pub webhook: Option<String>,
    pub mail: Option<String>,
    pub owner: String,
    /// `quiet`, `building`, `raised` or `failing`.
    pub state: String,
    /// RFC 3339.
    pub since: String,
    /// The last moment judged, RFC 3339; none before the first.
    pub judged: Option<String>,
    /// The count of the last window judged.
    pub count: u64,
    /// Why it is failing.
    pub note: String,
}

/// A rule just made; the secret that signs its webhooks is shown this once.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
#[allow(missing_docs)]
pub struct MadeRule {
    pub id: u64,
    pub webhook_secret: Option<String>,
}

/// One raising of a rule.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[allow(missing_docs)]
pub struct Alert {
    pub id: u64,
    pub rule: String,
    pub query: String,
    pub window_s: u32,
    pub above: u64,
    /// RFC 3339: the moment judged.
    pub raised: String,
    /// RFC 3339; none while raised.
    pub ended: Option<String>,
    /// Largest count seen.
    pub peak: u64,
    /// Judged only after late events had come.
    pub late: bool,
    /// Who took it.
    pub taken_by: Option<String>,
    /// What became of the notifications: kind, target, state.
    pub notified: Vec<Notified>,
}

/// One notification of an alert.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[allow(missing_docs)]
pub struct Notified {
    /// `webhook` or `mail`.
    pub kind: String,
    pub target: String,
    /// `raised` or `ended`.
    pub what: String,
    /// `sent`, `waiting` or the last error.
    pub state: String,
}
