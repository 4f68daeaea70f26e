//! The spellings in use, as tables: the earlier of two wins where an event has both.

use super::Severity;

/// A builtin of an event that has spellings.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[repr(u8)]
#[allow(missing_docs)]
pub enum PathRole {
    Time = b't',
    Severity = b'l',
    Service = b's',
    Host = b'h',
    Message = b'm',
    Trace = b'r',
    Span = b'p',
    Parent = b'q',
}

impl PathRole {
    /// Its name in the query language.
    pub fn name(self) -> &'static str {
        match self {
            PathRole::Time => "time",
            PathRole::Severity => "severity",
            PathRole::Service => "service",
            PathRole::Host => "host",
            PathRole::Message => "message",
            PathRole::Trace => "trace",
            PathRole::Span => "span",
            PathRole::Parent => "parent",
        }
    }
}

/// Each role and the dotted paths that mean it, in lower case: case makes no difference. `docs/spellings.md` shows them
/// by what writes them, and is tested.
pub const SPELLINGS: &[(PathRole, &[&str])] = &[
    (
        PathRole::Time,
        &[
            "time",
            "timestamp",
            "@timestamp",
            "ts",
            "@t",
            "event_time",
            "eventtime",
            "datetime",
            "asctime",
            "timemillis",
            "instant.epochsecond",
            "starttime",
            "record.time.timestamp",
            "record.time.repr",
        ],
    ),
    (
        PathRole::Severity,
        &[
            "severity",
            "error_severity",
            "level",
            "lvl",
            "log.level",
            "severity_text",
            "severitytext",
            "levelname",
            "level_name",
            "loglevel",
            "log_level",
            "@l",
            "record.level.name",
            "level.levelstr",
            "severity_number",
            "severitynumber",
            "levelno",
            "level_value",
            "record.level.no",
        ],
    ),
    (
        PathRole::Service,
        &[
            "service",
            "service.name",
            "service_name",
            "servicename",
            "app",
            "application",
            "app_name",
            "appname",
            "progname",
            "properties.application",
        ],
    ),
    (PathRole::Host, &["host", "host.name", "hostname", "host_name", "machinename", "properties.machinename"]),
    (
        PathRole::Message,
        &[
            "message",
            "msg",
            "@m",
            "record.message",
            "fields.message",
            "renderedmessage",
            "text",
            "body",
            "event",
            "@mt",
            "messagetemplate",
            "log",
        ],
    ),
    (
        PathRole::Trace,
        &[
            "trace_id",
            "traceid",
            "trace.id",
            "trace",
            "x-trace-id",
            "correlation_id",
            "correlationid",
            "@tr",
            "mdc.trace_id",
            "mdc.traceid",
            "contextmap.trace_id",
            "contextmap.traceid",
            "traceparent",
            "http.request.header.traceparent",
            "headers.traceparent",
            "request.headers.traceparent",
            "req.headers.traceparent",
            "headers",
            "request.headers",
            "req.headers",
        ],
    ),
    (
        PathRole::Span,
        &[
            "span_id",
            "spanid",
            "span.id",
            "span",
            "@sp",
            "mdc.span_id",
            "mdc.spanid",
            "contextmap.span_id",
            "contextmap.spanid",
            "traceparent",
            "http.request.header.traceparent",
            "headers.traceparent",
            "request.headers.traceparent",
            "req.headers.traceparent",
            "headers",
            "request.headers",
            "req.headers",
        ],
    ),
    (PathRole::Parent, &["parent_span_id", "parentspanid", "parent_id", "parentid", "parent.id"]),
];

/// The severity meant by a word, in any case; also by a word with a distance (`WARN+1`, `DEBUG-4`), which raises it
/// within its name, or lowers it to the name below.
pub fn severity_from_text(text: &str) -> Option<Severity> {
    if let Some((word, distance)) = text.split_once(['+', '-']).filter(|(_, d)| matches!(d.len(), 1 | 2)) {
        let (base, distance) = (severity_from_text(word)?, distance.parse::<u8>().ok()?);
        let below = text.as_bytes().get(word.len()) == Some(&b'-');
        let number = if below { base.0.saturating_sub(distance).max(1) } else { base.0 + distance.min(3) };
        return Severity::from_number(i64::from(number));
    }
    let mut lower = [0u8; 16];
    let lower = lower.get_mut(..text.len())?;
    lower.copy_from_slice(text.as_bytes());
    lower.make_ascii_lowercase();
    let number = match std::str::from_utf8(lower).ok()? {
        "trace" | "trce" | "verbose" | "finest" | "finer" => 1,
        "debug" | "dbg" | "debg" | "fine" => 5,
        "config" => 7,
        "info" | "information" | "informational" | "inf" | "log" => 9,
        "notice" | "success" => 10,
        "warn" | "warning" | "wrn" => 13,
        "error" | "err" | "erro" | "severe" => 17,
        "fatal" | "critical" | "crit" | "ftl" => 21,
        "alert" | "dpanic" => 22,
        "emergency" | "emerg" | "panic" => 23,
        // `DEBUG1` to `DEBUG4`, `INFO2`: a degree of the name (logs data model, "Displaying Severity"), as databases
        // write it too.
        degree => {
            let (name, digit) = degree.split_at_checked(degree.len().checked_sub(1)?)?;
            let digit = digit.parse::<u8>().ok().filter(|d| (1..=5).contains(d))?;
            Severity::from_name(name)?.0 + digit.min(4) - 1
        }
    };
    Some(Severity(number))
}

/// The severity meant by a number under the given spelling. Levels of 0 to 7 mean contrary things in different places
/// and are not read. Where an event has a word for its severity as well, the word is read.
pub fn severity_from_number(spelling: &str, number: i64) -> Option<Severity> {
    let severity = |n: u8| Some(Severity(n));
    match (spelling, number) {
        ("severity_number" | "severitynumber" | "severity", n) => Severity::from_number(n),
        // Levels in tens from debug, as numbered by Python's standard library, with two between them.
        ("levelno" | "record.level.no", n) => match n {
            5 => severity(1),
            10 => severity(5),
            20 => severity(9),
            25 => severity(10),
            30 => severity(13),
            40 => severity(17),
            50 => severity(21),
            _ => None,
        },
        // Levels in tens from trace, as common in JavaScript.
        (_, n @ 10..=60) if n % 10 == 0 => severity(((n / 10 - 1) * 4 + 1) as u8),
        // 300, 400 and 500 mean contrary things too: trace and debug to Java's standard library, warn, error and fatal
        // where levels come in hundreds from debug.
        (_, 100) => severity(5),
        (_, 200) => severity(9),
        (_, 250) => severity(10),
        (_, 550) => severity(22),
        (_, 600) => severity(23),
        // As Java's standard library numbers them.
        (_, 700) => severity(7),
        (_, 800) => severity(9),
        (_, 900) => severity(13),
        (_, 1000) => severity(17),
        // Levels in tens of thousands from debug, as common in Java beside that.
        (_, 5_000) => severity(1),
        (_, n @ (10_000 | 20_000 | 30_000 | 40_000 | 50_000)) => severity((n / 10_000 * 4 + 1) as u8),
        _ => None,
    }
}
