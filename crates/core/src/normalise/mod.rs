//! Step 4: one shape for what many teams write. Finds time, severity, service, host, message and ids in the spellings
//! in use, flattens the rest to typed dotted paths, and remembers where everything stood.

mod layout;
mod spellings;

use crate::event::time::{DAY_NS, SECOND_NS};
use crate::event::{Event, Kind, Path, Severity, SpanId, TraceId, Value};
pub use layout::restore;
pub use spellings::{Part, SPELLINGS, severity_from_text};

/// A time further ahead of its arrival than this is ordered by the arrival.
pub const AHEAD_LIMIT_NS: i64 = 600 * SECOND_NS;

/// What one event may measure at most.
#[derive(Debug, Clone, Copy)]
pub struct Limits {
    /// Bytes of one event as sent.
    pub event_bytes: usize,
    /// Fields after flattening.
    pub fields: usize,
    /// Levels of objects and lists.
    pub depth: usize,
    /// Bytes of one field name.
    pub name_bytes: usize,
}

impl Default for Limits {
    fn default() -> Self {
        Limits { event_bytes: 1 << 20, fields: 1024, depth: 32, name_bytes: 512 }
    }
}

/// Why one event was not taken. [`Refusal::reason`] is the code that is counted.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum Refusal {
    /// Not JSON, or not UTF-8.
    #[error("not JSON: {0}; send one JSON object a line")]
    NotJson(String),
    /// JSON, but no object.
    #[error("a JSON {0} is no event; send one JSON object a line")]
    NotObject(&'static str),
    /// The bytes of one event.
    #[error("the event has {0} bytes, the limit is {1}; send less, or raise limits.event_bytes")]
    TooLarge(usize, usize),
    /// The fields of one event.
    #[error("the event has {0} fields, the limit is {1}; nest bulk data in a list, or raise limits.fields")]
    TooManyFields(usize, usize),
    /// The nesting of one event.
    #[error("the event nests {0} levels, the limit is {1}")]
    TooDeep(usize, usize),
    /// A field name.
    #[error("a field name has {0} bytes, the limit is {1}")]
    NameTooLong(usize, usize),
    /// A time before the lane's retention.
    #[error("its time lies {0} days back and lane `{1}` keeps {2} days; lengthen the lane's retention to take it")]
    TooOld(i64, String, u32),
}

impl Refusal {
    /// The code that arrivals count under.
    pub fn reason(&self) -> &'static str {
        match self {
            Refusal::NotJson(_) => "not-json",
            Refusal::NotObject(_) => "not-an-object",
            Refusal::TooLarge(..) => "too-large",
            Refusal::TooManyFields(..) => "too-many-fields",
            Refusal::TooDeep(..) => "too-deep",
            Refusal::NameTooLong(..) => "name-too-long",
            Refusal::TooOld(..) => "too-old",
        }
    }
}

/// An event as decoded, before anything is made of it.
#[derive(Debug, Clone, Default)]
pub struct RawEvent {
    /// What was sent, as an object.
    pub object: Vec<(String, Value)>,
    /// What the protocol itself names; wins over spellings.
    pub known: Known,
}

/// Parts that a protocol (OTLP) names itself.
#[derive(Debug, Clone, Default)]
#[allow(missing_docs)]
pub struct Known {
    pub time_ns: Option<i64>,
    pub severity: Option<Severity>,
    pub service: Option<String>,
    pub host: Option<String>,
    pub message: Option<String>,
    pub trace: Option<TraceId>,
    pub span: Option<SpanId>,
}

/// What is known of the way an event came.
#[derive(Debug, Clone)]
pub struct Arrival<'a> {
    /// Nanoseconds from 1970.
    pub arrived_ns: i64,
    /// The name of the key.
    pub sender: &'a str,
    /// Fields the key stamps on every event.
    pub fixed: &'a [(String, Value)],
    /// What one event may measure.
    pub limits: Limits,
}

/// A normalised event, and whether it carried a time of its own.
#[derive(Debug)]
pub struct Normalised {
    /// The event; its id is given at commit.
    pub event: Event,
    /// False where the arrival time stands in.
    pub timed: bool,
}

/// Makes an [`Event`] of what was decoded.
///
/// # Errors
/// A [`Refusal`] where the event breaks a limit; nothing of it is kept then.
pub fn normalise(raw: RawEvent, arrival: &Arrival) -> Result<Normalised, Refusal> {
    let mut fields = Vec::with_capacity(raw.object.len());
    for (name, value) in raw.object {
        flatten(None, name, value, 1, &arrival.limits, &mut fields)?;
    }
    let text_bytes = raw.known.message.as_ref().map_or(0, String::len)
        + fields.iter().map(|(path, value): &(Path, Value)| path.as_str().len() + text_bytes(value)).sum::<usize>();
    if text_bytes > arrival.limits.event_bytes {
        return Err(Refusal::TooLarge(text_bytes, arrival.limits.event_bytes));
    }
    let mut event = Event {
        arrived_ns: arrival.arrived_ns,
        time_ns: arrival.arrived_ns,
        sender: arrival.sender.to_owned(),
        kind: Kind::Log,
        ..Event::default()
    };
    let found = layout::take_parts(&mut fields, &mut event, &raw.known);
    event.fields = fields;
    crate::shape::stamp(&mut event, arrival.fixed);
    if event.time_ns > arrival.arrived_ns.saturating_add(AHEAD_LIMIT_NS) {
        event.sent_time_ns = Some(event.time_ns);
        event.time_ns = arrival.arrived_ns;
    }
    Ok(Normalised { event, timed: found })
}

/// Refuses an event that lies before what its lane keeps.
///
/// # Errors
/// [`Refusal::TooOld`].
pub fn check_age(event: &Event, lane: &str, retention_days: u32) -> Result<(), Refusal> {
    let age_days = (event.arrived_ns.saturating_sub(event.time_ns)).div_euclid(DAY_NS);
    if age_days >= i64::from(retention_days) {
        return Err(Refusal::TooOld(age_days, lane.to_owned(), retention_days));
    }
    Ok(())
}

/// Bytes of text and bytes in a value: what a protocol without lines can make as large as a whole body.
fn text_bytes(value: &Value) -> usize {
    match value {
        Value::Text(t) => t.len(),
        Value::Bytes(b) => b.len(),
        Value::List(list) => list.iter().map(text_bytes).sum(),
        Value::Object(entries) => entries.iter().map(|(name, v)| name.len() + text_bytes(v)).sum(),
        _ => 0,
    }
}

fn flatten(
    parent: Option<&Path>,
    name: String,
    value: Value,
    depth: usize,
    limits: &Limits,
    out: &mut Vec<(Path, Value)>,
) -> Result<(), Refusal> {
    if name.len() > limits.name_bytes {
        return Err(Refusal::NameTooLong(name.len(), limits.name_bytes));
    }
    if depth > limits.depth {
        return Err(Refusal::TooDeep(depth, limits.depth));
    }
    let path = parent.map_or_else(|| Path::root(&name), |p| p.child(&name));
    match value {
        Value::Object(entries) if !entries.is_empty() => {
            for (name, value) in entries {
                flatten(Some(&path), name, value, depth + 1, limits, out)?;
            }
        }
        leaf => {
            let below = depth + leaf.depth();
            if below > limits.depth {
                return Err(Refusal::TooDeep(below, limits.depth));
            }
            out.push((path, leaf));
            if out.len() > limits.fields {
                return Err(Refusal::TooManyFields(out.len(), limits.fields));
            }
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::event::{parse_trace, sent_json, time::parse_time};

    const ARRIVED: &str = "2026-10-04T02:40:00Z";

    fn take(json: &str) -> Result<Normalised, Refusal> {
        let Value::Object(object) = serde_json::from_str(json).unwrap() else { panic!("not an object") };
        let fixed = [("env".to_owned(), Value::Text("night".into()))];
        let arrived_ns = parse_time(ARRIVED).unwrap();
        let arrival = Arrival { arrived_ns, sender: "slots-prod", fixed: &fixed, limits: Limits::default() };
        normalise(RawEvent { object, known: Known::default() }, &arrival)
    }

    #[test]
    fn spellings_of_several_teams() {
        for json in [
            r#"{"time":"2026-10-04T02:38:41.198204331Z","severity":"warn","service":"slots","message":"m","trace_id":"5b8aa5a2d2c872e8321cf37308d69df2"}"#,
            r#"{"ts":1791081521198204331,"level":"WARNING","app":"slots","msg":"m","traceId":"5B8AA5A2D2C872E8321CF37308D69DF2"}"#,
            r#"{"timestamp":"2026-10-04T04:38:41.198204331+02:00","lvl":40,"service":{"name":"slots"},"event":"m","correlation_id":"5b8aa5a2d2c872e8321cf37308d69df2"}"#,
            r#"{"@timestamp":"2026-10-04 02:38:41.198204331","severityNumber":13,"service.name":"slots","body":"m","traceparent":"00-5b8aa5a2d2c872e8321cf37308d69df2-051581bf3cb55c13-01"}"#,
        ] {
            let n = take(json).unwrap();
            let e = &n.event;
            assert!(n.timed);
            assert_eq!(e.time_ns, parse_time("2026-10-04T02:38:41.198204331Z").unwrap(), "{json}");
            assert_eq!((e.severity.name(), e.service.as_str(), e.message.as_str()), ("warn", "slots", "m"), "{json}");
            assert_eq!(e.trace, parse_trace("5b8aa5a2d2c872e8321cf37308d69df2"), "{json}");
            let mut sent: Vec<(String, Value)> = match serde_json::from_str(json).unwrap() {
                Value::Object(o) => o,
                _ => unreachable!(),
            };
            sent.push(("env".into(), Value::Text("night".into())));
            assert_eq!(sent_json(e), Value::Object(sent), "given back as it came");
        }
    }

    #[test]
    fn what_means_nothing_here_stays_a_field() {
        let n = take(r#"{"level":"gold","time":5,"message":{"a":1},"trace":"none","x":[1,{"y":2}],"o":{}}"#).unwrap();
        assert!(!n.timed);
        assert_eq!(n.event.severity, Severity::INFO);
        assert_eq!(n.event.message, "");
        assert_eq!(n.event.fields.len(), 7);
    }

    #[test]
    fn a_clock_far_ahead_is_ordered_by_arrival() {
        let n = take(r#"{"time":"2027-01-01T00:00:00Z","msg":"m"}"#).unwrap();
        assert_eq!(n.event.time_ns, parse_time(ARRIVED).unwrap());
        assert_eq!(n.event.sent_time_ns, parse_time("2027-01-01T00:00:00Z"));
        assert!(
            matches!(&sent_json(&n.event), Value::Object(o) if o[0].1 == Value::Text("2027-01-01T00:00:00Z".into()) || o.iter().any(|(k, v)| k == "time" && *v == Value::Text("2027-01-01T00:00:00Z".into())))
        );
    }

    #[test]
    fn limits_refuse() {
        let deep = format!("{}1{}", r#"{"a":"#.repeat(40), "}".repeat(40));
        assert_eq!(take(&deep).unwrap_err().reason(), "too-deep");
        let lists = format!(r#"{{"a":{}1{}}}"#, "[".repeat(40), "]".repeat(40));
        assert_eq!(take(&lists).unwrap_err().reason(), "too-deep");
        let wide = format!("{{{}}}", (0..2000).map(|i| format!(r#""f{i}":1"#)).collect::<Vec<_>>().join(","));
        assert_eq!(take(&wide).unwrap_err().reason(), "too-many-fields");
        assert_eq!(take(&format!(r#"{{"{}":1}}"#, "n".repeat(600))).unwrap_err().reason(), "name-too-long");
    }

    #[test]
    fn an_event_of_any_protocol_is_bounded() {
        let arrival = Arrival {
            arrived_ns: 0,
            sender: "x",
            fixed: &[],
            limits: Limits { event_bytes: 100, ..Limits::default() },
        };
        let message = |n: usize| RawEvent {
            known: Known { message: Some("m".repeat(n)), ..Known::default() },
            ..RawEvent::default()
        };
        assert!(normalise(message(100), &arrival).is_ok());
        assert_eq!(normalise(message(101), &arrival).unwrap_err().reason(), "too-large");
    }

    #[test]
    fn age_is_checked_against_the_lane() {
        let n = take(r#"{"time":"2026-09-01T00:00:00Z"}"#).unwrap();
        assert_eq!(check_age(&n.event, "main", 30).unwrap_err().reason(), "too-old");
        assert!(check_age(&n.event, "main", 60).is_ok());
    }
}
