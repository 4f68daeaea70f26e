//! Finds an event's builtins among what was sent, and writes down where they stood: [`calvex_language::model::layout`] has
//! the format.

use super::{Arrival, Known};
use crate::line::leading_time;
use calvex_language::json::Scalar;
use calvex_language::model::layout::{ENTRY_END, EPOCH_UNITS, PATH_START};
use calvex_language::model::time::{SECOND_NS, parse_plain_utc, parse_time};
use calvex_language::model::{
    Draft, Leaf, PathId, PathRole, PathTable, SPELLINGS, SpanId, TraceId, Value, parse_span, parse_trace,
    severity_from_number, severity_from_text,
};
use calvex_language::query::Ties;
use std::collections::HashMap;
use std::sync::LazyLock;

/// Dotted spelling to the builtins it may mean, with its rank among that role's spellings.
static ROLES_OF_SPELLING: LazyLock<HashMap<&'static str, Vec<(PathRole, usize)>>> = LazyLock::new(|| {
    let mut map: HashMap<_, Vec<_>> = HashMap::new();
    for (role, spellings) in SPELLINGS {
        for (rank, spelling) in spellings.iter().enumerate() {
            map.entry(*spelling).or_default().push((*role, rank));
        }
    }
    map
});

/// What a spelling means that was added to the tie `trace`: the last choice.
const TRACE_BY_TIE: &[(PathRole, usize)] = &[(PathRole::Trace, usize::MAX)];

/// What the paths of one table may mean, looked up once each.
#[derive(Default)]
pub struct PathRoles {
    of_path: Vec<&'static [(PathRole, usize)]>,
    /// The paths of the last event, and what among them may be a role: senders repeat themselves.
    paths: Vec<PathId>,
    candidates: Vec<Candidate>,
}

/// A field that may be a role.
#[derive(Clone, Copy)]
struct Candidate {
    role: PathRole,
    /// Among the spellings of the role.
    rank: usize,
    spelling: &'static str,
    /// Its place among the fields.
    at: usize,
}

impl PathRoles {
    fn of(&mut self, path: PathId, paths: &PathTable, ties: &Ties) -> &'static [(PathRole, usize)] {
        for id in self.of_path.len()..paths.len() {
            let stored = paths.path(PathId(id as u32));
            let roles = ROLES_OF_SPELLING.get(stored.dotted().to_ascii_lowercase().as_str());
            let by_tie = || if ties.is_trace(&stored.dotted()) { TRACE_BY_TIE } else { &[] };
            self.of_path.push(roles.map_or_else(by_tie, Vec::as_slice));
        }
        self.of_path.get(path.0 as usize).copied().unwrap_or(&[])
    }

    /// What among the fields may be a role, the first choice of each role first.
    fn candidates(&mut self, fields: &[(PathId, Leaf)], paths: &PathTable, ties: &Ties) {
        if self.paths.iter().eq(fields.iter().map(|(path, _)| path)) {
            return;
        }
        self.paths.clear();
        self.paths.extend(fields.iter().map(|(path, _)| *path));
        let mut found = std::mem::take(&mut self.candidates);
        found.clear();
        for (at, (path, _)) in fields.iter().enumerate() {
            found.extend(self.of(*path, paths, ties).iter().map(|(role, rank)| {
                let spelling =
                    SPELLINGS.iter().find(|(p, _)| p == role).and_then(|(_, s)| s.get(*rank)).map_or("", |s| s);
                Candidate { role: *role, rank: *rank, spelling, at }
            }));
        }
        found.sort_unstable_by_key(|c| (c.role as u8, c.rank, c.at));
        self.candidates = found;
    }
}

impl PathRoles {
    /// Whether a field that may be the severity holds a word for one.
    fn has_word(&self, fields: &[(PathId, Leaf)]) -> bool {
        let mut words =
            self.candidates.iter().filter(|c| c.role == PathRole::Severity).filter_map(|c| fields.get(c.at));
        words.any(|(_, leaf)| leaf.as_text().is_some_and(|text| severity_from_text(text).is_some()))
    }
}

/// The ids of a `traceparent`: version "-" trace-id "-" parent-id "-" flags (W3C Trace Context, 3.2).
pub fn traceparent(text: &str) -> Option<(TraceId, SpanId)> {
    let mut segments = text.trim().split('-').skip(1);
    Some((parse_trace(segments.next()?)?, parse_span(segments.next()?)?))
}

/// The `traceparent` that a field holds: a text, a list of one, or a list of headers, as objects with a name and a value,
/// as pairs, or as lines.
fn traceparent_of(spelling: &str, leaf: &Leaf) -> Option<(TraceId, SpanId)> {
    const NAME: &str = "traceparent";
    let is_name = |value: &Value| value.as_text().is_some_and(|t| t.eq_ignore_ascii_case(NAME));
    let of_header = |header: &Value| match header {
        Value::Text(line) => {
            let (name, value) = line.split_once(':')?;
            name.trim().eq_ignore_ascii_case(NAME).then(|| traceparent(value)).flatten()
        }
        Value::List(pair) => match pair.as_slice() {
            [name, value] if is_name(name) => traceparent(value.as_text()?),
            _ => None,
        },
        Value::Object(entries) => {
            let of = |names: [&str; 2]| entries.iter().find(|(n, _)| names.iter().any(|x| n.eq_ignore_ascii_case(x)));
            let (_, name) = of(["name", "key"])?;
            let (_, value) = of(["value", "values"])?;
            let value = match value {
                Value::List(values) => values.first()?,
                value => value,
            };
            is_name(name).then(|| traceparent(value.as_text()?)).flatten()
        }
        _ => None,
    };
    match leaf {
        Leaf::Nested(Value::List(list)) if spelling.ends_with(NAME) => traceparent(list.first()?.as_text()?),
        Leaf::Nested(Value::List(list)) => list.iter().find_map(of_header),
        leaf if spelling.ends_with(NAME) => traceparent(leaf.as_text()?),
        _ => None,
    }
}

/// Moves builtins out of the draft's fields, writes the layout, and returns whether a time was found.
pub(super) fn take_segments<'a>(
    draft: &mut Draft<'a>,
    known: Known<'a>,
    paths: &PathTable,
    roles: &mut PathRoles,
    arrival: &Arrival<'_>,
) -> bool {
    roles.candidates(&draft.fields, paths, arrival.ties);
    let mut set = known_parts(&known);
    let mut timed = apply_known(draft, known);
    let mut removed = 0u64;
    // Where the entry of the time begins in the layout.
    let mut entry = None;
    let mut fields = std::mem::take(&mut draft.fields);
    for Candidate { role, spelling, at: i, .. } in &roles.candidates {
        // The mask has room for every field that has a roles, for those come first in what senders write; one that
        // stands beyond it stays a field.
        if set & role_bit(*role) != 0 || *i >= 64 || removed >> i & 1 == 1 {
            continue;
        }
        let (path, leaf) = &fields[*i];
        if *role == PathRole::Severity && leaf.as_text().is_none() && roles.has_word(&fields) {
            continue;
        }
        let start = draft.layout.len();
        if start > 0 {
            draft.layout.push(ENTRY_END);
        }
        draft.layout.push(*role as u8 as char);
        let taken = read(*role, spelling, leaf, draft, arrival);
        if let Some(true) = taken {
            draft.layout.push(PATH_START);
            draft.layout.push_str(paths.path(*path).as_str());
            removed |= 1 << i;
        } else {
            draft.layout.truncate(start);
        }
        if taken.is_some() {
            set |= role_bit(*role);
            timed |= *role == PathRole::Time;
        }
        if *role == PathRole::Time && taken == Some(true) {
            entry = Some(start + usize::from(start > 0));
        }
    }
    if removed != 0 {
        let mut i = 0;
        fields.retain(|_| {
            i += 1;
            i > 64 || removed >> (i - 1) & 1 == 0
        });
    }
    draft.fields = fields;
    if let Some(at) = entry {
        refine(draft, at, paths);
    }
    timed
}

/// Adds what a second field has of the time below the first one's unit: `nanoOfSecond` beside `epochSecond` (Java),
/// `nanoseconds` beside a `timestamp` of milliseconds.
fn refine(draft: &mut Draft, entry: usize, paths: &PathTable) {
    let form = draft.layout.as_bytes().get(entry + 1).copied().map(char::from);
    let unit = |form: char| EPOCH_UNITS.iter().find(|(f, _, _)| *f == form).map(|(_, each, _)| *each);
    let Some(each_ns) = form.and_then(unit).filter(|each| *each > 1) else { return };
    let entry = draft.layout.get(entry..).and_then(|rest| rest.split(ENTRY_END).next()).unwrap_or_default();
    let beside = if entry.ends_with("epochSecond") { "instant.nanoOfSecond" } else { "nanoseconds" };
    let found = draft.fields.iter().find(|(path, _)| paths.path(*path).is(beside));
    if let Some((_, Leaf::Scalar(Scalar::Int(ns)))) = found
        && (0..SECOND_NS).contains(ns)
        && draft.time_ns.rem_euclid(SECOND_NS) == ns - ns % each_ns.min(SECOND_NS)
    {
        draft.time_ns += ns % each_ns;
    }
}

fn role_bit(role: PathRole) -> u32 {
    1 << (role as u8 - b'a')
}

fn known_parts(known: &Known) -> u32 {
    let reported = [
        (PathRole::Time, known.time_ns.is_some()),
        (PathRole::Severity, known.severity.is_some()),
        (PathRole::Service, known.service.is_some()),
        (PathRole::Host, known.host.is_some()),
        (PathRole::Message, known.message.is_some()),
        (PathRole::Trace, known.trace.is_some()),
        (PathRole::Span, known.span.is_some()),
        (PathRole::Parent, known.parent.is_some()),
    ];
    reported.into_iter().filter(|(_, is)| *is).fold(0, |set, (role, _)| set | role_bit(role))
}

fn apply_known<'a>(draft: &mut Draft<'a>, known: Known<'a>) -> bool {
    draft.time_ns = known.time_ns.unwrap_or(draft.time_ns);
    draft.severity = known.severity.unwrap_or(draft.severity);
    draft.service = known.service.unwrap_or_default();
    draft.host = known.host.unwrap_or_default();
    draft.message = known.message.unwrap_or_default();
    draft.trace = known.trace;
    draft.span = known.span;
    draft.parent = known.parent;
    (draft.kind, draft.took_ns, draft.status) = (known.kind, known.took_ns, known.status);
    known.time_ns.is_some()
}

/// Reads `leaf` as `role`. `None`: it is no such thing. `Some(false)`: taken, but the field must stay. `Some(true)`:
/// taken, and the form that rebuilds the field was appended to the layout.
fn read<'a>(
    role: PathRole,
    spelling: &str,
    leaf: &Leaf<'a>,
    draft: &mut Draft<'a>,
    arrival: &Arrival<'_>,
) -> Option<bool> {
    match role {
        PathRole::Time => {
            let (time_ns, exact) = read_time(leaf, &mut draft.layout, arrival.arrived_ns)?;
            draft.time_ns = time_ns;
            Some(exact)
        }
        PathRole::Severity => {
            match leaf {
                Leaf::Scalar(Scalar::Text(t)) => {
                    draft.severity = severity_from_text(t)?;
                    draft.layout.push('v');
                    draft.layout.push_str(t);
                }
                Leaf::Scalar(Scalar::Int(n)) => {
                    draft.severity = severity_from_number(spelling, *n)?;
                    draft.layout.push('#');
                    draft.layout.push_str(&n.to_string());
                }
                _ => return None,
            }
            Some(true)
        }
        PathRole::Service | PathRole::Host | PathRole::Message => {
            let text = leaf.as_text().filter(|t| !t.is_empty())?;
            let slot = match role {
                PathRole::Service => &mut draft.service,
                PathRole::Host => &mut draft.host,
                _ => &mut draft.message,
            };
            slot.clone_from(text);
            draft.layout.push('=');
            Some(true)
        }
        PathRole::Trace | PathRole::Span if spelling.ends_with("traceparent") || spelling.ends_with("headers") => {
            let (trace, span) = traceparent_of(spelling, leaf)?;
            if role == PathRole::Trace {
                draft.trace = Some(trace)
            } else {
                draft.span = Some(span)
            }
            Some(false)
        }
        PathRole::Trace => {
            let text = leaf.as_text()?;
            draft.trace = Some(parse_trace(text)?);
            Some(as_written(text, &mut draft.layout))
        }
        PathRole::Span | PathRole::Parent => {
            let text = leaf.as_text()?;
            let id = parse_span(text)?;
            *(if role == PathRole::Span { &mut draft.span } else { &mut draft.parent }) = Some(id);
            Some(as_written(text, &mut draft.layout))
        }
    }
}

/// Whether the hex of an id is that which would be written; an upper-case one stays as it came.
fn as_written(hex: &str, layout: &mut String) -> bool {
    let lower = !hex.bytes().any(|b| b.is_ascii_uppercase());
    if lower {
        layout.push('=');
    }
    lower
}

/// The time, and whether the form appended to the layout rebuilds what was sent.
fn read_time(leaf: &Leaf, layout: &mut String, arrived_ns: i64) -> Option<(i64, bool)> {
    match leaf {
        Leaf::Scalar(Scalar::Text(t)) => match parse_plain_utc(t) {
            Some((ns, digits)) => {
                layout.push('z');
                layout.push((b'0' + digits) as char);
                Some((ns, true))
            }
            None => {
                let whole = || leading_time(t, arrived_ns).filter(|(_, length)| *length == t.len()).map(|(ns, _)| ns);
                Some((parse_time(t).or_else(whole)?, false))
            }
        },
        Leaf::Scalar(Scalar::Int(n)) => {
            let (form, each_ns, _) = EPOCH_UNITS.iter().find(|(_, _, range)| range.contains(n))?;
            layout.push(*form);
            Some((n * each_ns, true))
        }
        Leaf::Scalar(Scalar::Float(f)) => {
            let (_, each_ns, _) = EPOCH_UNITS.iter().find(|(_, _, range)| range.contains(&(*f as i64)))?;
            // The fraction of a float of seconds is good to about a microsecond.
            let grain_ns = if *each_ns == SECOND_NS { 1000 } else { 1 };
            let fraction = (f.fract() * (*each_ns / grain_ns) as f64).round() as i64 * grain_ns;
            Some((f.trunc() as i64 * each_ns + fraction, false))
        }
        _ => None,
    }
}

/// Takes the entries of a role out of a layout: what stood there is no longer what was sent.
pub fn forget_builtin(layout: &mut String, role: PathRole) {
    if layout.contains(role as u8 as char) {
        let kept: Vec<&str> = layout.split(ENTRY_END).filter(|e| !e.starts_with(role as u8 as char)).collect();
        *layout = kept.join("\u{1e}");
    }
}
