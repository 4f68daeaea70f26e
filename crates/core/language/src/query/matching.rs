//! A filter against one event: what routes use, and the plain meaning that the columnar search must equal.

use super::{Builtin, Field, Filter, Num, SentName, Test, WordsTest, contains_words};
use crate::failure::{ErrorGroup, STACK_FIELDS, TYPE_FIELDS, group_of, may_fail, text_of};
use crate::model::shape;
use crate::model::{Event, Path, Value, to_hex};
use std::borrow::Cow;

/// Whether `filter` holds for `event` in `lane`.
pub fn matches(filter: &Filter, event: &Event, lane: &str) -> bool {
    match filter {
        Filter::All => true,
        Filter::And(list) => list.iter().all(|f| matches(f, event, lane)),
        Filter::Or(list) => list.iter().any(|f| matches(f, event, lane)),
        Filter::Not(inner) => !matches(inner, event, lane),
        Filter::Words(words) => words_match(words, event),
        Filter::Has(Field::Builtin(builtin)) => own_value(*builtin, event, lane).is_some(),
        Filter::Has(Field::Sent(name)) => has_sent(event, name),
        Filter::Compare(Field::Builtin(Builtin::Severity), test) => {
            (test.severities() >> event.severity.0 & 1 == 1) != test.is_ne()
        }
        Filter::Compare(Field::Builtin(Builtin::Shape), test) => {
            !event.message.is_empty() && names_shape(test, &template_of(&event.message)) != test.is_ne()
        }
        Filter::Compare(Field::Builtin(builtin), test) => {
            own_value(*builtin, event, lane).is_some_and(|v| test.value(&v) != test.is_ne())
        }
        Filter::Compare(Field::Sent(name), test) => {
            let values = sent_values(event, name);
            if test.is_ne() {
                !values.is_empty() && !values.iter().any(|v| test.value(v))
            } else {
                values.iter().any(|v| test.value(v))
            }
        }
    }
}

/// Whether a test names the shape of messages of this template, `!=` taken as `=`: by the shape's id, or by the id that it
/// had in version 1, which links and saved queries may still have.
pub fn names_shape(test: &Test, template: &str) -> bool {
    test.text(&shape::id_of_template(template)) || test.text(&shape::id_of_version_1(template))
}

fn template_of(message: &str) -> String {
    let mut template = String::with_capacity(message.len());
    crate::model::template::split(message, &mut template, |_| {});
    template
}

/// The value a builtin compares as; `None` where the event lacks it.
fn own_value(builtin: Builtin, event: &Event, lane: &str) -> Option<Value> {
    let text = |t: &str| (!t.is_empty()).then(|| Value::Text(t.to_owned()));
    match builtin {
        Builtin::Time => Some(Value::Int(event.time_ns)),
        Builtin::Arrived => Some(Value::Int(event.arrived_ns)),
        Builtin::Severity => Some(Value::Int(i64::from(event.severity.0))),
        Builtin::Service => text(&event.service),
        Builtin::Host => text(&event.host),
        Builtin::Message => text(&event.message),
        Builtin::Sender => text(&event.sender),
        Builtin::Lane => text(lane),
        Builtin::Kind => text(event.kind.name()),
        Builtin::Trace => event.trace.map(|id| Value::Text(to_hex(&id))),
        Builtin::Span => event.span.map(|id| Value::Text(to_hex(&id))),
        Builtin::Parent => event.parent.map(|id| Value::Text(to_hex(&id))),
        Builtin::Shape => (!event.message.is_empty()).then(|| Value::Text(shape::id_of(&event.message))),
        Builtin::Took => event.took_ns.map(Value::Int),
        Builtin::Transformed => {
            let rules: Vec<Value> =
                crate::model::rules_of(&event.transformed).map(|r| Value::Text(r.to_owned())).collect();
            (!rules.is_empty()).then_some(Value::List(rules))
        }
        Builtin::ErrorGroup => error_group_of(event).map(|group| Value::Text(group.id)),
        Builtin::Status => event.status.map(|s| Value::Text(s.name().to_owned())),
    }
}

/// The error group of an event, where it is a failure.
pub fn error_group_of(event: &Event) -> Option<ErrorGroup> {
    if !may_fail(event.severity) {
        return None;
    }
    let (error, stack) = (first_text(event, &TYPE_FIELDS), first_text(event, &STACK_FIELDS));
    group_of(event.kind, &event.service, error.as_deref(), stack.as_deref(), &event.message)
}

/// The text of the first of several fields that the event has; of several values of one field, the least.
fn first_text<'a>(event: &'a Event, names: &[&str]) -> Option<Cow<'a, str>> {
    names.iter().find_map(|name| {
        let texts = sent_values(event, &SentName::from(*name)).into_iter().filter_map(text_of);
        texts.min().filter(|text| !text.trim().is_empty())
    })
}

/// Whether a field lies at or below `name`.
pub fn at_or_below(dotted: &str, name: &str) -> bool {
    dotted.strip_prefix(name).is_some_and(|rest| rest.is_empty() || rest.starts_with('.'))
}

/// Every value that `name` finds below `value` at `path`, through lists of objects.
pub fn descend<'a>(path: &Path, value: &'a Value, name: &SentName) -> Vec<&'a Value> {
    if name.is(path) {
        return vec![value];
    }
    let dotted = path.dotted();
    match name.as_str().strip_prefix(&dotted).and_then(|rest| rest.strip_prefix('.')) {
        Some(rest) if matches!(value, Value::List(_)) => {
            let mut out = Vec::new();
            below(value, rest, &mut out);
            out
        }
        _ => Vec::new(),
    }
}

fn below<'a>(value: &'a Value, rest: &str, out: &mut Vec<&'a Value>) {
    match value {
        Value::List(list) => list.iter().for_each(|v| below(v, rest, out)),
        Value::Object(entries) => {
            for (name, inner) in entries {
                if name == rest {
                    out.push(inner);
                } else if let Some(deeper) = rest.strip_prefix(name.as_str()).and_then(|r| r.strip_prefix('.')) {
                    below(inner, deeper, out);
                }
            }
        }
        _ => {}
    }
}

fn sent_values<'a>(event: &'a Event, name: &SentName) -> Vec<&'a Value> {
    event.fields.iter().flat_map(|(path, value)| descend(path, value, name)).collect()
}

fn has_sent(event: &Event, name: &SentName) -> bool {
    event.fields.iter().any(|(path, value)| name.covers(&path.dotted()) || !descend(path, value, name).is_empty())
}

fn words_match(test: &WordsTest, event: &Event) -> bool {
    let in_text = |t: &str| contains_words(t, &test.words, test.prefix);
    in_text(&event.message)
        || in_text(&event.service)
        || in_text(&event.host)
        || id_matches(test, event)
        || event.fields.iter().any(|(_, v)| words_in_value(test, v))
}

fn id_matches(test: &WordsTest, event: &Event) -> bool {
    let is = |id: Option<&[u8]>| id.is_some_and(|id| hex_is(test, id));
    is(event.trace.as_ref().map(|i| i.as_slice()))
        || is(event.span.as_ref().map(|i| i.as_slice()))
        || is(event.parent.as_ref().map(|i| i.as_slice()))
}

/// Whether the one word of `test` is (or, as a prefix, begins) the hex of `id`.
pub fn hex_is(test: &WordsTest, id: &[u8]) -> bool {
    let [word] = test.words.as_slice() else { return false };
    let digits = id.iter().flat_map(|byte| [byte >> 4, byte & 15]);
    let fits = if test.prefix { word.len() <= id.len() * 2 } else { word.len() == id.len() * 2 };
    fits && word.bytes().zip(digits).all(|(letter, digit)| char::from(letter).to_digit(16) == Some(digit.into()))
}

/// Whether the words stand in a text, or the number is a number, anywhere in `value`.
pub fn words_in_value(test: &WordsTest, value: &Value) -> bool {
    let equal = |n: Num| test.number.and_then(|w| w.order(n)).is_some_and(|o| o.is_eq());
    match value {
        Value::Text(t) => contains_words(t, &test.words, test.prefix),
        Value::Int(n) => equal(Num::int(i128::from(*n))),
        Value::UInt(n) => equal(Num::int(i128::from(*n))),
        Value::Float(f) => equal(Num::float(*f)),
        Value::Decimal(t) => equal(Num::decimal(t)),
        Value::List(list) => list.iter().any(|v| words_in_value(test, v)),
        Value::Object(entries) => entries.iter().any(|(_, v)| words_in_value(test, v)),
        Value::Null | Value::Bool(_) | Value::Bytes(_) => false,
    }
}
