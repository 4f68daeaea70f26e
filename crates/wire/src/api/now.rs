//! How things stand: services against their usual.

use super::Alert;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// How things stand now.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct NowAnswer {
    /// RFC 3339.
    pub at: String,
    /// Seconds that the figures of each service are taken over.
    pub window_s: u32,
    /// What the usual is taken from: `this hour on 3 earlier days`, or where no earlier day is kept the hours of the last day.
    pub usual_of: String,
    /// Those that stray most from their usual first.
    pub services: Vec<ServiceNow>,
    /// Raised alerts, the latest first, then those that are building.
    pub alerts: Vec<Alert>,
    /// Rules whose condition holds, but not yet for long enough.
    pub building: Vec<String>,
    /// Services that sent in the last day and are silent now.
    pub silent: Vec<SilentService>,
    /// Events refused in the last hour, by sender and reason.
    pub refused: Vec<super::Refused>,
    /// Moments worth seeing in the last day, the latest first.
    pub marks: Vec<MarkNow>,
    /// What could not be read.
    pub left_out: Vec<String>,
}

/// One service.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ServiceNow {
    /// Its name.
    pub service: String,
    /// Now.
    pub now: ServiceFigures,
    /// The middle of what it is compared with; none where it was not there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub usual: Option<ServiceFigures>,
    /// What strays from the usual, in words: `3.1 times the usual errors`.
    pub strays: Vec<String>,
    /// Events in each of the last twelve five minutes.
    pub trend: Vec<u64>,
    /// Of these, errors.
    pub errors: Vec<u64>,
}

/// Figures of a service over a while.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ServiceFigures {
    /// Events a second.
    pub rate: f64,
    /// The share of events of severity error or worse, 0 to 1.
    pub error_share: f64,
    /// The 95th percentile of what its spans took, milliseconds; where it sends no spans, of its field `took_ms`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub p95_ms: Option<f64>,
}

/// A service that sent, and does not any more.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct SilentService {
    /// Its name.
    pub service: String,
    /// Its latest event, RFC 3339.
    pub last: String,
}

/// A moment worth seeing.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct MarkNow {
    /// RFC 3339.
    pub at: String,
    /// What happened: the field `mark` of the event, or its message where that says no more than that it is one.
    pub what: String,
    /// The event's id.
    pub id: String,
}
