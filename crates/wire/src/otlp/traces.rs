//! OTLP spans, as events of kind span: ordered by their start, the name as the message, and what the protocol has of
//! them below `span`.
//!
//! | part | is |
//! | --- | --- |
//! | time, took | start, and how long it took |
//! | message | the span's name |
//! | trace, span, parent, status | as sent |
//! | severity | error where it failed, info else |
//! | `span.kind` | `internal`, `server`, `client`, `producer` or `consumer` |
//! | `span.status_message`, `span.trace_state`, `span.flags` | as sent |
//! | `span.events` | a list of objects: `name`, `time`, the attributes, and how many were dropped |
//! | `span.links` | a list of objects: `trace`, `span`, `trace_state`, `flags`, the attributes, and how many were dropped |
//! | `span.dropped_…_count` | how many attributes, events and links the sender left out |

use super::{Entries, EventParts, Shared, id_of, odd_id, placed, time_of};
use calvex_intake::normalise::Known;
use calvex_language::model::time::format_utc;
use calvex_language::model::{Kind, Severity, Status, Value, to_hex};
use opentelemetry_proto::tonic::collector::trace::v1::{ExportTracePartialSuccess, ExportTraceServiceResponse};
use opentelemetry_proto::tonic::trace::v1::Span;
use opentelemetry_proto::tonic::trace::v1::span::{Event, Link};
use std::borrow::Cow;

/// The answer to an export request: partial success where some were refused, or where there is something to show.
pub(super) fn answer(refused: i64, message: &str) -> ExportTraceServiceResponse {
    let partial = ExportTracePartialSuccess { rejected_spans: refused, error_message: message.to_owned() };
    ExportTraceServiceResponse { partial_success: (refused > 0 || !message.is_empty()).then_some(partial) }
}

/// What the protocol has of a span beside the event's builtins.
const OWN: &[&str] = &["resource", "scope", "otlp", "span"];
const OWN_OF_EVENT: &[&str] = &["name", "time", DROPPED];
const OWN_OF_LINK: &[&str] = &["trace", "span", "trace_state", "flags", DROPPED];
const DROPPED: &str = "dropped_attributes_count";
const KINDS: [&str; 6] = ["", "internal", "server", "client", "producer", "consumer"];

/// The event of a span.
pub(super) fn raw_event(span: Span, shared: &Shared) -> EventParts {
    let mut entries = placed(span.attributes, OWN);
    shared.fields.iter().for_each(|(name, value)| entries.set(name.clone(), value.clone()));
    let (mut own, mut odd) = (Entries::default(), Entries::default());
    match usize::try_from(span.kind).ok().and_then(|kind| KINDS.get(kind)) {
        Some(kind) => own.text("kind", (*kind).to_owned()),
        None => odd.set("kind".to_owned(), Value::Int(i64::from(span.kind))),
    }
    own.text("trace_state", span.trace_state);
    let status = span.status.unwrap_or_default();
    own.text("status_message", status.message);
    for (name, list) in [
        ("events", span.events.into_iter().map(listed_event).collect::<Vec<_>>()),
        ("links", span.links.into_iter().map(listed_link).collect()),
    ] {
        if !list.is_empty() {
            own.set(name.to_owned(), Value::List(list));
        }
    }
    own.count(DROPPED, span.dropped_attributes_count);
    own.count("dropped_events_count", span.dropped_events_count);
    own.count("dropped_links_count", span.dropped_links_count);
    own.count("flags", span.flags);
    odd.text("trace_id", odd_id::<16>(&span.trace_id));
    odd.text("span_id", odd_id::<8>(&span.span_id));
    if !span.parent_span_id.is_empty() {
        odd.text("parent_span_id", odd_id::<8>(&span.parent_span_id));
    }
    let known_status = u8::try_from(status.code).ok().and_then(Status::from_byte);
    if known_status.is_none() {
        odd.set("status_code".to_owned(), Value::Int(i64::from(status.code)));
    }
    for (name, value) in own.under("span").into_iter().chain(odd.under("otlp")) {
        entries.set(name, value);
    }
    let (start, end) = (time_of(span.start_time_unix_nano), time_of(span.end_time_unix_nano));
    let status = known_status.unwrap_or_default();
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
    (known, entries.into_list())
}

fn listed_event(event: Event) -> Value {
    let mut entries = Entries::default();
    entries.text("name", event.name);
    entries.text("time", time_of(event.time_unix_nano).map(|t| format_utc(t, 9)).unwrap_or_default());
    entries.extend(placed(event.attributes, OWN_OF_EVENT));
    entries.count(DROPPED, event.dropped_attributes_count);
    Value::Object(entries.into_list())
}

fn listed_link(link: Link) -> Value {
    let mut entries = Entries::default();
    // An id of another length is none, and shown as it came.
    let shown = |bytes: &[u8]| if bytes.iter().all(|b| *b == 0) { String::new() } else { to_hex(bytes) };
    entries.text("trace", shown(&link.trace_id));
    entries.text("span", shown(&link.span_id));
    entries.text("trace_state", link.trace_state);
    entries.count("flags", link.flags);
    entries.extend(placed(link.attributes, OWN_OF_LINK));
    entries.count(DROPPED, link.dropped_attributes_count);
    Value::Object(entries.into_list())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::otlp::{Encoding, Signal};

    const TRACE: &str = "5b8aa5a2d2c872e8321cf37308d69df2";

    fn one(json: &str) -> EventParts {
        let mut spans = crate::otlp::tests::parts(json.as_bytes(), Encoding::Json, Signal::Spans);
        assert_eq!(spans.len(), 1);
        spans.remove(0)
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
        let reported = serde_json::to_string(&Value::Object(object)).unwrap();
        let expected = format!(
            r#"{{"slot.bank":"BK-017","span":{{"kind":"server","status_message":"no door confirmed","events":[{{"name":"lease ran out","time":"2026-10-04T02:38:41.298204331Z","seconds":12}}],"links":[{{"trace":"{TRACE}","span":"a948cb20815a6e67"}}]}}}}"#
        );
        assert_eq!(reported, expected);
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
