//! Why an event, or a request of events, is not taken.

use crate::json::JsonError;

/// Why one event was not taken. [`Refusal::reason`] is the code that is counted.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum Refusal {
    /// Not JSON, or not UTF-8.
    #[error("not JSON: {0}; send one JSON object a line")]
    NotJson(String),
    /// JSON, but no object.
    #[error("a JSON {0} is no event; send one JSON object a line")]
    NotObject(&'static str),
    /// The bytes of one event.
    #[error("the event has {0} bytes, the limit is {1}; send less, or raise limits.event_kib")]
    TooLarge(usize, usize),
    /// The fields of one event.
    #[error("the event has {0} fields, the limit is {1}; nest bulk data in a list, or raise limits.fields")]
    TooManyFields(usize, usize),
    /// The nesting of one event.
    #[error("the event nests {0} levels, the limit is {1}; nest less, or raise limits.depth")]
    TooDeep(usize, usize),
    /// A field name.
    #[error("a field name has {0} bytes, the limit is {1}; shorten it")]
    NameTooLong(usize, usize),
    /// A time before the lane's retention.
    #[error("its time lies {0} days back and lane `{1}` keeps {2} days; lengthen the lane's retention to take it")]
    TooOld(i64, String, u32),
    /// A time before what any lane keeps.
    #[error("its time lies {0} days back and no lane keeps more than {1} days; lengthen a lane's retention to take it")]
    OlderThanAll(i64, u32),
    /// Events on too many days.
    #[error("the request has events of more than {0} days; send them in the order of their times, in several requests")]
    TooManyDays(usize),
    /// A request of too many events; it is refused as a whole.
    #[error("the request has {0} events, the limit is {1}; send smaller batches, or raise limits.events")]
    TooManyEvents(usize, usize),
    /// A request whose events take too much memory.
    #[error("the events of the request take more than {0} bytes in memory; send smaller batches")]
    BatchTooLarge(usize),
    /// A record of an export request that does not decode.
    #[error("not an OTLP record: {0}")]
    NotOtlp(String),
    /// A service that the key may not send for.
    #[error("the key may not send for service `{0}`; `calvex key limit` changes what it may")]
    ServiceNotAllowed(String),
    /// A lane that the key may not send to.
    #[error("the key may not send to lane `{0}`; `calvex key limit` changes what it may")]
    LaneNotAllowed(String),
}

impl Refusal {
    /// The code that arrivals count under.
    pub fn reason(&self) -> &'static str {
        match self {
            Refusal::NotJson(_) => "not-json",
            Refusal::NotObject(_) => "not-an-object",
            Refusal::TooLarge(..) => "too-large",
            Refusal::TooManyFields(..) => "too-many-fields",
            Refusal::TooDeep(..) => "too-deep",
            Refusal::NameTooLong(..) => "name-too-long",
            Refusal::TooOld(..) | Refusal::OlderThanAll(..) => "too-old",
            Refusal::TooManyDays(_) => "too-many-days",
            Refusal::TooManyEvents(..) => "too-many-events",
            Refusal::BatchTooLarge(_) => "batch-too-large",
            Refusal::NotOtlp(_) => "not-otlp",
            Refusal::ServiceNotAllowed(_) => "service-not-allowed",
            Refusal::LaneNotAllowed(_) => "lane-not-allowed",
        }
    }
}

impl From<JsonError> for Refusal {
    fn from(e: JsonError) -> Self {
        Refusal::NotJson(e.to_string())
    }
}
