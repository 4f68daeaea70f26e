//! Distinct values under small numbers, each in some thirty bytes and its text.

use super::{GroupValue, ValueRef};
use hashbrown::HashTable;

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
    Whole(i64),
    /// From and length within the texts.
    Text(u32, u32),
    Other(Box<GroupValue>),
}

impl Key {
    /// Of a value; a text is added to `texts`.
    pub fn of(value: ValueRef, texts: &mut String) -> Key {
        match value {
            ValueRef::Whole(n) => {
                i64::try_from(n).map_or_else(|_| Key::Other(Box::new(GroupValue::Whole(n))), Key::Whole)
            }
            ValueRef::Text(text) if texts.len() + text.len() <= u32::MAX as usize => {
                texts.push_str(text);
                Key::Text((texts.len() - text.len()) as u32, text.len() as u32)
            }
            value => Key::Other(Box::new(value.to_value())),
        }
    }

    /// The value; its text stands in `texts`.
    pub fn value<'a>(&'a self, texts: &'a str) -> ValueRef<'a> {
        match self {
            Key::Whole(n) => ValueRef::Whole(i128::from(*n)),
            Key::Text(from, length) => {
                let from = *from as usize;
                ValueRef::Text(texts.get(from..from + *length as usize).unwrap_or(""))
            }
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
