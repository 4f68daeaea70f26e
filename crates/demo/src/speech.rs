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
    /// The line.
    pub json: String,
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
    Sent { send_ns: at_ns, at_ns, service, bank: None, json }
}
