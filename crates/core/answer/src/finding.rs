//! What a comparison finds, as it is reported while the comparison goes on and in its answer.

/// What kind of thing differs.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum FindingKind {
    /// A shape of messages.
    Shape,
    /// A value of a field.
    Value,
    /// The numbers of a field.
    Number,
    /// A change made between the sets.
    Mark,
    /// A service's share.
    Service,
    /// A sender that fell silent.
    Sender,
}

/// How it differs.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Change {
    /// Only in the current set.
    New,
    /// Only in the baseline.
    Gone,
    /// More of it.
    More,
    /// Less of it.
    Fewer,
    /// Its numbers moved up.
    Higher,
    /// Its numbers moved down.
    Lower,
    /// It was made.
    Made,
}

/// One thing that differs.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, PartialEq, serde::Serialize, serde::Deserialize)]
pub struct Finding {
    /// What it is.
    pub kind: FindingKind,
    /// How it differs.
    pub change: Change,
    /// The field, as the language names it; `shape` of a shape, `mark` of a mark.
    pub field: String,
    /// Its value; of a shape its id, of numbers nothing, of a mark what was done.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub value: String,
    /// Of a shape, what its messages look like.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub template: Option<String>,
    /// In the baseline: the share of units that have it; of a shape events a second; of numbers the percentile that `percent` names.
    pub baseline: f64,
    /// The same of the current set.
    pub current: f64,
    /// How much of the difference it explains, 0 to 1; of numbers how far the two lie apart.
    pub explained: f64,
    /// The least and the most that the ratio of the two may be, as far as counts allow.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ratio: Option<(f64, f64)>,
    /// Other values that hold on almost the same units.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub also: Vec<String>,
    /// Of numbers: which percentile `baseline` and `current` are.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub percent: Option<f64>,
    /// Of numbers: percentiles of both sets, as (percent, baseline, current).
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub percentiles: Vec<(f64, f64, f64)>,
    /// Of a value or shape: the same figure in each sixteenth of the time of both sets.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trend: Option<Trend>,
    /// Of a mark: when, RFC 3339.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// A condition that finds its events.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub query: String,
    /// What findings are ranked by.
    #[serde(skip)]
    pub(crate) score: f64,
}

/// A figure along the time of both sets.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, PartialEq, serde::Serialize, serde::Deserialize)]
pub struct Trend {
    /// Along the baseline.
    pub baseline: Vec<f64>,
    /// Along the current set.
    pub current: Vec<f64>,
}

impl Finding {
    pub(crate) fn new(kind: FindingKind, change: Change, field: &str) -> Self {
        Finding {
            kind,
            change,
            field: field.to_owned(),
            value: String::new(),
            template: None,
            baseline: 0.0,
            current: 0.0,
            explained: 0.0,
            ratio: None,
            also: Vec::new(),
            percent: None,
            percentiles: Vec::new(),
            trend: None,
            at: None,
            query: String::new(),
            score: 0.0,
        }
    }
}
