//! Varints and the binary form of a [`Value`], used inside blob columns.
//!
//! A value is a tag byte and its content: 0 null, 1 false, 2 true, 3 zigzag varint, 4 varint (above `i64::MAX`),
//! 5 eight bytes of a float (little endian), 6 text, 7 bytes, 8 list, 9 object, 10 a decimal as text. Lengths and counts are varints.

use super::Value;

/// Deepest nesting that is read back; what is taken in is bounded lower (see `normalise::Limits`).
const MAX_DEPTH: usize = 128;

/// Unsigned LEB128.
#[inline]
pub fn put_varint(out: &mut Vec<u8>, mut n: u64) {
    while n >= 0x80 {
        out.push(n as u8 | 0x80);
        n >>= 7;
    }
    out.push(n as u8);
}

/// Reads what [`put_varint`] wrote and moves `at` behind it.
#[inline]
pub fn take_varint(bytes: &[u8], at: &mut usize) -> Option<u64> {
    let mut n = 0u64;
    for shift in (0..64).step_by(7) {
        let b = *bytes.get(*at)?;
        *at += 1;
        if shift == 63 && b > 1 {
            return None;
        }
        n |= u64::from(b & 0x7f) << shift;
        if b < 0x80 {
            return Some(n);
        }
    }
    None
}

/// Signed to unsigned, small magnitudes first.
#[inline]
pub fn zigzag(n: i64) -> u64 {
    ((n << 1) ^ (n >> 63)) as u64
}

/// The inverse of [`zigzag`].
#[inline]
pub fn unzigzag(n: u64) -> i64 {
    (n >> 1) as i64 ^ -((n & 1) as i64)
}

/// Appends the binary form of `value`.
pub fn encode_value(value: &Value, out: &mut Vec<u8>) {
    let sized = |out: &mut Vec<u8>, tag: u8, bytes: &[u8]| {
        out.push(tag);
        put_varint(out, bytes.len() as u64);
        out.extend_from_slice(bytes);
    };
    match value {
        Value::Null => out.push(0),
        Value::Bool(v) => out.push(1 + u8::from(*v)),
        Value::Int(v) => {
            out.push(3);
            put_varint(out, zigzag(*v));
        }
        Value::UInt(v) => {
            out.push(4);
            put_varint(out, *v);
        }
        Value::Float(v) => {
            out.push(5);
            out.extend_from_slice(&v.to_bits().to_le_bytes());
        }
        Value::Text(v) => sized(out, 6, v.as_bytes()),
        Value::Bytes(v) => sized(out, 7, v),
        Value::Decimal(v) => sized(out, 10, v.as_bytes()),
        Value::List(v) => {
            out.push(8);
            put_varint(out, v.len() as u64);
            v.iter().for_each(|item| encode_value(item, out));
        }
        Value::Object(v) => {
            out.push(9);
            put_varint(out, v.len() as u64);
            for (k, item) in v {
                put_varint(out, k.len() as u64);
                out.extend_from_slice(k.as_bytes());
                encode_value(item, out);
            }
        }
    }
}

/// Reads one value that fills `bytes` wholly; `None` for anything else.
pub fn decode_value(bytes: &[u8]) -> Option<Value> {
    let mut at = 0;
    let value = take_value(bytes, &mut at, 0)?;
    (at == bytes.len()).then_some(value)
}

fn take_bytes<'a>(bytes: &'a [u8], at: &mut usize) -> Option<&'a [u8]> {
    let len = usize::try_from(take_varint(bytes, at)?).ok()?;
    let taken = bytes.get(*at..at.checked_add(len)?)?;
    *at += len;
    Some(taken)
}

fn take_text(bytes: &[u8], at: &mut usize) -> Option<String> {
    String::from_utf8(take_bytes(bytes, at)?.to_vec()).ok()
}

fn take_value(bytes: &[u8], at: &mut usize, depth: usize) -> Option<Value> {
    if depth > MAX_DEPTH {
        return None;
    }
    let tag = *bytes.get(*at)?;
    *at += 1;
    Some(match tag {
        0 => Value::Null,
        1 => Value::Bool(false),
        2 => Value::Bool(true),
        3 => Value::Int(unzigzag(take_varint(bytes, at)?)),
        4 => Value::UInt(take_varint(bytes, at)?),
        5 => {
            let raw: [u8; 8] = bytes.get(*at..*at + 8)?.try_into().ok()?;
            *at += 8;
            Value::Float(f64::from_bits(u64::from_le_bytes(raw)))
        }
        6 => Value::Text(take_text(bytes, at)?),
        7 => Value::Bytes(take_bytes(bytes, at)?.to_vec()),
        // Each item takes a byte at least, so the claimed count never makes us allocate more than we were given.
        8 => {
            let n = take_varint(bytes, at)?;
            (0..n).map(|_| take_value(bytes, at, depth + 1)).collect::<Option<Vec<_>>>().map(Value::List)?
        }
        9 => {
            let n = take_varint(bytes, at)?;
            (0..n)
                .map(|_| Some((take_text(bytes, at)?, take_value(bytes, at, depth + 1)?)))
                .collect::<Option<Vec<_>>>()
                .map(Value::Object)?
        }
        10 => Value::Decimal(take_text(bytes, at)?),
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn any_value() -> impl Strategy<Value = Value> {
        let leaf = prop_oneof![
            Just(Value::Null),
            any::<bool>().prop_map(Value::Bool),
            any::<i64>().prop_map(Value::Int),
            ((i64::MAX as u64 + 1)..=u64::MAX).prop_map(Value::UInt),
            any::<f64>().prop_map(Value::Float),
            ".*".prop_map(Value::Text),
            any::<Vec<u8>>().prop_map(Value::Bytes),
            "[1-9][0-9]{20,30}".prop_map(Value::Decimal),
        ];
        leaf.prop_recursive(4, 24, 5, |inner| {
            prop_oneof![
                prop::collection::vec(inner.clone(), 0..5).prop_map(Value::List),
                prop::collection::btree_map(".{0,6}", inner, 0..5).prop_map(|m| Value::Object(m.into_iter().collect())),
            ]
        })
    }

    proptest! {
        #[test]
        fn values_round_trip(value in any_value()) {
            let mut bytes = Vec::new();
            encode_value(&value, &mut bytes);
            prop_assert_eq!(decode_value(&bytes), Some(value));
            for cut in 0..bytes.len() {
                prop_assert_eq!(decode_value(&bytes[..cut]), None);
            }
        }

        #[test]
        fn varints_round_trip(n in any::<u64>(), s in any::<i64>()) {
            let mut bytes = Vec::new();
            put_varint(&mut bytes, n);
            prop_assert_eq!(take_varint(&bytes, &mut 0), Some(n));
            prop_assert_eq!(unzigzag(zigzag(s)), s);
        }
    }
}
