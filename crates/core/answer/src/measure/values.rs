//! The values of a field under numbers, in parts by bits of their hashes: those of several workers are put together part by
//! part, side by side, each while its table is in the processor's cache.

use super::ValueRef;
use super::cells::NONE;
use super::value_table::{PARTS, ValueTable, part_of};
use super::workers::side_by_side;
use crate::scan::Workers;

/// Values by their numbers, and numbers by their values. Numbers are below [`NONE`], and not all that are below the largest
/// are in use.
#[derive(Debug)]
pub(super) struct Values {
    parts: Vec<ValueTable>,
}

/// The number of a value: the lowest bits are its part, the others its place there.
fn number_of(part: usize, place: u32) -> Option<u32> {
    let number = u64::from(place) * PARTS as u64 + part as u64;
    u32::try_from(number).ok().filter(|number| *number != NONE)
}

fn part_and_place(number: u32) -> (usize, u32) {
    (number as usize % PARTS, number / PARTS as u32)
}

impl Values {
    /// None yet.
    pub fn new() -> Self {
        Values { parts: (0..PARTS).map(|_| ValueTable::default()).collect() }
    }

    /// The number of a value with this hash, given now if it is new; nothing where it is and `grows` is false.
    pub fn number(&mut self, value: ValueRef, hash: u64, grows: bool) -> Option<u32> {
        let part = part_of(hash);
        number_of(part, self.parts.get_mut(part)?.number(value, hash, grows)?)
    }

    /// The value of a number.
    pub fn value(&self, number: u32) -> ValueRef<'_> {
        let (part, place) = part_and_place(number);
        self.parts.get(part).map_or(ValueRef::Missing, |values| values.value(place))
    }

    /// The hash of a number's value.
    pub fn hash(&self, number: u32) -> u64 {
        let (part, place) = part_and_place(number);
        self.parts.get(part).map_or(0, |values| values.hash(place))
    }

    /// A rough size in memory.
    pub fn weight_bytes(&self) -> usize {
        self.parts.iter().map(ValueTable::weight_bytes).sum()
    }

    /// All values of one field that several have, and the numbers there of what each of the others has but the first, whose
    /// numbers stay.
    pub fn joined(workers: &dyn Workers, mut of_each: Vec<Values>) -> (Values, Vec<Renumbered>) {
        let others: Vec<Values> = of_each.drain(1.min(of_each.len())..).collect();
        let first = of_each.pop().unwrap_or_else(Values::new);
        let tasks = first.parts.into_iter().enumerate().collect();
        let joined = side_by_side(workers, tasks, |(part, mut table): (usize, ValueTable)| {
            let renumbered = |values: &Values| -> Vec<u32> {
                let Some(theirs) = values.parts.get(part) else { return Vec::new() };
                let number = |(place, value)| {
                    table
                        .number(value, theirs.hash(place), true)
                        .and_then(|place| number_of(part, place))
                        .unwrap_or(NONE)
                };
                theirs.iter().map(number).collect()
            };
            let renumbered: Vec<Vec<u32>> = others.iter().map(renumbered).collect();
            (table, renumbered)
        });
        let mut of_others: Vec<Renumbered> = others.iter().map(|_| Renumbered { parts: Vec::new() }).collect();
        let mut parts = Vec::with_capacity(PARTS);
        for (table, renumbered) in joined {
            parts.push(table);
            of_others.iter_mut().zip(renumbered).for_each(|(of_other, part)| of_other.parts.push(part));
        }
        (Values { parts }, of_others)
    }
}

/// By the number of a value among some: its number among others, or [`NONE`] where that is not known.
#[derive(Debug)]
pub(super) struct Renumbered {
    parts: Vec<Vec<u32>>,
}

impl Renumbered {
    /// Of these values; none is known yet.
    pub fn unknown(values: &Values) -> Self {
        Renumbered { parts: values.parts.iter().map(|part| vec![NONE; part.len()]).collect() }
    }

    /// Its number among the others.
    pub fn get(&self, number: u32) -> u32 {
        let (part, place) = part_and_place(number);
        self.parts.get(part).and_then(|part| part.get(place as usize)).copied().unwrap_or(NONE)
    }

    /// Its number among the others, which `find` returns the first time.
    pub fn get_or_find(&mut self, number: u32, find: impl FnOnce() -> Option<u32>) -> u32 {
        let (part, place) = part_and_place(number);
        let Some(slot) = self.parts.get_mut(part).and_then(|part| part.get_mut(place as usize)) else { return NONE };
        if *slot == NONE {
            *slot = find().unwrap_or(NONE);
        }
        *slot
    }
}

#[cfg(test)]
mod tests {
    use super::super::GroupValue;
    use super::*;
    use crate::testing::Threads;

    #[test]
    fn values_of_several_are_put_together_under_the_numbers_of_the_first() {
        let of = |range: std::ops::Range<i128>| {
            let mut values = Values::new();
            let numbers: Vec<u32> = range
                .map(GroupValue::Whole)
                .map(|value| values.number(value.as_ref(), value.as_ref().hash64(), true).unwrap())
                .collect();
            (values, numbers)
        };
        let ((a, of_a), (b, of_b), (c, of_c)) = (of(0..1000), of(500..1500), of(0..1));
        let (all, others) = Values::joined(&Threads, vec![a, b, c]);
        let value = GroupValue::Whole;
        assert!((0..).zip(&of_a).all(|(n, number)| all.value(*number) == value(n).as_ref()));
        assert!((500..).zip(&of_b).all(|(n, number)| all.value(others[0].get(*number)) == value(n).as_ref()));
        assert_eq!(others[1].get(of_c[0]), of_a[0]);
        assert_eq!(all.parts.iter().map(ValueTable::len).sum::<usize>(), 1500);
    }

    #[test]
    fn no_value_has_the_number_of_none() {
        assert_eq!(number_of(PARTS - 1, u32::MAX / PARTS as u32), None);
        assert_eq!(number_of(0, u32::MAX), None);
        assert_eq!(number_of(5, 7).map(part_and_place), Some((5, 7)));
    }
}
