//! What helps to ask: proposals while a query is typed, ranges as people say them, the fields among the events found,
//! and searches that were saved.

use calvex_answer::scan::Explanation;
use calvex_language::query::{Mistake, Syntax};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{RangeAnswer, ValueCount};

/// A query taken apart.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
pub struct CheckAnswer {
    /// The query in its one form; no use where there are mistakes.
    pub canonical: String,
    /// Empty where the query can be run.
    pub mistakes: Vec<Mistake>,
    /// Likely misunderstandings.
    pub warnings: Vec<Mistake>,
    /// The text as it was typed, as a tree of nodes and tokens.
    pub syntax: Syntax,
}

/// Asks what can stand at a place of a query.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct CompleteRequest {
    /// The text as typed so far.
    pub query: String,
    /// The place one types at, in characters from 0.
    pub at: usize,
    /// As of a search: values and fields of this range are proposed.
    pub from: Option<String>,
    /// As of a search.
    pub to: Option<String>,
    /// As of a search.
    pub zone: Option<String>,
}

/// What can stand at a place of a query.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct CompleteAnswer {
    /// Where what is typed begins, in characters from 0; a proposal takes its place up to where one types.
    pub from: usize,
    /// The best first.
    pub proposals: Vec<Proposal>,
}

/// What could stand there.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Proposal {
    /// As the query would have it, quoted where it must be.
    pub text: String,
    /// `field`, `part` (of every event), `tie`, `value`, `word` (of the language), `aggregate` or `range`.
    pub kind: String,
    /// Events that have it, of the newest in range.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub events: Option<u64>,
    /// Its types, or what it does.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub note: String,
}

/// Asks what a range as people say it means.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct SpokenRange {
    /// `yesterday 2am to 3am`, `20m around 02:38`, RFC 3339 …
    pub text: String,
    /// For times without zone: an IANA name.
    pub zone: Option<String>,
}

/// A range, as `from` and `to` of a search take it.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct RangeMeant {
    /// RFC 3339, or `now-15m`.
    pub from: String,
    /// RFC 3339, or `now`.
    pub to: String,
    /// The same as it stands now.
    pub now: RangeAnswer,
}

/// The fields among the events found.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct FoundFieldsAnswer {
    /// Events looked at.
    pub events: u64,
    /// Whether those are all that pass; else the newest.
    pub whole: bool,
    /// Those that most events have come first.
    pub fields: Vec<FoundField>,
    /// The query as understood.
    pub canonical: String,
    /// The range as understood.
    pub range: RangeAnswer,
    /// How it came about.
    pub explain: Explanation,
}

/// A field among the events found.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct FoundField {
    /// As the language names it.
    pub field: String,
    /// The types its values have.
    pub types: Vec<String>,
    /// Events that have it, of those looked at.
    pub having: u64,
}

/// A search worth keeping.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SavedSearch {
    /// What it is called.
    pub name: String,
    /// The query.
    pub query: String,
    /// As of a search; none to keep the range one is in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// As of a search.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<String>,
    /// Columns of the list, joined by commas.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub columns: Option<String>,
    /// What it is good for.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub note: String,
    /// The team whose it is: its people see it and may change it. Everybody sees what is of none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub team: Option<String>,
    /// Who saved it; set by the service.
    #[serde(default)]
    pub owner: String,
    /// When it was changed last, RFC 3339; set by the service.
    #[serde(default)]
    pub changed: String,
    /// Whether the one who asks may change it; set by the service.
    #[serde(default)]
    pub mine: bool,
}

/// Asks about a shape: of a message, or by its id what the newest messages of it hold.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct ShapeRequest {
    /// A message whose shape is asked for.
    pub message: Option<String>,
    /// A shape's id.
    pub shape: Option<String>,
    /// As of a search.
    pub query: String,
    /// As of a search.
    pub from: Option<String>,
    /// As of a search.
    pub to: Option<String>,
    /// As of a search.
    pub zone: Option<String>,
}

/// A shape.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ShapeAnswer {
    /// Its id, as `shape=` takes it.
    pub shape: String,
    /// The template; empty where no message of it was found.
    pub template: String,
    /// Messages looked at.
    pub events: usize,
    /// The parts of a message that vary, in order.
    pub places: Vec<TemplateVariable>,
}

/// A part of a message that varies.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct TemplateVariable {
    /// The word that stands before it.
    pub before: String,
    /// Distinct values among the messages looked at.
    pub distinct: usize,
    /// The most frequent first.
    pub top: Vec<ValueCount>,
}
