//! Search, histogram, story and tail: what is asked, and what is answered at once or line by line.

use crate::Problem;
use calvex_answer::scan::Explanation;
use calvex_answer::search::FieldHint;
use calvex_answer::story::{Chapter, PastedId, Score, ServiceShare};
use calvex_language::model::Value;
use calvex_language::query::Mistake;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

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
    #[schemars(extend("enum" = ["newest", "oldest", "", null]))]
    pub order: Option<String>,
    /// Events at most, up to 1000; 100 if not given.
    pub limit: Option<usize>,
    /// From the previous answer, as it was given.
    pub cursor: Option<String>,
    /// For times without zone: an IANA name.
    pub zone: Option<String>,
    /// Search and export only: each event with the object that was sent, below `sent`.
    pub sent: bool,
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

/// Events found.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct SearchAnswer {
    /// In the order asked.
    #[schemars(with = "Vec<EventAnswer>")]
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
    /// What is worth knowing of what was found, as that a `shape` was named by an id of an earlier cut.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<String>,
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
    /// Lanes whose existence may be reported, but not their events.
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
    /// In time order: those with the id, and all of the traces that these belong to.
    #[schemars(with = "Vec<EventAnswer>")]
    pub events: Vec<Value>,
    /// The story drawn; its numbers of events count `events`.
    pub score: Option<Score>,
    /// The story for a ticket, where a link to it was given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub markdown: Option<String>,
    /// Of an id that several traces touch: each of them, in time order.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub chapters: Vec<Chapter>,
    /// Other ids that its events carry, by the ties they are known as.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub related: Vec<RelatedId>,
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

/// An id that leads to a story.
#[derive(Debug, Clone, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
pub struct RelatedId {
    /// The tie it is known as: `trace`, or one that an administrator named.
    pub tie: String,
    /// The id.
    pub id: String,
}

/// Asks for the ids in a text.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PasteRequest {
    /// Anything: an id, a response's headers, an error report, a line of a log, a JSON document.
    pub text: String,
}

/// An id found in a text, and what is tied to it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct FoundId {
    /// The id.
    pub id: String,
    /// What it looks like.
    pub kind: PastedId,
    /// How many events were found, at most a hundred are looked at.
    pub events: usize,
    /// Whether there are more.
    pub more: bool,
    /// RFC 3339 of the first of these; none where there is none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub first: Option<String>,
    /// The id of the trace where it is that of a span.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trace: Option<String>,
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
    Events(#[schemars(with = "Vec<EventAnswer>")] Vec<Value>),
    /// Counts so far, of a histogram.
    Counts {
        /// Start of the first bucket, as in the answer.
        from_ns: String,
        /// Length of a bucket in nanoseconds.
        step_ns: i64,
        /// Trace, debug, info, warn, error, fatal of each bucket.
        buckets: Vec<[u64; calvex_language::model::SEVERITY_COUNT]>,
    },
    /// What differs so far, the best first; provisional: the answer may have other findings and figures.
    Findings(Vec<calvex_answer::compare::Finding>),
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
        #[schemars(with = "Vec<EventAnswer>")]
        events: Vec<Value>,
    },
    /// Events passed that were not reported, since there were too many for this client.
    Missed {
        /// How many at least.
        at_least: usize,
    },
    /// What may be read has changed since: from now on other events pass, or none.
    Rights {
        /// In words.
        note: String,
    },
    /// Nothing came for a while.
    Beat {
        /// The service's time, RFC 3339.
        now: String,
    },
}

/// An event as it is answered, for its description: answers carry it as JSON, so that nothing of what was sent is lost.
#[derive(JsonSchema)]
#[schemars(deny_unknown_fields)]
#[allow(missing_docs, dead_code)]
struct EventAnswer {
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
    /// The id of the message's shape, 16 hex digits; none where there is no message.
    shape: Option<String>,
    trace: Option<String>,
    span: Option<String>,
    parent: Option<String>,
    /// Of a span, nanoseconds.
    took_ns: Option<i64>,
    status: Option<String>,
    /// The transform rules that changed it.
    transformed: Option<Vec<String>>,
    /// Everything else that was sent, nested as it came.
    fields: BTreeMap<String, Value>,
    /// What was sent, with every name and form as it came; where it was asked for.
    sent: Option<BTreeMap<String, Value>>,
}

/// The last line of an export.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum ExportEnd {
    /// What was given out.
    Account(ExportAccount),
    /// What went wrong; events may be missing.
    Problem(Problem),
}

/// What an export gave out.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct ExportAccount {
    /// How many events.
    pub events: usize,
    /// Whether the limit cut some off.
    pub more: bool,
    /// The range that was meant.
    pub range: RangeAnswer,
    /// How it came about; what was left out makes it incomplete.
    pub explain: Explanation,
}
