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
    /// Whether the one who asks may change it.
    pub may_change: bool,
    pub bound: Bound,
    /// What the values are.
    pub unit: String,
    /// How long the window is, seconds.
    pub window_s: f64,
    pub webhook: Option<String>,
    pub mail: Option<String>,
    pub owner: String,
    /// The team that it runs as; its owner, if none.
    pub team: Option<String>,
    /// `quiet`, `building` or `raised`.
    pub state: String,
    /// What it suffers from beside: `blind` (what it judges does not come), `failing` (it cannot run) or `learning`.
    pub condition: Option<String>,
    /// RFC 3339.
    pub since: String,
    /// The last moment judged, RFC 3339; none before the first.
    pub judged: Option<String>,
    /// The value of the last judgement that is furthest beyond the bound.
    pub value: Option<f64>,
    /// Why it is blind, failing or learning, or that it has more groups than are judged.
    pub note: String,
    /// Of what nobody is notified for a while.
    pub muted: Vec<MutedRule>,
    /// When it was raised in the last seven days, the latest first; 100 at most.
    pub lately: Vec<super::RaisedInTruth>,
    /// Groups that are building or raised, the first 50.
    pub groups: Vec<GroupOfRule>,
}

/// Why nobody is notified of a rule, or of some of its groups, for a while.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct MutedRule {
    /// Of which groups: a filter over what the rule judges apart; empty for all.
    #[serde(rename = "where")]
    pub filter: String,
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
    /// Which groups: a filter over the fields that the rule judges apart; all of them where it is not given.
    #[serde(rename = "where")]
    pub filter: Option<String>,
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
    /// The team that a rule which is made runs as; one's own if none.
    pub team: Option<String>,
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
    /// The team whose it is: rules of this team alone notify it. Any rule may, if none.
    pub team: Option<String>,
    /// Where a signed webhook goes.
    pub webhook: Option<String>,
    /// Whom mail goes to.
    pub mail: Option<String>,
    /// When it is notified, as `mon-fri 08:00-18:00, sat 10:00-12:00`; always if empty.
    pub hours: String,
    /// The time zone of the hours; UTC if empty.
    pub zone: String,
    /// The contact that is notified outside of the hours, and where nobody takes an alert in time.
    pub next: Option<String>,
    /// How long somebody has to take it, as 15m; 15 m if empty.
    pub after: String,
    /// How often an alert that nobody took is repeated, as 1h; never if empty.
    pub repeat: String,
    /// Messages an hour at most; 60 if not given.
    pub hourly: Option<u32>,
    /// How often it hears that Calvex works, as 5m; never if empty.
    pub heartbeat: String,
    /// Makes a new secret that signs its webhooks; the old one signs too for a day.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub rotate: bool,
    /// Since when messages to it do not arrive, RFC 3339. Read, never set.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub failing_since: Option<String>,
    /// When it heard last that Calvex works, RFC 3339, and why not since. Read, never set.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub last_heartbeat: Option<String>,
    /// See there.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub heartbeat_error: String,
}

/// A version of a rule.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[allow(missing_docs)]
pub struct RuleVersion {
    pub revision: u32,
    /// Who made it.
    pub by: String,
    /// When, RFC 3339; none where it was not recorded.
    pub at: Option<String>,
    pub document: RuleDocument,
}

/// Something to be written down about an alert.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct NoteAlert {
    /// 1 to 2,000 letters.
    pub text: String,
}

/// What a person wrote down about an alert.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[allow(missing_docs)]
pub struct NoteOfAlert {
    pub by: String,
    /// RFC 3339.
    pub at: String,
    pub text: String,
}

/// One alert with what people wrote down and each try to notify of it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[allow(missing_docs)]
pub struct AlertInFull {
    #[serde(flatten)]
    pub alert: Alert,
    pub notes: Vec<NoteOfAlert>,
    pub messages: Vec<Message>,
}

/// One message, with each try to deliver it.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[allow(missing_docs)]
pub struct Message {
    pub id: u64,
    /// What it is about: a rule, or a contact.
    pub rule: String,
    /// The contact; empty for a way that the rule has of its own.
    pub contact: String,
    /// `webhook` or `mail`.
    pub kind: String,
    pub target: String,
    /// `raised`, `repeated`, `ended`, `withdrawn`, `held-back` or `unreachable`.
    pub what: String,
    /// When it was to be sent first, RFC 3339.
    pub due: String,
    /// `sent`, `waiting`, why it was never sent, or the last error.
    pub state: String,
    /// The latest first, 200 at most.
    pub tries: Vec<Tried>,
}

/// One try to deliver a message.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Tried {
    /// When, RFC 3339.
    pub at: String,
    /// Why it did not arrive; empty where it did.
    pub error: String,
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
    /// Kinds of failure that were never seen before.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub new_errors: Vec<String>,
    /// The trace of one story of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub story: Option<String>,
    /// The values of the last hours, of the group that was raised first.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub strip: Option<ExplainedStrip>,
}

/// The values before an alert.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ExplainedStrip {
    /// When the first bar begins, RFC 3339.
    pub from: String,
    /// How long each bar is, seconds.
    pub step_s: f64,
    /// Of each the value furthest beyond the bound; none where nothing can be said.
    pub values: Vec<Option<f64>>,
    /// When a value is so.
    pub bound: Bound,
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
    /// All of it was muted as it was raised: nobody was notified.
    pub muted: bool,
    /// Why it ended, where its values did not end it: `rule changed` or `taken back`.
    pub closed: Option<String>,
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
    /// Nobody is notified of this group.
    pub muted: bool,
}

/// One notification of an alert.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[allow(missing_docs)]
pub struct Notified {
    /// `webhook` or `mail`.
    pub kind: String,
    pub target: String,
    /// `raised`, `repeated`, `ended` or `withdrawn`.
    pub what: String,
    /// `sent`, `waiting`, why it was never sent, or the last error.
    pub state: String,
}
