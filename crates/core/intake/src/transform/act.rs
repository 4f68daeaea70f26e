//! What the rules do to an event.

use super::rule::dotted_path;
use super::{Doing, masking};
use crate::line::{HoleKind, cut_by};
use crate::normalise::{AHEAD_LIMIT_NS, forget_builtin, stamp_event};
use calvex_language::model::{Event, Path, Value, parse_span, parse_trace};
use calvex_language::model::{PathRole, severity_from_text};
use calvex_language::query::Builtin;

impl Doing {
    /// Does it; false where that changed nothing.
    pub(super) fn apply(&self, event: &mut Event) -> bool {
        match self {
            Doing::Stamp(fields) => {
                fields.iter().fold(false, |changed, (path, value)| stamp_event(event, path, value) | changed)
            }
            Doing::Rename(from, to) => rename(event, from, to),
            Doing::Drop(fields) => {
                let before = event.fields.len();
                event.fields.retain(|(path, _)| !fields.iter().any(|name| at_or_below(path, name)));
                let parts = fields.iter().fold(false, |changed, name| clear(event, name) | changed);
                parts || event.fields.len() < before
            }
            Doing::Cut(field, patterns) => {
                let Some(text) = text_of(event, field) else { return false };
                let Ok((_, cuts)) = cut_by(patterns, &text, event.arrived_ns) else { return false };
                for cut in &cuts {
                    set(event, cut.name, cut.value.clone(), cut.kind);
                }
                !cuts.is_empty()
            }
            Doing::Mask(mask) => mask.apply(event),
            Doing::Move(_) | Doing::SetAside => false,
        }
    }
}

fn at_or_below(path: &Path, name: &str) -> bool {
    path.is(name) || calvex_language::query::matching::at_or_below(&path.dotted(), name)
}

/// The text of a field, or of one of the parts that are text.
pub(super) fn text_of(event: &Event, name: &str) -> Option<String> {
    if let Some(text) = masking::own_text(event, name) {
        return Some(text.clone()).filter(|t| !t.is_empty());
    }
    let value = event.fields.iter().find(|(path, _)| path.is(name)).map(|(_, value)| value)?;
    value.as_text().map(str::to_owned)
}

/// Empties a builtin that is text.
fn clear(event: &mut Event, name: &str) -> bool {
    match masking::own_text_mut(event, name) {
        Some(text) if !text.is_empty() => {
            text.clear();
            if let Some(role) = role_of(name) {
                forget_builtin(&mut event.layout, role);
            }
            true
        }
        _ => false,
    }
}

fn role_of(name: &str) -> Option<PathRole> {
    Some(match Builtin::from_name(name)? {
        Builtin::Time => PathRole::Time,
        Builtin::Severity => PathRole::Severity,
        Builtin::Service => PathRole::Service,
        Builtin::Host => PathRole::Host,
        Builtin::Message => PathRole::Message,
        Builtin::Trace => PathRole::Trace,
        Builtin::Span => PathRole::Span,
        Builtin::Parent => PathRole::Parent,
        _ => return None,
    })
}

fn rename(event: &mut Event, from: &str, to: &str) -> bool {
    if let Some(text) = text_of(event, from).filter(|_| Builtin::from_name(from).is_some()) {
        clear(event, from);
        set(event, to, Value::Text(text), HoleKind::Text);
        return true;
    }
    let mut moved = Vec::new();
    event.fields.retain(|(path, value)| {
        let takes = at_or_below(path, from);
        if takes {
            moved.push((path.dotted().get(from.len()..).unwrap_or("").to_owned(), value.clone()));
        }
        !takes
    });
    let changed = !moved.is_empty();
    for (below, value) in moved {
        set(event, &format!("{to}{below}"), value, HoleKind::Text);
    }
    changed
}

/// Sets a role or a field; what cannot be such a role becomes a field of that name.
fn set(event: &mut Event, name: &str, value: Value, kind: HoleKind) {
    let Some(role) = role_of(name) else { return set_field(event, name, as_field(value, kind)) };
    let text = value.as_text().unwrap_or("").to_owned();
    let done = match role {
        PathRole::Time => {
            let ns = match (&value, kind) {
                (Value::Int(ns), HoleKind::Time) => Some(*ns),
                _ => crate::line::leading_time(&plain(&value), event.arrived_ns).map(|(ns, _)| ns),
            };
            ns.map(|ns| {
                event.time_ns = ns;
                event.sent_time_ns = None;
                if ns > event.arrived_ns.saturating_add(AHEAD_LIMIT_NS) {
                    event.sent_time_ns = Some(ns);
                    event.time_ns = event.arrived_ns;
                }
            })
        }
        PathRole::Severity => severity_from_text(&text).map(|severity| event.severity = severity),
        PathRole::Service | PathRole::Host | PathRole::Message => {
            let text = plain(&value);
            masking::own_text_mut(event, name).map(|slot| *slot = text)
        }
        PathRole::Trace => parse_trace(&text).map(|id| event.trace = Some(id)),
        PathRole::Span => parse_span(&text).map(|id| event.span = Some(id)),
        PathRole::Parent => parse_span(&text).map(|id| event.parent = Some(id)),
    };
    match done {
        Some(()) => forget_builtin(&mut event.layout, role),
        None => set_field(event, name, as_field(value, kind)),
    }
}

fn plain(value: &Value) -> String {
    match value {
        Value::Text(text) => text.clone(),
        other => serde_json::to_string(other).unwrap_or_default(),
    }
}

/// A time that is no event's time is kept as text in RFC 3339.
fn as_field(value: Value, kind: HoleKind) -> Value {
    match (value, kind) {
        (Value::Int(ns), HoleKind::Time) => Value::Text(calvex_language::model::time::format_utc(ns, 9)),
        (value, _) => value,
    }
}

fn set_field(event: &mut Event, name: &str, value: Value) {
    match event.fields.iter_mut().find(|(path, _)| path.is(name)) {
        Some((_, slot)) => *slot = value,
        None => event.fields.push((dotted_path(name), value)),
    }
}
