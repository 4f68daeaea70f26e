//! The load generator: events of the made-up network in several hundred message forms, requests interleaved, nested
//! fields, free text, one in a thousand hours late.

use opentelemetry_proto::tonic::collector::logs::v1::ExportLogsServiceRequest;
use opentelemetry_proto::tonic::common::v1::{AnyValue, KeyValue, KeyValueList, any_value};
use opentelemetry_proto::tonic::logs::v1::{LogRecord, ResourceLogs, ScopeLogs};
use opentelemetry_proto::tonic::resource::v1::Resource;
use prost::Message;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde_json::{Value, json};
use std::collections::BTreeMap;

const SERVICES: [&str; 9] =
    ["edge", "parcels", "slots", "codes", "courier", "notify", "billing", "sorter", "locker-agent"];
const VERBS: [&str; 12] = [
    "opened", "closed", "leased", "released", "queued", "sent", "read", "rated", "scanned", "moved", "checked", "held",
];
const THINGS: [&str; 10] =
    ["door", "parcel", "lease", "code", "message", "route", "belt", "invoice", "bank", "compartment"];
const CLAUSES: [&str; 8] = [
    "by courier",
    "after a retry",
    "before the lease ended",
    "at the depot",
    "for the recipient",
    "within its window",
    "on the second try",
    "without a code",
];
const WORDS: [&str; 16] = [
    "left", "hinge", "stiff", "cold", "night", "rain", "sensor", "slow", "answered", "twice", "label", "torn", "again",
    "quiet", "screen", "dim",
];

/// Makes lines of NDJSON, about 400 bytes each.
pub struct Load {
    rng: ChaCha8Rng,
    serial: u64,
    now_ns: i64,
    step_ns: i64,
    open: Vec<(u128, u32)>,
}

impl Load {
    /// Events that begin at `from_ns`, `step_ns` apart.
    pub fn new(seed: u64, from_ns: i64, step_ns: i64) -> Self {
        Load { rng: ChaCha8Rng::seed_from_u64(seed), serial: 0, now_ns: from_ns, step_ns, open: Vec::new() }
    }

    /// The next event.
    fn event(&mut self) -> Value {
        self.serial += 1;
        self.now_ns += self.step_ns;
        let rng = &mut self.rng;
        // About forty requests are under way at any time, each of a dozen events.
        if self.open.len() < 40 || rng.random_range(0..12) == 0 {
            self.open.push((rng.random(), rng.random_range(1..90_000)));
        }
        let at = rng.random_range(0..self.open.len());
        let (trace, parcel) = self.open[at];
        if rng.random_range(0..12) == 0 {
            self.open.swap_remove(at);
        }
        let (verb, thing, clause) = (pick(rng, &VERBS), pick(rng, &THINGS), pick(rng, &CLAUSES));
        let service = pick(rng, &SERVICES);
        let door = rng.random_range(1..37);
        let message = match rng.random_range(0..10) {
            0 => {
                let words: Vec<&str> = (0..rng.random_range(4..14)).map(|_| pick(rng, &WORDS)).collect();
                format!("note on {thing} {door}: {}", words.join(" "))
            }
            1..4 => format!(
                "{thing} {} {verb} {clause} in {} ms",
                rng.random_range(1000..99_999),
                rng.random_range(1..5000)
            ),
            _ => format!("{thing} of PX-{parcel:05} {verb} at door {door} {clause}"),
        };
        let late_ns = if rng.random_range(0..1000) == 0 { rng.random_range(1..6) * 3_600_000_000_000 } else { 0 };
        let level = ["debug", "info", "info", "info", "info", "info", "info", "info", "warn", "error"]
            [rng.random_range(0..10usize)];
        let time =
            jiff::Timestamp::from_nanosecond(i128::from(self.now_ns - late_ns)).unwrap_or(jiff::Timestamp::UNIX_EPOCH);
        let mut event = json!({
            "time": format!("{time:.6}"),
            "level": level,
            "service": service,
            "host": format!("{service}-{}", parcel % 4),
            "message": message,
            "trace_id": format!("{:032x}", trace | 1),
            "span_id": format!("{:016x}", rng.random::<u64>() | 1),
            "slot": { "bank": format!("BK-{:03}", parcel % 40 + 1), "door": door },
            "took_ms": rng.random_range(1..4000),
            "parcel": { "id": format!("PX-{parcel:05}"), "weight_g": rng.random_range(80..9000) },
            "release": format!("2026.{}", parcel % 5),
        });
        if service == "edge" {
            let status = [200, 201, 409, 504][rng.random_range(0..4usize)];
            event["http"] = json!({ "method": "POST", "route": format!("/{thing}s"), "status": status });
        }
        if self.serial.is_multiple_of(10_000) {
            event["message"] = json!(format!("door {door} seal rare{} found broken", self.serial / 10_000));
            event["seal"] = json!(format!("SL-{}", self.serial / 10_000));
        }
        event
    }

    /// The next event as a line, its newline included.
    pub fn push_line(&mut self, out: &mut String) {
        out.push_str(&self.event().to_string());
        out.push('\n');
    }

    /// An OTLP export request of `count` log records, protobuf.
    pub fn otlp(&mut self, count: usize) -> Vec<u8> {
        let mut by_service: BTreeMap<String, Vec<LogRecord>> = BTreeMap::new();
        for _ in 0..count {
            let event = self.event();
            let service = event["service"].as_str().unwrap_or("").to_owned();
            by_service.entry(service).or_default().push(record(&event));
        }
        let resource_logs = by_service.into_iter().map(|(service, log_records)| ResourceLogs {
            resource: Some(Resource {
                attributes: vec![attribute("service.name", &Value::String(service))],
                ..Resource::default()
            }),
            scope_logs: vec![ScopeLogs { log_records, ..ScopeLogs::default() }],
            ..ResourceLogs::default()
        });
        ExportLogsServiceRequest { resource_logs: resource_logs.collect() }.encode_to_vec()
    }

    /// `count` syslog messages (RFC 5424), each ended by a line end, their ids and fields as structured data.
    pub fn syslog(&mut self, count: usize) -> String {
        let mut out = String::with_capacity(count * 420);
        for _ in 0..count {
            let event = self.event();
            let text = |name: &str| event[name].as_str().unwrap_or("-");
            let priority = 16 * 8 + if text("level") == "error" { 3 } else { 6 };
            let (host, service) = (text("host"), text("service"));
            out.push_str(&format!(
                "<{priority}>1 {} {host} {service} 17 - [ids trace_id=\"{}\"",
                text("time"),
                text("trace_id")
            ));
            let own = ["time", "level", "service", "host", "message", "trace_id"];
            for (name, value) in event.as_object().into_iter().flatten().filter(|(n, _)| !own.contains(&n.as_str())) {
                let reported = value.as_str().map_or_else(|| value.to_string(), str::to_owned);
                out.push_str(&format!(" {name}=\"{}\"", reported.replace(['"', '\\', ']'], "")));
            }
            out.push_str(&format!("] {}\n", text("message")));
        }
        out
    }

    /// `count` lines.
    pub fn lines(&mut self, count: usize) -> String {
        let mut out = String::with_capacity(count * 420);
        (0..count).for_each(|_| self.push_line(&mut out));
        out
    }
}

fn attribute(name: &str, value: &Value) -> KeyValue {
    let value = match value {
        Value::Number(n) => any_value::Value::IntValue(n.as_i64().unwrap_or(0)),
        Value::Object(entries) => any_value::Value::KvlistValue(KeyValueList {
            values: entries.iter().map(|(n, v)| attribute(n, v)).collect(),
        }),
        other => any_value::Value::StringValue(other.as_str().unwrap_or("").to_owned()),
    };
    KeyValue { key: name.to_owned(), value: Some(AnyValue { value: Some(value) }), ..KeyValue::default() }
}

fn record(event: &Value) -> LogRecord {
    let text = |name: &str| event[name].as_str().unwrap_or("");
    let hex = |name: &str| {
        let digits = text(name).as_bytes().chunks_exact(2);
        digits.filter_map(|d| u8::from_str_radix(std::str::from_utf8(d).ok()?, 16).ok()).collect::<Vec<u8>>()
    };
    let own = ["time", "level", "service", "message", "trace_id", "span_id"];
    let time_ns = calvex_language::model::time::parse_time(text("time")).unwrap_or(0);
    let fields = event.as_object().into_iter().flatten().filter(|(n, _)| !own.contains(&n.as_str()));
    LogRecord {
        time_unix_nano: u64::try_from(time_ns).unwrap_or(0),
        severity_text: text("level").to_uppercase(),
        body: Some(AnyValue { value: Some(any_value::Value::StringValue(text("message").to_owned())) }),
        attributes: fields.map(|(n, v)| attribute(n, v)).collect(),
        trace_id: hex("trace_id"),
        span_id: hex("span_id"),
        ..LogRecord::default()
    }
}

fn pick<'a>(rng: &mut ChaCha8Rng, of: &[&'a str]) -> &'a str {
    of[rng.random_range(0..of.len())]
}
