//! The first of many in an order.

use std::cmp::Ordering;

/// Keeps the first `wanted` of an order, in that order. `coarse` costs less and differs from `order` only in what it holds for
/// equal: `order` is asked only where that does not decide.
pub(super) fn keep_first<T>(
    all: &mut Vec<T>,
    wanted: usize,
    coarse: impl Fn(&T, &T) -> Ordering,
    order: impl Fn(&T, &T) -> Ordering,
) {
    if wanted > 0 && all.len() > wanted {
        let last = wanted - 1;
        all.select_nth_unstable_by(last, &coarse);
        let mut candidates = wanted;
        for n in wanted..all.len() {
            if coarse(&all[n], &all[last]).is_eq() {
                all.swap(n, candidates);
                candidates += 1;
            }
        }
        all.truncate(candidates);
        if candidates > wanted {
            all.select_nth_unstable_by(last, &order);
        }
    }
    all.truncate(wanted);
    all.sort_unstable_by(order);
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn as_sorting_all(all in prop::collection::vec((0u8..4, 0u8..9), 0..60), wanted in 0usize..70) {
            let mut expected = all.clone();
            expected.sort_unstable();
            expected.truncate(wanted);
            let mut kept = all;
            keep_first(&mut kept, wanted, |a, b| a.0.cmp(&b.0), Ord::cmp);
            prop_assert_eq!(kept, expected);
        }
    }
}
