//! Ordinals of events within their journal row, as a chunk keeps them: each by its distance from the one that would follow
//! in the same journal row. Rows of several senders interleave by time, but those of one stand in their order, so nearly
//! all distances are 0.
//!
//! The first event of a journal row in a page is taken to follow ordinal -1. Worked out page by page, from the journal rows
//! (`id: journal row`) that stand beside.

use super::IdentityHasher;
use std::collections::HashMap;
use std::hash::BuildHasherDefault;

/// The ordinal that comes next, by journal row.
type Next = HashMap<u64, i64, BuildHasherDefault<IdentityHasher>>;

/// Spreads the bits of a journal row's number; the map takes the key for its own hash.
fn spread(seq: i64) -> u64 {
    (seq as u64).wrapping_mul(0x9e37_79b9_7f4a_7c15)
}

/// Places to distances; `None` where the two lists differ in length.
pub(super) fn distances(ordinals: &[i64], seqs: &[i64]) -> Option<Vec<i64>> {
    walk(ordinals, seqs, |ordinal, next| (ordinal.wrapping_sub(next), ordinal))
}

/// Distances to ordinals; `None` where the two lists differ in length.
pub(super) fn ordinals(distances: &[i64], seqs: &[i64]) -> Option<Vec<i64>> {
    walk(distances, seqs, |distance, next| {
        let ordinal = next.wrapping_add(distance);
        (ordinal, ordinal)
    })
}

/// Turns each number by the ordinal that comes next in its journal row; `turn` gives the new number and the ordinal.
fn walk(numbers: &[i64], seqs: &[i64], turn: impl Fn(i64, i64) -> (i64, i64)) -> Option<Vec<i64>> {
    let mut next = Next::default();
    let turned = numbers.iter().zip(seqs).map(|(number, seq)| {
        let next = next.entry(spread(*seq)).or_insert(0);
        let (turned, ordinal) = turn(*number, *next);
        *next = ordinal.wrapping_add(1);
        turned
    });
    (numbers.len() == seqs.len()).then(|| turned.collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn interleaved_rows_are_all_zero() {
        let (seqs, numbers) = ([7, 8, 7, 9, 8, 7], [0, 0, 1, 0, 1, 2]);
        assert_eq!(distances(&numbers, &seqs), Some(vec![0; 6]));
        assert_eq!(distances(&numbers, &seqs[1..]), None);
    }

    proptest! {
        #[test]
        fn round_trip(rows in prop::collection::vec((0i64..5, prop_oneof![0i64..50, any::<i64>()]), 0..100)) {
            let (seqs, numbers): (Vec<i64>, Vec<i64>) = rows.into_iter().unzip();
            let turned = distances(&numbers, &seqs).unwrap();
            prop_assert_eq!(ordinals(&turned, &seqs), Some(numbers));
        }
    }
}
