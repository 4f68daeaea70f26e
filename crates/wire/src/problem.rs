//! Problem details for HTTP (RFC 9457), media type `application/problem+json`.

use calvex_language::query::Mistake;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What went wrong, where, and the cure.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Problem {
    /// `about:blank` would do; a stable word under `/problems/` names the sort.
    #[serde(rename = "type")]
    pub kind: String,
    /// The sort in words.
    pub title: String,
    /// HTTP status.
    pub status: u16,
    /// This occurrence: what, where, cure.
    pub detail: String,
    /// Seconds after which trying again makes sense.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub retry_after_s: Option<u32>,
    /// Mistakes in a query, with their columns.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub mistakes: Vec<Mistake>,
}

/// The media type of a problem.
pub const MEDIA_TYPE: &str = "application/problem+json";

impl Problem {
    /// A problem of the sort `kind`, one word.
    pub fn new(status: u16, kind: &str, title: &str, detail: impl Into<String>) -> Self {
        Problem {
            kind: format!("/problems/{kind}"),
            title: title.to_owned(),
            status,
            detail: detail.into(),
            ..Problem::default()
        }
    }
}
