//! Whole numbers come back from each form, whole and one by one.

use super::*;
use proptest::prelude::*;

fn size(numbers: &[i64]) -> usize {
    let mut out = Vec::new();
    encode(numbers, &mut out);
    let mut at = 0;
    assert_eq!(decode(&out, &mut at, numbers.len()).as_deref(), Some(numbers));
    assert_eq!(at, out.len());
    let mut behind = 0;
    assert_eq!(skip(&out, &mut behind, numbers.len()), Some(()));
    assert_eq!(behind, at);
    let few: Vec<usize> = (0..numbers.len()).filter(|n| n * n % 5 == 1 || n + 1 == numbers.len()).collect();
    let mut behind = 0;
    let read = decode_few(&out, &mut behind, numbers.len(), &few).unwrap();
    assert_eq!(behind, at);
    assert!(read.len() == numbers.len() && few.iter().all(|n| read[*n] == numbers[*n]));
    out.len()
}

#[test]
fn each_form_where_it_pays() {
    assert_eq!(size(&[7; 8192]), 2);
    assert!(size(&(0..8192).collect::<Vec<_>>()) < 16, "equal steps");
    assert!(size(&(0..8192).map(|n| n / 1000).collect::<Vec<_>>()) < 64, "runs");
    let times: Vec<i64> = (0..8192).map(|n| 1_791_081_521_000_000_000 + n * 3_500_000 + n % 7 * 1000).collect();
    assert!(size(&times) < 8192 * 2, "microseconds of a steady stream: {}", size(&times));
    let mut outliers: Vec<i64> = (0..8192).map(|n| n * 37 % 61).collect();
    outliers[5000] = i64::MAX;
    assert!(size(&outliers) < 8192 + 64, "one outlier widens nothing");
    assert!(size(&[i64::MIN, i64::MAX, 0, -1]) < 64);
    assert_eq!(size(&[]), 2);
}

#[test]
fn interleaved_codes_by_distance() {
    // Forty requests at once, a new one for each that ends, over and over.
    let codes: Vec<u32> = (0..8192u32).map(|n| n / 9 + n * 37 % 40).collect();
    let mut seen = std::collections::HashMap::new();
    let codes: Vec<u32> = codes
        .iter()
        .map(|c| {
            let new = seen.len() as u32;
            *seen.entry(*c).or_insert(new)
        })
        .collect();
    let mut out = Vec::new();
    encode_codes(&codes, &mut out);
    assert_eq!(out[0], 5);
    assert!(out.len() < 8192 * 7 / 8, "{}", out.len());
    assert_eq!(decode_codes(&out, &mut 0, codes.len(), seen.len()), Some(codes));
    let mut few = Vec::new();
    encode_codes(&[0, 1, 0], &mut few);
    assert_eq!(few[0], 4, "the plain form where it is as short");
}

proptest! {
    #[test]
    fn codes_round_trip(codes in prop::collection::vec(prop_oneof![0u32..9, 100u32..200, any::<u32>()], 0..200)) {
        let (mut out, mut at) = (Vec::new(), 0);
        encode_codes(&codes, &mut out);
        let distinct = codes.iter().max().map_or(0, |c| *c as usize + 1).min(u32::MAX as usize);
        let whole = codes.iter().all(|c| *c < u32::MAX);
        prop_assert_eq!(decode_codes(&out, &mut at, codes.len(), distinct), whole.then_some(codes));
        prop_assert_eq!(at, out.len());
    }

    #[test]
    fn round_trip(numbers in prop_oneof![
        prop::collection::vec(any::<i64>(), 0..200),
        prop::collection::vec(-5i64..1000, 0..200),
        prop::collection::vec(prop_oneof![9 => 0i64..8, 1 => any::<i64>()], 0..200),
        (any::<i64>(), prop::collection::vec(0i64..50, 0..200)).prop_map(|(from, steps)| {
            steps.into_iter().scan(from, |n, s| { *n = n.wrapping_add(s * 1000); Some(*n) }).collect()
        }),
    ]) {
        size(&numbers);
    }

    #[test]
    fn any_bytes_are_answered(bytes in any::<Vec<u8>>(), count in 0usize..9000) {
        let _ = decode(&bytes, &mut 0, count);
        let _ = skip(&bytes, &mut 0, count);
        let _ = decode_few(&bytes, &mut 0, count, &[0, count / 2, count]);
        let _ = decode_few_codes(&bytes, &mut 0, count, 7, &[count / 3]);
    }
}
