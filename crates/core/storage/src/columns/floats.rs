//! Floats as bytes.
//!
//! ```text
//! floats := 0  eight bytes each
//!         | 1  power:u8  ints                                  each times ten to the minus power
//! ```
//!
//! Floats that are decimals of few digits are kept as whole numbers (after Afroozeh, Kuffó, Boncz, "ALP: Adaptive Lossless
//! floating-Point Compression", 2023). How many there are is known from outside.

use super::ints;

/// Largest power of ten by which floats are made whole.
const MAX_POWER: u8 = 9;

/// Appends `floats`.
pub(super) fn encode(floats: &[f64], out: &mut Vec<u8>) {
    let whole = |power: u8| -> Option<Vec<i64>> {
        let factor = 10f64.powi(i32::from(power));
        let one = |f: &f64| {
            let n = (f * factor).round();
            let whole = n as i64;
            let exact = n.abs() < 9e15 && (whole as f64 / factor).to_bits() == f.to_bits();
            exact.then_some(whole)
        };
        floats.iter().map(one).collect()
    };
    match (0..=MAX_POWER).find_map(|power| Some((power, whole(power)?))) {
        Some((power, numbers)) => {
            out.extend_from_slice(&[1, power]);
            ints::encode(&numbers, out);
        }
        None => {
            out.push(0);
            floats.iter().for_each(|f| out.extend_from_slice(&f.to_bits().to_le_bytes()));
        }
    }
}

/// Reads `count` floats and moves `at` behind them; `None` where they do not decode.
pub(super) fn decode(bytes: &[u8], at: &mut usize, count: usize) -> Option<Vec<f64>> {
    let form = *bytes.get(*at)?;
    *at += 1;
    match form {
        0 => {
            let raw = bytes.get(*at..at.checked_add(count.checked_mul(8)?)?)?;
            *at += raw.len();
            Some(raw.chunks_exact(8).map(|c| f64::from_le_bytes(c.try_into().unwrap_or_default())).collect())
        }
        1 => {
            let power = *bytes.get(*at).filter(|p| **p <= MAX_POWER)?;
            *at += 1;
            let factor = 10f64.powi(i32::from(power));
            let numbers = ints::decode(bytes, at, count)?;
            Some(numbers.into_iter().map(|n| n as f64 / factor).collect())
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn size(floats: &[f64]) -> usize {
        let (mut out, mut at) = (Vec::new(), 0);
        encode(floats, &mut out);
        let back = decode(&out, &mut at, floats.len()).unwrap();
        let bits = |list: &[f64]| list.iter().map(|f| f.to_bits()).collect::<Vec<_>>();
        assert_eq!((bits(&back), at), (bits(floats), out.len()));
        (0..out.len()).for_each(|cut| assert!(decode(&out[..cut], &mut 0, floats.len()).is_none(), "cut at {cut}"));
        out.len()
    }

    #[test]
    fn decimals_are_kept_as_whole_numbers() {
        let volts: Vec<f64> = (0..500).map(|n| f64::from(n % 90) / 100.0 + 11.5).collect();
        assert!(size(&volts) < 500 + 16, "seven bits each");
        // Neither zeros below nought nor what is no number can be written as whole numbers.
        assert_eq!(size(&[-0.0, 1.5]), 17);
        assert_eq!(size(&[f64::NAN, f64::INFINITY]), 17);
        assert_eq!(size(&[std::f64::consts::PI; 4]), 33);
    }

    proptest! {
        #[test]
        fn round_trip(floats in prop_oneof![
            prop::collection::vec(any::<f64>(), 1..40),
            prop::collection::vec((-99_999i64..99_999, 0i32..9).prop_map(|(n, p)| n as f64 / 10f64.powi(p)), 1..40),
        ]) {
            size(&floats);
        }

        #[test]
        fn any_bytes_are_answered(bytes in any::<Vec<u8>>(), count in 0usize..9000) {
            let _ = decode(&bytes, &mut 0, count);
        }
    }
}
