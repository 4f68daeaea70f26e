//! Types of rules as documents: what one says, and what it would have done.

use super::RangeAnswer;
use calvex_answer::scan::Explanation;
use calvex_answer::watch::{Bin, Bound, DocumentMistake, Rehearsed, RuleDocument};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A rule's document to be checked.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct RuleText {
    /// TOML or JSON.
    pub document: String,
}

/// What a document says.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct CheckedRule {
    /// The rule in one sentence; none where it has mistakes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sentence: Option<String>,
    /// Its form.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub form: Option<String>,
    /// The rule, as JSON.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub document: Option<RuleDocument>,
    /// How often it is judged, seconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub step_s: Option<f64>,
    /// What is wrong with it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub mistakes: Vec<DocumentMistake>,
}

/// A rule to be played over the past.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct RehearseRequest {
    /// TOML or JSON.
    pub document: String,
    /// How many days; 7 if not given, 90 at most.
    #[schemars(range(min = 0.01, max = 90.0))]
    pub days: Option<f64>,
    /// Until when, RFC 3339; now if not given. An answer's own end asks for the same stretch again, which is then at hand.
    pub until: Option<String>,
}

/// A change made while a rule is rehearsed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct RehearsedMark {
    /// When, RFC 3339.
    pub at: String,
    /// What was done.
    pub what: String,
}

/// When the rule of the document's name was raised in truth.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct RaisedInTruth {
    /// When, in nanoseconds from 1970.
    pub raised_ns: i64,
    /// When it ended.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ended_ns: Option<i64>,
    /// Judged only after late events had come.
    pub late: bool,
    /// Late events undid it.
    pub withdrawn: bool,
}

/// What a rule would have done.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct RehearsalAnswer {
    /// The rule in one sentence.
    pub sentence: String,
    /// How often and how long it would have been raised, and what would make it calmer.
    pub summary: String,
    /// From the first moment judged to the last.
    pub range: RangeAnswer,
    /// Distance of two judgements, seconds.
    pub step_s: f64,
    /// When it is so.
    pub bound: Bound,
    /// What the values are: `count`, `share`, `gaps`, `spreads` ….
    pub unit: String,
    /// The alerts, in order; the first 2,000.
    pub alerts: Vec<Rehearsed>,
    /// How many alerts.
    pub alert_count: usize,
    /// How many messages each contact would have got.
    pub messages: usize,
    /// Groups that were judged.
    pub groups: usize,
    /// The values along the time, least and most of all groups.
    pub bins: Vec<Bin>,
    /// When the rule of that name was raised in truth, by whatever document it had; the first 2,000.
    pub in_truth: Vec<RaisedInTruth>,
    /// Changes made meanwhile.
    pub marks: Vec<RehearsedMark>,
    /// Too little has come to judge by.
    pub learning: bool,
    /// Why values are missing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub incomplete: Option<String>,
    /// Whether the values were at hand, so that only the walk was repeated.
    pub at_hand: bool,
    /// How it came about.
    pub explain: Explanation,
}
