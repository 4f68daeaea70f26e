//! Types of `GET /api/arrivals` and `GET /api/ways-in`.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What came from one service, host and sender into one lane.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Arrival {
    /// The service; empty where none was sent.
    pub service: String,
    /// The host; empty where none was sent.
    pub host: String,
    /// The name of the key.
    pub sender: String,
    /// Where it is kept.
    pub lane: String,
    /// Events stored.
    pub stored: u64,
    /// Of these, more than ten minutes old when they arrived.
    pub late: u64,
    /// Of these, in batches in which some have no time of their own.
    pub untimed: u64,
    /// Their bytes in memory, roughly.
    pub bytes: u64,
    /// When the first and the last arrived, RFC 3339.
    pub first: String,
    /// See `first`.
    pub last: String,
    /// How far the sender's clock is ahead of the service's, milliseconds; 0 where it is not.
    pub clock_ahead_ms: i64,
    /// It came regularly, and then not for a quarter of an hour.
    pub silent: bool,
    /// Events stored in each hour, the oldest first.
    pub per_hour: Vec<u64>,
}

/// What was refused of one sender for one reason.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Refused {
    /// The key by name; by how it begins where it is unknown; or the way in.
    pub sender: String,
    /// The reason's code.
    pub reason: String,
    /// Events or requests.
    pub refused: u64,
    /// When the first and the last came, RFC 3339.
    pub first: String,
    /// See `first`.
    pub last: String,
    /// The latest, secrets masked; reported to administrators.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sample: Option<String>,
}

/// What was not stored on purpose of one service, host and sender for one cause.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct SetAside {
    /// The service; empty where none was sent.
    pub service: String,
    /// The host; empty where none was sent.
    pub host: String,
    /// The name of the key.
    pub sender: String,
    /// Where it would have gone.
    pub lane: String,
    /// `rule NAME`, `dial NUMBER`, or which daily quota.
    pub cause: String,
    /// How many.
    pub events: u64,
    /// Their bytes in memory, roughly.
    pub bytes: u64,
    /// When the first and the last came, RFC 3339.
    pub first: String,
    /// See `first`.
    pub last: String,
}

/// A way in that this service listens on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct WayIn {
    /// What is spoken there.
    pub name: String,
    /// Host and port; empty where it is that of the interface itself.
    pub address: String,
}

/// What became of a marked event.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Probed {
    /// By which way.
    pub way: String,
    /// Where it was sent.
    pub address: String,
    /// Milliseconds until the service had answered for it; none where the way has no answer.
    pub answered_ms: Option<f64>,
    /// Milliseconds until search found it.
    pub found_ms: Option<f64>,
    /// What went wrong.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub wrong: Option<String>,
}

/// The account.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ArrivalsAnswer {
    /// How many hours it covers, this one included.
    pub hours: u32,
    /// By service, host, sender and lane.
    pub arrivals: Vec<Arrival>,
    /// Whether there are more arrivals; ask again with `from`.
    #[serde(default)]
    pub more: bool,
    /// By sender and reason.
    pub refused: Vec<Refused>,
    /// By service, host, sender and cause.
    #[serde(default)]
    pub set_aside: Vec<SetAside>,
}
