//! Events as JSON: what was sent, rebuilt; and the answer form that search gives.

use super::time::format_utc;
use super::{Event, Path, Value, shape, to_hex};

/// The object that was sent, with every name, type and order of lists as it came (fixed fields of the key included).
pub fn sent_json(event: &Event) -> Value {
    let restored = crate::model::restore(event);
    let mut root = Vec::with_capacity(restored.len() + event.fields.len());
    for (path, value) in restored.into_iter().chain(event.fields.iter().cloned()) {
        insert(&mut root, &path, value);
    }
    Value::Object(root)
}

/// The form in which an event is answered: its builtins under their names, and all else nested under `fields`.
pub fn answer_json(event: &Event, lane: &str) -> Value {
    let text = |t: &str| Value::Text(t.to_owned());
    let mut out = vec![
        ("id".to_owned(), text(&event.id.to_string())),
        ("time".to_owned(), Value::Text(format_utc(event.time_ns, 9))),
        ("arrived".to_owned(), Value::Text(format_utc(event.arrived_ns, 9))),
        ("severity".to_owned(), text(event.severity.name())),
        ("severity_number".to_owned(), Value::Int(i64::from(event.severity.0))),
        ("kind".to_owned(), text(event.kind.name())),
        ("lane".to_owned(), text(lane)),
        ("sender".to_owned(), text(&event.sender)),
    ];
    let mut reported = |name: &str, value: Option<Value>| {
        if let Some(value) = value {
            out.push((name.to_owned(), value));
        }
    };
    reported("sent_time", event.sent_time_ns.map(|t| Value::Text(format_utc(t, 9))));
    reported("service", (!event.service.is_empty()).then(|| text(&event.service)));
    reported("host", (!event.host.is_empty()).then(|| text(&event.host)));
    reported("message", Some(text(&event.message)));
    reported("shape", (!event.message.is_empty()).then(|| Value::Text(shape::id_of(&event.message))));
    reported("trace", event.trace.map(|id| Value::Text(to_hex(&id))));
    reported("span", event.span.map(|id| Value::Text(to_hex(&id))));
    reported("parent", event.parent.map(|id| Value::Text(to_hex(&id))));
    reported("took_ns", event.took_ns.map(Value::Int));
    reported("status", event.status.map(|s| text(s.name())));
    let transformed: Vec<Value> = crate::model::rules_of(&event.transformed).map(text).collect();
    reported("transformed", (!transformed.is_empty()).then_some(Value::List(transformed)));
    let mut fields = Vec::with_capacity(event.fields.len());
    for (path, value) in &event.fields {
        insert(&mut fields, path, value.clone());
    }
    out.push(("fields".to_owned(), Value::Object(fields)));
    Value::Object(out)
}

/// [`answer_json`], and what was sent below `sent`.
pub fn answer_with_sent(event: &Event, lane: &str) -> Value {
    let mut answer = answer_json(event, lane);
    if let Value::Object(parts) = &mut answer {
        parts.push(("sent".to_owned(), sent_json(event)));
    }
    answer
}

fn insert(root: &mut Vec<(String, Value)>, path: &Path, value: Value) {
    let segments: Vec<String> = path.segments().collect();
    insert_at(root, &segments, value);
}

fn insert_at(object: &mut Vec<(String, Value)>, segments: &[String], value: Value) {
    let Some((first, rest)) = segments.split_first() else { return };
    if rest.is_empty() {
        return Value::set(object, first.clone(), value);
    }
    // Entries of one object stand together, so the last entry is nearly always the one.
    let at = match object.iter().rposition(|(k, v)| k == first && matches!(v, Value::Object(_))) {
        Some(at) => at,
        None => {
            object.push((first.clone(), Value::Object(Vec::new())));
            object.len() - 1
        }
    };
    if let Some((_, Value::Object(inner))) = object.get_mut(at) {
        insert_at(inner, rest, value);
    }
}
