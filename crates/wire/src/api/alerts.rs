//! Types of alert rules, and of what they raised.

use calvex_answer::watch::{Bound, RuleDocument, Urgency};
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
    /// In one sentence.
    pub sentence: String,
    /// Its form: `threshold`, `share` ….
    pub form: String,
    /// The events that it looks at: a filter.
    pub query: String,
    pub document: RuleDocument,
    /// Of the document, from 1.
    pub revision: u32,
    pub bound: Bound,
    /// What the values are.
    pub unit: String,
    /// How long the window is, seconds.
    pub window_s: f64,
    pub webhook: Option<String>,
    pub mail: Option<String>,
    pub owner: String,
    /// `quiet`, `building`, `raised` or `failing`.
    pub state: String,
    /// RFC 3339.
    pub since: String,
    /// The last moment judged, RFC 3339; none before the first.
    pub judged: Option<String>,
    /// The value of the last judgement that is furthest beyond the bound.
    pub value: Option<f64>,
    /// Why it is failing, or what it cannot say yet.
    pub note: String,
    /// Nobody is notified for a while.
    pub muted: Option<MutedRule>,
    /// Groups that are building or raised, the first 50.
    pub groups: Vec<GroupOfRule>,
}

/// Why a rule notifies nobody for a while.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct MutedRule {
    /// Until when, RFC 3339.
    pub until: String,
    /// Who muted it.
    pub by: String,
    /// Why.
    pub why: String,
}

/// A rule to be muted.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct MuteRule {
    /// For how long, as 2h or 3d; 30 d at most. Not given, it notifies again.
    #[serde(rename = "for")]
    pub length: Option<String>,
    /// Why; whoever looks at the rule reads it.
    pub why: String,
}

/// A group of a rule that is not quiet.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[allow(missing_docs)]
pub struct GroupOfRule {
    pub name: String,
    /// `building` or `raised`.
    pub state: String,
    /// RFC 3339.
    pub since: String,
    pub value: Option<f64>,
}

/// A rule's document to be applied: a rule of its name is made or changed.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct ApplyRule {
    /// TOML or JSON.
    pub document: String,
    /// Only say what would change.
    pub dry_run: bool,
}

/// What applying a document did, or would do.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct AppliedRule {
    /// The rule.
    pub name: String,
    /// `made`, `changed` or `as it was`.
    pub what: String,
    /// The rule in one sentence.
    pub sentence: String,
    /// Contacts that it names and that are not there.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub unknown_contacts: Vec<String>,
}

/// Whom rules notify.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct ContactListed {
    /// What rules call it.
    pub name: String,
    /// Where a signed webhook goes.
    pub webhook: Option<String>,
    /// Whom mail goes to.
    pub mail: Option<String>,
}

/// A contact just made or changed; a new secret that signs its webhooks is shown this once.
#[derive(Debug, Clone, Default, Serialize, Deserialize, JsonSchema)]
#[allow(missing_docs)]
pub struct MadeContact {
    pub name: String,
    pub webhook_secret: Option<String>,
}

/// Why an alert was raised.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Explained {
    /// What is different from just before, in one line.
    pub headline: String,
    /// The best findings.
    pub lines: Vec<ExplainedLine>,
    /// Changes made just before: when and what.
    pub marks: Vec<String>,
    /// The trace of one story of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub story: Option<String>,
}

/// One thing that is different.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ExplainedLine {
    /// The value or shape.
    pub what: String,
    /// Its share or rate before.
    pub baseline: String,
    /// And now.
    pub current: String,
    /// What finds its events.
    pub query: String,
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
    /// The rule in one sentence, as it is now.
    pub sentence: String,
    pub query: String,
    /// How long the window is, seconds.
    pub window_s: f64,
    pub bound: Bound,
    /// What the values are.
    pub unit: String,
    /// `page` or `ticket`.
    pub urgency: Urgency,
    /// For whoever is woken.
    pub note: String,
    /// Where it stands what to do.
    pub runbook: String,
    /// RFC 3339: the moment judged.
    pub raised: String,
    /// RFC 3339; none while raised.
    pub ended: Option<String>,
    /// The value furthest beyond the bound.
    pub peak: Option<f64>,
    /// Judged only after late events had come.
    pub late: bool,
    /// Late events undid it.
    pub withdrawn: bool,
    /// Raised while the rule was muted: nobody was notified.
    pub muted: bool,
    /// Who took it.
    pub taken_by: Option<String>,
    /// Its groups, the first 50.
    pub groups: Vec<GroupOfAlert>,
    /// How many groups.
    pub group_count: usize,
    /// Why it was raised.
    pub explanation: Option<Explained>,
    /// What became of the notifications: kind, target, state.
    pub notified: Vec<Notified>,
}

/// One group's raising.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[allow(missing_docs)]
pub struct GroupOfAlert {
    pub name: String,
    /// RFC 3339.
    pub raised: String,
    /// RFC 3339; none while raised.
    pub ended: Option<String>,
    pub peak: Option<f64>,
    pub withdrawn: bool,
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
