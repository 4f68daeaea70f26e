//! Requests and answers of the HTTP interface, as service, client and tests share them. `docs/http-api.md` describes them.

use calvex_core::event::Value;
use calvex_core::query::Mistake;
use calvex_core::search::{Explanation, FieldHint, Spread};
use calvex_core::story::ServiceShare;

mod alerts;
mod arrivals;
mod explore;
mod now;
mod senders;
mod shaping;

pub use alerts::{Alert, MadeRule, NewRule, Notified, Rule};
pub use arrivals::{Arrival, ArrivalsAnswer, Probed, Refused, SetAside, WayIn};
pub use explore::{
    CheckAnswer, CompleteAnswer, CompleteRequest, FoundField, FoundFieldsAnswer, Proposal, RangeMeant, SavedSearch,
    ShapeAnswer, ShapeRequest, SpokenRange, VaryingPart,
};
pub use now::{MarkNow, NowAnswer, ServiceFigures, ServiceNow, SilentService};
pub use senders::{Dial, Key, KeyLimits, KeySecret, NewDial, NewKey, Rotation};
pub use shaping::{
    CutTold, FieldListed, FieldsRequest, LearntPatterns, ProposedPattern, ShapingRule, TieListed, TriedEvent,
    TriedLine, TryPatterns, TryShaping,
};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// The header by which a batch is stored once however often it is sent.
pub const IDEMPOTENCY_HEADER: &str = "idempotency-key";
/// The header that the console sends with every request that changes something.
pub const CONSOLE_HEADER: &str = "x-calvex-console";
/// The cookie of a console session.
pub const SESSION_COOKIE: &str = "calvex_session";

/// What became of a sent batch.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct SendAnswer {
    /// Events stored.
    pub stored: usize,
    /// Events refused.
    pub refused: usize,
    /// Events not stored on purpose: by a shaping rule, a dial or a daily quota.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub set_aside: usize,
    /// The first of these, with line and reason.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub refusals: Vec<RefusedEvent>,
    /// The batch had been stored before; this is the answer given then.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub repeated: bool,
}

fn is_zero(n: &usize) -> bool {
    *n == 0
}

/// One refused event.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct RefusedEvent {
    /// Line of the body, or the place among the records, from 1.
    pub line: usize,
    /// A stable code.
    pub reason: String,
    /// What, where, cure.
    pub message: String,
}

/// An event as it is answered, for its description: answers carry it as JSON, so that nothing of what was sent is lost.
#[derive(JsonSchema)]
#[schemars(deny_unknown_fields)]
#[allow(missing_docs, dead_code)]
struct EventTold {
    id: String,
    /// RFC 3339 in UTC, nanoseconds.
    time: String,
    arrived: String,
    /// trace, debug, info, warn, error or fatal.
    severity: String,
    /// 1 to 24, as in the OpenTelemetry data model.
    severity_number: u8,
    kind: String,
    lane: String,
    sender: String,
    /// Where the time was mended: as it was sent.
    sent_time: Option<String>,
    service: Option<String>,
    host: Option<String>,
    message: String,
    trace: Option<String>,
    span: Option<String>,
    parent: Option<String>,
    /// Of a span, nanoseconds.
    took_ns: Option<i64>,
    status: Option<String>,
    /// The shaping rules that changed it.
    shaped: Option<Vec<String>>,
    /// Everything else that was sent, nested as it came.
    fields: BTreeMap<String, Value>,
}

/// A search, or the range and filter of a histogram.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct SearchRequest {
    /// In the query language; an `over` in it wins over `from` and `to`.
    pub query: String,
    /// RFC 3339, or `now-15m`; included.
    pub from: Option<String>,
    /// RFC 3339, or `now`; not included.
    pub to: Option<String>,
    /// `newest` (default) or `oldest` first.
    pub order: Option<String>,
    /// Events at most, up to 1000; 100 if not given.
    pub limit: Option<usize>,
    /// From the previous answer.
    pub cursor: Option<String>,
    /// For times without zone: an IANA name.
    pub zone: Option<String>,
    /// Histogram only: about how many buckets.
    pub buckets: Option<usize>,
}

/// A range as answered, RFC 3339 in UTC.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct RangeAnswer {
    /// Included.
    pub from: String,
    /// Not included.
    pub to: String,
}

/// A chunk as the catalogue knows it.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ChunkSummary {
    /// In hex.
    pub id: String,
    /// The lane's name.
    pub lane: String,
    /// The earliest event, RFC 3339.
    pub from: String,
    /// The latest event, RFC 3339.
    pub to: String,
    /// Events.
    pub rows: u32,
    /// Bytes of all parts.
    pub bytes: u64,
    /// How many parts.
    pub parts: u16,
    /// Whether its events came late.
    pub late: bool,
}

/// A line of a streamed answer; the last one is the answer itself, or a problem.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum StreamLine<T> {
    /// Pages looked at so far, and how many there are to look at as far as is known.
    Progress {
        /// Done.
        done: usize,
        /// Known of.
        total: usize,
    },
    /// Further events of the answer, in its order.
    Events(#[schemars(with = "Vec<EventTold>")] Vec<Value>),
    /// Counts so far, of a histogram.
    Counts {
        /// Start of the first bucket, as in the answer.
        from_ns: String,
        /// Length of a bucket in nanoseconds.
        step_ns: i64,
        /// Trace, debug, info, warn, error, fatal of each bucket.
        buckets: Vec<[u64; calvex_core::search::SEVERITY_COUNT]>,
    },
    /// The whole answer; events that were streamed are in it again.
    Answer(T),
    /// Why there is no answer.
    Problem(crate::Problem),
}

/// A line of what is followed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum TailLine {
    /// Following has begun.
    Ready {
        /// The query as understood.
        query: String,
    },
    /// Events, as they came.
    Events {
        /// In the order of their time within one batch.
        #[schemars(with = "Vec<EventTold>")]
        events: Vec<Value>,
    },
    /// Events passed that were not told, since there were too many for this client.
    Missed {
        /// How many at least.
        at_least: usize,
    },
    /// Nothing came for a while.
    Beat {
        /// The service's time, RFC 3339.
        now: String,
    },
}

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
    /// `ms`, `bytes` and so on, where the field's name tells it.
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

/// Events found.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct SearchAnswer {
    /// In the order asked.
    #[schemars(with = "Vec<EventTold>")]
    pub events: Vec<Value>,
    /// Where the next answer goes on; none when there is no more.
    pub cursor: Option<String>,
    /// The query as understood.
    pub canonical: String,
    /// The range as understood.
    pub range: RangeAnswer,
    /// Likely misunderstandings.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub warnings: Vec<Mistake>,
    /// How the answer came about.
    pub explain: Explanation,
    /// Why there is nothing, where there is nothing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub empty: Option<EmptyAnswer>,
}

/// Why an answer is empty.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct EmptyAnswer {
    /// Events in range that may be read, without the filter.
    pub in_range: u64,
    /// Fields that no event in range has.
    pub unknown_fields: Vec<FieldHint>,
    /// Lanes whose existence may be told, but not their events.
    pub lanes_not_readable: Vec<String>,
    /// The named service's latest event at any time, RFC 3339.
    pub service_last_seen: Option<String>,
    /// The same in sentences for people.
    pub reasons: Vec<String>,
}

/// Counts over time.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct HistogramAnswer {
    /// The range as understood.
    pub range: RangeAnswer,
    /// Start of the first bucket, nanoseconds from 1970, as text (beyond what a JavaScript number holds).
    pub from_ns: String,
    /// Length of a bucket in nanoseconds.
    pub step_ns: i64,
    /// Trace, debug, info, warn, error, fatal of each bucket.
    pub buckets: Vec<[u64; 6]>,
    /// All events counted.
    pub total: u64,
    /// The query as understood.
    pub canonical: String,
    /// How the counts came about.
    pub explain: Explanation,
}

/// Everything tied to one id.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct StoryAnswer {
    /// As asked.
    pub id: String,
    /// `trace` or `id`.
    pub tie: String,
    /// The query that finds the same events in Search.
    pub query: String,
    /// In time order.
    #[schemars(with = "Vec<EventTold>")]
    pub events: Vec<Value>,
    /// Services by first event.
    pub services: Vec<ServiceShare>,
    /// Lanes the events stand in.
    pub lanes: Vec<String>,
    /// Lanes that hold more of it, but may not be read.
    pub lanes_not_readable: Vec<String>,
    /// Whether the cap on events was reached.
    pub more: bool,
    /// How the answer came about.
    pub explain: Explanation,
}

/// Credentials of a person.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[allow(missing_docs)]
pub struct LoginRequest {
    pub name: String,
    pub password: String,
}

/// Who is asking.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Me {
    /// The person.
    pub name: String,
    /// `admin` or `reader`.
    pub role: String,
    /// The lanes that may be read.
    pub lanes: Vec<String>,
}

/// A lane.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Lane {
    /// Letters, digits, `-`.
    pub name: String,
    /// Days that events are kept after their own day.
    pub retention_days: u32,
    /// Whether those who may not read it may know that it exists.
    #[serde(default = "yes")]
    pub told: bool,
    /// Events it takes a day (of UTC); any number if none. What comes beyond is set aside.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub day_events: Option<u64>,
    /// Bytes it takes a day, as arrivals count them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub day_bytes: Option<u64>,
    /// Events in sealed chunks; set by the service.
    #[serde(default)]
    pub sealed_events: u64,
    /// Bytes of sealed chunks; set by the service.
    #[serde(default)]
    pub sealed_bytes: u64,
}

fn yes() -> bool {
    true
}

/// A route; they are tried in order.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Route {
    /// Which events.
    pub filter: String,
    /// Where they go.
    pub lane: String,
}

/// To make a reader's token.
#[derive(Debug, Clone, Default, Serialize, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct NewToken {
    /// What it is called.
    pub name: String,
    /// The only lanes it may read; all of its owner's if empty.
    pub lanes: Vec<String>,
}

/// A key or token just made. The secret is shown this once.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
#[allow(missing_docs)]
pub struct MadeSecret {
    pub name: String,
    pub secret: String,
}

/// A token as listed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct TokenListed {
    /// What it is called.
    pub name: String,
    /// How its secret begins.
    pub prefix: String,
    /// RFC 3339.
    pub created: String,
    /// RFC 3339; none if still good.
    pub revoked: Option<String>,
}

/// A person to be made.
#[derive(Debug, Clone, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewUser {
    /// To sign in with.
    pub name: String,
    /// At least 10 characters.
    pub password: String,
    /// `admin` or `reader`.
    pub role: String,
    /// The lanes a reader may read.
    #[serde(default)]
    pub lanes: Vec<String>,
}
