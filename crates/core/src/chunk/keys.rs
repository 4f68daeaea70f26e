//! What goes into a chunk's membership filter, and under which hash. Stable for ever: part of the format.

use crate::columns::{Column, ColumnKey, FieldType, Own, PageRead, Values};
use crate::error::Result;
use crate::event::{Value, decode_value};
use crate::query::{Num, words_of};
use std::collections::HashSet;
use std::hash::{BuildHasherDefault, Hasher};
use xxhash_rust::xxh3::Xxh3;

/// Keys are hashes already; hashing them once more would only cost time.
pub type KeySet = HashSet<u64, BuildHasherDefault<AsIs>>;

/// Takes a `u64` for its own hash.
#[derive(Default)]
pub struct AsIs(u64);

impl Hasher for AsIs {
    fn finish(&self) -> u64 {
        self.0
    }
    fn write(&mut self, bytes: &[u8]) {
        self.0 = bytes.iter().fold(self.0, |n, b| n << 8 | u64::from(*b));
    }
    fn write_u64(&mut self, n: u64) {
        self.0 = n;
    }
}

fn hash(domain: u8, parts: &[&[u8]]) -> u64 {
    let mut h = Xxh3::new();
    h.update(&[domain]);
    for part in parts {
        h.update(&(part.len() as u32).to_le_bytes());
        h.update(part);
    }
    h.digest()
}

/// A word (folded) of the message or of any text value.
pub fn word(folded: &str) -> u64 {
    hash(1, &[folded.as_bytes()])
}

/// A sent field with exactly this text.
pub fn text_value(dotted: &str, text: &str) -> u64 {
    hash(2, &[dotted.as_bytes(), text.as_bytes()])
}

/// A sent field with this number.
pub fn number_value(dotted: &str, n: Num) -> u64 {
    hash(3, &[dotted.as_bytes(), &n.key_bits().to_le_bytes()])
}

/// Any sent field with this number.
pub fn number(n: Num) -> u64 {
    hash(4, &[&n.key_bits().to_le_bytes()])
}

/// A trace, span or parent id.
pub fn id(bytes: &[u8]) -> u64 {
    hash(5, &[bytes])
}

/// An own text part with exactly this text.
pub fn own_text(own: Own, text: &str) -> u64 {
    hash(6, &[&[own as u8], text.as_bytes()])
}

/// Adds every key of a page.
///
/// # Errors
/// Where a column cannot be read.
pub fn collect(page: &dyn PageRead, keys: &mut KeySet) -> Result<()> {
    for (index, key) in page.keys().iter().enumerate() {
        let Some(column) = page.column(index)? else { continue };
        match key {
            ColumnKey::Own(own) => collect_own(*own, &column, keys),
            ColumnKey::Field(path, kind) => collect_field(&path.dotted(), *kind, &column, keys),
        }
    }
    Ok(())
}

fn collect_own(own: Own, column: &Column, keys: &mut KeySet) {
    match (own, &column.values) {
        (Own::Message, Values::Texts { dictionary, .. }) => {
            (0..dictionary.len()).for_each(|c| add_words(dictionary.text(c), keys));
        }
        (Own::Service | Own::Host | Own::Sender, Values::Texts { dictionary, .. }) => {
            for code in 0..dictionary.len() {
                keys.insert(own_text(own, dictionary.text(code)));
                add_words(dictionary.text(code), keys);
            }
        }
        (Own::Trace | Own::Span | Own::Parent, Values::Blobs { dictionary, .. }) => {
            keys.extend((0..dictionary.len()).map(|c| id(dictionary.bytes(c))));
        }
        _ => {}
    }
}

fn collect_field(dotted: &str, kind: FieldType, column: &Column, keys: &mut KeySet) {
    match (&column.values, kind) {
        (Values::Texts { dictionary, .. }, _) => {
            (0..dictionary.len()).for_each(|c| add_text(dotted, dictionary.text(c), keys));
        }
        (Values::Ints(v), FieldType::Int) => v.iter().for_each(|n| add_number(dotted, Num::int(i128::from(*n)), keys)),
        (Values::Ints(v), _) => v.iter().for_each(|n| add_number(dotted, Num::int(i128::from(*n as u64)), keys)),
        (Values::Floats(v), _) => v.iter().for_each(|f| add_number(dotted, Num::float(*f), keys)),
        (Values::Blobs { dictionary, .. }, _) => {
            for code in 0..dictionary.len() {
                if let Some(value) = decode_value(dictionary.bytes(code)) {
                    add_value(dotted, &value, keys);
                }
            }
        }
        _ => {}
    }
}

fn add_words(text: &str, keys: &mut KeySet) {
    keys.extend(words_of(text).map(|w| word(&crate::query::fold(w))));
}

fn add_text(dotted: &str, text: &str, keys: &mut KeySet) {
    keys.insert(text_value(dotted, text));
    add_words(text, keys);
}

fn add_number(dotted: &str, n: Num, keys: &mut KeySet) {
    keys.insert(number_value(dotted, n));
    keys.insert(number(n));
}

fn add_value(dotted: &str, value: &Value, keys: &mut KeySet) {
    match value {
        Value::Text(t) => add_text(dotted, t, keys),
        Value::Int(n) => add_number(dotted, Num::int(i128::from(*n)), keys),
        Value::UInt(n) => add_number(dotted, Num::int(i128::from(*n)), keys),
        Value::Float(f) => add_number(dotted, Num::float(*f), keys),
        Value::List(list) => list.iter().for_each(|v| add_value(dotted, v, keys)),
        Value::Object(entries) => entries.iter().for_each(|(name, v)| add_value(&format!("{dotted}.{name}"), v, keys)),
        Value::Null | Value::Bool(_) | Value::Bytes(_) => {}
    }
}
