//! OTLP spans, as events of kind span: ordered by their start, the name as the message, and what the protocol tells of
//! them below `span`.
//!
//! | part | is |
//! | --- | --- |
//! | time, took | start, and how long it took |
//! | message | the span's name |
//! | trace, span, parent, status | as sent |
//! | severity | error where it failed, info else |
//! | `span.kind` | `internal`, `server`, `client`, `producer` or `consumer` |
//! | `span.status_message`, `span.trace_state` | as sent |
//! | `span.events` | a list of objects: `name`, `time`, and the attributes |
//! | `span.links` | a list of objects: `trace`, `span`, and the attributes |

use super::{EventParts, Shared, id_of, pair, time_of};
use calvex_core::event::time::format_utc;
use calvex_core::event::{Kind, Severity, Status, Value, to_hex};
use calvex_core::normalise::Known;
use opentelemetry_proto::tonic::collector::trace::v1::{ExportTracePartialSuccess, ExportTraceServiceResponse};
use opentelemetry_proto::tonic::common::v1::KeyValue;
use opentelemetry_proto::tonic::trace::v1::Span;
use std::borrow::Cow;

/// The answer to an export request: partial success where some were refused, or where there is something to tell.
pub(super) fn answer(refused: i64, message: &str) -> ExportTraceServiceResponse {
    let partial = ExportTracePartialSuccess { rejected_spans: refused, error_message: message.to_owned() };
    ExportTraceServiceResponse { partial_success: (refused > 0 || !message.is_empty()).then_some(partial) }
}

/// The event of a span.
pub(super) fn raw_event(span: Span, shared: &Shared) -> EventParts {
    let mut object = shared.object(span.attributes);
    let mut told: Vec<(String, Value)> = Vec::new();
    let mut tell = |name: &str, value: Value| told.push((name.to_owned(), value));
    let kind = ["", "internal", "server", "client", "producer", "consumer"].get(span.kind.max(0) as usize);
    if let Some(kind) = kind.filter(|k| !k.is_empty()) {
        tell("kind", Value::Text((*kind).to_owned()));
    }
    if !span.trace_state.is_empty() {
        tell("trace_state", Value::Text(span.trace_state));
    }
    let status = span.status.unwrap_or_default();
    if !status.message.is_empty() {
        tell("status_message", Value::Text(status.message));
    }
    let events: Vec<Value> = span
        .events
        .into_iter()
        .map(|event| {
            let time = time_of(event.time_unix_nano).map(|t| ("time", Value::Text(format_utc(t, 9))));
            let name = (!event.name.is_empty()).then_some(("name", Value::Text(event.name)));
            listed(name.into_iter().chain(time), event.attributes)
        })
        .collect();
    let links: Vec<Value> = span
        .links
        .into_iter()
        .map(|link| {
            let trace = id_of::<16>(link.trace_id).map(|id| ("trace", Value::Text(to_hex(&id))));
            let span = id_of::<8>(link.span_id).map(|id| ("span", Value::Text(to_hex(&id))));
            let state = (!link.trace_state.is_empty()).then_some(("trace_state", Value::Text(link.trace_state)));
            listed(trace.into_iter().chain(span).chain(state), link.attributes)
        })
        .collect();
    for (name, list) in [("events", events), ("links", links)] {
        if !list.is_empty() {
            tell(name, Value::List(list));
        }
    }
    for (name, count) in [
        ("dropped_attributes", span.dropped_attributes_count),
        ("dropped_events", span.dropped_events_count),
        ("dropped_links", span.dropped_links_count),
        ("flags", span.flags),
    ] {
        if count > 0 {
            tell(name, Value::Int(i64::from(count)));
        }
    }
    if !told.is_empty() {
        Value::set(&mut object, "span".to_owned(), Value::Object(told));
    }
    let (start, end) = (time_of(span.start_time_unix_nano), time_of(span.end_time_unix_nano));
    let status = u8::try_from(status.code).ok().and_then(Status::from_byte).unwrap_or_default();
    let known = Known {
        time_ns: start.or(end),
        severity: Some(if status == Status::Error { Severity(17) } else { Severity::INFO }),
        service: shared.service(),
        host: shared.host(),
        message: Some(Cow::Owned(span.name)),
        trace: id_of(span.trace_id),
        span: id_of(span.span_id),
        parent: id_of(span.parent_span_id),
        kind: Kind::Span,
        // A clock that was set back in between gives an end before the start: no length, and not a negative one.
        took_ns: start.zip(end).map(|(start, end)| (end - start).max(0)),
        status: Some(status),
    };
    (known, object)
}

/// An item of a list: named parts, then attributes.
fn listed(named: impl Iterator<Item = (&'static str, Value)>, attributes: Vec<KeyValue>) -> Value {
    let mut object: Vec<(String, Value)> = named.map(|(name, value)| (name.to_owned(), value)).collect();
    for attribute in attributes {
        let (name, value) = pair(attribute);
        Value::set(&mut object, name, value);
    }
    Value::Object(object)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::otlp::{Encoding, decode};
    use opentelemetry_proto::tonic::collector::trace::v1::ExportTraceServiceRequest;
    use prost::Message;

    const TRACE: &str = "5b8aa5a2d2c872e8321cf37308d69df2";

    fn one(json: &str) -> (Known<'static>, Vec<(String, Value)>) {
        let request: ExportTraceServiceRequest = decode(json.as_bytes(), Encoding::Json).unwrap();
        let again: ExportTraceServiceRequest = decode(&request.encode_to_vec(), Encoding::Protobuf).unwrap();
        let mut groups = again.resource_spans;
        let mut scopes = groups.remove(0).scope_spans;
        let mut spans = scopes.remove(0).spans;
        assert_eq!((groups.len(), scopes.len(), spans.len()), (0, 0, 1));
        let shared = Shared::of(request.resource_spans[0].resource.clone());
        raw_event(spans.remove(0), &shared)
    }

    fn request(span: &str) -> String {
        format!(
            r#"{{"resourceSpans":[{{"resource":{{"attributes":[{{"key":"service.name","value":{{"stringValue":"slots"}}}}]}},
            "scopeSpans":[{{"spans":[{span}]}}]}}]}}"#
        )
    }

    #[test]
    fn a_span_is_an_event() {
        let (known, object) = one(&request(&format!(
            r#"{{"traceId":"{TRACE}","spanId":"051581bf3cb55c13","parentSpanId":"a948cb20815a6e67","name":"lease a slot",
            "kind":2,"startTimeUnixNano":"1791081521198204331","endTimeUnixNano":"1791081521448204331",
            "attributes":[{{"key":"slot.bank","value":{{"stringValue":"BK-017"}}}}],
            "events":[{{"timeUnixNano":"1791081521298204331","name":"lease ran out",
                        "attributes":[{{"key":"seconds","value":{{"intValue":"12"}}}}]}}],
            "links":[{{"traceId":"{TRACE}","spanId":"a948cb20815a6e67"}}],
            "status":{{"code":2,"message":"no door confirmed"}}}}"#
        )));
        assert_eq!((known.kind, known.took_ns, known.status), (Kind::Span, Some(250_000_000), Some(Status::Error)));
        assert_eq!(known.time_ns, Some(1_791_081_521_198_204_331));
        assert_eq!((known.service.as_deref(), known.message.as_deref()), (Some("slots"), Some("lease a slot")));
        assert_eq!((known.severity, known.parent.is_some()), (Some(Severity(17)), true));
        let told = serde_json::to_string(&Value::Object(object)).unwrap();
        let expected = format!(
            r#"{{"slot.bank":"BK-017","span":{{"kind":"server","status_message":"no door confirmed","events":[{{"name":"lease ran out","time":"2026-10-04T02:38:41.298204331Z","seconds":12}}],"links":[{{"trace":"{TRACE}","span":"a948cb20815a6e67"}}]}}}}"#
        );
        assert_eq!(told, expected);
    }

    #[test]
    fn exporters_stray_from_the_mapping() {
        let (known, object) = one(&request(&format!(
            r#"{{"traceId":"{TRACE}","spanId":"","parentSpanId":null,"name":"lease","kind":"SPAN_KIND_CLIENT",
            "startTimeUnixNano":1791081521198204331,"endTimeUnixNano":"0","attributes":null,
            "status":{{"code":"STATUS_CODE_OK","message":null}}}}"#
        )));
        assert_eq!(known.time_ns, Some(1_791_081_521_198_204_331));
        assert_eq!((known.took_ns, known.span, known.parent, known.status), (None, None, None, Some(Status::Ok)));
        assert_eq!(serde_json::to_string(&Value::Object(object)).unwrap(), r#"{"span":{"kind":"client"}}"#);
    }
}
