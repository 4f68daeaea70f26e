//! Alert rules with their standing, alerts, and the notifications of them.

use super::access::Role;

named! {
    /// The states a rule can be in.
    #[derive(serde::Serialize, serde::Deserialize)]
    #[serde(rename_all = "lowercase")]
    pub enum RuleState {
        /// The condition is false.
        Quiet = "quiet",
        /// The condition is true, not yet for long enough.
        Building = "building",
        /// The condition is true, for long enough.
        Raised = "raised",
        /// The rule itself cannot run.
        Failing = "failing",
    }
}

named! {
    /// How a notification is delivered.
    pub enum NotifyBy {
        /// A signed POST to an address.
        Webhook = "webhook",
        /// A mail.
        Mail = "mail",
    }
}

named! {
    /// What a notification is about.
    pub enum AlertMove {
        /// The alert was raised.
        Raised = "raised",
        /// The alert ended.
        Ended = "ended",
        /// Late events undid the alert.
        Withdrawn = "withdrawn",
        /// None: an administrator tries whether messages arrive.
        Test = "test",
    }
}

/// A rule with its standing.
#[derive(Debug, Clone, PartialEq)]
#[allow(missing_docs)]
pub struct Rule {
    pub id: u32,
    pub name: String,
    /// As JSON.
    pub document: String,
    /// Of the document, from 1.
    pub revision: u32,
    pub webhook: Option<String>,
    pub webhook_secret: Option<String>,
    pub mail: Option<String>,
    pub owner_id: u32,
    pub owner: String,
    pub owner_role: Role,
    /// The worst of its groups' states.
    pub state: RuleState,
    pub since_ns: i64,
    pub judged_ns: Option<i64>,
    /// The value furthest beyond the bound, at the last judgement.
    pub value: Option<f64>,
    pub note: String,
    /// Nobody is notified until then.
    pub mute: Option<Mute>,
}

/// Why a rule notifies nobody for a while.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct Mute {
    pub until_ns: i64,
    pub by: String,
    pub why: String,
}

/// A group of a rule that is not quiet.
#[derive(Debug, Clone, PartialEq)]
pub struct RuleGroup {
    /// Of its name.
    pub hash: u64,
    /// Its values, as they are shown; empty where the rule judges all as one.
    pub name: String,
    /// Building or raised.
    pub state: RuleState,
    /// Since when.
    pub since_ns: i64,
    /// The last value judged.
    pub value: Option<f64>,
}

/// One raising of a rule.
#[derive(Debug, Clone, PartialEq)]
#[allow(missing_docs)]
pub struct Alert {
    pub id: u32,
    pub rule_id: u32,
    pub raised_ns: i64,
    pub ended_ns: Option<i64>,
    /// The value furthest beyond the bound.
    pub peak: Option<f64>,
    pub late: bool,
    pub taken_by: Option<String>,
    /// Of the rule that raised it.
    pub revision: u32,
    /// Late events undid it.
    pub withdrawn: bool,
    /// It was raised while the rule was muted, and nobody was notified yet.
    pub muted: bool,
    /// What was different when it was raised, as JSON.
    pub explanation: Option<String>,
    pub groups: Vec<AlertGroup>,
}

/// One group's raising within an alert.
#[derive(Debug, Clone, PartialEq)]
#[allow(missing_docs)]
pub struct AlertGroup {
    pub hash: u64,
    pub name: String,
    pub raised_ns: i64,
    pub ended_ns: Option<i64>,
    pub peak: Option<f64>,
    pub withdrawn: bool,
}

/// Whom rules notify, and how.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct Contact {
    pub name: String,
    pub webhook: Option<String>,
    pub webhook_secret: Option<String>,
    pub mail: Option<String>,
}

/// A notification.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct Notification {
    pub id: u64,
    pub alert_id: u32,
    pub by: NotifyBy,
    pub what: AlertMove,
    pub target: String,
    pub secret: Option<String>,
    pub payload: String,
    pub tries: u32,
    pub done_ns: Option<i64>,
    pub error: String,
}

/// What a judgement does to one alert.
#[derive(Debug, Clone, PartialEq)]
pub enum AlertChange {
    /// A new one, with its notifications.
    Raise {
        /// The alert; its id is given here.
        alert: Alert,
        /// To be sent.
        notify: Vec<Notification>,
    },
    /// An existing one moves.
    Update {
        /// As it stands now.
        alert: Alert,
        /// To be sent.
        notify: Vec<Notification>,
    },
}

/// A judgement to be committed.
#[derive(Debug, Clone)]
#[allow(missing_docs)]
pub struct Judgement {
    pub rule_id: u32,
    /// Of the document that was judged; it commits only if that still stands.
    pub revision: u32,
    /// The cursor read when the judgement began; it commits only if that still stands.
    pub judged_before_ns: Option<i64>,
    pub state: RuleState,
    pub since_ns: i64,
    pub judged_ns: i64,
    pub value: Option<f64>,
    pub note: String,
    /// Every group that is not quiet.
    pub groups: Vec<RuleGroup>,
    pub changes: Vec<AlertChange>,
}
