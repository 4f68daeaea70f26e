//! Error groups.

use super::RangeAnswer;
use calvex_answer::scan::Explanation;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Asks for the error groups of a range.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct ErrorsRequest {
    /// Which events: a filter. Only failures among them count.
    pub query: String,
    /// Start, as of a search.
    pub from: Option<String>,
    /// End.
    pub to: Option<String>,
    /// As of a search.
    pub zone: Option<String>,
    /// Groups at most, those with the most failures; 100 where none is given, 500 at most.
    pub top: Option<usize>,
    /// Points of each trend; 24 where none is given.
    pub points: Option<usize>,
}

/// A release, and how often it failed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct FailedRelease {
    /// The release.
    pub release: String,
    /// Failures.
    pub count: u64,
}

/// A failure of a group to look at.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ErrorExample {
    /// When, RFC 3339.
    pub time: String,
    /// The event's id.
    pub id: String,
    /// The id of its story, where it belongs to a trace.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trace: Option<String>,
}

/// What somebody has said about a group.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct SaidOfGroup {
    /// By whom.
    pub by: String,
    /// When, RFC 3339.
    pub at: String,
    /// The release that it is resolved in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub release: Option<String>,
    /// What else.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub note: String,
}

/// One problem.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ErrorGroup {
    /// Its id: `error_group=ID` finds its failures.
    pub id: String,
    /// `new`, `known`, `resolved` or `returned`.
    pub state: String,
    /// What somebody has said about it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub said: Option<SaidOfGroup>,
    /// The service it failed in.
    pub service: String,
    /// The type of the error.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub error: Option<String>,
    /// The type of its root cause, where that is another.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cause: Option<String>,
    /// Whose stack it is: `java`, `dotnet`, `node`, `python`, `go`, `ruby`, `rust`, or `names` of a plain list.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub language: Option<String>,
    /// The frames that tell it from others, innermost first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub frames: Vec<String>,
    /// The shape of its message, with ‹› for what varies.
    pub message: String,
    /// Failures in the range.
    pub count: u64,
    /// The first in the range, RFC 3339.
    pub first: String,
    /// The last in the range, RFC 3339.
    pub last: String,
    /// The first ever, as far as is known, RFC 3339.
    pub since: String,
    /// Failures by part of the range.
    pub trend: Vec<u32>,
    /// Releases that failed, the most often first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub releases: Vec<FailedRelease>,
    /// Lanes it stands in.
    pub lanes: Vec<String>,
    /// One to look at.
    pub example: ErrorExample,
}

/// Failures folded into problems.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ErrorsAnswer {
    /// Those with the most failures first.
    pub groups: Vec<ErrorGroup>,
    /// How many there are.
    pub group_count: usize,
    /// All failures.
    pub failures: u64,
    /// Failures of groups beyond those that are counted by themselves.
    pub uncounted: u64,
    /// The range as understood.
    pub range: RangeAnswer,
    /// How it came about.
    pub explain: Explanation,
}

/// Says something about a group.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SayOfGroup {
    /// `new`, `known` or `resolved`.
    pub state: String,
    /// The release that it is resolved in: failures of releases that have failed before are no return then.
    #[serde(default)]
    pub release: Option<String>,
    /// What else there is to say.
    #[serde(default)]
    pub note: String,
}
