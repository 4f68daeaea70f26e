use super::*;
use proptest::prelude::*;

fn texts(values: &[&str], present: Option<Vec<u32>>) -> Column {
    let mut dictionary = Texts::default();
    let codes = values.iter().map(|v| dictionary.push(v)).collect();
    Column { present: present.map(Into::into), values: Values::Texts { dictionary, codes } }
}

#[test]
fn exact_bytes() {
    let mut out = Vec::new();
    let column = texts(&["slot", "bänk"], Some(vec![1, 4]));
    encode_block(&column, 0, 40, &mut Presences::default(), Effort::Full, 1, &mut out);
    let expected = [
        &[0, 24][..],         // packing, raw length
        &[4, 1, 2, 4, 2, 4],  // texts; two rows: gaps 1 and 2 as varints
        &[0, 2, 0, 4, 8, 10], // nothing shared; two texts, plain, of 4 and 5 bytes
        "slotbänk".as_bytes(),
        &[4, 0, 2], // codes 0 and 1
    ]
    .concat();
    assert_eq!(out, expected, "{out:?}");
}

fn any_column() -> impl Strategy<Value = (Column, usize)> {
    let ints = prop::collection::vec(any::<i64>(), 1..40).prop_map(Values::Ints);
    let near = prop::collection::vec(1_791_000_000_000i64..1_791_000_001_000, 1..40).prop_map(Values::Ints);
    let floats = prop::collection::vec(any::<f64>(), 1..20).prop_map(Values::Floats);
    let decimals =
        prop::collection::vec((-9999i64..9999).prop_map(|n| n as f64 / 100.0), 1..20).prop_map(Values::Floats);
    let bools = prop::collection::vec(any::<bool>(), 1..20).prop_map(Values::Bools);
    let texts = prop::collection::vec(".{0,30}", 1..20)
        .prop_map(|v| texts(&v.iter().map(String::as_str).collect::<Vec<_>>(), None).values);
    (prop_oneof![ints, near, floats, decimals, bools, texts], any::<bool>()).prop_map(|(values, sparse)| {
        let n = values.len().unwrap_or(0);
        let present = sparse.then(|| (0..n as u32).map(|i| i * 3 + 1).collect());
        (Column { present, values }, if sparse { n * 3 + 2 } else { n })
    })
}

fn bits(c: &Column) -> String {
    // Debug text separates NaNs from numbers, which is all that is needed here.
    format!("{c:?}")
}

fn read(bytes: &[u8], rows: usize) -> Result<Column> {
    decode_block(bytes, rows, &Shared::None, &|_| None)
}

#[test]
fn columns_that_go_together_share_their_rows() {
    let rows = || Some(vec![1, 4, 200, 410, 900]);
    let (a, b) = (texts(&["POST"; 5], rows()), texts(&["/doors"; 5], rows()));
    let mut presences = Presences::default();
    let (mut first, mut second) = (Vec::new(), Vec::new());
    encode_block(&a, 7, 1000, &mut presences, Effort::Full, 1, &mut first);
    encode_block(&b, 9, 1000, &mut presences, Effort::Full, 1, &mut second);
    assert!(second.len() < first.len() + 5 * ("/doors".len() - "POST".len()));
    let earlier = |n: u32| (n == 7).then(|| a.present.clone()).flatten();
    assert_eq!(decode_block(&second, 1000, &Shared::None, &earlier).unwrap(), b);
    assert!(read(&second, 1000).is_err());
}

/// Text after text with numbers and without, of which some rows are asked for.
#[test]
fn some_rows_have_their_texts() {
    let names: Vec<String> = (0..900).map(|n| format!("AC-{:05}{}", n * 37 % 700, ["", "x"][n % 2])).collect();
    let names: Vec<&str> = names.iter().map(String::as_str).collect();
    for present in [None, Some((0..900).map(|n| n * 2 + 1).collect())] {
        let rows = if present.is_some() { 1801 } else { 900 };
        let column = texts(&names, present);
        let mut bytes = Vec::new();
        encode_block(&column, 0, rows, &mut Presences::default(), Effort::Full, 1, &mut bytes);
        let wanted = Rows::of(&[3, 5, 77, 899], rows);
        let read = decode_block_of(&bytes, rows, &Shared::None, &|_| None, Wanted::Texts(&wanted)).unwrap();
        let (Values::Texts { dictionary, codes }, Values::Texts { dictionary: all, codes: all_codes }) =
            (&read.values, &column.values)
        else {
            panic!("texts")
        };
        assert_eq!(codes, all_codes);
        let mut met = 0;
        read.each_of(&wanted, |_, at| {
            met += 1;
            assert_eq!(dictionary.get(codes[at] as usize), all.get(codes[at] as usize));
        });
        assert_eq!(met, 4);
        assert!(dictionary.joined.len() < all.joined.len() / 10, "the others are not written out");
    }
}

proptest! {
    #[test]
    fn round_trip_and_damage((column, rows) in any_column(), flip in any::<prop::sample::Index>()) {
        for effort in [Effort::Light, Effort::Full] {
            let mut bytes = Vec::new();
            encode_block(&column, 0, rows, &mut Presences::default(), effort, 1, &mut bytes);
            prop_assert_eq!(bits(&read(&bytes, rows).unwrap()), bits(&column));
            for cut in 0..bytes.len() {
                prop_assert!(read(&bytes[..cut], rows).is_err());
            }
            // A flipped byte may decode to another column (segment checksums catch that); it must never panic.
            let at = flip.index(bytes.len());
            for bit in 0..8 {
                let mut damaged = bytes.clone();
                damaged[at] ^= 1 << bit;
                let _ = read(&damaged, rows);
            }
        }
    }
}
