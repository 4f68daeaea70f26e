//! OTLP log records. A text body is the message; any other body stays a field.

use super::{EventParts, Shared, id_of, time_of, value_of};
use calvex_core::event::{Severity, Value};
use calvex_core::normalise::{Known, severity_from_text};
use opentelemetry_proto::tonic::collector::logs::v1::{ExportLogsPartialSuccess, ExportLogsServiceResponse};
use opentelemetry_proto::tonic::logs::v1::LogRecord;
use std::borrow::Cow;

/// The answer to an export request: partial success where some were refused, or where there is something to tell.
pub(super) fn answer(refused: i64, message: &str) -> ExportLogsServiceResponse {
    let partial = ExportLogsPartialSuccess { rejected_log_records: refused, error_message: message.to_owned() };
    ExportLogsServiceResponse { partial_success: (refused > 0 || !message.is_empty()).then_some(partial) }
}

/// The event of a record.
pub(super) fn raw_event(record: LogRecord, shared: &Shared) -> EventParts {
    let mut object = shared.object(record.attributes);
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
    let known = Known {
        time_ns: time_of(record.time_unix_nano).or_else(|| time_of(record.observed_time_unix_nano)),
        severity,
        service: shared.service(),
        host: shared.host(),
        message: message.map(Cow::Owned),
        trace: id_of(record.trace_id),
        span: id_of(record.span_id),
        ..Known::default()
    };
    (known, object)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::otlp::{Encoding, Request, Signal, decode, encode};
    use calvex_core::batch::{Batch, BatchBuilder, Policy, Reading};
    use calvex_core::normalise::{Arrival, Limits};
    use opentelemetry_proto::tonic::collector::logs::v1::ExportLogsServiceRequest;
    use prost::Message;

    /// Each record of a request, decoded.
    fn records(request: ExportLogsServiceRequest) -> Vec<EventParts> {
        let groups = request.resource_logs.into_iter();
        let scopes = groups.flat_map(|g| {
            let resource = Shared::of(g.resource);
            g.scope_logs.into_iter().map(move |s| (resource.with_scope(s.scope), s.log_records))
        });
        let all = scopes.flat_map(|(shared, records)| records.into_iter().map(move |r| raw_event(r, &shared)));
        all.collect()
    }

    fn taken(request: &Request, limits: Limits) -> Batch {
        let (ties, shaping) = (calvex_core::tie::Ties::default(), calvex_core::shape::Shaping::default());
        let routes = calvex_core::route::RouteTable::new(Vec::new(), 1);
        let mut reading = Reading::default();
        let mut builder = BatchBuilder::new(Arrival { arrived_ns: 0, sender: "x", fixed: &[], limits, ties: &ties });
        request.take(&mut builder, &mut reading).unwrap();
        builder.finish(&reading, &Policy::of_routes(&routes, &shaping, &|_| ("main", u32::MAX))).unwrap()
    }

    #[test]
    fn one_bad_record_refuses_itself() {
        let json = r#"{"resourceLogs":[{"scopeLogs":[{"logRecords":[{"body":{"stringValue":"a"}},7,
            {"body":{"stringValue":"b"},"attributes":"none"},{"body":{"stringValue":"c"}}]}]}]}"#;
        let request = Request::read(json.as_bytes(), Encoding::Json, Signal::Logs).unwrap();
        assert_eq!(request.records, 4);
        let batch = taken(&request, Limits::default());
        let refused: Vec<_> = batch.refused.iter().map(|r| (r.line, r.refusal.reason())).collect();
        assert_eq!((batch.stored, refused), (2, vec![(2, "not-otlp"), (3, "not-otlp")]));
        // The same in protobuf: a record whose bytes are no record, in a frame that is whole.
        let protobuf = [10, 12, 18, 10, 18, 2, 42, 0, 18, 1, 0xff, 18, 1, 0x08];
        let request = Request::read(&protobuf, Encoding::Protobuf, Signal::Logs).unwrap();
        let batch = taken(&request, Limits::default());
        assert_eq!((request.records, batch.stored, batch.refused.len()), (3, 1, 2));
    }

    #[test]
    fn records_are_counted_before_any_is_decoded() {
        // Empty records of two bytes each, under a resource of a thousand bytes.
        let mut scope = Vec::new();
        (0..20_000).for_each(|_| scope.extend_from_slice(&[18, 0]));
        let resource = opentelemetry_proto::tonic::resource::v1::Resource {
            attributes: vec![opentelemetry_proto::tonic::common::v1::KeyValue {
                key: "x".repeat(1000),
                ..Default::default()
            }],
            ..Default::default()
        };
        let wrapped = |number: u64, bytes: &[u8]| {
            let mut out = Vec::new();
            prost::encoding::encode_varint(number << 3 | 2, &mut out);
            prost::encoding::encode_varint(bytes.len() as u64, &mut out);
            out.extend_from_slice(bytes);
            out
        };
        let group = [wrapped(1, &resource.encode_to_vec()), wrapped(2, &scope)].concat();
        let body = wrapped(1, &group);
        let request = Request::read(&body, Encoding::Protobuf, Signal::Logs).unwrap();
        assert_eq!(request.records, 20_000);
        assert!(request.expanded_bytes > 20_000_000, "each record has the resource: {}", request.expanded_bytes);
        // What records share is measured like an event.
        let batch = taken(&request, Limits { event_bytes: 500, ..Limits::default() });
        assert_eq!((batch.stored, batch.refused.len()), (0, 20_000));
        assert_eq!(batch.refused.by_reason().next().map(|r| r.0), Some("too-large"));
    }

    const JSON: &str = r#"{"resourceLogs":[{"resource":{"attributes":[
        {"key":"service.name","value":{"stringValue":"codes"}},{"key":"region","value":{"stringValue":"north"}}]},
        "scopeLogs":[{"scope":{"name":"pickup"},"logRecords":[{"timeUnixNano":"1791081521198204331","severityNumber":13,
        "severityText":"WARN","body":{"stringValue":"pick-up code withheld"},"traceId":"5b8aa5a2d2c872e8321cf37308d69df2",
        "spanId":"051581bf3cb55c13","attributes":[{"key":"try","value":{"intValue":"3"}},
        {"key":"doors","value":{"arrayValue":{"values":[{"intValue":"17"},{"boolValue":true}]}}}]}]}]}]}"#;

    #[test]
    fn json_and_protobuf_agree() {
        let from_json = decode(JSON.as_bytes(), Encoding::Json).unwrap();
        let request: ExportLogsServiceRequest = serde_json::from_str(JSON).unwrap();
        let from_protobuf = decode(&request.encode_to_vec(), Encoding::Protobuf).unwrap();
        for events in [from_json, from_protobuf] {
            let mut events = records(events);
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
        assert_eq!(encode(&answer(0, ""), Encoding::Protobuf), b"");
        let partial = String::from_utf8(encode(&answer(2, "too old"), Encoding::Json)).unwrap();
        assert!(partial.contains("too old") && partial.contains("rejectedLogRecords"), "{partial}");
    }
}
