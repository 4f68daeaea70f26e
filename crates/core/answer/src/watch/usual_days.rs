//! What a deviation measured on its own past days, kept beyond the lane's retention: its usual needs weeks, events may be
//! gone after days.
//!
//! A day is stored as one row, compressed, numbers little-endian:
//!
//! ```text
//! "CVU1"
//! u32            groups
//! each group:
//!   u8           values, one for each field of `per`
//!   each value:  u8 kind (0 missing, 1 null, 2 bool, 3 whole, 4 float, 5 text, 6 shape), then
//!                bool u8 · whole i128 · float u64 bits · text and shape: u32 bytes, UTF-8
//!   u32          steps that have a figure
//!   each step:   u32 number within the day, f64 figure
//! ```

use super::compile::{Form, Rule};
use super::deviation::measured;
use super::strips::{Moments, Strips};
use crate::measure::GroupValue;
use crate::scan::Scope;
use hashbrown::HashMap;
use std::collections::BTreeMap;

/// Nanoseconds of a day.
pub const USUAL_DAY_NS: i64 = 86_400_000_000_000;
/// Days that are kept: eight weeks and the day that is judged.
pub const USUAL_DAYS: i64 = 58;
/// Groups of a day at most; those with the most figures.
const MAX_GROUPS: usize = 500;
/// Bytes of a day before compression at most; one that is larger is not kept.
const MAX_BYTES: usize = 4 << 20;
const MAGIC: &[u8; 4] = b"CVU1";

/// Figures of one day: of each group, by the step's number within the day.
pub type UsualDay = Vec<(Vec<GroupValue>, Vec<(u32, f64)>)>;

/// Figures of past days, by group and by the step's number from 1970.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Usual(HashMap<Vec<GroupValue>, BTreeMap<i64, f64>>);

impl Usual {
    /// Adds a day, by its number from 1970.
    pub fn add(&mut self, day: i64, step_ns: i64, figures: UsualDay) {
        let first = day * (USUAL_DAY_NS / step_ns);
        for (group, steps) in figures {
            let known = self.0.entry(group).or_default();
            known.extend(steps.into_iter().map(|(step, figure)| (first + i64::from(step), figure)));
        }
    }

    /// Each group with its figures.
    pub(super) fn groups(&self) -> impl Iterator<Item = (&Vec<GroupValue>, &BTreeMap<i64, f64>)> {
        self.0.iter()
    }
}

impl Rule {
    /// What decides the figures of a deviation over what its owner may read, of which `scope` is a text: kept days are of this
    /// and of no other; none for other forms.
    pub fn usual_key(&self, scope: &str) -> Option<u64> {
        let Form::Deviation { filter, measure, over_ns, .. } = &self.form else { return None };
        let text = format!("{filter} {measure:?} {over_ns} {} {scope}", self.step_ns);
        Some(xxhash_rust::xxh3::xxh3_64(text.as_bytes()))
    }
}

/// What a deviation measures on one day, by its number from 1970; none where that cannot be read whole.
pub fn usual_day(scope: &Scope, rule: &Rule, day: i64) -> Option<UsualDay> {
    let step_ns = rule.step_ns;
    let steps = USUAL_DAY_NS / step_ns;
    let moments = Moments { first_ns: day * USUAL_DAY_NS, step_ns, count: usize::try_from(steps).ok()? };
    let (rows, read) = measured(scope, rule, moments)?;
    let Strips { incomplete: None, .. } = read else { return None };
    let figures = |row: Vec<(i64, Vec<f64>)>| -> Vec<(u32, f64)> {
        let figure = |(step, figures): (i64, Vec<f64>)| Some((u32::try_from(step).ok()?, *figures.first()?));
        row.into_iter().filter_map(figure).collect()
    };
    let mut day: UsualDay = rows.into_iter().map(|(group, row)| (group, figures(row))).collect();
    day.retain(|(_, figures)| !figures.is_empty());
    day.sort_by_key(|(_, figures)| std::cmp::Reverse(figures.len()));
    day.truncate(MAX_GROUPS);
    Some(day)
}

/// The bytes of a day, before compression; none where they are too many.
pub fn encode_usual_day(day: &UsualDay) -> Option<Vec<u8>> {
    let mut out = MAGIC.to_vec();
    let count = |n: usize| u32::try_from(n).unwrap_or(u32::MAX).to_le_bytes();
    out.extend(count(day.len()));
    for (group, steps) in day {
        out.push(u8::try_from(group.len()).ok()?);
        for value in group {
            let (kind, bytes): (u8, Vec<u8>) = match value {
                GroupValue::Missing => (0, Vec::new()),
                GroupValue::Null => (1, Vec::new()),
                GroupValue::Bool(b) => (2, vec![u8::from(*b)]),
                GroupValue::Whole(n) => (3, n.to_le_bytes().to_vec()),
                GroupValue::Float(bits) => (4, bits.to_le_bytes().to_vec()),
                GroupValue::Text(t) => (5, [count(t.len()).as_slice(), t.as_bytes()].concat()),
                GroupValue::Shape(t) => (6, [count(t.len()).as_slice(), t.as_bytes()].concat()),
            };
            out.push(kind);
            out.extend(bytes);
        }
        out.extend(count(steps.len()));
        for (step, figure) in steps {
            out.extend(step.to_le_bytes());
            out.extend(figure.to_le_bytes());
        }
        if out.len() > MAX_BYTES {
            return None;
        }
    }
    Some(out)
}

/// A day from its bytes; none where they are damaged.
pub fn decode_usual_day(bytes: &[u8]) -> Option<UsualDay> {
    let mut at = Bytes(bytes.strip_prefix(MAGIC)?);
    let groups = at.count(5)?;
    let mut day = Vec::with_capacity(groups);
    for _ in 0..groups {
        let values = at.take(1)?.first().copied()?;
        let group: Vec<GroupValue> = (0..values).map(|_| at.value()).collect::<Option<_>>()?;
        let steps = at.count(12)?;
        let step = |at: &mut Bytes| Some((u32::from_le_bytes(at.array()?), f64::from_le_bytes(at.array()?)));
        day.push((group, (0..steps).map(|_| step(&mut at)).collect::<Option<_>>()?));
    }
    at.0.is_empty().then_some(day)
}

/// What is left to be read.
struct Bytes<'a>(&'a [u8]);

impl<'a> Bytes<'a> {
    fn take(&mut self, n: usize) -> Option<&'a [u8]> {
        let (head, rest) = self.0.split_at_checked(n)?;
        self.0 = rest;
        Some(head)
    }

    fn array<const N: usize>(&mut self) -> Option<[u8; N]> {
        self.take(N)?.try_into().ok()
    }

    /// A number of things that are at least so many bytes each: never more than there is room for.
    fn count(&mut self, each: usize) -> Option<usize> {
        let n = u32::from_le_bytes(self.array()?) as usize;
        (n.checked_mul(each)? <= self.0.len()).then_some(n)
    }

    fn text(&mut self) -> Option<String> {
        let n = self.count(1)?;
        String::from_utf8(self.take(n)?.to_vec()).ok()
    }

    fn value(&mut self) -> Option<GroupValue> {
        Some(match self.take(1)?.first()? {
            0 => GroupValue::Missing,
            1 => GroupValue::Null,
            2 => GroupValue::Bool(self.take(1)?.first().copied()? != 0),
            3 => GroupValue::Whole(i128::from_le_bytes(self.array()?)),
            4 => GroupValue::Float(u64::from_le_bytes(self.array()?)),
            5 => GroupValue::Text(self.text()?),
            6 => GroupValue::Shape(self.text()?),
            _ => return None,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn value() -> impl Strategy<Value = GroupValue> {
        prop_oneof![
            Just(GroupValue::Missing),
            Just(GroupValue::Null),
            any::<bool>().prop_map(GroupValue::Bool),
            any::<i128>().prop_map(GroupValue::Whole),
            any::<u64>().prop_map(GroupValue::Float),
            ".{0,12}".prop_map(GroupValue::Text),
            ".{0,12}".prop_map(GroupValue::Shape),
        ]
    }

    proptest! {
        #[test]
        fn a_day_comes_back_as_it_was(
            day in prop::collection::vec(
                (prop::collection::vec(value(), 0..3), prop::collection::vec((0u32..1440, -1e9f64..1e9), 0..20)),
                0..6,
            ),
            cut in 0usize..200,
            flip in any::<(usize, u8)>(),
        ) {
            let bytes = encode_usual_day(&day).unwrap();
            prop_assert_eq!(decode_usual_day(&bytes), Some(day));
            // Damage is found or gives another day; it never panics.
            let _ = decode_usual_day(&bytes[..cut.min(bytes.len())]);
            let mut damaged = bytes;
            let at = flip.0 % damaged.len();
            damaged[at] ^= flip.1;
            let _ = decode_usual_day(&damaged);
        }
    }
}
