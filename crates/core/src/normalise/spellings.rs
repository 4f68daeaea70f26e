//! The spellings in use, as tables: the earlier of two wins where an event has both.

use crate::event::Severity;

/// An own part of an event that has spellings.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[repr(u8)]
#[allow(missing_docs)]
pub enum Part {
    Time = b't',
    Severity = b'l',
    Service = b's',
    Host = b'h',
    Message = b'm',
    Trace = b'r',
    Span = b'p',
    Parent = b'q',
}

/// Each part and the dotted paths that mean it.
pub const SPELLINGS: &[(Part, &[&str])] = &[
    (Part::Time, &["time", "timestamp", "@timestamp", "ts", "@t", "event_time", "eventTime", "datetime", "asctime"]),
    (
        Part::Severity,
        &[
            "severity",
            "level",
            "lvl",
            "log.level",
            "severity_text",
            "severityText",
            "levelname",
            "loglevel",
            "@l",
            "severity_number",
            "severityNumber",
            "levelno",
        ],
    ),
    (Part::Service, &["service", "service.name", "service_name", "serviceName", "app", "application"]),
    (Part::Host, &["host", "host.name", "hostname", "host_name"]),
    (Part::Message, &["message", "msg", "@m", "text", "body", "event", "fields.message", "record.message"]),
    (
        Part::Trace,
        &[
            "trace_id",
            "traceId",
            "traceID",
            "trace.id",
            "trace",
            "x-trace-id",
            "correlation_id",
            "correlationId",
            "traceparent",
        ],
    ),
    (Part::Span, &["span_id", "spanId", "spanID", "span.id", "span", "traceparent"]),
    (Part::Parent, &["parent_span_id", "parentSpanId", "parent_id", "parentId", "parent.id"]),
];

/// The severity meant by a word, in any case.
pub fn severity_from_text(text: &str) -> Option<Severity> {
    let mut lower = [0u8; 16];
    let lower = lower.get_mut(..text.len())?;
    lower.copy_from_slice(text.as_bytes());
    lower.make_ascii_lowercase();
    let number = match std::str::from_utf8(lower).ok()? {
        "trace" | "verbose" | "finest" | "finer" => 1,
        "debug" | "dbg" | "fine" => 5,
        "info" | "information" | "informational" | "inf" => 9,
        "notice" => 10,
        "warn" | "warning" | "wrn" => 13,
        "error" | "err" | "severe" => 17,
        "fatal" | "critical" | "crit" | "ftl" => 21,
        "alert" => 22,
        "emergency" | "emerg" | "panic" => 23,
        _ => return None,
    };
    Some(Severity(number))
}

/// The severity meant by a number under the given spelling.
pub(super) fn severity_from_number(spelling: &str, number: i64) -> Option<Severity> {
    match (spelling, number) {
        ("severity_number" | "severityNumber" | "severity", n) => Severity::from_number(n),
        // Levels in tens from debug, as numbered by Python's standard library.
        ("levelno", 10) => Some(Severity(5)),
        ("levelno", 20) => Some(Severity(9)),
        ("levelno", 30) => Some(Severity(13)),
        ("levelno", 40) => Some(Severity(17)),
        ("levelno", 50) => Some(Severity(21)),
        // Levels in tens from trace, as common in JavaScript.
        (_, n @ 10..=60) if n % 10 == 0 => Some(Severity(((n / 10 - 1) * 4 + 1) as u8)),
        _ => None,
    }
}
