//! The entries of an object that becomes fields: no two of one name, and the protocol's own apart from attributes.

use calvex_language::model::Value;
use opentelemetry_proto::tonic::common::v1::any_value::Value as Any;
use opentelemetry_proto::tonic::common::v1::{AnyValue, KeyValue};
use std::collections::HashMap;

/// Where attributes stand that have the name of a part of the protocol.
const ATTRIBUTES: &str = "attributes";
/// As many entries are looked through one by one; more are looked up, so that their number makes none slow.
const FEW: usize = 24;

/// Entries in the order they came first; of two of one name the last value is kept.
#[derive(Default)]
pub(super) struct Entries {
    list: Vec<(String, Value)>,
    /// The place of each name, once there are many.
    places: HashMap<String, usize>,
}

impl Entries {
    fn place(&mut self, name: &str) -> Option<usize> {
        if self.list.len() <= FEW {
            return self.list.iter().position(|(n, _)| n == name);
        }
        if self.places.is_empty() {
            self.places = self.list.iter().enumerate().map(|(at, (name, _))| (name.clone(), at)).collect();
        }
        self.places.get(name).copied()
    }

    /// Sets an entry.
    pub(super) fn set(&mut self, name: String, value: Value) {
        match self.place(&name).and_then(|at| self.list.get_mut(at)) {
            Some(entry) => entry.1 = value,
            None => {
                if !self.places.is_empty() {
                    self.places.insert(name.clone(), self.list.len());
                }
                self.list.push((name, value));
            }
        }
    }

    /// Sets a text, where there is one.
    pub(super) fn text(&mut self, name: &str, text: String) {
        if !text.is_empty() {
            self.set(name.to_owned(), Value::Text(text));
        }
    }

    /// Sets a count, where it is one.
    pub(super) fn count(&mut self, name: &str, count: u32) {
        if count > 0 {
            self.set(name.to_owned(), Value::Int(i64::from(count)));
        }
    }

    pub(super) fn get(&self, name: &str) -> Option<&Value> {
        self.list.iter().find(|(n, _)| n == name).map(|(_, value)| value)
    }

    /// Takes an entry out.
    pub(super) fn remove(&mut self, name: &str) -> Option<Value> {
        let at = self.list.iter().position(|(n, _)| n == name)?;
        self.places.clear();
        Some(self.list.remove(at).1)
    }

    /// Sets all of `other`.
    pub(super) fn extend(&mut self, other: Entries) {
        other.list.into_iter().for_each(|(name, value)| self.set(name, value));
    }

    /// All of them as one entry; none where there are none.
    pub(super) fn under(self, name: &str) -> Option<(String, Value)> {
        (!self.list.is_empty()).then(|| (name.to_owned(), Value::Object(self.list)))
    }

    /// All of them.
    pub(super) fn into_list(self) -> Vec<(String, Value)> {
        self.list
    }
}

/// Attributes as entries; those that have one of the `own` names of the protocol stand below `attributes`.
pub(super) fn placed(attributes: Vec<KeyValue>, own: &[&str]) -> Entries {
    let (mut entries, mut apart) = (Entries::default(), Entries::default());
    for KeyValue { key, value, .. } in attributes {
        let is_own = key == ATTRIBUTES || own.contains(&key.as_str());
        let among = if is_own { &mut apart } else { &mut entries };
        among.set(key, value_of(value));
    }
    if let Some((name, apart)) = apart.under(ATTRIBUTES) {
        entries.set(name, apart);
    }
    entries
}

/// The value of an attribute or body.
pub(super) fn value_of(value: Option<AnyValue>) -> Value {
    match value.and_then(|v| v.value) {
        Some(Any::StringValue(t)) => Value::Text(t),
        Some(Any::BoolValue(b)) => Value::Bool(b),
        Some(Any::IntValue(n)) => Value::Int(n),
        Some(Any::DoubleValue(f)) => Value::Float(f),
        Some(Any::BytesValue(b)) => Value::Bytes(b),
        Some(Any::ArrayValue(list)) => Value::List(list.values.into_iter().map(|v| value_of(Some(v))).collect()),
        Some(Any::KvlistValue(list)) => {
            let mut entries = Entries::default();
            list.values.into_iter().for_each(|KeyValue { key, value, .. }| entries.set(key, value_of(value)));
            Value::Object(entries.into_list())
        }
        _ => Value::Null,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn attribute(key: &str, n: i64) -> KeyValue {
        KeyValue { key: key.to_owned(), value: Some(AnyValue { value: Some(Any::IntValue(n)) }), ..KeyValue::default() }
    }

    #[test]
    fn attributes_reach_no_part_of_the_protocol() {
        let sent = [("door", 1), ("span", 2), ("attributes", 3), ("door", 4)].map(|(key, n)| attribute(key, n));
        let reported = serde_json::to_string(&Value::Object(placed(sent.into(), &["span"]).into_list())).unwrap();
        assert_eq!(reported, r#"{"door":4,"attributes":{"span":2,"attributes":3}}"#);
    }

    proptest! {
        /// Few names or many, the last value of each is kept at the place of the first.
        #[test]
        fn as_a_list_without_an_index(keys in prop::collection::vec(0..60u8, 0..200)) {
            let sent = keys.iter().zip(0..).map(|(key, n)| attribute(&format!("k{key}"), n)).collect();
            let mut plain: Vec<(String, Value)> = Vec::new();
            keys.iter().zip(0..).for_each(|(key, n)| Value::set(&mut plain, format!("k{key}"), Value::Int(n)));
            prop_assert_eq!(placed(sent, &[]).into_list(), plain);
        }
    }
}
