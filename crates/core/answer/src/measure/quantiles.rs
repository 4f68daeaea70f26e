//! Percentiles, exact while few, then within 1 %: counts in buckets whose width follows the value.
//!
//! A bucket is the sign, the exponent and the first six bits of the mantissa of a double, so it spans at most 1/64 of
//! its lower end, and its middle lies within 1/128 (0.8 %) of every value in it. The bucket of a value depends on the
//! value alone: sketches can be joined in any order, and one made of parts equals one made of all. (The log-linear form
//! of Masson, Rim, Lee: "DDSketch: a fast and fully-mergeable quantile sketch with relative-error guarantees", 2019.)

/// Values kept as they are; beyond, they are counted in buckets.
const EXACT: usize = 512;
/// Bits of the mantissa that separate buckets.
const MANTISSA_BITS: u32 = 6;
/// How far an estimate may lie from a value of that rank, relative to it.
pub const ERROR: f64 = 1.0 / 128.0;

/// Values to take percentiles of.
#[derive(Debug, Clone, PartialEq)]
pub enum Quantiles {
    /// Every value.
    Exact(Vec<f64>),
    /// Counts by bucket.
    Buckets {
        /// The bucket of the first count.
        first: i32,
        /// Of this bucket and the following.
        counts: Vec<u64>,
        /// Of all buckets.
        total: u64,
        /// The smallest and largest value, exact.
        ends: (f64, f64),
    },
}

impl Default for Quantiles {
    fn default() -> Self {
        Quantiles::Exact(Vec::new())
    }
}

/// The bucket of a value; buckets ascend with values.
fn bucket(value: f64) -> i32 {
    let magnitude = (value.abs().to_bits() >> (52 - MANTISSA_BITS)) as i32;
    if value < 0.0 { -magnitude - 1 } else { magnitude }
}

/// The middle of a bucket.
fn middle(bucket: i32) -> f64 {
    let magnitude = if bucket < 0 { -(bucket + 1) } else { bucket };
    if magnitude == 0 {
        // Zero, and what is so small that the relative error has no meaning.
        return 0.0;
    }
    let low = f64::from_bits((magnitude as u64) << (52 - MANTISSA_BITS));
    let high = f64::from_bits((magnitude as u64 + 1) << (52 - MANTISSA_BITS));
    // Where the exponent of `high` is that of infinity, the lower end is as near as any.
    let middle = if high.is_finite() { low + (high - low) / 2.0 } else { low };
    if bucket < 0 { -middle } else { middle }
}

/// Adds `n` to the count of `bucket`, making room for it on either side.
fn count(first: &mut i32, counts: &mut Vec<u64>, bucket: i32, n: u64) {
    if counts.is_empty() {
        *first = bucket;
    }
    if bucket < *first {
        let room = (*first - bucket) as usize;
        counts.splice(0..0, std::iter::repeat_n(0, room));
        *first = bucket;
    }
    let at = (bucket - *first) as usize;
    if at >= counts.len() {
        counts.resize(at + 1, 0);
    }
    counts[at] += n;
}

impl Quantiles {
    /// Adds a value; NaN and infinities are passed over.
    pub fn add(&mut self, value: f64) {
        if !value.is_finite() {
            return;
        }
        match self {
            Quantiles::Exact(values) if values.len() < EXACT => values.push(value),
            Quantiles::Exact(_) => {
                self.spread();
                self.add(value);
            }
            Quantiles::Buckets { first, counts, total, ends } => {
                count(first, counts, bucket(value), 1);
                *total += 1;
                *ends = (ends.0.min(value), ends.1.max(value));
            }
        }
    }

    /// The same, each value as its bucket has it: two of these compare alike however many values each has.
    pub fn bucketed(&self) -> Quantiles {
        let mut all = self.clone();
        all.spread();
        all
    }

    fn spread(&mut self) {
        let Quantiles::Exact(values) = self else { return };
        let values = std::mem::take(values);
        *self = Quantiles::Buckets { first: 0, counts: Vec::new(), total: 0, ends: (f64::INFINITY, f64::NEG_INFINITY) };
        values.into_iter().for_each(|v| self.add(v));
    }

    /// How many values.
    pub fn count(&self) -> u64 {
        match self {
            Quantiles::Exact(values) => values.len() as u64,
            Quantiles::Buckets { total, .. } => *total,
        }
    }

    /// Adds all values of another.
    pub fn join(&mut self, other: &Quantiles) {
        match (&mut *self, other) {
            (_, Quantiles::Exact(values)) => values.iter().for_each(|v| self.add(*v)),
            (Quantiles::Exact(_), Quantiles::Buckets { .. }) => {
                self.spread();
                self.join(other);
            }
            (
                Quantiles::Buckets { first, counts, total, ends },
                Quantiles::Buckets { first: from, counts: more, total: added, ends: others },
            ) => {
                (*from..).zip(more).filter(|(_, n)| **n > 0).for_each(|(b, n)| count(first, counts, b, *n));
                *total += added;
                *ends = (ends.0.min(others.0), ends.1.max(others.1));
            }
        }
    }

    /// Whether percentiles are estimates.
    pub fn estimated(&self) -> bool {
        matches!(self, Quantiles::Buckets { .. })
    }

    /// The value of nearest rank: the smallest that `percent` of the values do not exceed.
    pub fn percentile(&self, percent: f64) -> Option<f64> {
        let rank = |count: u64| ((percent / 100.0 * count as f64).ceil() as u64).clamp(1, count.max(1));
        match self {
            Quantiles::Exact(values) => {
                let mut sorted = values.clone();
                sorted.sort_by(f64::total_cmp);
                sorted.get(rank(sorted.len() as u64) as usize - 1).copied()
            }
            Quantiles::Buckets { first, counts, total, ends } => {
                let wanted = rank(*total);
                // The ends are known exactly.
                if wanted == 1 || wanted == *total {
                    return Some(if wanted == 1 { ends.0 } else { ends.1 });
                }
                let mut before = 0;
                for (bucket, n) in (*first..).zip(counts) {
                    before += n;
                    if before >= wanted {
                        return Some(middle(bucket).clamp(ends.0, ends.1));
                    }
                }
                None
            }
        }
    }

    /// A rough size in memory.
    pub fn weight_bytes(&self) -> usize {
        match self {
            Quantiles::Exact(values) => values.capacity() * 8,
            Quantiles::Buckets { counts, .. } => counts.capacity() * 8,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn of(values: &[f64]) -> Quantiles {
        let mut all = Quantiles::default();
        values.iter().for_each(|v| all.add(*v));
        all
    }

    #[test]
    fn nearest_rank_exactly_when_few() {
        let q = of(&[15.0, 20.0, 35.0, 40.0, 50.0]);
        let reported: Vec<_> = [5.0, 30.0, 40.0, 50.0, 100.0].map(|p| q.percentile(p)).into();
        assert_eq!(reported, [15.0, 20.0, 20.0, 35.0, 50.0].map(Some));
        assert_eq!(of(&[]).percentile(50.0), None);
        assert_eq!(of(&[f64::NAN]).percentile(50.0), None);
    }

    proptest! {
        #[test]
        fn within_one_percent_and_the_same_in_any_order(
            mut values in prop::collection::vec(prop_oneof![-1e9..1e9f64, 0.0..1.0f64, Just(0.0)], 1..3000),
            at in any::<prop::sample::Index>(),
            percent in 0.0..100.0f64,
        ) {
            let whole = of(&values);
            let (a, b) = values.split_at(at.index(values.len()));
            let mut joined = of(b);
            joined.join(&of(a));
            let reported = whole.percentile(percent).unwrap();
            prop_assert_eq!(Some(reported), joined.percentile(percent));
            values.sort_by(f64::total_cmp);
            let rank = ((percent / 100.0 * values.len() as f64).ceil() as usize).clamp(1, values.len());
            let exact = values[rank - 1];
            prop_assert!((reported - exact).abs() <= exact.abs() * ERROR, "{} for {}", reported, exact);
        }
    }
}
