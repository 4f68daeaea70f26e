//! A field's value, as typed as it came.
#![cfg_attr(not(test), expect(clippy::indexing_slicing, reason = "six bits index 64 letters"))]

use serde::de::{Deserialize, Deserializer};
use serde::ser::{Serialize, SerializeMap, SerializeSeq, Serializer};

/// A value. In an event's fields, objects are flattened away: only an empty one, or one inside a list, stays a value.
#[derive(Debug, Clone, Default)]
pub enum Value {
    /// JSON null.
    #[default]
    Null,
    /// true or false.
    Bool(bool),
    /// An integer within 64 signed bits.
    Int(i64),
    /// An integer above `i64::MAX`.
    UInt(u64),
    /// A binary floating point number.
    Float(f64),
    /// A number that neither 64 bits nor a double hold exactly, as it was written.
    Decimal(String),
    /// Text.
    Text(String),
    /// Bytes (OTLP only); shown as base64.
    Bytes(Vec<u8>),
    /// A list, in order.
    List(Vec<Value>),
    /// An object, in the order sent; the last of two equal names wins.
    Object(Vec<(String, Value)>),
}

/// Two values are equal when nothing in them differs: floats by their bits, objects in any order of names.
impl PartialEq for Value {
    fn eq(&self, other: &Self) -> bool {
        use Value::*;
        match (self, other) {
            (Null, Null) => true,
            (Bool(a), Bool(b)) => a == b,
            (Int(a), Int(b)) => a == b,
            (UInt(a), UInt(b)) => a == b,
            (Float(a), Float(b)) => a.to_bits() == b.to_bits(),
            (Text(a), Text(b)) | (Decimal(a), Decimal(b)) => a == b,
            (Bytes(a), Bytes(b)) => a == b,
            (List(a), List(b)) => a == b,
            (Object(a), Object(b)) => {
                a.len() == b.len() && a.iter().all(|(k, v)| b.iter().any(|(k2, v2)| k == k2 && v == v2))
            }
            _ => false,
        }
    }
}

impl Value {
    /// The name of the type, as shown to people.
    pub fn type_name(&self) -> &'static str {
        match self {
            Value::Null => "null",
            Value::Bool(_) => "bool",
            Value::Int(_) | Value::UInt(_) => "integer",
            Value::Float(_) | Value::Decimal(_) => "number",
            Value::Text(_) => "text",
            Value::Bytes(_) => "bytes",
            Value::List(_) => "list",
            Value::Object(_) => "object",
        }
    }

    /// The text, if it is one.
    pub fn as_text(&self) -> Option<&str> {
        match self {
            Value::Text(t) => Some(t),
            _ => None,
        }
    }

    /// A rough size in memory.
    pub fn weight_bytes(&self) -> usize {
        match self {
            Value::Text(t) | Value::Decimal(t) => t.len(),
            Value::Bytes(b) => b.len(),
            Value::List(l) => l.iter().map(|v| 32 + v.weight_bytes()).sum(),
            Value::Object(o) => o.iter().map(|(k, v)| 56 + k.len() + v.weight_bytes()).sum(),
            _ => 0,
        }
    }

    /// How many levels lie below (a scalar has 0).
    pub fn depth(&self) -> usize {
        match self {
            Value::List(l) => 1 + l.iter().map(Value::depth).max().unwrap_or(0),
            Value::Object(o) => 1 + o.iter().map(|(_, v)| v.depth()).max().unwrap_or(0),
            _ => 0,
        }
    }

    /// Puts `value` under `name`, replacing an earlier one.
    pub fn set(object: &mut Vec<(String, Value)>, name: String, value: Value) {
        match object.iter_mut().find(|(k, _)| *k == name) {
            Some(slot) => slot.1 = value,
            None => object.push((name, value)),
        }
    }
}

/// Reads by the rules of [`crate::json`], so that numbers stay exact; works with `serde_json` alone.
impl<'de> Deserialize<'de> for Value {
    fn deserialize<D: Deserializer<'de>>(de: D) -> Result<Self, D::Error> {
        let raw = Box::<serde_json::value::RawValue>::deserialize(de)?;
        crate::model::parse_value(raw.get()).map_err(serde::de::Error::custom)
    }
}

impl Serialize for Value {
    fn serialize<S: Serializer>(&self, ser: S) -> Result<S::Ok, S::Error> {
        match self {
            Value::Null => ser.serialize_unit(),
            Value::Bool(v) => ser.serialize_bool(*v),
            Value::Int(v) => ser.serialize_i64(*v),
            Value::UInt(v) => ser.serialize_u64(*v),
            Value::Float(v) if v.is_finite() => ser.serialize_f64(*v),
            // JSON has no such numbers; the names are those of the OTLP JSON mapping.
            Value::Float(v) if v.is_nan() => ser.serialize_str("NaN"),
            Value::Float(v) => ser.serialize_str(if *v > 0.0 { "Infinity" } else { "-Infinity" }),
            Value::Decimal(v) => match crate::model::write_number(v) {
                Some(number) => number.serialize(ser),
                None => ser.serialize_str(v),
            },
            Value::Text(v) => ser.serialize_str(v),
            Value::Bytes(v) => ser.serialize_str(&base64(v)),
            Value::List(v) => {
                let mut seq = ser.serialize_seq(Some(v.len()))?;
                for item in v {
                    seq.serialize_element(item)?;
                }
                seq.end()
            }
            Value::Object(v) => {
                let mut map = ser.serialize_map(Some(v.len()))?;
                for (k, item) in v {
                    map.serialize_entry(k, item)?;
                }
                map.end()
            }
        }
    }
}

/// Base64 of RFC 4648 with padding.
fn base64(bytes: &[u8]) -> String {
    const ALPHABET: &[u8; 64] = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    let mut out = String::with_capacity(bytes.len().div_ceil(3) * 4);
    for chunk in bytes.chunks(3) {
        let n = chunk.iter().enumerate().fold(0u32, |n, (i, b)| n | (u32::from(*b) << (16 - 8 * i)));
        for i in 0..4 {
            let six = (n >> (18 - 6 * i)) & 63;
            out.push(if i <= chunk.len() { ALPHABET[six as usize] as char } else { '=' });
        }
    }
    out
}

/// Any JSON.
#[cfg(feature = "schema")]
impl schemars::JsonSchema for Value {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "AnyValue".into()
    }

    fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
        true.into()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn json_round_trip_keeps_types() {
        let text = r#"{"a":1,"b":1.0,"c":18446744073709551615,"d":[1,"x",{"y":null}],"e":{},"f":-0.0,"g":0.9675705172575757,"h":5e-324,"i":1e400,"j":[0.1000000000000000055]}"#;
        let value: Value = serde_json::from_str(text).unwrap();
        assert_eq!(serde_json::to_string(&value).unwrap(), text);
    }

    #[test]
    fn last_of_two_equal_names_wins() {
        let value: Value = serde_json::from_str(r#"{"a":1,"b":2,"a":3}"#).unwrap();
        assert_eq!(value, serde_json::from_str(r#"{"a":3,"b":2}"#).unwrap());
    }

    #[test]
    fn bytes_show_as_base64() {
        assert_eq!(base64(b"lease"), "bGVhc2U=");
        assert_eq!(base64(b"lock"), "bG9jaw==");
        assert_eq!(base64(b"bank07"), "YmFuazA3");
    }
}
