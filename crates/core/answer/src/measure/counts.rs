//! How often each value of a field stands in events: the values of a share, each with its count. They are kept in parts, by
//! bits of their hashes. What is added to a part waits until there is much, and is looked up at once then, while the table of
//! the part is in the processor's cache (as in Manegold, Boncz, Kersten: "Optimizing main-memory join on modern hardware",
//! 2002); parts of several workers are joined side by side.

use super::ranked::keep_first;
use super::share::Share;
use super::value_table::{Key, PARTS, ValueTable, part_of};
use super::whole_counts::{WholeCounts, hash_of_whole};
use super::{GroupValue, ValueRef};
use std::cmp::Ordering;

/// Values of a part that wait, at most; fewer where there is little memory.
const MAX_WAITING: usize = 4096;
/// Values of a part for which there is room at first.
const FEW_WAITING: usize = 16;
/// Bytes of text for each value that waits, on average, before a part is looked up early.
const WAITING_TEXT: usize = 64;
/// Values that are added between two looks at how much memory is taken.
const LOOK_EVERY: usize = 4096;

/// Counts of the values of a share.
#[derive(Debug)]
pub(crate) struct ValueCounts {
    share: Share,
    /// Bytes that it may take.
    most: usize,
    /// Values of a part that wait, at most.
    waiting: usize,
    /// It takes too much, of the smallest share: values that are not known are not counted.
    full: bool,
    added: usize,
    parts: Vec<Part>,
}

/// Values of which some bits of the hash are equal, with their counts.
#[derive(Debug, Default)]
pub(crate) struct Part {
    /// Whole numbers of 64 bits.
    wholes: WholeCounts,
    waiting_wholes: Vec<WaitingWhole>,
    /// All other values.
    values: ValueTable,
    /// By the number of the value.
    counts: Vec<u64>,
    waiting: Vec<Waiting>,
    /// Of the values that wait.
    texts: String,
    /// Counts of values that were not known when there was no room for more.
    uncounted: u64,
}

/// A value that is not looked up yet.
#[derive(Debug)]
struct Waiting {
    hash: u64,
    key: Key,
    count: u64,
}

/// A whole number that is not looked up yet.
#[derive(Debug)]
struct WaitingWhole {
    hash: u64,
    n: i64,
    count: u64,
}

impl ValueCounts {
    /// Of the values of a share, or of a smaller one where they take more than `most` bytes.
    pub fn of(share: Share, most: usize) -> Self {
        let waiting = (most / (8 * PARTS * size_of::<Waiting>())).clamp(1, MAX_WAITING);
        let parts = (0..PARTS).map(|_| Part::default()).collect();
        ValueCounts { share, most, waiting, full: false, added: 0, parts }
    }

    /// The values that it counts.
    pub fn share(&self) -> Share {
        self.share
    }

    /// Adds `n` to the count of a value with this hash.
    pub fn add(&mut self, value: ValueRef, hash: u64, n: u64) {
        if !self.share.holds(hash) {
            return;
        }
        let (most, full) = (self.waiting, self.full);
        if let Some(part) = self.parts.get_mut(part_of(hash)) {
            let is_whole = if let ValueRef::Whole(n) = value { i64::try_from(n).ok() } else { None };
            let waits = match is_whole {
                Some(whole) => {
                    make_place(&mut part.waiting_wholes, most);
                    part.waiting_wholes.push(WaitingWhole { hash, n: whole, count: n });
                    part.waiting_wholes.len()
                }
                None => {
                    make_place(&mut part.waiting, most);
                    let key = Key::of(value, &mut part.texts);
                    part.waiting.push(Waiting { hash, key, count: n });
                    part.waiting.len()
                }
            };
            if waits >= most || part.texts.len() >= most * WAITING_TEXT {
                part.look_up(!full);
            }
        }
        self.added += 1;
        if self.added.is_multiple_of(LOOK_EVERY) {
            self.make_room();
        }
    }

    /// Keeps the values of a smaller share, where it takes more than it may.
    pub fn make_room(&mut self) {
        if self.weight_bytes() < self.most {
            return;
        }
        let grows = !self.full;
        for part in &mut self.parts {
            part.look_up(grows);
            (part.waiting_wholes, part.waiting, part.texts) = (Vec::new(), Vec::new(), String::new());
        }
        while self.weight_bytes() >= self.most
            && let Some(half) = self.share.half()
        {
            self.narrow(half);
        }
        self.full = self.weight_bytes() >= self.most;
    }

    /// Keeps the values of a smaller share.
    pub fn narrow(&mut self, share: Share) {
        if share != self.share {
            let grows = !self.full;
            for part in &mut self.parts {
                part.look_up(grows);
                let mut kept = Part { uncounted: part.uncounted, ..Part::default() };
                kept.take(part, share);
                *part = kept;
            }
            self.share = share;
        }
    }

    /// Its parts, each of values that no other has, in the order of their bits.
    pub fn into_parts(mut self) -> Vec<Part> {
        let grows = !self.full;
        self.parts.iter_mut().for_each(|part| part.look_up(grows));
        self.parts
    }

    /// A rough size in memory.
    pub fn weight_bytes(&self) -> usize {
        self.parts.iter().map(Part::weight_bytes).sum()
    }
}

impl Part {
    /// How many values.
    pub fn len(&self) -> usize {
        self.wholes.len() + self.counts.len()
    }

    /// Counts of values that there was no room for.
    pub fn uncounted(&self) -> u64 {
        self.uncounted
    }

    /// Each value with its count, in no order.
    fn iter(&self) -> impl Iterator<Item = (ValueRef<'_>, u64)> {
        let wholes = self.wholes.iter().map(|(n, count)| (ValueRef::Whole(i128::from(n)), count));
        wholes.chain(self.values.iter().map(|(_, value)| value).zip(self.counts.iter().copied()))
    }

    /// Counts what waits.
    fn look_up(&mut self, grows: bool) {
        let Part { wholes, waiting_wholes, values, counts, waiting, texts, uncounted } = self;
        for WaitingWhole { hash, n, count } in waiting_wholes.drain(..) {
            if !wholes.add(n, hash, count, grows) {
                *uncounted += count;
            }
        }
        for Waiting { hash, key, count } in waiting.drain(..) {
            match values.number(key.value(texts), hash, grows) {
                Some(number) => add_at(counts, number, count),
                None => *uncounted += count,
            }
        }
        texts.clear();
    }

    /// Adds the counts of another part of the same bits, of the values of a share.
    fn take(&mut self, other: &Part, share: Share) {
        for (n, count) in other.wholes.iter() {
            let hash = hash_of_whole(n);
            if share.holds(hash) {
                self.wholes.add(n, hash, count, true);
            }
        }
        for ((number, value), count) in other.values.iter().zip(&other.counts) {
            let hash = other.values.hash(number);
            if share.holds(hash)
                && let Some(number) = self.values.number(value, hash, true)
            {
                add_at(&mut self.counts, number, *count);
            }
        }
    }

    /// All of several workers' parts of the same bits and of one share.
    pub fn joined(parts: Vec<Part>) -> Part {
        let mut parts = parts.into_iter();
        let mut whole = parts.next().unwrap_or_default();
        for part in parts {
            whole.take(&part, Share::ALL);
            whole.uncounted += part.uncounted;
        }
        whole
    }

    /// The `n` most frequent values, each with its count, the largest first, equal counts in the order of values.
    pub fn top(&self, n: usize) -> Vec<(GroupValue, u64)> {
        let mut all: Vec<(ValueRef, u64)> = self.iter().collect();
        keep_first(&mut all, n, |a, b| b.1.cmp(&a.1), in_order);
        all.into_iter().map(|(value, count)| (value.to_value(), count)).collect()
    }

    /// The numbers among the values, each with its count.
    pub fn numbers(&self) -> impl Iterator<Item = (f64, u64)> {
        let number = |value: ValueRef| match value {
            ValueRef::Whole(n) => Some(n as f64),
            ValueRef::Float(bits) => Some(f64::from_bits(bits)),
            _ => None,
        };
        self.iter().filter_map(move |(value, count)| Some((number(value)?, count)))
    }

    fn weight_bytes(&self) -> usize {
        let waiting = self.waiting.capacity() * size_of::<Waiting>()
            + self.waiting_wholes.capacity() * size_of::<WaitingWhole>()
            + self.texts.capacity();
        self.wholes.weight_bytes() + self.values.weight_bytes() + self.counts.capacity() * 8 + waiting
    }
}

/// Makes a place for what waits.
fn make_place<T>(waiting: &mut Vec<T>, most: usize) {
    if waiting.len() == waiting.capacity() {
        // Once there are some, there will be many.
        let more = if waiting.is_empty() { FEW_WAITING.min(most) } else { most.saturating_sub(waiting.len()).max(1) };
        waiting.reserve_exact(more);
    }
}

fn add_at(counts: &mut Vec<u64>, number: u32, n: u64) {
    match counts.get_mut(number as usize) {
        Some(count) => *count += n,
        None => counts.push(n),
    }
}

/// The order of two values of parts: the more frequent first, equal counts in the order of values.
fn in_order<V: Ord>(a: &(V, u64), b: &(V, u64)) -> Ordering {
    b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0))
}

/// The `n` most frequent values of several parts, of which the most frequent of each are given.
pub(super) fn top_of(tops: impl IntoIterator<Item = (GroupValue, u64)>, n: usize) -> Vec<(GroupValue, u64)> {
    let mut all: Vec<(GroupValue, u64)> = tops.into_iter().collect();
    all.sort_unstable_by(in_order);
    all.truncate(n);
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeMap;

    fn any_value() -> impl Strategy<Value = GroupValue> {
        prop_oneof![
            Just(GroupValue::Null),
            any::<bool>().prop_map(GroupValue::Bool),
            (-3i128..3).prop_map(GroupValue::Whole),
            Just(GroupValue::Whole(i128::MAX)),
            (0u64..3).prop_map(|n| GroupValue::Float((n as f64 + 0.5).to_bits())),
            "[ab]{0,2}".prop_map(GroupValue::Text),
            "[ab]{0,1}".prop_map(GroupValue::Shape),
        ]
    }

    /// All of several workers' counts.
    fn joined(mut workers: Vec<ValueCounts>, share: Share) -> Vec<Part> {
        workers.iter_mut().for_each(|counts| counts.narrow(share));
        let mut of_workers: Vec<_> = workers.into_iter().map(|counts| counts.into_parts().into_iter()).collect();
        (0..PARTS).map(|_| Part::joined(of_workers.iter_mut().filter_map(Iterator::next).collect())).collect()
    }

    fn top_of_all(parts: &[Part], n: usize) -> Vec<(GroupValue, u64)> {
        top_of(parts.iter().flat_map(|part| part.top(n)), n)
    }

    proptest! {
        /// Counted share by share and in parts, each value has the count that a plain map has.
        #[test]
        fn as_a_plain_map_counts(
            values in prop::collection::vec(any_value(), 0..200),
            halves in 0u32..3,
            n in 0usize..9,
            most in prop_oneof![Just(1usize << 12), Just(1 << 20)],
        ) {
            let mut expected: BTreeMap<GroupValue, u64> = BTreeMap::new();
            values.iter().for_each(|v| *expected.entry(v.clone()).or_default() += 2);
            let mut taken = Share::ALL;
            (0..halves).for_each(|_| taken = taken.half().unwrap());
            let mut all = Vec::new();
            for share in std::iter::once(taken).chain(Share::ALL.rest(taken)) {
                let mut workers = vec![ValueCounts::of(Share::ALL, most), ValueCounts::of(share, most)];
                for (at, value) in values.iter().enumerate() {
                    workers[usize::from(at % 3 == 0)].add(value.as_ref(), value.hash64(), 2);
                }
                let parts = joined(workers, share);
                prop_assert!(parts.iter().all(|part| part.len() == part.top(usize::MAX).len()));
                prop_assert_eq!(parts.iter().map(Part::uncounted).sum::<u64>(), 0);
                all.extend(top_of_all(&parts, n));
            }
            all.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
            all.truncate(n);
            let mut expected: Vec<_> = expected.into_iter().collect();
            expected.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
            expected.truncate(n);
            prop_assert_eq!(all, expected);
        }
    }

    #[test]
    fn what_takes_too_much_keeps_a_smaller_share_and_counts_that_rightly() {
        let mut counts = ValueCounts::of(Share::ALL, 256 << 10);
        let values =
            || (0..40_000).map(|n| if n % 2 == 0 { GroupValue::Whole(n) } else { GroupValue::Text(n.to_string()) });
        for value in values().chain(values()) {
            counts.add(value.as_ref(), value.hash64(), 1);
        }
        let share = counts.share();
        assert_ne!(share, Share::ALL);
        assert!(counts.weight_bytes() < 512 << 10);
        let parts = counts.into_parts();
        let expected = values().filter(|value| share.holds(value.hash64())).count();
        assert_eq!(parts.iter().map(Part::len).sum::<usize>(), expected);
        assert!(parts.iter().all(|part| part.uncounted() == 0 && part.top(1).iter().all(|(_, n)| *n == 2)));
    }

    #[test]
    fn what_is_full_counts_what_it_knows() {
        let mut counts = ValueCounts::of(Share::ALL, 1);
        let [slots, edge] = ["slots", "edge"].map(|text| GroupValue::Text(text.into()));
        counts.add(slots.as_ref(), slots.hash64(), 1);
        counts.share = (0..6).fold(Share::ALL, |share, _| share.half().unwrap_or(share));
        counts.make_room();
        assert!(counts.full);
        counts.share = Share::ALL;
        counts.add(slots.as_ref(), slots.hash64(), 1);
        counts.add(edge.as_ref(), edge.hash64(), 1);
        counts.add(ValueRef::Whole(7), ValueRef::Whole(7).hash64(), 3);
        let parts = counts.into_parts();
        assert_eq!(parts.iter().map(Part::uncounted).sum::<u64>(), 4);
        assert_eq!(top_of_all(&parts, 3), [(slots, 2)]);
        assert!(parts.iter().all(|part| part.numbers().count() == 0));
    }
}
