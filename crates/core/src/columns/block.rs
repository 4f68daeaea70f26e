//! A column as bytes.
//!
//! ```text
//! block   := packing:u8  raw_len:varint  body          packing 0: body is raw; 1: body is one zstd frame of it
//! raw     := kind:u8  count:varint  presence  values
//! presence:= 0                                          every row has a value (count = rows of the page)
//!          | 1  first:varint  gap:varint*               the rows, ascending; a gap is the distance less one
//! values  := kind 0 nulls   nothing
//!            kind 1 bools   one byte each
//!            kind 2 ints    0  zigzag varints of each difference to the one before
//!                         | 1  least:zigzag varint, then varints of each less the least (wrapping)
//!            kind 3 floats  eight bytes each, little endian
//!            kind 4 texts   distinct:varint  length:varint*  bytes (UTF-8)  codes
//!            kind 5 blobs   the same, any bytes
//! codes   := 0                                          value n has code n
//!          | 1  varint*
//! ```
//!
//! Every count is checked against the bytes at hand before anything is allocated for it.

use super::{Column, Dictionary, Values};
use crate::error::{CoreError, Result};
use crate::event::{put_varint, take_varint, unzigzag, zigzag};

/// Largest block once unpacked.
const MAX_RAW_BYTES: usize = 64 << 20;
/// Below this, compression does not pay for its header.
const MIN_PACK_BYTES: usize = 64;

/// Appends the block of `column` at a zstd `level`.
pub fn encode_block(column: &Column, level: i32, out: &mut Vec<u8>) {
    let mut raw = Vec::new();
    encode_raw(column, &mut raw);
    let packed = if raw.len() < MIN_PACK_BYTES { None } else { zstd::bulk::compress(&raw, level).ok() };
    let packed = packed.filter(|p| p.len() < raw.len());
    out.push(u8::from(packed.is_some()));
    put_varint(out, raw.len() as u64);
    out.extend_from_slice(packed.as_deref().unwrap_or(&raw));
}

fn encode_raw(column: &Column, out: &mut Vec<u8>) {
    let (kind, count) = match &column.values {
        Values::Nulls => (0, column.present.as_ref().map_or(0, Vec::len)),
        Values::Bools(v) => (1, v.len()),
        Values::Ints(v) => (2, v.len()),
        Values::Floats(v) => (3, v.len()),
        Values::Texts { codes, .. } => (4, codes.len()),
        Values::Blobs { codes, .. } => (5, codes.len()),
    };
    out.push(kind);
    put_varint(out, count as u64);
    match &column.present {
        None => out.push(0),
        Some(rows) => {
            out.push(1);
            let mut next = 0;
            for row in rows {
                put_varint(out, u64::from(row - next));
                next = row + 1;
            }
        }
    }
    match &column.values {
        Values::Nulls => {}
        Values::Bools(v) => out.extend(v.iter().map(|b| u8::from(*b))),
        Values::Ints(v) => encode_ints(v, out),
        Values::Floats(v) => v.iter().for_each(|f| out.extend_from_slice(&f.to_bits().to_le_bytes())),
        Values::Texts { dictionary, codes } => encode_codes(&dictionary.ends, dictionary.joined.as_bytes(), codes, out),
        Values::Blobs { dictionary, codes } => encode_codes(&dictionary.ends, &dictionary.joined, codes, out),
    }
}

fn encode_ints(v: &[i64], out: &mut Vec<u8>) {
    let size = |n: u64| (64 - (n | 1).leading_zeros() as usize).div_ceil(7);
    let least = v.iter().min().copied().unwrap_or(0);
    let mut before = 0i64;
    let (mut by_step, mut by_least) = (0, 0);
    for n in v {
        by_step += size(zigzag(n.wrapping_sub(before)));
        by_least += size(n.wrapping_sub(least) as u64);
        before = *n;
    }
    if by_step <= by_least {
        out.push(0);
        let mut before = 0i64;
        for n in v {
            put_varint(out, zigzag(n.wrapping_sub(before)));
            before = *n;
        }
    } else {
        out.push(1);
        put_varint(out, zigzag(least));
        v.iter().for_each(|n| put_varint(out, n.wrapping_sub(least) as u64));
    }
}

fn encode_codes(ends: &[u32], joined: &[u8], codes: &[u32], out: &mut Vec<u8>) {
    put_varint(out, ends.len() as u64);
    let mut before = 0;
    for end in ends {
        put_varint(out, u64::from(end - before));
        before = *end;
    }
    out.extend_from_slice(joined);
    if codes.iter().enumerate().all(|(i, c)| i == *c as usize) {
        out.push(0);
    } else {
        out.push(1);
        codes.iter().for_each(|c| put_varint(out, u64::from(*c)));
    }
}

/// Reads a block of a page of `rows`.
///
/// # Errors
/// [`CoreError::Damaged`] for anything that [`encode_block`] would not have written for such a page.
pub fn decode_block(bytes: &[u8], rows: usize) -> Result<Column> {
    decode(bytes, rows).ok_or_else(|| CoreError::damaged("a column block", "its bytes do not decode"))
}

fn decode(bytes: &[u8], rows: usize) -> Option<Column> {
    let packing = *bytes.first()?;
    let mut at = 1;
    let raw_len = usize::try_from(take_varint(bytes, &mut at)?).ok().filter(|n| *n <= MAX_RAW_BYTES)?;
    let body = bytes.get(at..)?;
    let unpacked;
    let raw = match packing {
        0 => body,
        1 => {
            unpacked = zstd::bulk::decompress(body, raw_len).ok()?;
            unpacked.as_slice()
        }
        _ => return None,
    };
    if raw.len() != raw_len {
        return None;
    }
    let mut reader = Reader { bytes: raw, at: 0 };
    let column = reader.column(rows)?;
    (reader.at == raw.len()).then_some(column)
}

struct Reader<'a> {
    bytes: &'a [u8],
    at: usize,
}

impl<'a> Reader<'a> {
    fn byte(&mut self) -> Option<u8> {
        let b = *self.bytes.get(self.at)?;
        self.at += 1;
        Some(b)
    }

    fn varint(&mut self) -> Option<u64> {
        take_varint(self.bytes, &mut self.at)
    }

    fn take(&mut self, n: usize) -> Option<&'a [u8]> {
        let taken = self.bytes.get(self.at..self.at.checked_add(n)?)?;
        self.at += n;
        Some(taken)
    }

    /// A count of things that take a byte each at least.
    fn count(&mut self) -> Option<usize> {
        let n = usize::try_from(self.varint()?).ok()?;
        (n <= self.bytes.len() - self.at).then_some(n)
    }

    fn column(&mut self, rows: usize) -> Option<Column> {
        let kind = self.byte()?;
        let count = usize::try_from(self.varint()?).ok().filter(|n| *n <= rows)?;
        let present = match self.byte()? {
            0 if count == rows || kind == 0 && count == 0 => None,
            1 => {
                let mut list = Vec::with_capacity(count);
                let mut next = 0u64;
                for _ in 0..count {
                    let row = next.checked_add(self.varint()?)?;
                    if row >= rows as u64 {
                        return None;
                    }
                    list.push(row as u32);
                    next = row + 1;
                }
                Some(list)
            }
            _ => return None,
        };
        let values = match kind {
            0 => Values::Nulls,
            1 => Values::Bools(
                self.take(count)?.iter().map(|b| Some(*b).filter(|b| *b < 2).map(|b| b == 1)).collect::<Option<_>>()?,
            ),
            2 => Values::Ints(self.ints(count)?),
            3 => {
                let raw = self.take(count.checked_mul(8)?)?;
                let float = |c: &[u8]| c.try_into().ok().map(|c| f64::from_bits(u64::from_le_bytes(c)));
                Values::Floats(raw.chunks_exact(8).map(float).collect::<Option<_>>()?)
            }
            4 => {
                let (ends, joined, codes) = self.codes(count)?;
                let joined = String::from_utf8(joined.to_vec()).ok()?;
                if ends.iter().any(|e| !joined.is_char_boundary(*e as usize)) {
                    return None;
                }
                Values::Texts { dictionary: Dictionary { joined, ends }, codes }
            }
            5 => {
                let (ends, joined, codes) = self.codes(count)?;
                Values::Blobs { dictionary: Dictionary { joined: joined.to_vec(), ends }, codes }
            }
            _ => return None,
        };
        Some(Column { present, values })
    }

    fn ints(&mut self, count: usize) -> Option<Vec<i64>> {
        match self.byte()? {
            0 => {
                let mut before = 0i64;
                (0..count)
                    .map(|_| {
                        before = before.wrapping_add(unzigzag(self.varint()?));
                        Some(before)
                    })
                    .collect()
            }
            1 => {
                let least = unzigzag(self.varint()?);
                (0..count).map(|_| Some(least.wrapping_add(self.varint()? as i64))).collect()
            }
            _ => None,
        }
    }

    fn codes(&mut self, count: usize) -> Option<(Vec<u32>, &'a [u8], Vec<u32>)> {
        let distinct = self.count()?;
        let mut end = 0u64;
        let mut ends = Vec::with_capacity(distinct);
        for _ in 0..distinct {
            end = end.checked_add(self.varint()?)?;
            ends.push(u32::try_from(end).ok()?);
        }
        let joined = self.take(usize::try_from(end).ok()?)?;
        let codes: Vec<u32> = match self.byte()? {
            0 => (0..count as u32).collect(),
            1 => (0..count).map(|_| u32::try_from(self.varint()?).ok()).collect::<Option<_>>()?,
            _ => return None,
        };
        codes.iter().all(|c| (*c as usize) < distinct).then_some((ends, joined, codes))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn texts(values: &[&str], present: Option<Vec<u32>>) -> Column {
        let mut dictionary = Dictionary::<String>::default();
        for v in values {
            dictionary.joined.push_str(v);
            dictionary.ends.push(dictionary.joined.len() as u32);
        }
        Column { present, values: Values::Texts { dictionary, codes: (0..values.len() as u32).collect() } }
    }

    #[test]
    fn exact_bytes() {
        let mut out = Vec::new();
        encode_block(&texts(&["slot", "bänk"], Some(vec![1, 4])), 1, &mut out);
        let expected = [&[0, 18, 4, 2, 1, 1, 2, 2, 4, 5][..], "slotbänk".as_bytes(), &[0]].concat();
        assert_eq!(out, expected);
    }

    fn any_column() -> impl Strategy<Value = (Column, usize)> {
        let ints = prop::collection::vec(any::<i64>(), 1..40).prop_map(Values::Ints);
        let near = prop::collection::vec(1_791_000_000_000i64..1_791_000_001_000, 1..40).prop_map(Values::Ints);
        let floats = prop::collection::vec(any::<f64>(), 1..20).prop_map(Values::Floats);
        let bools = prop::collection::vec(any::<bool>(), 1..20).prop_map(Values::Bools);
        let texts = prop::collection::vec(".{0,30}", 1..20)
            .prop_map(|v| texts(&v.iter().map(String::as_str).collect::<Vec<_>>(), None).values);
        (prop_oneof![ints, near, floats, bools, texts], any::<bool>()).prop_map(|(values, sparse)| {
            let n = match &values {
                Values::Ints(v) => v.len(),
                Values::Floats(v) => v.len(),
                Values::Bools(v) => v.len(),
                Values::Texts { codes, .. } => codes.len(),
                _ => 0,
            };
            let present = sparse.then(|| (0..n as u32).map(|i| i * 3 + 1).collect());
            (Column { present, values }, if sparse { n * 3 + 2 } else { n })
        })
    }

    fn bits(c: &Column) -> String {
        // Debug text tells NaNs with different bits apart from numbers, which is all that is needed here.
        format!("{c:?}")
    }

    proptest! {
        #[test]
        fn round_trip_and_damage((column, rows) in any_column(), flip in any::<prop::sample::Index>()) {
            let mut bytes = Vec::new();
            encode_block(&column, 1, &mut bytes);
            prop_assert_eq!(bits(&decode_block(&bytes, rows).unwrap()), bits(&column));
            for cut in 0..bytes.len() {
                prop_assert!(decode_block(&bytes[..cut], rows).is_err());
            }
            // A flipped byte may decode to another column (part checksums catch that); it must never panic.
            let at = flip.index(bytes.len());
            for bit in 0..8 {
                let mut damaged = bytes.clone();
                damaged[at] ^= 1 << bit;
                let _ = decode_block(&damaged, rows);
            }
        }
    }
}
