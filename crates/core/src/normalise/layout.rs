//! Where the own parts stood in what was sent, so that it can be given back exactly.
//!
//! A layout is text: entries joined by U+001E; an entry is the part's letter, the form's letter with its data, U+001D
//! and the stored path. Few layouts occur, so the text costs almost nothing in a dictionary column. A sent value that
//! could not be rebuilt from the part (a time with an offset, an upper-case id) stays among the fields instead.
//!
//! | form | the sent value was |
//! | --- | --- |
//! | `=` | the part's text, or the lower-case hex of the id |
//! | `z` digit | RFC 3339 in UTC with that many fractional digits |
//! | `s` `m` `u` `n` | an integer of seconds, milli-, micro-, nanoseconds from 1970 |
//! | `v` text | this word (severity) |
//! | `#` number | this number (severity) |

use super::spellings::severity_from_number;
use super::{Known, Part, SPELLINGS, severity_from_text};
use crate::event::time::{format_utc, parse_plain_utc, parse_time};
use crate::event::{Event, Path, Value, parse_span, parse_trace, to_hex};
use std::collections::HashMap;
use std::sync::LazyLock;

const ENTRY_END: char = '\u{1e}';
const PATH_START: char = '\u{1d}';

/// Dotted spelling to the parts it may mean, with its rank among that part's spellings.
static MEANING: LazyLock<HashMap<&'static str, Vec<(Part, usize)>>> = LazyLock::new(|| {
    let mut map: HashMap<_, Vec<_>> = HashMap::new();
    for (part, spellings) in SPELLINGS {
        for (rank, spelling) in spellings.iter().enumerate() {
            map.entry(*spelling).or_default().push((*part, rank));
        }
    }
    map
});

/// Units of an integer time: form letter, nanoseconds each, and the magnitudes read so (1973 to 2262).
const EPOCH_UNITS: [(char, i64, std::ops::Range<i64>); 4] = [
    ('s', 1_000_000_000, 100_000_000..9_200_000_000),
    ('m', 1_000_000, 100_000_000_000..9_200_000_000_000),
    ('u', 1_000, 100_000_000_000_000..9_200_000_000_000_000),
    ('n', 1, 100_000_000_000_000_000..i64::MAX),
];

/// Moves own parts out of `fields` into `event`, writes the layout, and tells whether a time was found.
pub(super) fn take_parts(fields: &mut Vec<(Path, Value)>, event: &mut Event, known: &Known) -> bool {
    let mut candidates: Vec<(Part, usize, usize)> = Vec::new();
    for (i, (path, _)) in fields.iter().enumerate() {
        let stored = path.as_str();
        let meanings =
            if stored.contains('\u{1f}') { MEANING.get(path.dotted().as_str()) } else { MEANING.get(stored) };
        for (part, rank) in meanings.into_iter().flatten() {
            candidates.push((*part, *rank, i));
        }
    }
    candidates.sort_by_key(|(part, rank, i)| (*part as u8, *rank, *i));

    let mut timed = apply_known(event, known);
    let mut set = known_parts(known);
    let mut removed: Vec<usize> = Vec::new();
    for (part, rank, i) in candidates {
        if set.contains(&part) || removed.contains(&i) {
            continue;
        }
        let (path, value) = &fields[i];
        let spelling = SPELLINGS.iter().find(|(p, _)| *p == part).map_or("", |(_, s)| s[rank]);
        let Some(form) = read(part, spelling, value, event) else { continue };
        set.push(part);
        timed |= part == Part::Time;
        if let Some(form) = form {
            if !event.layout.is_empty() {
                event.layout.push(ENTRY_END);
            }
            event.layout.push(part as u8 as char);
            event.layout.push_str(&form);
            event.layout.push(PATH_START);
            event.layout.push_str(path.as_str());
            removed.push(i);
        }
    }
    if !removed.is_empty() {
        let mut i = 0;
        fields.retain(|_| {
            i += 1;
            !removed.contains(&(i - 1))
        });
    }
    timed
}

fn known_parts(known: &Known) -> Vec<Part> {
    let told = [
        (Part::Time, known.time_ns.is_some()),
        (Part::Severity, known.severity.is_some()),
        (Part::Service, known.service.is_some()),
        (Part::Host, known.host.is_some()),
        (Part::Message, known.message.is_some()),
        (Part::Trace, known.trace.is_some()),
        (Part::Span, known.span.is_some()),
    ];
    told.into_iter().filter_map(|(part, is)| is.then_some(part)).collect()
}

fn apply_known(event: &mut Event, known: &Known) -> bool {
    event.time_ns = known.time_ns.unwrap_or(event.time_ns);
    event.severity = known.severity.unwrap_or(event.severity);
    event.service = known.service.clone().unwrap_or_default();
    event.host = known.host.clone().unwrap_or_default();
    event.message = known.message.clone().unwrap_or_default();
    event.trace = known.trace;
    event.span = known.span;
    known.time_ns.is_some()
}

/// Reads `value` as `part`. `None`: it is no such thing. `Some(None)`: taken, but the field must stay.
/// `Some(Some(form))`: taken, and the form rebuilds the field.
fn read(part: Part, spelling: &str, value: &Value, event: &mut Event) -> Option<Option<String>> {
    let same = || Some("=".to_owned());
    match part {
        Part::Time => {
            let (time_ns, form) = read_time(value)?;
            event.time_ns = time_ns;
            Some(form)
        }
        Part::Severity => match value {
            Value::Text(t) => {
                event.severity = severity_from_text(t)?;
                Some(Some(format!("v{t}")))
            }
            Value::Int(n) => {
                event.severity = severity_from_number(spelling, *n)?;
                Some(Some(format!("#{n}")))
            }
            _ => None,
        },
        Part::Service | Part::Host | Part::Message => {
            let text = value.as_text().filter(|t| !t.is_empty())?;
            let slot = match part {
                Part::Service => &mut event.service,
                Part::Host => &mut event.host,
                _ => &mut event.message,
            };
            text.clone_into(slot);
            Some(same())
        }
        Part::Trace | Part::Span if spelling == "traceparent" => {
            // version "-" trace-id "-" parent-id "-" flags (W3C Trace Context, 3.2)
            let mut segments = value.as_text()?.split('-').skip(1);
            let (trace, span) = (parse_trace(segments.next()?)?, parse_span(segments.next()?)?);
            if part == Part::Trace {
                event.trace = Some(trace)
            } else {
                event.span = Some(span)
            }
            Some(None)
        }
        Part::Trace => {
            let text = value.as_text()?;
            let id = parse_trace(text)?;
            event.trace = Some(id);
            Some((to_hex(&id) == text).then(same).flatten())
        }
        Part::Span | Part::Parent => {
            let text = value.as_text()?;
            let id = parse_span(text)?;
            *(if part == Part::Span { &mut event.span } else { &mut event.parent }) = Some(id);
            Some((to_hex(&id) == text).then(same).flatten())
        }
    }
}

fn read_time(value: &Value) -> Option<(i64, Option<String>)> {
    match value {
        Value::Text(t) => match parse_plain_utc(t) {
            Some((ns, digits)) => Some((ns, Some(format!("z{digits}")))),
            None => Some((parse_time(t)?, None)),
        },
        Value::Int(n) => {
            let (form, each_ns, _) = EPOCH_UNITS.iter().find(|(_, _, range)| range.contains(n))?;
            Some((n * each_ns, Some(form.to_string())))
        }
        Value::Float(f) => {
            let (_, each_ns, _) = EPOCH_UNITS.iter().find(|(_, _, range)| range.contains(&(*f as i64)))?;
            // The fraction of a float of seconds is good to about a microsecond.
            let whole = f.trunc() as i64 * each_ns;
            Some((whole + (f.fract() * *each_ns as f64).round() as i64, None))
        }
        _ => None,
    }
}

/// Puts the parts back where the layout says they stood: path and value of each.
pub fn restore(event: &Event) -> Vec<(Path, Value)> {
    if event.layout.is_empty() {
        return Vec::new();
    }
    event.layout.split(ENTRY_END).filter_map(|entry| restore_one(event, entry)).collect()
}

fn restore_one(event: &Event, entry: &str) -> Option<(Path, Value)> {
    let (head, path) = entry.split_once(PATH_START)?;
    let mut head = head.chars();
    let (part, form) = (head.next()?, head.next()?);
    let data = head.as_str();
    let sent_time_ns = event.sent_time_ns.unwrap_or(event.time_ns);
    let value = match form {
        'z' => Value::Text(format_utc(sent_time_ns, data.parse().ok()?)),
        'v' => Value::Text(data.to_owned()),
        '#' => Value::Int(data.parse().ok()?),
        '=' => Value::Text(match part {
            's' => event.service.clone(),
            'h' => event.host.clone(),
            'm' => event.message.clone(),
            'r' => to_hex(&event.trace?),
            'p' => to_hex(&event.span?),
            'q' => to_hex(&event.parent?),
            _ => return None,
        }),
        unit => {
            let (_, each_ns, _) = EPOCH_UNITS.iter().find(|(form, _, _)| *form == unit)?;
            Value::Int(sent_time_ns / each_ns)
        }
    };
    Some((Path::from_stored(path), value))
}
