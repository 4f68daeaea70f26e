//! Sums that do not depend on the order of what is added: whole numbers exactly, doubles by Shewchuk's expansions
//! ("Adaptive Precision Floating-Point Arithmetic and Fast Robust Geometric Predicates", 1997), rounded once at the end.

/// A sum and how many numbers it is of.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Sum {
    /// How many numbers were added.
    pub count: u64,
    whole: i128,
    /// Parts that do not overlap, by ascending magnitude.
    parts: Vec<f64>,
    /// Infinities and NaN met.
    odd: f64,
}

impl Sum {
    /// Adds a whole number.
    pub fn add_int(&mut self, n: i128) {
        self.count += 1;
        self.whole = self.whole.saturating_add(n);
    }

    /// Adds a double.
    pub fn add_float(&mut self, f: f64) {
        self.count += 1;
        if !f.is_finite() {
            self.odd += f;
            return;
        }
        self.grow(f);
    }

    fn grow(&mut self, mut x: f64) {
        let mut kept = 0;
        for i in 0..self.parts.len() {
            let mut y = self.parts[i];
            if x.abs() < y.abs() {
                std::mem::swap(&mut x, &mut y);
            }
            let high = x + y;
            let low = y - (high - x);
            if low != 0.0 {
                self.parts[kept] = low;
                kept += 1;
            }
            x = high;
        }
        self.parts.truncate(kept);
        self.parts.push(x);
    }

    /// Adds all of another.
    pub fn join(&mut self, other: &Sum) {
        self.count += other.count;
        self.whole = self.whole.saturating_add(other.whole);
        self.odd += other.odd;
        other.parts.iter().for_each(|p| self.grow(*p));
    }

    /// The sum, rounded to a double.
    pub fn total(&self) -> f64 {
        if self.odd != 0.0 {
            return self.odd;
        }
        let mut all = self.clone();
        // A whole number beyond 53 bits is more than one double.
        let high = self.whole as f64;
        all.grow(high);
        all.grow((self.whole - high as i128) as f64);
        all.rounded()
    }

    /// Rounds the expansion to the nearest double, halves to even.
    fn rounded(&self) -> f64 {
        let mut parts = self.parts.iter().rev();
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

    /// The mean; `None` of nothing.
    pub fn mean(&self) -> Option<f64> {
        (self.count > 0).then(|| self.total() / self.count as f64)
    }
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

    proptest! {
        #[test]
        fn any_order_gives_the_same_bits(mut floats in prop::collection::vec(-1e15..1e15f64, 0..60), seed in any::<u64>()) {
            let of = |list: &[f64]| {
                let mut sum = Sum::default();
                list.iter().for_each(|f| sum.add_float(*f));
                sum
            };
            let forward = of(&floats).total();
            floats.sort_by_key(|f| xxhash_rust::xxh3::xxh3_64_with_seed(&f.to_bits().to_le_bytes(), seed));
            let (a, b) = floats.split_at(floats.len() / 2);
            let mut joined = of(a);
            joined.join(&of(b));
            prop_assert_eq!(forward.to_bits(), joined.total().to_bits());
        }
    }
}
