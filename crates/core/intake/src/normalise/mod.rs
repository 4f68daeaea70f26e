//! Step 4, normalise: one form for what many teams write. Finds time, severity, service, host, message and ids in the spellings
//! in use, flattens the rest to typed dotted paths, and remembers where everything stood.

mod layout;
mod raw;
mod stamp;

use calvex_language::model::Refusal;
use calvex_language::model::time::{DAY_NS, SECOND_NS};
use calvex_language::model::{Draft, PathTable, Value};
use calvex_language::query::Ties;
pub use layout::{PathRoles, forget_builtin, traceparent};
pub use raw::{Flattener, Known, Limits, RawEvent};
pub use stamp::stamp;
pub(crate) use stamp::stamp_event;

/// A time further ahead of its arrival than this is ordered by the arrival.
pub const AHEAD_LIMIT_NS: i64 = 600 * SECOND_NS;

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
    /// Spellings of ids beyond the usual.
    pub ties: &'a Ties,
}

/// A normalised event, and whether it carried a time of its own.
#[derive(Debug)]
pub struct Normalised<'a> {
    /// The event; its id is given at commit.
    pub draft: Draft<'a>,
    /// False where the arrival time stands in.
    pub timed: bool,
}

/// Makes a [`Draft`] of what was decoded; `meanings` belongs to `paths`.
///
/// # Errors
/// A [`Refusal`] where the event breaks a limit; nothing of it is kept then.
pub fn normalise<'a>(
    raw: RawEvent<'a>,
    paths: &mut PathTable,
    meanings: &mut PathRoles,
    arrival: &Arrival<'a>,
) -> Result<Normalised<'a>, Refusal> {
    let text_bytes = raw.known.message.as_ref().map_or(0, |m| m.len())
        + raw.fields.iter().map(|(path, leaf)| paths.path(*path).as_str().len() + leaf.text_bytes()).sum::<usize>();
    if text_bytes > arrival.limits.event_bytes {
        return Err(Refusal::TooLarge(text_bytes, arrival.limits.event_bytes));
    }
    let mut draft = Draft {
        arrived_ns: arrival.arrived_ns,
        time_ns: arrival.arrived_ns,
        sender: arrival.sender.into(),
        // Room for the usual number of entries, so that it is taken once.
        layout: String::with_capacity(128),
        fields: raw.fields,
        ..Draft::default()
    };
    let timed = layout::take_segments(&mut draft, raw.known, paths, meanings, arrival);
    crate::normalise::stamp(&mut draft, paths, arrival.fixed);
    if draft.time_ns > arrival.arrived_ns.saturating_add(AHEAD_LIMIT_NS) {
        draft.sent_time_ns = Some(draft.time_ns);
        draft.time_ns = arrival.arrived_ns;
    }
    Ok(Normalised { draft, timed })
}

/// Refuses an event that lies before what its lane keeps.
///
/// # Errors
/// [`Refusal::TooOld`].
pub fn check_age(time_ns: i64, arrived_ns: i64, lane: &str, retention_days: u32) -> Result<(), Refusal> {
    let age_days = arrived_ns.saturating_sub(time_ns).div_euclid(DAY_NS);
    if age_days >= i64::from(retention_days) {
        return Err(Refusal::TooOld(age_days, lane.to_owned(), retention_days));
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use calvex_language::model::{Event, Severity, parse_trace, sent_json, time::parse_time};

    const ARRIVED: &str = "2026-10-04T02:40:00Z";

    struct Taken {
        event: Event,
        timed: bool,
    }

    fn take(json: &str) -> Result<Taken, Refusal> {
        let fixed = [("env".to_owned(), Value::Text("night".into()))];
        let arrived_ns = parse_time(ARRIVED).unwrap();
        let arrival = Arrival {
            arrived_ns,
            sender: "slots-prod",
            fixed: &fixed,
            limits: Limits::default(),
            ties: &Ties::default(),
        };
        let mut paths = PathTable::default();
        let fields = Flattener::default().json(json, &mut paths, &arrival.limits)?;
        let raw = RawEvent { fields, known: Known::default() };
        let n = normalise(raw, &mut paths, &mut PathRoles::default(), &arrival)?;
        Ok(Taken { timed: n.timed, event: n.draft.into_event(&paths) })
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
    fn a_spelling_added_to_the_tie_trace_is_read() {
        let ties = Ties::new([calvex_language::query::Tie::new("trace", &["op_chain".into()])]);
        let arrival = Arrival { arrived_ns: 0, sender: "x", fixed: &[], limits: Limits::default(), ties: &ties };
        let id = "5b8aa5a2d2c872e8321cf37308d69df2";
        let json = format!(r#"{{"opChain":"{id}","msg":"m"}}"#);
        let mut paths = PathTable::default();
        let fields = Flattener::default().json(&json, &mut paths, &arrival.limits).unwrap();
        let raw = RawEvent { fields, known: Known::default() };
        let draft = normalise(raw, &mut paths, &mut PathRoles::default(), &arrival).unwrap().draft;
        let event = draft.into_event(&paths);
        assert_eq!((event.trace, event.fields.len()), (parse_trace(id), 0));
        assert_eq!(serde_json::to_string(&sent_json(&event)).unwrap().len(), json.len(), "given back as it came");
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
        let reported = |json: &str| take(json).err().map(|r| r.reason());
        let deep = format!("{}1{}", r#"{"a":"#.repeat(40), "}".repeat(40));
        assert_eq!(reported(&deep), Some("too-deep"));
        let lists = format!(r#"{{"a":{}1{}}}"#, "[".repeat(40), "]".repeat(40));
        assert_eq!(reported(&lists), Some("too-deep"));
        let wide = format!("{{{}}}", (0..2000).map(|i| format!(r#""f{i}":1"#)).collect::<Vec<_>>().join(","));
        assert_eq!(reported(&wide), Some("too-many-fields"));
        assert_eq!(reported(&format!(r#"{{"{}":1}}"#, "n".repeat(600))), Some("name-too-long"));
    }

    #[test]
    fn an_event_of_any_protocol_is_bounded() {
        let arrival = Arrival {
            arrived_ns: 0,
            sender: "x",
            fixed: &[],
            limits: Limits { event_bytes: 100, ..Limits::default() },
            ties: &Ties::default(),
        };
        let message = |n: usize| {
            let known = Known { message: Some("m".repeat(n).into()), ..Known::default() };
            let raw = RawEvent { known, ..RawEvent::default() };
            normalise(raw, &mut PathTable::default(), &mut PathRoles::default(), &arrival).err().map(|r| r.reason())
        };
        assert_eq!((message(100), message(101)), (None, Some("too-large")));
    }

    #[test]
    fn equal_names_in_one_object() {
        let n = take(r#"{"a":1,"b":{"c":1,"d":2},"b":{"c":3},"a":{"e":[1,{"x":1,"x":2}]}}"#).unwrap();
        let reported = serde_json::to_string(&sent_json(&n.event)).unwrap();
        assert_eq!(reported, r#"{"a":{"e":[1,{"x":2}]},"b":{"c":3},"env":"night"}"#);
    }

    #[test]
    fn age_is_checked_against_the_lane() {
        let n = take(r#"{"time":"2026-09-01T00:00:00Z"}"#).unwrap();
        let age = |days| check_age(n.event.time_ns, n.event.arrived_ns, "main", days).err().map(|r| r.reason());
        assert_eq!((age(30), age(60)), (Some("too-old"), None));
    }

    /// The table of `docs/spellings.md`, line by line.
    #[test]
    fn what_is_documented_is_read() {
        let table = include_str!("../../../../../docs/spellings.md");
        let rows = table.lines().filter(|l| l.starts_with("| ") && l.contains('`'));
        let mut read = 0;
        for row in rows {
            let cells: Vec<&str> = row.split('|').map(str::trim).collect();
            let [_, _, json, time, severity, message, others, _] = cells[..] else { panic!("{row}") };
            let e = take(json.trim_matches('`')).unwrap().event;
            assert_eq!(e.time_ns, parse_time(time).unwrap(), "{row}");
            assert_eq!((e.severity.name(), e.message.as_str()), (severity, message), "{row}");
            let reported = |name: &str, value: &str| (!value.is_empty()).then(|| format!("{name} {value}"));
            let hex = |id: Option<&[u8]>| id.map(calvex_language::model::to_hex).unwrap_or_default();
            let parts = [
                reported("service", &e.service),
                reported("host", &e.host),
                reported("trace", &hex(e.trace.as_ref().map(|i| i.as_slice()))),
                reported("span", &hex(e.span.as_ref().map(|i| i.as_slice()))),
            ];
            assert_eq!(parts.into_iter().flatten().collect::<Vec<_>>().join(", "), others, "{row}");
            let mut sent: Vec<(String, Value)> =
                match calvex_language::model::parse_value(json.trim_matches('`')).unwrap() {
                    Value::Object(o) => o,
                    _ => unreachable!(),
                };
            sent.push(("env".into(), Value::Text("night".into())));
            assert_eq!(sent_json(&e), Value::Object(sent), "given back as it came");
            read += 1;
        }
        assert!(read > 25, "{read} rows were read");
    }
}
