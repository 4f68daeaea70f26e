//! OTLP logs, protobuf and JSON, to raw events.
//!
//! Attributes become fields under their own names; those of the resource stand below `resource`, the scope below
//! `scope`. `service.name` and `host.name` of the resource become the event's service and host. A text body is the
//! message; any other body stays a field.

use calvex_core::CoreError;
use calvex_core::batch::{BatchBuilder, Reading};
use calvex_core::event::{Severity, Value};
use calvex_core::normalise::{Known, RawEvent, severity_from_text};
use opentelemetry_proto::tonic::collector::logs::v1::{
    ExportLogsPartialSuccess, ExportLogsServiceRequest, ExportLogsServiceResponse,
};
use opentelemetry_proto::tonic::common::v1::{AnyValue, InstrumentationScope, KeyValue, any_value};
use opentelemetry_proto::tonic::logs::v1::LogRecord;
use opentelemetry_proto::tonic::resource::v1::Resource;
use prost::Message;
use std::borrow::Cow;

/// The two encodings of OTLP over HTTP.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[allow(missing_docs)]
pub enum Encoding {
    Protobuf,
    Json,
}

impl Encoding {
    /// From a media type.
    pub fn from_media_type(media_type: &str) -> Option<Self> {
        match media_type.split(';').next().unwrap_or("").trim() {
            "application/x-protobuf" => Some(Encoding::Protobuf),
            "application/json" => Some(Encoding::Json),
            _ => None,
        }
    }

    /// As sent back.
    pub fn media_type(self) -> &'static str {
        match self {
            Encoding::Protobuf => "application/x-protobuf",
            Encoding::Json => "application/json",
        }
    }
}

/// Reads an export request.
///
/// # Errors
/// What is wrong with the body; nothing of it can be taken then.
pub fn decode_logs(body: &[u8], encoding: Encoding) -> Result<ExportLogsServiceRequest, String> {
    match encoding {
        Encoding::Protobuf => ExportLogsServiceRequest::decode(body).map_err(|e| e.to_string()),
        Encoding::Json => serde_json::from_slice(body).map_err(|e| e.to_string()),
    }
}

/// Takes the records of a request into `batch`, numbered from 1. The paths met stand in `reading`, which the batch is
/// finished with.
///
/// # Errors
/// Only for a defect of the engine; a record that breaks a limit refuses itself.
pub fn take_logs(
    request: ExportLogsServiceRequest,
    batch: &mut BatchBuilder,
    reading: &mut Reading,
) -> Result<(), CoreError> {
    let limits = batch.limits();
    let mut number = 0;
    for (known, object) in records(request) {
        number += 1;
        let fields = reading.flattener.entries(object, &mut reading.paths, &limits);
        batch.push(number, fields.map(|fields| RawEvent { fields, known }), reading)?;
    }
    Ok(())
}

/// Each record's known parts, and all else as an object.
fn records(request: ExportLogsServiceRequest) -> impl Iterator<Item = (Known<'static>, Vec<(String, Value)>)> {
    request.resource_logs.into_iter().flat_map(|resource_logs| {
        let (service, host, shared) = resource_fields(resource_logs.resource.unwrap_or_default());
        resource_logs.scope_logs.into_iter().flat_map(move |scope_logs| {
            let mut shared = shared.clone();
            shared.extend(scope_logs.scope.and_then(scope_fields));
            let (service, host) = (service.clone(), host.clone());
            scope_logs
                .log_records
                .into_iter()
                .map(move |record| raw_event(record, service.clone(), host.clone(), &shared))
        })
    })
}

/// The answer to an export request: partial success where some were refused.
pub fn encode_answer(refused: i64, message: &str, encoding: Encoding) -> Vec<u8> {
    let partial = ExportLogsPartialSuccess { rejected_log_records: refused, error_message: message.to_owned() };
    let answer = ExportLogsServiceResponse { partial_success: (refused > 0).then_some(partial) };
    match encoding {
        Encoding::Protobuf => answer.encode_to_vec(),
        Encoding::Json => serde_json::to_vec(&answer).unwrap_or_else(|_| b"{}".to_vec()),
    }
}

fn resource_fields(resource: Resource) -> (Option<String>, Option<String>, Vec<(String, Value)>) {
    let (mut service, mut host, mut rest) = (None, None, Vec::new());
    for attribute in resource.attributes {
        let (name, value) = pair(attribute);
        match (name.as_str(), value) {
            ("service.name", Value::Text(t)) if !t.is_empty() => service = Some(t),
            ("host.name", Value::Text(t)) if !t.is_empty() => host = Some(t),
            (_, value) => rest.push((name, value)),
        }
    }
    let shared = if rest.is_empty() { Vec::new() } else { vec![("resource".to_owned(), Value::Object(rest))] };
    (service, host, shared)
}

fn scope_fields(scope: InstrumentationScope) -> Option<(String, Value)> {
    let mut entries = Vec::new();
    let mut text = |name: &str, text: String| {
        if !text.is_empty() {
            entries.push((name.to_owned(), Value::Text(text)));
        }
    };
    text("name", scope.name);
    text("version", scope.version);
    entries.extend(scope.attributes.into_iter().map(pair));
    (!entries.is_empty()).then(|| ("scope".to_owned(), Value::Object(entries)))
}

fn raw_event(
    record: LogRecord,
    service: Option<String>,
    host: Option<String>,
    shared: &[(String, Value)],
) -> (Known<'static>, Vec<(String, Value)>) {
    let mut object = Vec::with_capacity(shared.len() + record.attributes.len());
    for attribute in record.attributes {
        let (name, value) = pair(attribute);
        Value::set(&mut object, name, value);
    }
    for (name, value) in shared {
        if !object.iter().any(|(n, _)| n == name) {
            object.push((name.clone(), value.clone()));
        }
    }
    let mut keep = |name: &str, value: Value| Value::set(&mut object, name.to_owned(), value);
    let message = match record.body.and_then(|b| b.value).map(|v| value_of(Some(v))) {
        Some(Value::Text(t)) => Some(t),
        Some(Value::Null) | None => None,
        Some(other) => {
            keep("body", other);
            None
        }
    };
    let numbered = Severity::from_number(i64::from(record.severity_number));
    let severity = numbered.or_else(|| severity_from_text(&record.severity_text));
    if !record.severity_text.is_empty() {
        keep("severity_text", Value::Text(record.severity_text));
    }
    if !record.event_name.is_empty() {
        keep("event_name", Value::Text(record.event_name));
    }
    if record.dropped_attributes_count > 0 {
        keep("dropped_attributes_count", Value::Int(i64::from(record.dropped_attributes_count)));
    }
    if record.flags > 0 {
        keep("trace_flags", Value::Int(i64::from(record.flags)));
    }
    let time = [record.time_unix_nano, record.observed_time_unix_nano].into_iter().find(|t| *t > 0);
    let known = Known {
        time_ns: time.and_then(|t| i64::try_from(t).ok()),
        severity,
        service: service.map(Cow::Owned),
        host: host.map(Cow::Owned),
        message: message.map(Cow::Owned),
        trace: record.trace_id.try_into().ok().filter(|id| *id != [0; 16]),
        span: record.span_id.try_into().ok().filter(|id| *id != [0; 8]),
    };
    (known, object)
}

fn pair(attribute: KeyValue) -> (String, Value) {
    (attribute.key, value_of(attribute.value.and_then(|v| v.value)))
}

fn value_of(value: Option<any_value::Value>) -> Value {
    let inner = |v: AnyValue| value_of(v.value);
    match value {
        Some(any_value::Value::StringValue(t)) => Value::Text(t),
        Some(any_value::Value::BoolValue(b)) => Value::Bool(b),
        Some(any_value::Value::IntValue(n)) => Value::Int(n),
        Some(any_value::Value::DoubleValue(f)) => Value::Float(f),
        Some(any_value::Value::BytesValue(b)) => Value::Bytes(b),
        Some(any_value::Value::ArrayValue(list)) => Value::List(list.values.into_iter().map(inner).collect()),
        Some(any_value::Value::KvlistValue(list)) => {
            let mut object = Vec::with_capacity(list.values.len());
            for attribute in list.values {
                let (name, value) = pair(attribute);
                Value::set(&mut object, name, value);
            }
            Value::Object(object)
        }
        _ => Value::Null,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const JSON: &str = r#"{"resourceLogs":[{"resource":{"attributes":[
        {"key":"service.name","value":{"stringValue":"codes"}},{"key":"region","value":{"stringValue":"north"}}]},
        "scopeLogs":[{"scope":{"name":"pickup"},"logRecords":[{"timeUnixNano":"1791081521198204331","severityNumber":13,
        "severityText":"WARN","body":{"stringValue":"pick-up code withheld"},"traceId":"5b8aa5a2d2c872e8321cf37308d69df2",
        "spanId":"051581bf3cb55c13","attributes":[{"key":"try","value":{"intValue":"3"}},
        {"key":"doors","value":{"arrayValue":{"values":[{"intValue":"17"},{"boolValue":true}]}}}]}]}]}]}"#;

    #[test]
    fn json_and_protobuf_agree() {
        let from_json = decode_logs(JSON.as_bytes(), Encoding::Json).unwrap();
        let request: ExportLogsServiceRequest = serde_json::from_str(JSON).unwrap();
        let from_protobuf = decode_logs(&request.encode_to_vec(), Encoding::Protobuf).unwrap();
        for events in [from_json, from_protobuf] {
            let mut events: Vec<_> = records(events).collect();
            let (known, object) = events.pop().unwrap();
            assert!(events.is_empty());
            assert_eq!(known.time_ns, Some(1_791_081_521_198_204_331));
            assert_eq!(
                (known.service.as_deref(), known.message.as_deref()),
                (Some("codes"), Some("pick-up code withheld"))
            );
            assert_eq!((known.severity, known.trace.is_some(), known.span.is_some()), (Some(Severity(13)), true, true));
            let value = |name: &str| object.iter().find(|(n, _)| n == name).map(|(_, v)| v.clone());
            assert_eq!(value("try"), Some(Value::Int(3)));
            assert_eq!(value("doors"), Some(Value::List(vec![Value::Int(17), Value::Bool(true)])));
            assert!(matches!(value("resource"), Some(Value::Object(o)) if o.len() == 1));
        }
    }

    #[test]
    fn answers() {
        assert_eq!(encode_answer(0, "", Encoding::Protobuf), b"");
        let partial = String::from_utf8(encode_answer(2, "too old", Encoding::Json)).unwrap();
        assert!(partial.contains("too old") && partial.contains("rejectedLogRecords"), "{partial}");
    }

    proptest! {
        #[test]
        fn any_bytes_are_answered(body in any::<Vec<u8>>()) {
            let _ = decode_logs(&body, Encoding::Protobuf).map(|r| records(r).count());
            let _ = decode_logs(&body, Encoding::Json).map(|r| records(r).count());
        }
    }
}
