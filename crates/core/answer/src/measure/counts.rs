//! How often each value of a field stands in events: the values of a share, each with its count.

use super::share::Share;
use super::value_table::ValueTable;
use super::{GroupValue, ValueRef};

/// Counts of the values of a share.
#[derive(Debug, Default)]
pub(crate) struct ValueCounts {
    share: Share,
    values: ValueTable,
    /// By the number of the value.
    counts: Vec<u64>,
}

impl ValueCounts {
    /// Of the values of a share.
    pub fn of(share: Share) -> Self {
        ValueCounts { share, ..ValueCounts::default() }
    }

    /// The values that it counts.
    pub fn share(&self) -> Share {
        self.share
    }

    /// How many values.
    pub fn len(&self) -> usize {
        self.counts.len()
    }

    /// Adds `n` to the count of a value with this hash. Where it is new and `grows` is false, it is not counted, and false
    /// is returned.
    pub fn add(&mut self, value: ValueRef, hash: u64, n: u64, grows: bool) -> bool {
        if !self.share.holds(hash) {
            return true;
        }
        let Some(number) = self.values.number(value, hash, grows) else { return false };
        match self.counts.get_mut(number as usize) {
            Some(count) => *count += n,
            None => self.counts.push(n),
        }
        true
    }

    fn take(&mut self, other: &ValueCounts) {
        for ((number, value), count) in other.values.iter().zip(&other.counts) {
            self.add(value, other.values.hash(number), *count, true);
        }
    }

    /// Keeps the values of a smaller share.
    pub fn narrow(&mut self, share: Share) {
        if share != self.share {
            let mut kept = ValueCounts::of(share);
            kept.take(self);
            *self = kept;
        }
    }

    /// Adds all of another; of both, the values of the smaller share stay.
    pub fn join(&mut self, other: &ValueCounts) {
        self.narrow(self.share.smaller(other.share));
        self.take(other);
    }

    /// The `n` most frequent values, the largest first, equal counts in the order of values.
    pub fn top(&self, n: usize) -> Vec<(GroupValue, u64)> {
        let count = |number: u32| self.counts.get(number as usize).copied().unwrap_or(0);
        let order = |a: &u32, b: &u32| {
            count(*b).cmp(&count(*a)).then_with(|| self.values.value(*a).cmp(&self.values.value(*b)))
        };
        let mut all: Vec<u32> = (0..self.counts.len() as u32).collect();
        if n > 0 && all.len() > n {
            all.select_nth_unstable_by(n - 1, order);
        }
        all.truncate(n);
        all.sort_unstable_by(order);
        all.into_iter().map(|number| (self.values.value(number).to_value(), count(number))).collect()
    }

    /// The numbers among the values, each with its count.
    pub fn numbers(&self) -> impl Iterator<Item = (f64, u64)> {
        let number = |value: ValueRef| match value {
            ValueRef::Whole(n) => Some(n as f64),
            ValueRef::Float(bits) => Some(f64::from_bits(bits)),
            _ => None,
        };
        self.values.iter().zip(&self.counts).filter_map(move |((_, value), count)| Some((number(value)?, *count)))
    }

    /// A rough size in memory.
    pub fn weight_bytes(&self) -> usize {
        self.values.weight_bytes() + self.counts.capacity() * 8
    }
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

    proptest! {
        /// Counted share by share and in parts, each value has the count that a plain map has.
        #[test]
        fn as_a_plain_map_counts(values in prop::collection::vec(any_value(), 0..200), halves in 0u32..3, n in 0usize..9) {
            let mut expected: BTreeMap<GroupValue, u64> = BTreeMap::new();
            values.iter().for_each(|v| *expected.entry(v.clone()).or_default() += 2);
            let mut taken = Share::ALL;
            (0..halves).for_each(|_| taken = taken.half().unwrap());
            let mut all = Vec::new();
            for share in std::iter::once(taken).chain(Share::ALL.rest(taken)) {
                let (mut one, mut other) = (ValueCounts::of(Share::ALL), ValueCounts::of(share));
                for (at, value) in values.iter().enumerate() {
                    let part = if at % 3 == 0 { &mut one } else { &mut other };
                    prop_assert!(part.add(value.as_ref(), value.hash64(), 2, true));
                }
                // Whichever takes up the other.
                if one.len() > other.len() { one.narrow(share); one.join(&other); } else { other.join(&one); one = other; }
                prop_assert!(one.len() == one.top(usize::MAX).len() && one.share() == share);
                all.extend(one.top(n));
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
    fn what_may_not_grow_counts_what_it_knows() {
        let mut counts = ValueCounts::default();
        let value = GroupValue::Text("slots".into());
        assert!(!counts.add(value.as_ref(), value.hash64(), 1, false));
        assert!(counts.add(value.as_ref(), value.hash64(), 1, true));
        assert!(counts.add(value.as_ref(), value.hash64(), 1, false));
        assert_eq!(counts.top(3), [(value, 2)]);
        assert_eq!(counts.numbers().count(), 0);
    }
}
