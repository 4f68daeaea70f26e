//! One column of a page in memory.

use super::dictionary::{Blobs, Texts};
use super::key::{ColumnKey, FieldType};
use super::messages::Messages;
use super::rows::Rows;
use std::sync::Arc;

/// The values of the rows that have one, in row order.
#[derive(Debug, Clone, PartialEq)]
#[allow(missing_docs)]
pub enum Values {
    /// Nothing but presence.
    Nulls,
    Bools(Vec<bool>),
    Ints(Vec<i64>),
    Floats(Vec<f64>),
    Texts {
        dictionary: Texts,
        codes: Vec<u32>,
    },
    Blobs {
        dictionary: Blobs,
        codes: Vec<u32>,
    },
    /// Only of the message.
    Messages(Messages),
}

impl Values {
    /// How many values; `None` where only presence is kept.
    pub fn len(&self) -> Option<usize> {
        Some(match self {
            Values::Nulls => return None,
            Values::Bools(v) => v.len(),
            Values::Ints(v) => v.len(),
            Values::Floats(v) => v.len(),
            Values::Texts { codes, .. } | Values::Blobs { codes, .. } => codes.len(),
            Values::Messages(m) => m.codes.len(),
        })
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.len() == Some(0)
    }
}

/// One column of a page.
#[derive(Debug, Clone, PartialEq)]
pub struct Column {
    /// The rows that have a value, ascending; `None` where all have. Columns that go together share one list.
    pub present: Option<Arc<[u32]>>,
    /// Their values.
    pub values: Values,
}

impl Column {
    /// The value index in `values` of `row`, if it has one.
    #[inline]
    pub fn value_index(&self, row: usize) -> Option<usize> {
        match &self.present {
            None => Some(row),
            Some(rows) => rows.binary_search(&(row as u32)).ok(),
        }
    }

    /// The row of the value at `value_index`.
    #[inline]
    pub fn row(&self, value_index: usize) -> usize {
        match &self.present {
            None => value_index,
            Some(rows) => rows.get(value_index).map_or(usize::MAX, |r| *r as usize),
        }
    }

    /// Calls `f` with each of the rows that has a value, and the value's index, in order.
    #[inline]
    pub fn each_of(&self, rows: &Rows, mut f: impl FnMut(usize, usize)) {
        match &self.present {
            None => rows.iter().for_each(|row| f(row, row)),
            Some(present) => {
                let stands = present.iter().enumerate().filter(|(_, row)| rows.has(**row as usize));
                stands.for_each(|(value_index, row)| f(*row as usize, value_index));
            }
        }
    }

    /// The number of a row.
    #[inline]
    pub fn int(&self, row: usize) -> Option<i64> {
        match &self.values {
            Values::Ints(v) => v.get(self.value_index(row)?).copied(),
            _ => None,
        }
    }

    /// Smallest and largest number under this key, rounded to floats; `None` where it has no numbers or a NaN.
    pub fn zone_of(&self, key: &ColumnKey) -> Option<(f64, f64)> {
        if matches!(key, ColumnKey::Field(_, FieldType::UInt)) {
            return None;
        }
        match &self.values {
            Values::Ints(v) => Some((*v.iter().min()? as f64, *v.iter().max()? as f64)),
            Values::Floats(v) if !v.is_empty() && v.iter().all(|f| !f.is_nan()) => {
                Some(v.iter().fold((f64::INFINITY, f64::NEG_INFINITY), |(lo, hi), n| (lo.min(*n), hi.max(*n))))
            }
            _ => None,
        }
    }

    /// A rough size in memory.
    pub fn weight_bytes(&self) -> usize {
        let values = match &self.values {
            Values::Nulls => 0,
            Values::Bools(v) => v.len(),
            Values::Ints(v) => v.len() * 8,
            Values::Floats(v) => v.len() * 8,
            Values::Texts { dictionary, codes } => dictionary.weight_bytes() + codes.len() * 4,
            Values::Blobs { dictionary, codes } => dictionary.weight_bytes() + codes.len() * 4,
            Values::Messages(m) => m.weight_bytes(),
        };
        96 + values + self.present.as_ref().map_or(0, |p| p.len() * 4)
    }
}
