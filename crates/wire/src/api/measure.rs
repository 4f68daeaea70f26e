//! Figures: of a `measure`, and the values of a field broken down.

use super::RangeAnswer;
use calvex_answer::scan::Explanation;
use calvex_answer::search::Spread;
use calvex_language::query::Mistake;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// Figures of a `measure`.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct MeasureAnswer {
    /// The aggregates, in the order asked.
    pub aggregates: Vec<AggregateColumn>,
    /// The fields of `per`.
    pub per: Vec<String>,
    /// Start and end of each step of `every`, RFC 3339; none without.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub steps: Vec<RangeAnswer>,
    /// Largest first.
    pub groups: Vec<GroupAnswer>,
    /// How many groups there were before `top` or the limit.
    pub group_count: usize,
    /// Why groups are missing that were not asked to be left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub limited: Option<String>,
    /// By shape id that stands among the groups: its template.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub shapes: BTreeMap<String, String>,
    /// The query as understood.
    pub canonical: String,
    /// The range as understood.
    pub range: RangeAnswer,
    /// Likely misunderstandings.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub warnings: Vec<Mistake>,
    /// How the figures came about.
    pub explain: Explanation,
}

/// One aggregate of a `measure`.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct AggregateColumn {
    /// Its alias, or its text.
    pub name: String,
    /// How far its figures may be off, relative to them; absent where they are exact.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub error: Option<f64>,
    /// `ms`, `bytes` and so on, where the field's name shows it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unit: Option<String>,
}

/// One group of a `measure`.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct GroupAnswer {
    /// Its value of each field of `per`; null where its events have none.
    pub values: Vec<serde_json::Value>,
    /// Its figures over the whole range.
    pub total: Vec<serde_json::Value>,
    /// With `every`: its figures step by step.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub steps: Vec<Vec<serde_json::Value>>,
}

/// Asks for the top values of fields.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct BreakdownRequest {
    /// In the query language; a `measure` in it is not looked at.
    pub query: String,
    /// As of a search.
    pub from: Option<String>,
    /// As of a search.
    pub to: Option<String>,
    /// As of a search.
    pub zone: Option<String>,
    /// Fields, as the language names them.
    pub fields: Vec<String>,
    /// Values of each at most, up to 1000; 10 if not given.
    pub top: Option<usize>,
}

/// The top values of fields.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct BreakdownAnswer {
    /// Events that pass.
    pub events: u64,
    /// In the order asked.
    pub fields: Vec<FieldAnswer>,
    /// The query as understood.
    pub canonical: String,
    /// The range as understood.
    pub range: RangeAnswer,
    /// How the counts came about.
    pub explain: Explanation,
}

/// The top values of one field.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct FieldAnswer {
    /// As the language names it.
    pub field: String,
    /// Events that have it.
    pub having: u64,
    /// Distinct values counted.
    pub distinct: usize,
    /// Events whose value came after there were too many to count each by itself.
    pub uncounted: u64,
    /// Most frequent first.
    pub top: Vec<ValueCount>,
    /// How its numbers are spread; absent where no value is a number.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub spread: Option<Spread>,
}

/// One value and its events.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ValueCount {
    /// The value; a shape by its id.
    pub value: serde_json::Value,
    /// A shape's template.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub template: Option<String>,
    /// Events that have it.
    pub count: u64,
}
