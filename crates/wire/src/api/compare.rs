//! Comparison.

use super::RangeAnswer;
use calvex_answer::compare::{Finding, SideCount};
use calvex_answer::scan::Explanation;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Asks what differs between two sets of events.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct CompareRequest {
    /// The current set: a filter.
    pub query: String,
    /// Its start, as of a search.
    pub from: Option<String>,
    /// Its end.
    pub to: Option<String>,
    /// The baseline's start; the range of the same length just before the current one where none is given.
    pub before_from: Option<String>,
    /// The baseline's end.
    pub before_to: Option<String>,
    /// The baseline's filter; that of the current set where none is given.
    pub before_query: Option<String>,
    /// The same time so much earlier is the baseline: `1d`, `7d`. In the place of `before_from` and `before_to`.
    pub earlier: Option<String>,
    /// Compare all spans and events of the traces that the queries find, the newest 500 of each.
    pub whole_traces: bool,
    /// As of a search.
    pub zone: Option<String>,
}

/// One of the two sets.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ComparedSide {
    /// Its query as understood.
    pub query: String,
    /// Its range as understood.
    pub range: RangeAnswer,
    /// How many there are.
    pub count: SideCount,
}

/// What differs.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct CompareAnswer {
    /// What differs, in one line.
    pub headline: String,
    /// Best first; changes made in between last.
    pub findings: Vec<Finding>,
    /// The one set.
    pub baseline: ComparedSide,
    /// The other.
    pub current: ComparedSide,
    /// Which share of the pages was looked at, where not all were.
    pub sampled: Option<f64>,
    /// Fields with too many values to be compared.
    pub too_many_values: Vec<String>,
    /// How it came about.
    pub explain: Explanation,
}
