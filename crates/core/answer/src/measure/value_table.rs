//! Distinct values under small numbers, each in some thirty bytes and its text.

use super::{GroupValue, ValueRef};
use hashbrown::HashTable;

/// Parts of values, a power of two: where values are very many, they are kept in parts by bits of their hashes, so that one
/// is looked up in a small table.
pub(super) const PARTS: usize = 64;
/// The bits begin here: above those of shares, below the seven that a hash table compares first.
const PART_BIT: u32 = 40;

/// The part of a value with this hash.
pub(super) fn part_of(hash: u64) -> usize {
    (hash >> PART_BIT) as usize % PARTS
}

/// Values by their numbers, and numbers by their values.
#[derive(Debug, Default)]
pub(crate) struct ValueTable {
    /// Numbers of `entries`, by hash.
    table: HashTable<u32>,
    entries: Vec<Entry>,
    /// The texts of the entries, one behind another.
    texts: String,
}

#[derive(Debug)]
struct Entry {
    hash: u64,
    key: Key,
}

/// A value in few bytes.
#[derive(Debug)]
pub(super) enum Key {
    Missing,
    Whole(i64),
    /// The bits of a double.
    Float(u64),
    /// From and length within the texts.
    Text(u32, u32),
    /// The same of a shape's template.
    Shape(u32, u32),
    /// What is rare: null, true and false, whole numbers beyond 64 bits, and texts behind the first four GiB.
    Other(Box<GroupValue>),
}

impl Key {
    /// Of a value; a text is added to `texts`.
    pub fn of(value: ValueRef, texts: &mut String) -> Key {
        let mut added = |text: &str| {
            let from = u32::try_from(texts.len()).ok()?;
            let length = u32::try_from(text.len()).ok()?;
            from.checked_add(length)?;
            texts.push_str(text);
            Some((from, length))
        };
        let key = match value {
            ValueRef::Missing => Some(Key::Missing),
            ValueRef::Whole(n) => i64::try_from(n).ok().map(Key::Whole),
            ValueRef::Float(bits) => Some(Key::Float(bits)),
            ValueRef::Text(text) => added(text).map(|(from, length)| Key::Text(from, length)),
            ValueRef::Shape(text) => added(text).map(|(from, length)| Key::Shape(from, length)),
            ValueRef::Null | ValueRef::Bool(_) => None,
        };
        key.unwrap_or_else(|| Key::Other(Box::new(value.to_value())))
    }

    /// The value; its text stands in `texts`.
    pub fn value<'a>(&'a self, texts: &'a str) -> ValueRef<'a> {
        let text = |from: u32, length: u32| texts.get(from as usize..from as usize + length as usize).unwrap_or("");
        match self {
            Key::Missing => ValueRef::Missing,
            Key::Whole(n) => ValueRef::Whole(i128::from(*n)),
            Key::Float(bits) => ValueRef::Float(*bits),
            Key::Text(from, length) => ValueRef::Text(text(*from, *length)),
            Key::Shape(from, length) => ValueRef::Shape(text(*from, *length)),
            Key::Other(value) => value.as_ref().as_ref(),
        }
    }
}

impl ValueTable {
    /// How many values.
    pub fn len(&self) -> usize {
        self.entries.len()
    }

    /// The value of a number.
    pub fn value(&self, number: u32) -> ValueRef<'_> {
        self.entries.get(number as usize).map_or(ValueRef::Missing, |e| e.key.value(&self.texts))
    }

    /// The hash of a number's value.
    pub fn hash(&self, number: u32) -> u64 {
        self.entries.get(number as usize).map_or(0, |e| e.hash)
    }

    /// Each number with its value.
    pub fn iter(&self) -> impl Iterator<Item = (u32, ValueRef<'_>)> {
        self.entries.iter().zip(0..).map(|(e, number)| (number, e.key.value(&self.texts)))
    }

    /// The number of a value with this hash, given now if it is new; nothing where it is and `grows` is false.
    pub fn number(&mut self, value: ValueRef, hash: u64, grows: bool) -> Option<u32> {
        let (entries, texts) = (&mut self.entries, &mut self.texts);
        let is = |at: &u32| entries.get(*at as usize).is_some_and(|e| e.hash == hash && e.key.value(texts) == value);
        if let Some(number) = self.table.find(hash, is) {
            return Some(*number);
        }
        let number = u32::try_from(entries.len()).ok().filter(|_| grows)?;
        let key = Key::of(value, texts);
        entries.push(Entry { hash, key });
        self.table.insert_unique(hash, number, |at| entries.get(*at as usize).map_or(0, |e| e.hash));
        Some(number)
    }

    /// A rough size in memory.
    pub fn weight_bytes(&self) -> usize {
        self.entries.capacity() * size_of::<Entry>() + self.table.capacity() * 5 + self.texts.capacity()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Texts stand where they are counted, whatever they are texts of: what outsiders write takes no memory beside.
    #[test]
    fn values_come_back_and_texts_are_counted() {
        let values = [
            GroupValue::Missing,
            GroupValue::Null,
            GroupValue::Bool(true),
            GroupValue::Whole(-7),
            GroupValue::Whole(i128::from(u64::MAX)),
            GroupValue::Float(0.5f64.to_bits()),
            GroupValue::Text("slots".repeat(1000)),
            GroupValue::Shape("lease ran out".repeat(1000)),
        ];
        let mut table = ValueTable::default();
        for (number, value) in (0..).zip(&values) {
            assert_eq!(table.number(value.as_ref(), value.hash64(), false), None);
            assert_eq!(table.number(value.as_ref(), value.hash64(), true), Some(number));
            assert_eq!(table.number(value.as_ref(), value.hash64(), false), Some(number));
        }
        assert_eq!(table.len(), values.len());
        assert!(table.iter().zip(&values).all(|((_, found), value)| found == value.as_ref()));
        assert!(table.weight_bytes() > values.iter().map(GroupValue::text_bytes).sum());
    }
}
