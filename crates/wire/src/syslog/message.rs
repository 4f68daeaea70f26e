//! One syslog message to a raw event: RFC 5424, RFC 3164, and what handlers of standard libraries really send, which is
//! often neither.
//!
//! ```text
//! 5424 := "<" PRI ">" version SP time SP host SP app SP procid SP msgid SP (data | "-") [SP [BOM] text]
//! 3164 := ["<" PRI ">"] [sequence ":"] [[yyyy] Mmm d [yyyy] hh:mm:ss[.f] | RFC 3339] [host] [tag["[" pid "]"] ":"] text
//! ```
//!
//! | of the message | becomes |
//! | --- | --- |
//! | priority | severity, and `syslog.facility` by name |
//! | host, app or tag | host and service |
//! | procid or pid, msgid | `syslog.procid`, `syslog.msgid` |
//! | structured data | a field for each parameter, below the element's id; a trace id or `traceparent` among them is the event's |
//! | a version other than 1, a sequence number | `syslog.version`, `syslog.sequence` |
//! | text that is one JSON object | its fields, as if sent by themselves |
//!
//! The old header is read by `old`.

use super::old::old_header;
use calvex_intake::normalise::{Known, traceparent};
use calvex_language::model::parse_value;
use calvex_language::model::time::parse_time;
use calvex_language::model::{Severity, SpanId, TraceId, Value, parse_span, parse_trace};
use std::borrow::Cow;

const FACILITIES: [&str; 24] = [
    "kern", "user", "mail", "daemon", "auth", "syslog", "lpr", "news", "uucp", "cron", "authpriv", "ftp", "ntp",
    "audit", "alert", "clock", "local0", "local1", "local2", "local3", "local4", "local5", "local6", "local7",
];
/// The severities 0 to 7 as the OpenTelemetry data model maps them (logs data model, appendix B).
const SEVERITIES: [u8; 8] = [21, 19, 18, 17, 13, 10, 9, 5];
/// A message without a priority says nothing of its severity (RFC 3164, 4.3.3, would have it a notice).
const HIGHEST_PRIORITY: u32 = 191;
const BOM: &str = "\u{feff}";

/// A message, decoded.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Decoded {
    /// What the protocol names.
    pub time_ns: Option<i64>,
    /// See `time_ns`.
    pub severity: Option<Severity>,
    /// See `time_ns`.
    pub host: Option<String>,
    /// The app or tag.
    pub service: Option<String>,
    /// See `time_ns`; none where the text was a JSON object.
    pub message: Option<String>,
    /// Of the structured data.
    pub trace: Option<TraceId>,
    /// See `trace`.
    pub span: Option<SpanId>,
    /// All else.
    pub fields: Vec<(String, Value)>,
}

impl Decoded {
    /// As a raw event's parts and fields.
    pub fn into_raw(self) -> (Known<'static>, Vec<(String, Value)>) {
        let known = Known {
            time_ns: self.time_ns,
            severity: self.severity,
            service: self.service.map(Cow::Owned),
            host: self.host.map(Cow::Owned),
            message: self.message.map(Cow::Owned),
            trace: self.trace,
            span: self.span,
            ..Known::default()
        };
        (known, self.fields)
    }
}

/// Decodes a message that arrived at `arrived_ns` from the address `from`. Never fails: what fits no header is text.
pub fn decode(bytes: &[u8], from: &str, arrived_ns: i64) -> Decoded {
    let mut out = Decoded::default();
    let mut syslog: Vec<(String, Value)> = Vec::new();
    let whole = String::from_utf8_lossy(bytes);
    if matches!(whole, Cow::Owned(_)) {
        syslog.push(("raw".to_owned(), Value::Bytes(bytes.to_vec())));
    }
    let mut rest: &str = whole.strip_prefix(BOM).unwrap_or(&whole);
    if let Some((priority, after)) = priority(rest) {
        rest = after;
        out.severity = SEVERITIES.get(priority as usize % 8).map(|s| Severity(*s));
        let facility = FACILITIES.get(priority as usize / 8).copied().unwrap_or("user");
        syslog.push(("facility".to_owned(), Value::Text(facility.to_owned())));
    }
    let with_priority = out.severity.is_some();
    let standard = version(rest).and_then(|(version, rest)| {
        let (text, data) = header_5424(rest, &mut out, &mut syslog)?;
        if version != "1" {
            syslog.push(("version".to_owned(), Value::Text(version.to_owned())));
        }
        Some((text, data))
    });
    let data = match standard {
        Some((text, data)) => {
            rest = text;
            ids_of(&data, &mut out);
            data
        }
        None => {
            let header = old_header(rest, with_priority, arrived_ns);
            rest = header.text;
            out.time_ns = header.time_ns;
            (out.host, out.service) = (header.host.map(str::to_owned), header.tag.map(str::to_owned));
            for (name, value) in [("sequence", header.sequence), ("procid", header.procid)] {
                syslog.extend(value.map(|v| (name.to_owned(), Value::Text(v.to_owned()))));
            }
            Vec::new()
        }
    };
    out.host.get_or_insert_with(|| from.to_owned());
    let text = rest.strip_prefix(BOM).unwrap_or(rest).trim_end_matches(['\n', '\r', '\0']);
    match text.trim_start().starts_with('{').then(|| parse_value(text.trim())) {
        Some(Ok(Value::Object(fields))) => {
            // Its own time, service and severity are more exact than the header's.
            out.fields = fields;
            let reported = |names: &[&str]| out.fields.iter().any(|(n, _)| names.contains(&n.as_str()));
            if reported(&["time", "timestamp", "@timestamp", "ts"]) {
                out.time_ns = None;
            }
            if reported(&["level", "severity", "lvl", "levelname"]) {
                out.severity = None;
            }
            if reported(&["service", "service_name", "app"]) {
                out.service = None;
            }
            if reported(&["host", "hostname"]) {
                out.host = None;
            }
        }
        _ => out.message = Some(text.to_owned()),
    }
    for (name, value) in data {
        Value::set(&mut out.fields, name, value);
    }
    if !syslog.is_empty() {
        Value::set(&mut out.fields, "syslog".to_owned(), Value::Object(syslog));
    }
    out
}

fn priority(text: &str) -> Option<(u32, &str)> {
    let rest = text.strip_prefix('<')?;
    let (digits, after) = rest.split_at(rest.bytes().take(4).take_while(u8::is_ascii_digit).count());
    let number = digits.parse().ok().filter(|n| *n <= HIGHEST_PRIORITY)?;
    Some((number, after.strip_prefix('>')?))
}

/// The version of the standard header, 1 to 999, and what follows the blank behind it.
pub(super) fn version(text: &str) -> Option<(&str, &str)> {
    let (version, rest) = text.split_once(' ')?;
    let is_version = matches!(version.len(), 1..=3) && version.bytes().all(|b| b.is_ascii_digit());
    (is_version && !version.starts_with('0')).then_some((version, rest))
}

/// The ids of a trace among the parameters of structured data.
fn ids_of(data: &Data, out: &mut Decoded) {
    let elements = data.iter().filter_map(|(_, element)| match element {
        Value::Object(parameters) => Some(parameters),
        _ => None,
    });
    for (name, value) in elements.flatten() {
        let Value::Text(value) = value else { continue };
        let is = |names: &[&str]| names.iter().any(|n| name.eq_ignore_ascii_case(n));
        if is(&["trace_id", "traceid", "trace-id", "trace.id"]) {
            out.trace = out.trace.or_else(|| parse_trace(value));
        } else if is(&["span_id", "spanid", "span-id", "span.id"]) {
            out.span = out.span.or_else(|| parse_span(value));
        } else if is(&["traceparent"]) && out.trace.is_none() {
            (out.trace, out.span) = traceparent(value).map_or((None, out.span), |(t, s)| (Some(t), Some(s)));
        }
    }
}

type Data = Vec<(String, Value)>;

/// The header behind the version; the text and the structured data.
fn header_5424<'a>(rest: &'a str, out: &mut Decoded, syslog: &mut Vec<(String, Value)>) -> Option<(&'a str, Data)> {
    let mut parts = rest.splitn(6, ' ');
    let mut part = || parts.next().map(|p| Some(p).filter(|p| *p != "-" && !p.is_empty()));
    let (time, host, app, procid, msgid) = (part()?, part()?, part()?, part()?, part()?);
    let rest = parts.next()?;
    let (data, text) = structured(rest)?;
    out.time_ns = match time {
        Some(time) => Some(parse_time(time)?),
        None => None,
    };
    out.host = host.map(str::to_owned);
    out.service = app.map(str::to_owned);
    for (name, value) in [("procid", procid), ("msgid", msgid)] {
        syslog.extend(value.map(|v| (name.to_owned(), Value::Text(v.to_owned()))));
    }
    Some((text, data))
}

/// Structured data, and what follows it.
fn structured(rest: &str) -> Option<(Data, &str)> {
    let mut data = Data::new();
    if let Some(after) = rest.strip_prefix('-') {
        return after.is_empty().then_some((Data::new(), "")).or_else(|| Some((Data::new(), after.strip_prefix(' ')?)));
    }
    let mut rest = rest;
    while let Some(element) = rest.strip_prefix('[') {
        let end = element.find([' ', ']'])?;
        let (id, mut at) = element.split_at(end);
        let mut parameters: Vec<(String, Value)> = Vec::new();
        loop {
            at = at.trim_start_matches(' ');
            if let Some(after) = at.strip_prefix(']') {
                rest = after;
                break;
            }
            let (name, value) = at.split_once("=\"")?;
            let (value, after) = quoted(value)?;
            at = after;
            add(&mut parameters, name, value);
        }
        Value::set(&mut data, id.to_owned(), Value::Object(parameters));
    }
    (!data.is_empty()).then_some((data, rest.strip_prefix(' ').unwrap_or(rest)))
}

/// A parameter's value up to its closing quote; `\"`, `\\` and `\]` stand for the second sign (RFC 5424, 6.3.3).
fn quoted(text: &str) -> Option<(String, &str)> {
    let mut value = String::new();
    let mut chars = text.char_indices();
    while let Some((at, c)) = chars.next() {
        match c {
            '"' => return Some((value, &text[at + 1..])),
            '\\' => match chars.next() {
                Some((_, c @ ('"' | '\\' | ']'))) => value.push(c),
                Some((_, c)) => value.extend(['\\', c]),
                None => return None,
            },
            c => value.push(c),
        }
    }
    None
}

/// A parameter that comes again makes a list.
fn add(parameters: &mut Vec<(String, Value)>, name: &str, value: String) {
    let value = Value::Text(value);
    match parameters.iter_mut().find(|(n, _)| n == name) {
        Some((_, Value::List(list))) => list.push(value),
        Some((_, held)) => *held = Value::List(vec![std::mem::replace(held, Value::Null), value]),
        None => parameters.push((name.to_owned(), value)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const ARRIVED: &str = "2026-10-04T02:40:00Z";

    fn reported(message: &str) -> (Decoded, String) {
        let decoded = decode(message.as_bytes(), "127.0.0.9", parse_time(ARRIVED).unwrap());
        let fields = serde_json::to_string(&Value::Object(decoded.fields.clone())).unwrap();
        (decoded, fields)
    }

    #[test]
    fn the_standard_form() {
        let (d, fields) = reported(
            "<165>1 2026-10-04T02:38:41.198204+02:00 bk-017 locker-agent 411 DOOR [slot@41 bank=\"BK-017\" door=\"17\"]\
             [note say=\"a \\\"b\\\" \\] \\n\" say=\"2\"] \u{feff}door 17 öffnet nicht",
        );
        assert_eq!(d.time_ns, parse_time("2026-10-04T00:38:41.198204Z"));
        assert_eq!((d.severity, d.host.as_deref()), (Some(Severity(10)), Some("bk-017")));
        assert_eq!((d.service.as_deref(), d.message.as_deref()), (Some("locker-agent"), Some("door 17 öffnet nicht")));
        assert_eq!(
            fields,
            r#"{"slot@41":{"bank":"BK-017","door":"17"},"note":{"say":["a \"b\" ] \\n","2"]},"syslog":{"facility":"local4","procid":"411","msgid":"DOOR"}}"#
        );
        let (d, fields) = reported("<34>1 - - - - - -");
        assert_eq!((d.time_ns, d.host.as_deref(), d.message.as_deref()), (None, Some("127.0.0.9"), Some("")));
        assert_eq!(fields, r#"{"syslog":{"facility":"auth"}}"#);
    }

    #[test]
    fn what_handlers_really_send() {
        for (message, time, host, service, text) in [
            (
                "<13>Oct  4 02:38:41 bk-017 locker-agent[411]: door 17",
                "2026-10-04T02:38:41Z",
                "bk-017",
                "locker-agent",
                "door 17",
            ),
            (
                "<13>Oct  4 02:38:41 locker-agent: door 17",
                "2026-10-04T02:38:41Z",
                "127.0.0.9",
                "locker-agent",
                "door 17",
            ),
            (
                "<13>2026-10-04T02:38:41+00:00 bk-017 locker-agent[411]: door 17",
                "2026-10-04T02:38:41Z",
                "bk-017",
                "locker-agent",
                "door 17",
            ),
            (
                "<13>Oct 4 02:38:41 bk-017 door 17 stays shut",
                "2026-10-04T02:38:41Z",
                "bk-017",
                "",
                "door 17 stays shut",
            ),
            ("<13>Oct  4 02:38:41 10.0.0.99 stays shut", "2026-10-04T02:38:41Z", "10.0.0.99", "", "stays shut"),
            ("<13>Oct  4 02:38:41 fd00::17 agent: shut", "2026-10-04T02:38:41Z", "fd00::17", "agent", "shut"),
            ("<13>Oct  4 02:38:41  agent: shut", "2026-10-04T02:38:41Z", "127.0.0.9", "agent", "shut"),
            ("Oct  4 02:38:41 lease ran out", "2026-10-04T02:38:41Z", "127.0.0.9", "", "lease ran out"),
            ("<13>Oct  4 2026 02:38:41 bk-017 agent: a", "2026-10-04T02:38:41Z", "bk-017", "agent", "a"),
            ("<13>2025 Oct  4 02:38:41 bk-017 agent: a", "2025-10-04T02:38:41Z", "bk-017", "agent", "a"),
            ("<13>Oct  4 02:38:41 2026 bk-017 agent: a", "2026-10-04T02:38:41Z", "bk-017", "agent", "a"),
            ("<13>Oct  4 02:38:41.198204 bk-017 agent: a", "2026-10-04T02:38:41.198204Z", "bk-017", "agent", "a"),
            ("<13>Oct  4 02:38:41 UTC: bk-017 agent: a", "2026-10-04T02:38:41Z", "bk-017", "agent", "a"),
            ("<13>Oct  4 02:38:41 bk-017 agent:door 17", "2026-10-04T02:38:41Z", "bk-017", "agent", "door 17"),
            ("<13>Oct  4 02:38:41 bk-017 agent[4]:door 17", "2026-10-04T02:38:41Z", "bk-017", "agent", "door 17"),
            ("<13>Oct  4 02:38:41 bk-017 http://edge/x", "2026-10-04T02:38:41Z", "bk-017", "", "http://edge/x"),
            ("<189>45: Oct  4 02:38:41: door 17 shut", "2026-10-04T02:38:41Z", "door", "", "17 shut"),
            ("<189>45: door 17 shut", "", "127.0.0.9", "", "45: door 17 shut"),
            ("<13>Foo 44 02:38:41 x", "", "127.0.0.9", "", "Foo 44 02:38:41 x"),
            ("<14>locker-agent: door 17\0", "", "127.0.0.9", "locker-agent", "door 17"),
            ("<14>door 17: opened at http://edge/x", "", "127.0.0.9", "", "door 17: opened at http://edge/x"),
            ("no header at all", "", "127.0.0.9", "", "no header at all"),
            ("<999>too high", "", "127.0.0.9", "", "<999>too high"),
            ("<13>Dec 31 23:59:59 bk-017 agent: late", "2025-12-31T23:59:59Z", "bk-017", "agent", "late"),
            ("<13>1 not a header", "", "127.0.0.9", "", "1 not a header"),
        ] {
            let (d, _) = reported(message);
            assert_eq!(d.time_ns, parse_time(time), "{message}");
            assert_eq!(d.host.as_deref(), Some(host), "{message}");
            assert_eq!(d.service.as_deref().unwrap_or(""), service, "{message}");
            assert_eq!(d.message.as_deref(), Some(text), "{message}");
        }
    }

    #[test]
    fn any_version_has_the_same_header() {
        for version in ["1", "2", "42", "999"] {
            let (d, fields) = reported(&format!("<34>{version} 2026-10-04T02:38:41Z bk-017 agent - - - shut"));
            assert_eq!((d.service.as_deref(), d.message.as_deref()), (Some("agent"), Some("shut")), "{version}");
            assert_eq!(fields.contains("version"), version != "1", "{fields}");
        }
        for no_version in ["0", "1000", "01", "x"] {
            let (d, _) = reported(&format!("<34>{no_version} 2026-10-04T02:38:41Z bk-017 agent - - - shut"));
            assert_ne!(d.message.as_deref(), Some("shut"), "{no_version}");
        }
    }

    #[test]
    fn ids_in_structured_data_are_the_events() {
        let id = "5b8aa5a2d2c872e8321cf37308d69df2";
        for data in [
            format!("[ctx@41 trace_id=\"{id}\" spanId=\"051581bf3cb55c13\"]"),
            format!("[a@41 x=\"1\"][b@41 traceparent=\"00-{id}-051581bf3cb55c13-01\"]"),
        ] {
            let (d, fields) = reported(&format!("<34>1 - - agent - - {data} shut"));
            assert_eq!((d.trace, d.span), (parse_trace(id), parse_span("051581bf3cb55c13")), "{data}");
            assert!(fields.contains(id), "it stays a field too: {fields}");
        }
    }

    #[test]
    fn degrees_of_severity() {
        let reported = |n: u8| reported(&format!("<{}>agent: x", 8 + n)).0.severity.map(|s| (s.0, s.name()));
        let expected = [
            (21, "fatal"),
            (19, "error"),
            (18, "error"),
            (17, "error"),
            (13, "warn"),
            (10, "info"),
            (9, "info"),
            (5, "debug"),
        ];
        assert_eq!((0..8).map(reported).collect::<Vec<_>>(), expected.map(Some));
    }

    #[test]
    fn a_year_is_the_last_one() {
        let arrived = parse_time("2027-01-01T00:00:10Z").unwrap();
        let d = decode(b"<13>Dec 31 23:59:59 bk-017 agent: x", "a", arrived);
        assert_eq!(d.time_ns, parse_time("2026-12-31T23:59:59Z"));
    }

    #[test]
    fn json_within_speaks_for_itself() {
        let (d, fields) = reported(r#"<14>Oct  4 02:38:41 bk-017 codes: {"level":"error","msg":"withheld","try":3}"#);
        assert_eq!((d.severity, d.message, d.service.as_deref()), (None, None, Some("codes")));
        assert_eq!(fields, r#"{"level":"error","msg":"withheld","try":3,"syslog":{"facility":"user"}}"#);
    }

    #[test]
    fn bytes_that_are_no_text_are_kept() {
        let d = decode(b"<14>agent: \xff\xfe", "a", 0);
        assert_eq!(d.message.as_deref(), Some("\u{fffd}\u{fffd}"));
        assert!(matches!(&d.fields[0].1, Value::Object(o) if matches!(&o[0].1, Value::Bytes(b) if b.len() == 13)));
    }

    proptest! {
        #[test]
        fn anything_is_taken(bytes in any::<Vec<u8>>(), near in "<[0-9]{0,4}>1? ?[-A-Za-z0-9:\\[\\]=\" \\\\.{}]{0,80}") {
            decode(&bytes, "a", 0);
            decode(near.as_bytes(), "a", i64::MAX);
        }
    }
}
