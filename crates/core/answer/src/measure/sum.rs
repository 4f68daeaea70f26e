//! Sums that do not depend on the order of what is added: whole numbers exactly, doubles by Shewchuk's expansions
//! ("Adaptive Precision Floating-Point Arithmetic and Fast Robust Geometric Predicates", 1997), rounded once at the end.

/// A sum and how many numbers it is of.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Sum {
    /// How many numbers were added.
    pub count: u64,
    whole: i64,
    /// Two parts that do not overlap, by ascending magnitude; zero is none.
    low: f64,
    high: f64,
    more: Option<Box<More>>,
}

/// What few sums need beside: there may be as many sums as there are groups.
#[derive(Debug, Clone, PartialEq, Default)]
struct More {
    /// Added to the whole numbers.
    whole: i128,
    /// All parts, by ascending magnitude, once they were more than two.
    parts: Vec<f64>,
    /// Infinities and NaN met.
    odd: f64,
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

    /// Adds a double.
    pub fn add_float(&mut self, f: f64) {
        self.count += 1;
        if f.is_finite() {
            self.grow(f);
        } else {
            self.more.get_or_insert_default().odd += f;
        }
    }

    fn grow(&mut self, x: f64) {
        if let Some(more) = self.more.as_mut().filter(|more| !more.parts.is_empty()) {
            return grow(&mut more.parts, x);
        }
        let (x, first) = two_sum(x, self.low);
        let (x, second) = two_sum(x, self.high);
        (self.low, self.high) = match (first != 0.0, second != 0.0) {
            (false, false) => (0.0, x),
            (true, false) => (first, x),
            (false, true) => (second, x),
            (true, true) => {
                self.more.get_or_insert_default().parts = vec![first, second, x];
                (0.0, 0.0)
            }
        };
    }

    /// The parts of doubles, by ascending magnitude, and the sum of whole numbers.
    fn parts(&self) -> (Vec<f64>, i128) {
        let own = [self.low, self.high].into_iter().filter(|part| *part != 0.0);
        let more = self.more.as_ref();
        let parts = own.chain(more.into_iter().flat_map(|more| more.parts.iter().copied())).collect();
        (parts, more.map_or(0, |more| more.whole).saturating_add(i128::from(self.whole)))
    }

    /// Adds all of another.
    pub fn join(&mut self, other: &Sum) {
        self.count += other.count;
        self.add_whole(i128::from(other.whole));
        [other.low, other.high].into_iter().filter(|part| *part != 0.0).for_each(|part| self.grow(part));
        if let Some(theirs) = &other.more {
            let more = self.more.get_or_insert_default();
            more.whole = more.whole.saturating_add(theirs.whole);
            more.odd += theirs.odd;
            theirs.parts.iter().for_each(|part| self.grow(*part));
        }
    }

    /// The sum, rounded to a double.
    pub fn total(&self) -> f64 {
        if let Some(more) = self.more.as_ref().filter(|more| more.odd != 0.0) {
            return more.odd;
        }
        if self.more.is_none() && self.low == 0.0 && self.high == 0.0 {
            return self.whole as f64;
        }
        let (mut parts, whole) = self.parts();
        // A whole number beyond 53 bits is more than one double.
        let high = whole as f64;
        grow(&mut parts, high);
        grow(&mut parts, (whole - high as i128) as f64);
        rounded(&parts)
    }

    /// The mean; `None` of nothing.
    pub fn mean(&self) -> Option<f64> {
        (self.count > 0).then(|| self.total() / self.count as f64)
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

    proptest! {
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
