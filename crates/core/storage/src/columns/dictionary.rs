//! Distinct values under small codes, and the table that finds the code of a value while a page is built.

use super::noted::Noted;
use hashbrown::HashTable;
use std::ops::Range;
use std::sync::Arc;
use xxhash_rust::xxh3::xxh3_64;

/// Values one behind another: text, or any bytes.
pub trait Joined: Clone + Default + PartialEq + std::fmt::Debug {
    /// One value.
    type Item: ?Sized;
    /// The value within `span`; empty where it lies outside.
    fn item(&self, span: Range<usize>) -> &Self::Item;
    /// Appends a value.
    fn append(&mut self, item: &Self::Item);
    /// The bytes of a value.
    fn bytes_of(item: &Self::Item) -> &[u8];
    /// All bytes.
    fn bytes(&self) -> &[u8];
}

impl Joined for String {
    type Item = str;
    fn item(&self, span: Range<usize>) -> &str {
        self.get(span).unwrap_or("")
    }
    fn append(&mut self, item: &str) {
        self.push_str(item);
    }
    fn bytes_of(item: &str) -> &[u8] {
        item.as_bytes()
    }
    fn bytes(&self) -> &[u8] {
        self.as_bytes()
    }
}

impl Joined for Vec<u8> {
    type Item = [u8];
    fn item(&self, span: Range<usize>) -> &[u8] {
        self.get(span).unwrap_or(&[])
    }
    fn append(&mut self, item: &[u8]) {
        self.extend_from_slice(item);
    }
    fn bytes_of(item: &[u8]) -> &[u8] {
        item
    }
    fn bytes(&self) -> &[u8] {
        self
    }
}

/// Distinct values by code. The first codes may be those of a dictionary that several pages share.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Dictionary<T> {
    /// Values of the codes below its length.
    pub shared: Option<Arc<Dictionary<T>>>,
    /// All other values joined.
    pub joined: T,
    /// The end of each in `joined`.
    pub ends: Vec<u32>,
    /// What was found out about its values.
    pub noted: Noted,
}

/// Distinct texts.
pub type Texts = Dictionary<String>;
/// Distinct byte strings.
pub type Blobs = Dictionary<Vec<u8>>;

impl<T: Joined> Dictionary<T> {
    /// How many values are shared with other pages.
    pub fn shared_len(&self) -> usize {
        self.shared.as_ref().map_or(0, |s| s.len())
    }

    /// How many values.
    pub fn len(&self) -> usize {
        self.shared_len() + self.ends.len()
    }

    /// Whether it holds none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Where the value of a code stands in `joined`, of those not shared.
    #[inline]
    fn span(&self, local: usize) -> Range<usize> {
        let end = |n: usize| self.ends.get(n).copied().unwrap_or(0) as usize;
        (if local == 0 { 0 } else { end(local - 1) })..end(local)
    }

    /// The value of a code.
    pub fn get(&self, code: usize) -> &T::Item {
        let Some(local) = code.checked_sub(self.shared_len()) else {
            return self.shared.as_ref().map_or_else(|| self.joined.item(0..0), |s| s.get(code));
        };
        self.joined.item(self.span(local))
    }

    /// Adds a value without looking whether it is there; its code.
    pub fn push(&mut self, item: &T::Item) -> u32 {
        self.joined.append(item);
        self.ends.push(self.joined.bytes().len() as u32);
        (self.len() - 1) as u32
    }

    /// Every value, by code.
    pub fn iter(&self) -> impl Iterator<Item = &T::Item> {
        (0..self.len()).map(|code| self.get(code))
    }

    /// A rough size in memory; what is shared is not counted.
    pub fn weight_bytes(&self) -> usize {
        self.joined.bytes().len() + self.ends.len() * 4
    }
}

/// A dictionary being built.
#[derive(Debug, Default, Clone)]
pub struct Interner<T> {
    /// What was interned, by code.
    pub dictionary: Dictionary<T>,
    /// Half of each value's hash beside its code, so that neither growing nor most misses look at the values.
    table: HashTable<(u32, u32)>,
    last: u32,
}

/// The hash of the table: its upper bits matter as much as its lower ones.
fn spread(half: u32) -> u64 {
    u64::from(half).wrapping_mul(0x9e37_79b9_7f4a_7c15)
}

impl<T: Joined> Interner<T> {
    /// The code of `item`, given now if it is new.
    pub fn code(&mut self, item: &T::Item) -> u32 {
        let bytes = T::bytes_of(item);
        let dictionary = &self.dictionary;
        // What is interned is shared with nothing yet, and is compared as bytes.
        let is = |code: u32| dictionary.joined.bytes().get(dictionary.span(code as usize)) == Some(bytes);
        // Neighbouring events often agree.
        if !dictionary.ends.is_empty() && is(self.last) {
            return self.last;
        }
        let half = xxh3_64(bytes) as u32;
        let same = |(h, code): &(u32, u32)| *h == half && is(*code);
        if let Some((_, code)) = self.table.find(spread(half), same) {
            self.last = *code;
            return *code;
        }
        let code = self.dictionary.push(item);
        self.table.insert_unique(spread(half), (half, code), |(half, _)| spread(*half));
        self.last = code;
        code
    }

    /// How many distinct values so far.
    pub fn len(&self) -> usize {
        self.dictionary.len()
    }

    /// Whether nothing was interned yet.
    pub fn is_empty(&self) -> bool {
        self.dictionary.is_empty()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn codes_are_stable_and_shared_values_come_first() {
        let mut interner = Interner::<String>::default();
        let codes: Vec<u32> = ["a", "b", "a", "", "b"].into_iter().map(|t| interner.code(t)).collect();
        assert_eq!(codes, [0, 1, 0, 2, 1]);
        let mut local = Texts { shared: Some(Arc::new(interner.dictionary)), ..Texts::default() };
        assert_eq!(local.push("c"), 3);
        assert_eq!((0..5).map(|c| local.get(c)).collect::<Vec<_>>(), ["a", "b", "", "c", ""]);
    }
}
