//! OTLP log records. A text body is the message; any other body stays a field.

use super::{Entries, EventParts, Shared, id_of, odd_id, placed, time_of, value_of};
use calvex_intake::normalise::Known;
use calvex_language::model::severity_from_text;
use calvex_language::model::{Severity, Value};
use opentelemetry_proto::tonic::collector::logs::v1::{ExportLogsPartialSuccess, ExportLogsServiceResponse};
use opentelemetry_proto::tonic::logs::v1::LogRecord;
use std::borrow::Cow;

/// The answer to an export request: partial success where some were refused, or where there is something to show.
pub(super) fn answer(refused: i64, message: &str) -> ExportLogsServiceResponse {
    let partial = ExportLogsPartialSuccess { rejected_log_records: refused, error_message: message.to_owned() };
    ExportLogsServiceResponse { partial_success: (refused > 0 || !message.is_empty()).then_some(partial) }
}

/// What the protocol has of a log record beside the event's builtins.
const OWN: &[&str] = &[
    "resource",
    "scope",
    "otlp",
    "body",
    "severity_text",
    "event_name",
    "trace_flags",
    "observed_unix_ns",
    "dropped_attributes_count",
];

/// The event of a record.
pub(super) fn raw_event(record: LogRecord, shared: &Shared) -> EventParts {
    let mut entries = placed(record.attributes, OWN);
    shared.fields.iter().for_each(|(name, value)| entries.set(name.clone(), value.clone()));
    let message = match value_of(record.body) {
        Value::Text(text) => Some(text),
        Value::Null => None,
        other => {
            entries.set("body".to_owned(), other);
            None
        }
    };
    let number = i64::from(record.severity_number);
    let numbered = Severity::from_number(number);
    let severity = numbered.or_else(|| severity_from_text(&record.severity_text));
    entries.text("severity_text", record.severity_text);
    entries.text("event_name", record.event_name);
    entries.count("trace_flags", record.flags);
    entries.count("dropped_attributes_count", record.dropped_attributes_count);
    let (time, observed) = (time_of(record.time_unix_nano), time_of(record.observed_time_unix_nano));
    // Where only one of them was sent, or both say the same, the event's time has it.
    if let Some(observed) = observed.filter(|o| time.is_some_and(|t| t != *o)) {
        entries.set("observed_unix_ns".to_owned(), Value::Int(observed));
    }
    let mut odd = Entries::default();
    odd.text("trace_id", odd_id::<16>(&record.trace_id));
    odd.text("span_id", odd_id::<8>(&record.span_id));
    if number != 0 && numbered.is_none() {
        odd.set("severity_number".to_owned(), Value::Int(number));
    }
    odd.under("otlp").into_iter().for_each(|(name, value)| entries.set(name, value));
    let known = Known {
        time_ns: time.or(observed),
        severity,
        service: shared.service(),
        host: shared.host(),
        message: message.map(Cow::Owned),
        trace: id_of(record.trace_id),
        span: id_of(record.span_id),
        ..Known::default()
    };
    (known, entries.into_list())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::otlp::tests::parts;
    use crate::otlp::{Encoding, Request, Signal, encode};
    use calvex_intake::batch::{Batch, BatchBuilder, Policy, Reading};
    use calvex_intake::normalise::{Arrival, Limits};
    use opentelemetry_proto::tonic::collector::logs::v1::ExportLogsServiceRequest;
    use prost::Message;

    fn taken(request: &Request, limits: Limits) -> Batch {
        let (ties, transforms) =
            (calvex_language::query::Ties::default(), calvex_intake::transform::Transforms::default());
        let routes = calvex_intake::route::RouteTable::new(Vec::new(), 1);
        let mut reading = Reading::default();
        let mut builder = BatchBuilder::new(Arrival { arrived_ns: 0, sender: "x", fixed: &[], limits, ties: &ties });
        request.take(&mut builder, &mut reading).unwrap();
        builder.finish(&reading, &Policy::of_routes(&routes, &transforms, &|_| ("main", u32::MAX))).unwrap()
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
        let from_json = parts(JSON.as_bytes(), Encoding::Json, Signal::Logs);
        let request: ExportLogsServiceRequest = serde_json::from_str(JSON).unwrap();
        let from_protobuf = parts(&request.encode_to_vec(), Encoding::Protobuf, Signal::Logs);
        for mut events in [from_json, from_protobuf] {
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
        assert_eq!(encode(&answer(0, ""), Encoding::Json), b"{}");
        let partial = String::from_utf8(encode(&answer(2, "too old"), Encoding::Json)).unwrap();
        assert!(partial.contains("too old") && partial.contains("rejectedLogRecords"), "{partial}");
    }
}
