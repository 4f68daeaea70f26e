//! How the numbers of a field are spread: least, greatest, percentiles, and counts over equal stretches between them.
//! Worked out from the counts of distinct values, so every figure is exact.

/// Stretches between the least and the greatest value.
pub const STRETCHES: usize = 24;
/// The percentiles returned.
pub const PERCENTILES: [f64; 6] = [5.0, 25.0, 50.0, 75.0, 95.0, 99.0];

/// How the numbers of a field are spread.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, PartialEq, serde::Serialize, serde::Deserialize)]
pub struct Spread {
    /// Values that are numbers.
    pub numbers: u64,
    /// The least.
    pub min: f64,
    /// The greatest.
    pub max: f64,
    /// Percentile and value, nearest rank.
    pub percentiles: Vec<(f64, f64)>,
    /// Counts of [`STRETCHES`] stretches, or of one where all values are equal. The last holds its end as well.
    pub counts: Vec<u64>,
    /// Whether a stretch is a factor (the values reach over several powers of ten), not a difference.
    pub by_factor: bool,
}

impl Spread {
    /// Of numbers and how often each stands; nothing where there is none.
    pub fn of(numbers: impl Iterator<Item = (f64, u64)>) -> Option<Self> {
        let mut numbers: Vec<(f64, u64)> = numbers.filter(|(f, _)| f.is_finite()).collect();
        let (min, _) = *numbers.iter().min_by(|a, b| a.0.total_cmp(&b.0))?;
        let (max, _) = *numbers.iter().max_by(|a, b| a.0.total_cmp(&b.0))?;
        let total: u64 = numbers.iter().map(|(_, n)| n).sum();
        let ranks = PERCENTILES.map(|percent| ((percent / 100.0 * total as f64).ceil() as u64).max(1));
        let mut found = Vec::with_capacity(ranks.len());
        at_ranks(&mut numbers, 0, &ranks, &mut found);
        let percentiles: Vec<(f64, f64)> = PERCENTILES.into_iter().zip(found).collect();
        let at = |percent: f64| percentiles.iter().find(|(known, _)| *known == percent).map_or(max, |(_, f)| *f);
        // One straggler does not make a scale: what lies between the outer twentieths shows.
        let by_factor = min > 0.0 && at(95.0) / at(5.0) > 100.0;
        let place = |f: f64| {
            let share = if by_factor { (f / min).ln() / (max / min).ln() } else { (f - min) / (max - min) };
            ((share * STRETCHES as f64) as usize).min(STRETCHES - 1)
        };
        let mut counts = vec![0; if min == max { 1 } else { STRETCHES }];
        for (f, n) in &numbers {
            let place = if min == max { 0 } else { place(*f) };
            if let Some(count) = counts.get_mut(place) {
                *count += n;
            }
        }
        Some(Spread { numbers: total, min, max, percentiles, counts, by_factor })
    }
}

/// The numbers at ascending ranks, counted from one, of which `before` lie before all of these: each half of the numbers is
/// looked at only where it has one of the ranks (selection as in Hoare: "Algorithm 65: Find", 1961).
fn at_ranks(numbers: &mut [(f64, u64)], before: u64, ranks: &[u64], found: &mut Vec<f64>) {
    if ranks.is_empty() {
        return;
    }
    if let [(only, _)] = numbers {
        found.extend(ranks.iter().map(|_| *only));
        return;
    }
    let middle = numbers.len() / 2;
    numbers.select_nth_unstable_by(middle, |a, b| a.0.total_cmp(&b.0));
    let (low, high) = numbers.split_at_mut(middle);
    let below = before + low.iter().map(|(_, n)| n).sum::<u64>();
    let (of_low, of_high) = ranks.split_at(ranks.partition_point(|rank| *rank <= below));
    if !low.is_empty() {
        at_ranks(low, before, of_low, found);
    }
    if !high.is_empty() {
        at_ranks(high, below, of_high, found);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn of(values: &[(f64, u64)]) -> Option<Spread> {
        Spread::of(values.iter().copied())
    }

    #[test]
    fn counts_and_ranks() {
        let spread = of(&[(0.0, 1), (10.0, 98), (24.0, 1)]).unwrap();
        assert_eq!((spread.numbers, spread.min, spread.max, spread.by_factor), (100, 0.0, 24.0, false));
        assert_eq!((spread.counts[0], spread.counts[10], spread.counts[23]), (1, 98, 1));
        assert_eq!(spread.percentiles[2], (50.0, 10.0));
        assert_eq!(spread.percentiles[5], (99.0, 10.0));
        assert_eq!(of(&[(7.0, 3)]).unwrap().counts, [3]);
        assert!(of(&[(1.0, 1), (5000.0, 1)]).unwrap().by_factor);
        assert!(!of(&[(1.0, 1), (4000.0, 98), (5000.0, 99)]).unwrap().by_factor);
        assert_eq!(of(&[]), None);
    }

    proptest! {
        #[test]
        fn no_number_is_lost(values in proptest::collection::vec((-1e300f64..1e300, 1u64..100), 1..50)) {
            let spread = of(&values).unwrap();
            prop_assert_eq!(spread.counts.iter().sum::<u64>(), spread.numbers);
            let mut each: Vec<f64> = values.iter().flat_map(|(f, n)| vec![*f; *n as usize]).collect();
            each.sort_by(f64::total_cmp);
            for (percent, f) in spread.percentiles {
                let rank = (percent / 100.0 * each.len() as f64).ceil() as usize;
                prop_assert_eq!(f.to_bits(), each[rank.max(1) - 1].to_bits());
            }
        }
    }
}
