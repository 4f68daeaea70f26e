//! How often whole numbers stand in events: each with its count in one table, where other values take a number and a text
//! beside.

use super::ValueRef;
use hashbrown::HashTable;

/// Whole numbers of 64 bits with their counts.
#[derive(Debug, Default)]
pub(super) struct WholeCounts {
    table: HashTable<(i64, u64)>,
}

/// The hash of a whole number, as that of any value.
pub(super) fn hash_of_whole(n: i64) -> u64 {
    ValueRef::Whole(i128::from(n)).hash64()
}

impl WholeCounts {
    /// How many numbers.
    pub fn len(&self) -> usize {
        self.table.len()
    }

    /// Adds to the count of a number with this hash. False where it is new and `grows` is false: it is not counted then.
    pub fn add(&mut self, n: i64, hash: u64, count: u64, grows: bool) -> bool {
        if let Some((_, known)) = self.table.find_mut(hash, |(known, _)| *known == n) {
            *known += count;
            return true;
        }
        if grows {
            self.table.insert_unique(hash, (n, count), |(n, _)| hash_of_whole(*n));
        }
        grows
    }

    /// Each number with its count, in no order.
    pub fn iter(&self) -> impl Iterator<Item = (i64, u64)> {
        self.table.iter().copied()
    }

    /// A rough size in memory.
    pub fn weight_bytes(&self) -> usize {
        self.table.capacity() * (size_of::<(i64, u64)>() + 2)
    }
}
