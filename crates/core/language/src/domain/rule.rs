//! Alert rules with their standing, and alerts.

use super::contact::Notification;

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
    }
}

named! {
    /// What a rule suffers from, beside its state, which it does not change.
    pub enum RuleCondition {
        /// What it judges does not come: its senders are silent.
        Blind = "blind",
        /// It cannot run.
        Failing = "failing",
        /// Too little has come to judge by.
        Learning = "learning",
    }
}

named! {
    /// Why an alert ended, where its values did not end it.
    pub enum Closed {
        /// The rule was changed.
        Changed = "rule changed",
        /// The rule was removed.
        Removed = "rule removed",
        /// It was raised by a clock that ran ahead.
        TakenBack = "taken back",
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
    /// When the document was changed last; 0 where it never was.
    pub changed_ns: i64,
    pub webhook: Option<String>,
    pub webhook_secret: Option<String>,
    pub mail: Option<String>,
    pub owner_id: u32,
    pub owner: String,
    /// The team it runs as; its owner, if none.
    pub team_id: Option<u32>,
    pub team: Option<String>,
    /// The worst of its groups' states.
    pub state: RuleState,
    pub since_ns: i64,
    pub judged_ns: Option<i64>,
    /// The value furthest beyond the bound, at the last judgement.
    pub value: Option<f64>,
    pub condition: Option<RuleCondition>,
    pub note: String,
    /// Of what nobody is notified until when.
    pub mutes: Vec<Mute>,
}

/// Why nobody is notified of a rule, or of some of its groups, for a while.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct Mute {
    /// Over the fields that the rule judges apart; empty for all of it.
    pub filter: String,
    pub until_ns: i64,
    pub by: String,
    pub why: String,
}

/// A document that a rule had, or has.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct RuleVersion {
    pub revision: u32,
    /// As JSON.
    pub document: String,
    pub by: String,
    /// 0 where it was not recorded.
    pub changed_ns: i64,
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
    /// All of it was muted as it was raised, and nobody was notified yet.
    pub muted: bool,
    /// Why it ended, where its values did not end it.
    pub closed: Option<Closed>,
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
    /// Nobody is notified of this group.
    pub muted: bool,
}

/// What a person wrote down about an alert.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct AlertNote {
    pub by: String,
    pub at_ns: i64,
    pub text: String,
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
    pub condition: Option<RuleCondition>,
    pub note: String,
    /// Every group that is not quiet.
    pub groups: Vec<RuleGroup>,
    pub changes: Vec<AlertChange>,
}
