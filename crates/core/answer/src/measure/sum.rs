//! Sums that do not depend on the order of what is added, rounded once at the end. Doubles that are neither very large
//! nor have bits far behind the point are added as binary fractions of one length, all others by Shewchuk's expansions
//! ("Adaptive Precision Floating-Point Arithmetic and Fast Robust Geometric Predicates", 1997).

/// Binary digits behind the point of a fraction of this length. No double above 4e-9 has more.
const FRACTION: u32 = 80;
/// Doubles that are added so are below two to this power: with those behind the point, 126 digits of the 127 of an `i128`.
const WHOLE: u32 = 46;

/// A sum and how many numbers it is of.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Sum {
    /// How many numbers were added.
    pub count: u64,
    whole: i64,
    /// In units of `2^-FRACTION`.
    fixed: i128,
    more: Option<Box<More>>,
}

/// What few sums need beside: there may be as many sums as there are groups.
#[derive(Debug, Clone, PartialEq, Default)]
struct More {
    /// Added to the whole numbers.
    whole: i128,
    /// Doubles that are no fractions of that length: parts that do not overlap, by ascending magnitude.
    parts: Vec<f64>,
    /// Infinities and NaN met.
    odd: f64,
}

/// A double in units of `2^-FRACTION`, where it is a whole number of these and not very large.
fn fixed(f: f64) -> Option<i128> {
    // IEEE 754, binary64: one bit of sign, eleven of exponent, 52 behind the point.
    let bits = f.to_bits();
    let (exponent, behind) = (bits >> 52 & 0x7FF, bits & ((1 << 52) - 1));
    if f == 0.0 {
        return Some(0);
    }
    let (digits, exponent) = if exponent == 0 { (behind, 1) } else { (behind | 1 << 52, exponent) };
    let shift = exponent as i32 - 1075 + FRACTION as i32;
    let magnitude = if shift >= 0 {
        (shift as u32 + 53 <= FRACTION + WHOLE).then(|| i128::from(digits) << shift)?
    } else {
        (shift.unsigned_abs() <= digits.trailing_zeros()).then(|| i128::from(digits >> shift.unsigned_abs()))?
    };
    Some(if f.is_sign_negative() { -magnitude } else { magnitude })
}

/// The sum of two doubles, rounded, and what rounding left out.
fn two_sum(mut x: f64, mut y: f64) -> (f64, f64) {
    if x.abs() < y.abs() {
        std::mem::swap(&mut x, &mut y);
    }
    let high = x + y;
    (high, y - (high - x))
}

/// Adds a double to parts that do not overlap.
fn grow(parts: &mut Vec<f64>, mut x: f64) {
    let mut kept = 0;
    for i in 0..parts.len() {
        let low;
        (x, low) = two_sum(x, parts[i]);
        if low != 0.0 {
            parts[kept] = low;
            kept += 1;
        }
    }
    parts.truncate(kept);
    parts.push(x);
}

impl Sum {
    /// Bytes that a sum may take beside its own, where it [is large](Sum::is_large): doubles have at most forty parts.
    pub const LARGE_BYTES: usize = 400;

    /// Whether it needs more room than most.
    pub fn is_large(&self) -> bool {
        self.more.is_some()
    }

    /// Adds a whole number.
    pub fn add_int(&mut self, n: i128) {
        self.count += 1;
        self.add_whole(n);
    }

    fn add_whole(&mut self, n: i128) {
        match i64::try_from(n).ok().and_then(|n| self.whole.checked_add(n)) {
            Some(whole) => self.whole = whole,
            None => {
                let more = self.more.get_or_insert_default();
                more.whole = more.whole.saturating_add(n);
            }
        }
    }

    fn add_fixed(&mut self, n: i128) {
        match self.fixed.checked_add(n) {
            Some(sum) => self.fixed = sum,
            None => {
                // Both without what stands before the point, which goes elsewhere.
                let more = self.more.get_or_insert_default();
                more.whole = more.whole.saturating_add((self.fixed >> FRACTION) + (n >> FRACTION));
                let behind = |n: i128| n & ((1 << FRACTION) - 1);
                self.fixed = behind(self.fixed) + behind(n);
            }
        }
    }

    /// Adds a double.
    pub fn add_float(&mut self, f: f64) {
        self.count += 1;
        match fixed(f) {
            Some(n) => self.add_fixed(n),
            None if f.is_finite() => grow(&mut self.more.get_or_insert_default().parts, f),
            None => self.more.get_or_insert_default().odd += f,
        }
    }

    /// Adds all of another.
    pub fn join(&mut self, other: &Sum) {
        self.count += other.count;
        self.add_whole(i128::from(other.whole));
        self.add_fixed(other.fixed);
        if let Some(theirs) = &other.more {
            let more = self.more.get_or_insert_default();
            more.whole = more.whole.saturating_add(theirs.whole);
            more.odd += theirs.odd;
            theirs.parts.iter().for_each(|part| grow(&mut more.parts, *part));
        }
    }

    /// The sum, rounded to a double.
    pub fn total(&self) -> f64 {
        let unit = 0.5f64.powi(FRACTION as i32);
        match &self.more {
            Some(more) if more.odd != 0.0 => return more.odd,
            None if self.fixed == 0 => return self.whole as f64,
            None if self.whole == 0 => return self.fixed as f64 * unit,
            _ => {}
        }
        let more = self.more.as_deref();
        let mut parts = more.map_or(Vec::new(), |more| more.parts.clone());
        each_double(self.fixed, |f| grow(&mut parts, f * unit));
        let whole = more.map_or(0, |more| more.whole).saturating_add(i128::from(self.whole));
        each_double(whole, |f| grow(&mut parts, f));
        rounded(&parts)
    }

    /// The mean; `None` of nothing.
    pub fn mean(&self) -> Option<f64> {
        (self.count > 0).then(|| self.total() / self.count as f64)
    }
}

/// Calls `take` with doubles whose sum is a whole number: it may have more digits than one double.
fn each_double(mut n: i128, mut take: impl FnMut(f64)) {
    while n != 0 {
        let nearest = n as f64;
        take(nearest);
        n = n.saturating_sub(nearest as i128);
    }
}

/// Rounds the expansion to the nearest double, halves to even.
fn rounded(parts: &[f64]) -> f64 {
    let mut parts = parts.iter().rev();
    let Some(mut high) = parts.next().copied() else { return 0.0 };
    let mut low = 0.0;
    let mut rest = parts.clone();
    for part in parts {
        let x = high;
        high = x + part;
        low = part - (high - x);
        rest.next();
        if low != 0.0 {
            break;
        }
    }
    // What is below may tip a half: the next part has its sign.
    if let Some(next) = rest.next()
        && ((low < 0.0 && *next < 0.0) || (low > 0.0 && *next > 0.0))
    {
        let twice = low * 2.0;
        let tipped = high + twice;
        if twice == tipped - high {
            high = tipped;
        }
    }
    high
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn nothing_is_lost_to_rounding() {
        let mut sum = Sum::default();
        [1e100, 1.0, -1e100, 0.1, 0.2].iter().for_each(|f| sum.add_float(*f));
        assert_eq!(sum.total(), 1.3);
        sum.add_int(1 << 60);
        sum.add_int(-(1 << 60));
        assert_eq!((sum.total(), sum.count), (1.3, 7));
        assert_eq!(Sum::default().mean(), None);
    }

    #[test]
    fn doubles_are_fractions_of_one_length_where_they_can_be() {
        let unit = 0.5f64.powi(80);
        for (f, n) in [(0.0, 0), (-0.0, 0), (1.0, 1 << 80), (-0.75, -(3 << 78)), (unit, 1)] {
            assert_eq!(fixed(f), Some(n), "{f}");
        }
        for f in [0.1, 12.34, 2f64.powi(46) - 0.0078125, 899.99, 4e-9] {
            assert_eq!(fixed(f).unwrap() as f64 * unit, f);
        }
        for f in [unit / 2.0, 1e-9, 2f64.powi(46), f64::MAX, f64::MIN_POSITIVE, f64::INFINITY, f64::NAN] {
            assert_eq!(fixed(f), None, "{f}");
        }
    }

    #[test]
    fn what_exceeds_is_carried() {
        let mut sum = Sum::default();
        let (int, double) = (i64::MAX - 5, 2f64.powi(46) - 0.5);
        (0..9).for_each(|_| sum.add_int(i128::from(int)));
        (0..9).for_each(|_| sum.add_float(double));
        assert_eq!(sum.total(), (i128::from(int) * 9 + 9 * (1 << 46) - 4) as f64);
        (0..9).for_each(|_| sum.add_int(i128::from(-int)));
        assert_eq!(sum.total(), double * 9.0);
        let mut twice = sum.clone();
        twice.join(&sum);
        assert_eq!((twice.total(), twice.count), (double * 18.0, 54));
        (0..18).for_each(|_| twice.add_float(-double));
        assert_eq!(twice.total(), 0.0);
    }

    proptest! {
        #[test]
        fn sums_are_rounded_once(numbers in prop::collection::vec((any::<i16>(), 0u32..100), 0..40)) {
            // Exactly, in units of 2^-100, where all of them stand; some are too small for the fractions of one length.
            let (mut sum, mut exact) = (Sum::default(), 0i128);
            for (n, behind) in numbers {
                match behind {
                    0 => sum.add_int(i128::from(n)),
                    _ => sum.add_float(f64::from(n) * 0.5f64.powi(behind as i32)),
                }
                exact += i128::from(n) << (100 - behind);
            }
            prop_assert_eq!(sum.total(), exact as f64 * 0.5f64.powi(100));
        }

        #[test]
        fn any_order_gives_the_same_bits(
            mut floats in prop::collection::vec(prop_oneof![-1e15..1e15f64, -1e3..1e3f64, any::<f32>().prop_map(f64::from)], 0..60),
            whole in any::<i64>(),
            seed in any::<u64>(),
        ) {
            let of = |list: &[f64]| {
                let mut sum = Sum::default();
                list.iter().for_each(|f| sum.add_float(*f));
                sum.add_int(i128::from(whole));
                sum
            };
            let mut forward = of(&floats);
            forward.add_int(i128::from(whole));
            let forward = forward.total();
            floats.sort_by_key(|f| xxhash_rust::xxh3::xxh3_64_with_seed(&f.to_bits().to_le_bytes(), seed));
            let (a, b) = floats.split_at(floats.len() / 2);
            let mut joined = of(a);
            joined.join(&of(b));
            prop_assert_eq!(forward.to_bits(), joined.total().to_bits());
        }
    }
}
