//! One log event: its builtins, its fields as typed dotted paths, and how it came.

mod codec;
mod draft;
mod id;
mod json;
pub mod layout;
pub mod mask;
mod path;
mod refusal;
mod severity;
pub mod shape;
mod spellings;
pub mod template;
pub mod time;
mod tree;
mod value;

pub use codec::{decode_value, encode_value, put_varint, take_varint, unzigzag, zigzag};
pub use draft::{Draft, Leaf, PathId, PathTable};
pub use id::{EventId, SpanId, TraceId, parse_span, parse_trace, to_hex};
pub use json::{answer_json, answer_with_sent, sent_json};
pub use layout::restore;
pub use path::Path;
pub use refusal::Refusal;
pub use severity::{SEVERITY_COUNT, SEVERITY_NAMES, Severity};
pub use spellings::severity_from_number;
pub use spellings::{PathRole, SPELLINGS, severity_from_text};
pub use tree::{parse_value, write_number};
pub use value::Value;

/// What sort of record an event is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
#[repr(u8)]
pub enum Kind {
    /// A log event.
    #[default]
    Log = 0,
    /// A span of a trace: what took how long, and how it ended.
    Span = 1,
}

impl Kind {
    /// The name used in the query language and in answers.
    pub fn name(self) -> &'static str {
        match self {
            Kind::Log => "log",
            Kind::Span => "span",
        }
    }

    /// From the stored byte.
    pub fn from_byte(byte: u8) -> Option<Self> {
        match byte {
            0 => Some(Kind::Log),
            1 => Some(Kind::Span),
            _ => None,
        }
    }
}

/// How a span ended, as the OpenTelemetry protocol counts it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
#[repr(u8)]
pub enum Status {
    /// None was sent.
    #[default]
    Unset = 0,
    /// Marked as ended well.
    Ok = 1,
    /// Failed.
    Error = 2,
}

impl Status {
    /// The name used in the query language and in answers.
    pub fn name(self) -> &'static str {
        match self {
            Status::Unset => "unset",
            Status::Ok => "ok",
            Status::Error => "error",
        }
    }

    /// From its name.
    pub fn from_name(name: &str) -> Option<Self> {
        [Status::Unset, Status::Ok, Status::Error].into_iter().find(|s| s.name() == name)
    }

    /// From the stored byte.
    pub fn from_byte(byte: u8) -> Option<Self> {
        match byte {
            0 => Some(Status::Unset),
            1 => Some(Status::Ok),
            2 => Some(Status::Error),
            _ => None,
        }
    }
}

/// A log event as Calvex keeps it. Together with `layout`, the parts and fields rebuild exactly what was sent.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Event {
    /// Given at commit; all zero before.
    pub id: EventId,
    /// Nanoseconds from 1970: the time the event is ordered by.
    pub time_ns: i64,
    /// Nanoseconds from 1970: when it reached the service.
    pub arrived_ns: i64,
    /// The time as sent, where it lay so far ahead that the arrival orders the event instead.
    pub sent_time_ns: Option<i64>,
    /// Log or span.
    pub kind: Kind,
    /// 1 to 24 of the OpenTelemetry data model.
    pub severity: Severity,
    /// The service that wrote it; empty where none was sent.
    pub service: String,
    /// The host it ran on; empty where none was sent.
    pub host: String,
    /// The text for people; empty where there is none.
    pub message: String,
    /// The name of the key it came with.
    pub sender: String,
    /// W3C trace id.
    pub trace: Option<TraceId>,
    /// W3C span id.
    pub span: Option<SpanId>,
    /// Span id of the parent.
    pub parent: Option<SpanId>,
    /// Nanoseconds that a span took.
    pub took_ns: Option<i64>,
    /// How a span ended.
    pub status: Option<Status>,
    /// Where the builtins stood in what was sent (see `normalise::layout`).
    pub layout: String,
    /// The names of the transform rules that changed it, joined by commas; empty where none did.
    pub transformed: String,
    /// Every other field, flattened; order as sent.
    pub fields: Vec<(Path, Value)>,
}

impl Event {
    /// The key by which events are ordered everywhere.
    pub fn order_key(&self) -> (i64, EventId) {
        (self.time_ns, self.id)
    }

    /// A rough size in memory, for budgets.
    pub fn weight_bytes(&self) -> usize {
        160 + self.message.len()
            + self.service.len()
            + self.host.len()
            + self.layout.len()
            + self.fields.iter().map(|(p, v)| 48 + p.as_str().len() + v.weight_bytes()).sum::<usize>()
    }
}

/// The names of rules in an event's builtin `transformed`.
pub fn rules_of(transformed: &str) -> impl Iterator<Item = &str> {
    transformed.split(',').filter(|name| !name.is_empty())
}
