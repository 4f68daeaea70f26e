//! A JSON text as a [`Value`], and numbers back as text.

use super::Value;
use crate::json::{JsonError, MAX_DEPTH, Next, Reader, Scalar};
use std::collections::HashMap;

/// Reads one value that is the whole of `text`.
///
/// # Errors
/// Where the text is no JSON, or nests deeper than [`MAX_DEPTH`].
pub fn parse_value(text: &str) -> Result<Value, JsonError> {
    let mut reader = Reader::new(text);
    let next = reader.value()?;
    let value = reader.tree(next, 0)?;
    reader.end()?;
    Ok(value)
}

/// The text of a number that only a [`Value::Decimal`] holds, for JSON output.
pub fn write_number(text: &str) -> Option<Box<serde_json::value::RawValue>> {
    serde_json::value::RawValue::from_string(text.to_owned()).ok()
}

impl Reader<'_> {
    /// The rest of a value that begins with `next`.
    ///
    /// # Errors
    /// As [`parse_value`].
    pub fn tree(&mut self, next: Next, depth: usize) -> Result<Value, JsonError> {
        if depth > MAX_DEPTH {
            return self.error("nested too deeply");
        }
        Ok(match next {
            Next::Scalar(scalar) => scalar.into_value(),
            Next::List => {
                let mut list = Vec::new();
                while self.item(list.is_empty())? {
                    let next = self.value()?;
                    list.push(self.tree(next, depth + 1)?);
                }
                Value::List(list)
            }
            Next::Object => {
                let mut object = ObjectBuilder::default();
                let mut first = true;
                while let Some(name) = self.name(first)? {
                    first = false;
                    let next = self.value()?;
                    let value = self.tree(next, depth + 1)?;
                    object.set(name.into_owned(), value);
                }
                Value::Object(object.entries)
            }
        })
    }
}

impl Scalar<'_> {
    /// As an owned value.
    pub fn into_value(self) -> Value {
        match self {
            Scalar::Null => Value::Null,
            Scalar::Bool(b) => Value::Bool(b),
            Scalar::Int(n) => Value::Int(n),
            Scalar::UInt(n) => Value::UInt(n),
            Scalar::Float(f) => Value::Float(f),
            Scalar::Decimal(t) => Value::Decimal(t.into_owned()),
            Scalar::Text(t) => Value::Text(t.into_owned()),
        }
    }
}

/// Entries of an object; the last of two equal names wins.
#[derive(Default)]
struct ObjectBuilder {
    entries: Vec<(String, Value)>,
    /// A linear look for an earlier equal name is quadratic; an object with many names pays by hash.
    index: HashMap<String, usize>,
}

impl ObjectBuilder {
    const LINEAR: usize = 64;

    fn set(&mut self, name: String, value: Value) {
        if self.entries.len() < Self::LINEAR {
            return Value::set(&mut self.entries, name, value);
        }
        if self.index.is_empty() {
            self.index = self.entries.iter().enumerate().map(|(i, (k, _))| (k.clone(), i)).collect();
        }
        match self.index.get(&name) {
            Some(at) => self.entries.get_mut(*at).map_or((), |entry| entry.1 = value),
            None => {
                self.index.insert(name.clone(), self.entries.len());
                self.entries.push((name, value));
            }
        }
    }
}
