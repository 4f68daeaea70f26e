//! The values that groups are made of.

use calvex_language::model::Value;
use calvex_language::model::{shape, template};
use calvex_language::query::Num;
use xxhash_rust::xxh3::xxh3_64_with_seed;

/// One value of a field, as groups separate values: equal numbers are one, whatever they are stored as.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum GroupValue {
    /// The event has no such field.
    Missing,
    /// JSON null.
    Null,
    /// true or false.
    Bool(bool),
    /// A whole number.
    Whole(i128),
    /// Any other number, by the bits of its double.
    Float(u64),
    /// Text.
    Text(String),
    /// A shape, by its template.
    Shape(String),
}

/// A [`GroupValue`] that stands somewhere else.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
#[allow(missing_docs)]
pub enum ValueRef<'a> {
    Missing,
    Null,
    Bool(bool),
    Whole(i128),
    Float(u64),
    Text(&'a str),
    Shape(&'a str),
}

impl ValueRef<'_> {
    /// A value of its own.
    pub fn to_value(self) -> GroupValue {
        match self {
            ValueRef::Missing => GroupValue::Missing,
            ValueRef::Null => GroupValue::Null,
            ValueRef::Bool(b) => GroupValue::Bool(b),
            ValueRef::Whole(n) => GroupValue::Whole(n),
            ValueRef::Float(bits) => GroupValue::Float(bits),
            ValueRef::Text(t) => GroupValue::Text(t.to_owned()),
            ValueRef::Shape(t) => GroupValue::Shape(t.to_owned()),
        }
    }

    /// A hash by which distinct values differ.
    pub fn hash64(self) -> u64 {
        match self {
            ValueRef::Missing => 0,
            ValueRef::Null => xxh3_64_with_seed(b"", 1),
            ValueRef::Bool(b) => xxh3_64_with_seed(&[u8::from(b)], 2),
            ValueRef::Whole(n) => xxh3_64_with_seed(&n.to_le_bytes(), 3),
            ValueRef::Float(bits) => xxh3_64_with_seed(&bits.to_le_bytes(), 4),
            ValueRef::Text(t) => xxh3_64_with_seed(t.as_bytes(), 5),
            ValueRef::Shape(t) => xxh3_64_with_seed(t.as_bytes(), 6),
        }
    }
}

impl GroupValue {
    /// The same, standing here.
    pub fn as_ref(&self) -> ValueRef<'_> {
        match self {
            GroupValue::Missing => ValueRef::Missing,
            GroupValue::Null => ValueRef::Null,
            GroupValue::Bool(b) => ValueRef::Bool(*b),
            GroupValue::Whole(n) => ValueRef::Whole(*n),
            GroupValue::Float(bits) => ValueRef::Float(*bits),
            GroupValue::Text(t) => ValueRef::Text(t),
            GroupValue::Shape(t) => ValueRef::Shape(t),
        }
    }

    /// Bytes of its text.
    pub fn text_bytes(&self) -> usize {
        match self {
            GroupValue::Text(t) | GroupValue::Shape(t) => t.len(),
            _ => 0,
        }
    }

    /// Of a number.
    pub fn number(n: Num) -> Self {
        n.whole.map_or_else(|| GroupValue::Float(n.float.to_bits()), GroupValue::Whole)
    }

    /// The number, if it is one.
    pub fn as_num(&self) -> Option<Num> {
        match self {
            GroupValue::Whole(n) => Some(Num::int(*n)),
            GroupValue::Float(bits) => Some(Num::float(f64::from_bits(*bits))),
            _ => None,
        }
    }

    /// The values that a sent value counts as: each element of a list by itself, objects and bytes not at all.
    pub fn of(value: &Value, out: &mut Vec<GroupValue>) {
        match value {
            Value::Null => out.push(GroupValue::Null),
            Value::Bool(b) => out.push(GroupValue::Bool(*b)),
            Value::Int(n) => out.push(GroupValue::number(Num::int(i128::from(*n)))),
            Value::UInt(n) => out.push(GroupValue::number(Num::int(i128::from(*n)))),
            Value::Float(f) => out.push(GroupValue::number(Num::float(*f))),
            Value::Decimal(t) => out.push(GroupValue::number(Num::decimal(t))),
            Value::Text(t) => out.push(GroupValue::Text(t.clone())),
            Value::List(list) => list.iter().for_each(|v| GroupValue::of(v, out)),
            Value::Bytes(_) | Value::Object(_) => {}
        }
    }

    /// A hash by which distinct values differ.
    pub fn hash64(&self) -> u64 {
        self.as_ref().hash64()
    }

    /// As JSON; a shape by its id.
    pub fn to_json(&self) -> serde_json::Value {
        match self {
            GroupValue::Missing | GroupValue::Null => serde_json::Value::Null,
            GroupValue::Bool(b) => (*b).into(),
            GroupValue::Whole(n) => i64::try_from(*n)
                .map(Into::into)
                .or_else(|_| u64::try_from(*n).map(Into::into))
                .unwrap_or_else(|_| n.to_string().into()),
            GroupValue::Float(bits) => f64::from_bits(*bits).into(),
            GroupValue::Text(t) => t.as_str().into(),
            GroupValue::Shape(t) => shape::id(t).into(),
        }
    }
}

impl std::fmt::Display for GroupValue {
    fn fmt(&self, f: &mut std::fmt::Formatter) -> std::fmt::Result {
        match self {
            GroupValue::Missing => f.write_str("(missing)"),
            GroupValue::Null => f.write_str("null"),
            GroupValue::Bool(b) => write!(f, "{b}"),
            GroupValue::Whole(n) => write!(f, "{n}"),
            GroupValue::Float(bits) => write!(f, "{}", f64::from_bits(*bits)),
            GroupValue::Text(t) => f.write_str(t),
            GroupValue::Shape(t) => f.write_str(&template::shown(t)),
        }
    }
}
