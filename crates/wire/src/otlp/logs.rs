//! OTLP log records. A text body is the message; any other body stays a field.

use super::{Shared, id_of, time_of, value_of};
use calvex_core::CoreError;
use calvex_core::batch::{BatchBuilder, Reading};
use calvex_core::event::{Severity, Value};
use calvex_core::normalise::{Known, RawEvent, severity_from_text};
use opentelemetry_proto::tonic::collector::logs::v1::{
    ExportLogsPartialSuccess, ExportLogsServiceRequest, ExportLogsServiceResponse,
};
use opentelemetry_proto::tonic::logs::v1::LogRecord;
use std::borrow::Cow;

/// Takes the records of a request into `batch`, numbered from 1. The paths met stand in `reading`, which the batch is
/// finished with.
///
/// # Errors
/// Only for a defect of the engine; a record that breaks a limit refuses itself.
pub fn take(
    request: ExportLogsServiceRequest,
    batch: &mut BatchBuilder,
    reading: &mut Reading,
) -> Result<(), CoreError> {
    let limits = batch.limits();
    for (number, (known, object)) in (1..).zip(records(request)) {
        let fields = reading.flattener.entries(object, &mut reading.paths, &limits);
        batch.push(number, fields.map(|fields| RawEvent { fields, known }), reading)?;
    }
    Ok(())
}

/// Each record's known parts, and all else as an object.
fn records(request: ExportLogsServiceRequest) -> impl Iterator<Item = (Known<'static>, Vec<(String, Value)>)> {
    request.resource_logs.into_iter().flat_map(|resource_logs| {
        let resource = Shared::of(resource_logs.resource);
        resource_logs.scope_logs.into_iter().flat_map(move |scope_logs| {
            let shared = resource.with_scope(scope_logs.scope);
            scope_logs.log_records.into_iter().map(move |record| raw_event(record, &shared))
        })
    })
}

/// The answer to an export request: partial success where some were refused, or where there is something to tell.
pub fn answer(refused: i64, message: &str) -> ExportLogsServiceResponse {
    let partial = ExportLogsPartialSuccess { rejected_log_records: refused, error_message: message.to_owned() };
    ExportLogsServiceResponse { partial_success: (refused > 0 || !message.is_empty()).then_some(partial) }
}

fn raw_event(record: LogRecord, shared: &Shared) -> (Known<'static>, Vec<(String, Value)>) {
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
    use crate::otlp::{Encoding, decode, encode};
    use proptest::prelude::*;
    use prost::Message;

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
        assert_eq!(encode(&answer(0, ""), Encoding::Protobuf), b"");
        let partial = String::from_utf8(encode(&answer(2, "too old"), Encoding::Json)).unwrap();
        assert!(partial.contains("too old") && partial.contains("rejectedLogRecords"), "{partial}");
    }

    proptest! {
        #[test]
        fn any_bytes_are_answered(body in any::<Vec<u8>>()) {
            let _ = decode(&body, Encoding::Protobuf).map(|r| records(r).count());
            let _ = decode(&body, Encoding::Json).map(|r| records(r).count());
        }
    }
}
