//! How each service writes its events. They do not agree, on purpose.

use jiff::Timestamp;
use serde_json::{Map, Value, json};
use std::cmp::Ordering;

/// Every service of the network.
pub const SERVICES: [&str; 10] =
    ["edge", "parcels", "slots", "codes", "courier", "notify", "billing", "sorter", "locker-agent", "access"];

/// One event, ready to be sent.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sent {
    /// When it is sent.
    pub send_ns: i64,
    /// When it happened.
    pub at_ns: i64,
    /// Who writes it.
    pub service: &'static str,
    /// The bank it happened at, for agents.
    pub bank: Option<u32>,
    /// The line; of a span what OTLP's `resourceSpans` lists.
    pub json: String,
    /// Whether it is a span, which goes out by OTLP.
    pub is_span: bool,
}

impl Ord for Sent {
    fn cmp(&self, other: &Self) -> Ordering {
        (self.send_ns, self.at_ns, &self.json).cmp(&(other.send_ns, other.at_ns, &other.json))
    }
}

impl PartialOrd for Sent {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

/// How bad.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[allow(missing_docs)]
pub enum Level {
    Debug,
    Info,
    Warn,
    Error,
}

impl Level {
    fn word(self) -> &'static str {
        match self {
            Level::Debug => "debug",
            Level::Info => "info",
            Level::Warn => "warn",
            Level::Error => "error",
        }
    }

    fn tens(self) -> u8 {
        match self {
            Level::Debug => 20,
            Level::Info => 30,
            Level::Warn => 40,
            Level::Error => 50,
        }
    }
}

/// The ids that a request carries through every service.
#[derive(Debug, Clone)]
pub struct Ids {
    pub trace: String,
    pub span: String,
}

fn rfc3339(at_ns: i64, digits: u32) -> String {
    let unit = 10i64.pow(9 - digits);
    let whole = at_ns - at_ns.rem_euclid(unit);
    let text = Timestamp::from_nanosecond(i128::from(whole)).unwrap_or(Timestamp::UNIX_EPOCH);
    format!("{text:.prec$}", prec = digits as usize)
}

/// Writes an event in the manner of `service`. `fields` are its own.
pub fn say(
    service: &'static str,
    replica: u64,
    at_ns: i64,
    level: Level,
    ids: Option<&Ids>,
    message: String,
    fields: Value,
) -> Sent {
    let mut out = Map::new();
    let mut put = |name: &str, value: Value| {
        out.insert(name.to_owned(), value);
    };
    let host = json!(format!("{service}-{}", replica % 3 + 1));
    match service {
        "edge" => {
            put("ts", json!(rfc3339(at_ns, 6)));
            put("level", json!(level.word().to_uppercase()));
            put("service", json!(service));
            put("host", host);
            put("msg", json!(message));
            ids.inspect(|i| put("traceId", json!(i.trace)));
        }
        "parcels" => {
            put("timestamp", json!(at_ns / 1_000_000));
            put("severity", json!(level.word()));
            put("app", json!(service));
            put("hostname", host);
            put("message", json!(message));
            ids.inspect(|i| put("correlation_id", json!(i.trace)));
        }
        "slots" => {
            put("time", json!(rfc3339(at_ns, 9)));
            put("lvl", json!(level.word()));
            put("service", json!({ "name": service }));
            put("host", json!({ "name": host }));
            put("message", json!(message));
            ids.inspect(|i| {
                put("trace_id", json!(i.trace));
                put("span_id", json!(i.span));
            });
        }
        "codes" => {
            put("time", json!(at_ns / 1_000_000));
            put("level", json!(level.tens()));
            put("service_name", json!(service));
            put("hostname", host);
            put("msg", json!(message));
            ids.inspect(|i| put("traceparent", json!(format!("00-{}-{}-01", i.trace, i.span))));
        }
        "sorter" => {
            // One line of text; what is in it nobody took apart.
            put("ts", json!(rfc3339(at_ns, 3)));
            put("app", json!(service));
            put("lvl", json!(level.word()));
            put("msg", json!(message));
        }
        "locker-agent" => {
            put("ts", json!(at_ns / 1_000_000));
            put("lvl", json!(level.word()));
            put("service", json!(service));
            put("event", json!(message));
            ids.inspect(|i| put("trace", json!(i.trace)));
        }
        _ => {
            put("time", json!(rfc3339(at_ns, 6)));
            put("level", json!(level.word()));
            put("service", json!(service));
            put("host", host);
            put("message", json!(message));
            ids.inspect(|i| put("trace_id", json!(i.trace)));
        }
    }
    if let Value::Object(own) = fields {
        out.extend(own);
    }
    let json = Value::Object(out).to_string();
    Sent { send_ns: at_ns, at_ns, service, bank: None, json, is_span: false }
}

/// What a span is to its caller, as OTLP numbers it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[allow(missing_docs)]
pub enum SpanKind {
    Internal = 1,
    Server = 2,
    Producer = 4,
    Consumer = 5,
}

/// A span from its beginning on.
#[derive(Debug, Clone)]
pub struct OpenSpan {
    pub id: String,
    pub parent: Option<String>,
    pub service: &'static str,
    pub host: String,
    pub name: &'static str,
    pub kind: SpanKind,
    pub began_ns: i64,
    /// The span whose message it takes from a queue.
    pub link: Option<String>,
}

impl OpenSpan {
    /// The span as OTLP's JSON form lists it, sent when it ends.
    pub fn end(self, trace: &str, at_ns: i64, failed: bool) -> Sent {
        let text = |key: &str, value: &str| json!({"key": key, "value": {"stringValue": value}});
        let mut span = json!({
            "traceId": trace,
            "spanId": self.id,
            "name": self.name,
            "kind": self.kind as u8,
            "startTimeUnixNano": self.began_ns.to_string(),
            "endTimeUnixNano": at_ns.to_string(),
            "status": {"code": if failed { 2 } else { 0 }},
        });
        if let Some(parent) = self.parent {
            span["parentSpanId"] = json!(parent);
        }
        if let Some(link) = self.link {
            span["links"] = json!([{"traceId": trace, "spanId": link}]);
        }
        let listed = json!({
            "resource": {"attributes": [text("service.name", self.service), text("host.name", &self.host)]},
            "scopeSpans": [{"spans": [span]}],
        });
        let json = listed.to_string();
        Sent { send_ns: at_ns, at_ns: self.began_ns, service: self.service, bank: None, json, is_span: true }
    }
}
