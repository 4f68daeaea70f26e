//! Golden cases: what is sent in JSON, what is stored of it, and that protobuf of the same is stored alike.

use super::*;
use calvex_language::model::time::format_utc;
use opentelemetry_proto::tonic::logs::v1::LogRecord;
use opentelemetry_proto::tonic::trace::v1::Span;
use std::fmt::Write;

/// A group, a scope and a record as a request of protobuf: each message behind its field number.
fn wrapped(number: u32, bytes: &[u8]) -> Vec<u8> {
    let mut out = Vec::new();
    prost::encoding::encode_varint(u64::from(number << 3 | 2), &mut out);
    prost::encoding::encode_varint(bytes.len() as u64, &mut out);
    out.extend_from_slice(bytes);
    out
}

/// Each record of a request.
pub(super) fn parts(body: &[u8], encoding: Encoding, signal: Signal) -> Vec<EventParts> {
    let request = Request::read(body, encoding, signal).unwrap();
    let (mut shared, mut events) = (Shared::default(), Vec::new());
    walk(body, encoding, signal, &mut |step| match step {
        Step::Scope(above) => shared = Shared::read(above, usize::MAX).unwrap(),
        Step::Record(raw) => events.push(request.event(raw, &shared, usize::MAX).unwrap()),
    })
    .unwrap();
    events
}

#[derive(Default)]
struct Case {
    signal: Option<Signal>,
    record: String,
    resource: Option<String>,
    resource_schema: Option<String>,
    scope: Option<String>,
    scope_schema: Option<String>,
}

impl Case {
    fn json(&self) -> String {
        let [groups, scopes, records] = match self.signal.unwrap() {
            Signal::Logs => ["resourceLogs", "scopeLogs", "logRecords"],
            Signal::Spans => ["resourceSpans", "scopeSpans", "spans"],
        };
        let or_null = |part: &Option<String>| part.clone().unwrap_or_else(|| "null".to_owned());
        format!(
            r#"{{"{groups}":[{{"resource":{},"schemaUrl":{},"{scopes}":[{{"scope":{},"schemaUrl":{},"{records}":[{}]}}]}}]}}"#,
            or_null(&self.resource),
            or_null(&self.resource_schema),
            or_null(&self.scope),
            or_null(&self.scope_schema),
            self.record
        )
    }

    fn protobuf(&self) -> Vec<u8> {
        let json = |text: &str| serde_json::from_str::<serde_json::Value>(text).unwrap();
        let part = |number, bytes: Option<Vec<u8>>| bytes.map(|b| wrapped(number, &b)).unwrap_or_default();
        let text = |t: &Option<String>| t.as_ref().map(|t| json(t).as_str().unwrap().as_bytes().to_vec());
        let record = match self.signal.unwrap() {
            Signal::Logs => LogRecord::from_json(json(&self.record)).unwrap().encode_to_vec(),
            Signal::Spans => Span::from_json(json(&self.record)).unwrap().encode_to_vec(),
        };
        let scope = self.scope.as_ref().map(|s| InstrumentationScope::from_json(json(s)).unwrap().encode_to_vec());
        let scope = [part(1, scope), wrapped(2, &record), part(3, text(&self.scope_schema))].concat();
        let resource = self.resource.as_ref().map(|r| Resource::from_json(json(r)).unwrap().encode_to_vec());
        wrapped(1, &[part(1, resource), wrapped(2, &scope), part(3, text(&self.resource_schema))].concat())
    }
}

fn reported((known, object): &EventParts) -> String {
    let mut out = String::new();
    let mut report = |name: &str, value: Option<String>| {
        if let Some(value) = value {
            write!(out, " {name}={value}").unwrap();
        }
    };
    report("time", known.time_ns.map(|t| format_utc(t, 9)));
    report("severity", known.severity.map(|s| s.0.to_string()));
    report("service", known.service.as_ref().map(ToString::to_string));
    report("message", known.message.as_ref().map(|m| format!("{m:?}")));
    report("trace", known.trace.map(|id| to_hex(&id)));
    report("span", known.span.map(|id| to_hex(&id)));
    report("parent", known.parent.map(|id| to_hex(&id)));
    report("took_ns", known.took_ns.map(|t| t.to_string()));
    report("status", known.status.map(|s| format!("{s:?}").to_lowercase()));
    format!("event{out}\nfields {}", serde_json::to_string(&Value::Object(object.clone())).unwrap())
}

#[test]
fn golden_cases() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/src/otlp/golden/cases.txt");
    let golden = std::fs::read_to_string(path).unwrap();
    let mut written = Vec::new();
    for block in golden.trim_end().split("\n\n") {
        let mut case = Case::default();
        let mut sent = Vec::new();
        for line in block.lines().filter(|l| !l.starts_with("event") && !l.starts_with("fields ")) {
            sent.push(line);
            let Some((name, part)) = line.split_once(' ').map(|(name, part)| (name, part.to_owned())) else { continue };
            match name {
                "record" => (case.signal, case.record) = (Some(Signal::Logs), part),
                "span" => (case.signal, case.record) = (Some(Signal::Spans), part),
                "resource" => case.resource = Some(part),
                "resource_schema" => case.resource_schema = Some(part),
                "scope" => case.scope = Some(part),
                "scope_schema" => case.scope_schema = Some(part),
                _ => {}
            }
        }
        let Some(signal) = case.signal else {
            written.push(sent.join("\n"));
            continue;
        };
        let (json, protobuf) = (case.json(), case.protobuf());
        let from_json = parts(json.as_bytes(), Encoding::Json, signal);
        let from_protobuf = parts(&protobuf, Encoding::Protobuf, signal);
        assert_eq!(from_json.len(), 1, "{json}");
        assert_eq!(reported(&from_json[0]), reported(&from_protobuf[0]), "{json}");
        written.push(format!("{}\n{}", sent.join("\n"), reported(&from_json[0])));
    }
    let written = written.join("\n\n") + "\n";
    if std::env::var_os("CALVEX_BLESS").is_some() {
        std::fs::write(path, &written).unwrap();
    }
    assert_eq!(written, golden, "CALVEX_BLESS=1 writes what is stored now; read the difference");
}

#[test]
fn media_types_compare_without_case() {
    for (media_type, encoding) in [
        ("application/x-protobuf", Some(Encoding::Protobuf)),
        ("Application/X-Protobuf", Some(Encoding::Protobuf)),
        ("APPLICATION/JSON; charset=utf-8", Some(Encoding::Json)),
        ("text/plain", None),
    ] {
        assert_eq!(Encoding::from_media_type(media_type), encoding, "{media_type}");
    }
}
