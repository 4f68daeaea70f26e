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
    }
}

/// A rule with its standing.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct Rule {
    pub id: u32,
    pub name: String,
    pub query: String,
    pub window_s: u32,
    pub above: u64,
    pub hold_s: u32,
    pub delay_s: u32,
    pub late_s: u32,
    pub webhook: Option<String>,
    pub webhook_secret: Option<String>,
    pub mail: Option<String>,
    pub owner_id: u32,
    pub owner: String,
    pub owner_role: Role,
    pub state: RuleState,
    pub since_ns: i64,
    pub judged_ns: Option<i64>,
    pub count: u64,
    pub note: String,
}

/// One raising of a rule.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct Alert {
    pub id: u32,
    pub rule_id: u32,
    pub raised_ns: i64,
    pub ended_ns: Option<i64>,
    pub peak: u64,
    pub late: bool,
    pub taken_by: Option<String>,
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
#[derive(Debug, Clone, PartialEq, Eq)]
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
    /// The cursor read when the judgement began; it commits only if that still stands.
    pub judged_before_ns: Option<i64>,
    pub state: RuleState,
    pub since_ns: i64,
    pub judged_ns: i64,
    pub count: u64,
    pub note: String,
    pub changes: Vec<AlertChange>,
}
