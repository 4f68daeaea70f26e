//! What goes into a page's bloom, and under which hash. Stable for ever: part of the format.
//!
//! | domain | what | of |
//! | --- | --- | --- |
//! | 1 | each word, folded | messages, text fields, service, host, sender |
//! | 4 | each number, by the bits of its double | number fields |
//! | 5 | each id | trace, span, parent |
//! | 6 | each whole text | service, host, sender |
//! | 7 | each whole text of short words (see [`short_worded`]) | text fields |
//! | 8 | the first four letters of each word that begins with as many (see [`start_of`]) | as 1 |
//!
//! A text field with an exact value is found by the words of that value. Only where all of these are so short that they
//! are likely to be common, such as those of `SL-3` or `10.0.3.17`, the value has a key of its own. Integers that fill a
//! good part of the span between the least and the largest of their page are known by that span nearly as well as by a
//! bloom, so they stand in the bloom of the whole chunk only (see [`dense_numbers`]).
#![cfg_attr(
    not(test),
    expect(clippy::indexing_slicing, reason = "writes what this process built: numbers that it gave out itself")
)]

use crate::columns::{BuiltinColumn, Column, ColumnKey, FieldType, Values, overflow_fields};
use calvex_language::error::Result;
use calvex_language::model::{Value, decode_value};
use calvex_language::query::{Num, words_of};
use std::collections::HashSet;
use std::hash::{BuildHasherDefault, Hasher};
use xxhash_rust::xxh3::xxh3_64_with_seed;

/// Keys are hashes already; hashing them once more would only cost time.
pub type KeySet = HashSet<u64, BuildHasherDefault<IdentityHasher>>;

/// Takes a `u64` for its own hash.
#[derive(Default)]
pub struct IdentityHasher(u64);

impl Hasher for IdentityHasher {
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

/// A word (folded) of the message or of any text value.
pub fn word(folded: &str) -> u64 {
    xxh3_64_with_seed(folded.as_bytes(), 1)
}

/// Any sent field with this number.
pub fn number(n: Num) -> u64 {
    xxh3_64_with_seed(&n.key_bits().to_le_bytes(), 4)
}

/// A trace, span or parent id.
pub fn id(bytes: &[u8]) -> u64 {
    xxh3_64_with_seed(bytes, 5)
}

/// An own text segment with exactly this text.
pub fn own_text(own: BuiltinColumn, text: &str) -> u64 {
    xxh3_64_with_seed(text.as_bytes(), 6 | (own as u64) << 8)
}

/// A sent field with exactly this text, which is [`short_worded`].
pub fn short_text(text: &str) -> u64 {
    xxh3_64_with_seed(text.as_bytes(), 7)
}

/// Whether the words of a text say little of it: two at least, and none longer than three bytes.
pub fn short_worded(text: &str) -> bool {
    text.len() <= SHORT_WORDED && words_of(text).nth(1).is_some() && words_of(text).all(|word| word.len() <= 3)
}

/// A word (folded) that begins with these letters.
pub fn start(letters: &str) -> u64 {
    xxh3_64_with_seed(letters.as_bytes(), 8)
}

/// The first four characters of a folded word, where all of them are letters. Words of a text have few such starts, and
/// nearly all numbers and ids have none.
pub fn start_of(folded: &str) -> Option<&str> {
    let fourth = folded.char_indices().take_while(|(_, c)| c.is_alphabetic()).nth(3);
    fourth.map(|(at, c)| &folded[..at + c.len_utf8()])
}

/// Longer texts, in bytes, have many words, which together say enough.
const SHORT_WORDED: usize = 24;

/// The distinct numbers of a column of integers that fill a quarter at least of the span from the least to the largest.
pub fn dense_numbers(key: &ColumnKey, column: &Column) -> Option<Vec<i64>> {
    let (ColumnKey::Field(_, FieldType::Int), Values::Ints(numbers)) = (key, &column.values) else { return None };
    let (least, largest) = (*numbers.iter().min()?, *numbers.iter().max()?);
    // The zone that stands in for the bloom holds doubles.
    let exact = -EXACT_IN_DOUBLE..=EXACT_IN_DOUBLE;
    if !exact.contains(&least) || !exact.contains(&largest) {
        return None;
    }
    let span = usize::try_from(largest - least).ok()?.checked_add(1)?;
    if span > numbers.len().saturating_mul(DENSE) {
        return None;
    }
    let mut met = vec![false; span];
    numbers.iter().filter_map(|n| usize::try_from(n - least).ok()).for_each(|at| met[at] = true);
    let distinct: Vec<i64> = (least..=largest).zip(met).filter(|(_, met)| *met).map(|(n, _)| n).collect();
    (distinct.len() * DENSE >= span).then_some(distinct)
}

/// One in so many numbers of the span must be there.
const DENSE: usize = 4;
/// Integers up to this are doubles exactly.
const EXACT_IN_DOUBLE: i64 = 1 << 53;

/// Adds every key of a column.
///
/// # Errors
/// Where the column does not decode.
pub fn collect(key: &ColumnKey, column: &Column, keys: &mut KeySet) -> Result<()> {
    match (key, &column.values) {
        (_, Values::Messages(m)) => {
            // Templates that several pages share are in the dictionary, used here or not.
            let mut used = vec![false; m.templates.len()];
            m.codes.iter().for_each(|c| used[*c as usize] = true);
            used.iter().enumerate().filter(|(_, used)| **used).for_each(|(c, _)| add_words(m.templates.get(c), keys));
            let variables = m.variables()?;
            (0..m.codes.len()).flat_map(|value_index| variables.of(value_index)).for_each(|v| add_words(v, keys));
        }
        (
            ColumnKey::Builtin(own @ (BuiltinColumn::Service | BuiltinColumn::Host | BuiltinColumn::Sender)),
            Values::Texts { dictionary, .. },
        ) => {
            for text in dictionary.iter() {
                keys.insert(own_text(*own, text));
                add_words(text, keys);
            }
        }
        (
            ColumnKey::Builtin(BuiltinColumn::Trace | BuiltinColumn::Span | BuiltinColumn::Parent),
            Values::Blobs { dictionary, .. },
        ) => {
            keys.extend(dictionary.iter().map(id));
        }
        (ColumnKey::Builtin(BuiltinColumn::Overflow), values) => {
            for value_index in 0..values.len().unwrap_or(0) {
                overflow_fields(values, value_index)?.iter().for_each(|(_, value)| add_value(value, keys));
            }
        }
        (ColumnKey::Builtin(_), _) => {}
        (ColumnKey::Field(_, kind), values) => collect_field(*kind, values, keys),
    }
    Ok(())
}

fn collect_field(kind: FieldType, values: &Values, keys: &mut KeySet) {
    match (values, kind) {
        (Values::Texts { dictionary, .. }, FieldType::Decimal) => {
            keys.extend(dictionary.iter().map(|t| number(Num::decimal(t))));
        }
        (Values::Texts { dictionary, .. }, _) => dictionary.iter().for_each(|t| add_text(t, keys)),
        (Values::Ints(v), FieldType::UInt) => keys.extend(v.iter().map(|n| number(Num::int(i128::from(*n as u64))))),
        (Values::Ints(v), _) => keys.extend(v.iter().map(|n| number(Num::int(i128::from(*n))))),
        (Values::Floats(v), _) => keys.extend(v.iter().map(|f| number(Num::float(*f)))),
        (Values::Blobs { dictionary, .. }, _) => {
            dictionary.iter().filter_map(decode_value).for_each(|value| add_value(&value, keys));
        }
        _ => {}
    }
}

fn add_words(text: &str, keys: &mut KeySet) {
    for found in words_of(text) {
        let folded = calvex_language::query::fold(found);
        keys.insert(word(&folded));
        keys.extend(start_of(&folded).map(start));
    }
}

/// A text of a field.
fn add_text(text: &str, keys: &mut KeySet) {
    add_words(text, keys);
    if short_worded(text) {
        keys.insert(short_text(text));
    }
}

fn add_value(value: &Value, keys: &mut KeySet) {
    let mut add = |n: Num| keys.insert(number(n));
    match value {
        Value::Int(n) => drop(add(Num::int(i128::from(*n)))),
        Value::UInt(n) => drop(add(Num::int(i128::from(*n)))),
        Value::Float(f) => drop(add(Num::float(*f))),
        Value::Decimal(t) => drop(add(Num::decimal(t))),
        Value::Text(t) => add_text(t, keys),
        Value::List(list) => list.iter().for_each(|v| add_value(v, keys)),
        Value::Object(entries) => entries.iter().for_each(|(_, v)| add_value(v, keys)),
        Value::Null | Value::Bool(_) | Value::Bytes(_) => {}
    }
}
