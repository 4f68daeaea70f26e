//! Types of transform rules, line patterns, ties and the field list.

use calvex_intake::transform::{Rule, Tried};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A transform rule as listed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct TransformRule {
    /// The rule.
    pub rule: Rule,
    /// What it does, in words.
    pub text: String,
    /// Events it was applied to since it was made.
    pub held: u64,
    /// When it was last applied, RFC 3339; none if never.
    pub last: Option<String>,
    /// When it was made or last changed, RFC 3339.
    pub changed: String,
    /// It was not applied for a week, or never.
    pub idle: bool,
    /// The team for whose keys it holds; for every sender where none.
    #[serde(default)]
    pub team: Option<String>,
}

/// Asks what rules would make of events.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct TryTransforms {
    /// The rules to try; those in force if not given.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rules: Option<Vec<Rule>>,
    /// Tried as if sent with this key.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sender: Option<String>,
    /// Events as NDJSON; a line that is no JSON object is taken as a message.
    pub events: String,
}

/// What rules would make of one event.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default)]
pub struct TriedEvent {
    /// The line, from 1.
    pub line: usize,
    /// Why it would be refused.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub refused: Option<String>,
    /// Each rule in order.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub tried: Option<Tried>,
    /// Where it would be stored; none where it would not.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub lane: Option<String>,
    /// What would set it aside.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub set_aside: Option<String>,
}

/// Asks how lines fit patterns.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct TryPatterns {
    /// Line patterns; the first that fits is taken.
    #[schemars(length(max = 200))]
    pub patterns: Vec<String>,
    /// Lines.
    #[schemars(length(max = 200))]
    pub lines: Vec<String>,
}

/// How one line fits.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default)]
pub struct TriedLine {
    /// The pattern that fits or came furthest, from 1.
    pub pattern: usize,
    /// Characters of the line that fit.
    pub fits: usize,
    /// What was expected there; none where the line fits as a whole.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub expected: Option<String>,
    /// What the holes took.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub cuts: Vec<CutShown>,
}

/// What one hole took.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct CutShown {
    /// The hole's name.
    pub name: String,
    /// Its kind.
    pub kind: String,
    /// What it gives.
    pub value: String,
    /// Characters of the line before it, and to its end.
    pub from: usize,
    /// See `from`.
    pub to: usize,
}

/// A pattern proposed from lines.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ProposedPattern {
    /// The pattern.
    pub pattern: String,
    /// Lines it was the first to fit.
    pub lines: usize,
    /// One of them.
    pub example: String,
}

/// Patterns proposed.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct LearntPatterns {
    /// The most frequent first.
    pub patterns: Vec<ProposedPattern>,
    /// Lines that none fits.
    pub left: usize,
}

/// A tie.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct TieListed {
    /// Its name.
    pub name: String,
    /// What means it beside its name.
    pub spellings: Vec<String>,
}

/// Asks for the fields of lanes.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct FieldsRequest {
    /// One lane; every lane that may be read if not given.
    pub lane: Option<String>,
    /// As of a search; a week back if not given.
    pub from: Option<String>,
    /// As of a search.
    pub to: Option<String>,
}

/// A field of a lane.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct FieldListed {
    /// The lane.
    pub lane: String,
    /// As the language names it.
    pub field: String,
    /// The types it has.
    pub types: Vec<String>,
    /// It comes as values that do not compare with one another.
    pub conflicting: bool,
    /// When it was first seen in the range, RFC 3339, as exact as the pages that hold it.
    pub first: String,
    /// When it was last seen, likewise.
    pub last: String,
    /// The share of events that have it, in the newest pages.
    pub share: f64,
    /// Distinct values in the newest pages.
    pub distinct: u64,
    /// Some values, secrets masked.
    pub examples: Vec<String>,
    /// The tie it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tie: Option<String>,
}
