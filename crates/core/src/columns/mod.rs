//! Events as columns: the one form in which the head holds them, the journal and chunks keep them, and search scans
//! them. A page is up to [`PAGE_ROWS`] events in (time, id) order; a column is one own part, or one field path and type.

mod block;
mod build;
mod gather;
mod rows;
mod select;

pub use block::{decode_block, encode_block};
pub use build::build_page;
pub use gather::{gather, gather_all};
pub use rows::Rows;
pub use select::{select, select_in_range};

use crate::error::Result;
use crate::event::Path;
use std::sync::Arc;

/// Most rows of a page.
pub const PAGE_ROWS: usize = 8192;
/// A page is closed when its events weigh this much, so that no column block outgrows a chunk part.
pub const PAGE_WEIGHT_BYTES: usize = 2 << 20;

/// Own parts as stored columns. The numbers are part of the chunk format.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[repr(u8)]
#[allow(missing_docs)]
pub enum Own {
    Time = 0,
    Arrived = 1,
    SentTime = 2,
    /// node << 32 | epoch
    IdOrigin = 3,
    IdSeq = 4,
    IdPlace = 5,
    Severity = 6,
    Kind = 7,
    Service = 8,
    Host = 9,
    Sender = 10,
    Layout = 11,
    Message = 12,
    Trace = 13,
    Span = 14,
    Parent = 15,
}

impl Own {
    /// Every own column in stored order.
    pub const ALL: [Own; 16] = [
        Own::Time,
        Own::Arrived,
        Own::SentTime,
        Own::IdOrigin,
        Own::IdSeq,
        Own::IdPlace,
        Own::Severity,
        Own::Kind,
        Own::Service,
        Own::Host,
        Own::Sender,
        Own::Layout,
        Own::Message,
        Own::Trace,
        Own::Span,
        Own::Parent,
    ];
}

/// The type of a field column. The numbers are part of the chunk format.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[repr(u8)]
#[allow(missing_docs)]
pub enum FieldType {
    Null = 0,
    Bool = 1,
    Int = 2,
    /// Above `i64::MAX`; the bits of the `u64`.
    UInt = 3,
    Float = 4,
    Text = 5,
    /// Lists, bytes and empty objects, in the binary form of a value.
    Nested = 6,
}

impl FieldType {
    /// Every type in stored order.
    pub const ALL: [FieldType; 7] = [
        FieldType::Null,
        FieldType::Bool,
        FieldType::Int,
        FieldType::UInt,
        FieldType::Float,
        FieldType::Text,
        FieldType::Nested,
    ];

    /// As shown to people.
    pub fn name(self) -> &'static str {
        match self {
            FieldType::Null => "null",
            FieldType::Bool => "bool",
            FieldType::Int | FieldType::UInt => "integer",
            FieldType::Float => "number",
            FieldType::Text => "text",
            FieldType::Nested => "list",
        }
    }
}

/// What a column holds.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum ColumnKey {
    /// An own part.
    Own(Own),
    /// A field of one type.
    Field(Path, FieldType),
}

/// Distinct values one behind another; code `i` is the bytes up to `ends[i]`.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Dictionary<T> {
    /// All values joined.
    pub joined: T,
    /// The end of each.
    pub ends: Vec<u32>,
}

impl<T> Dictionary<T> {
    /// How many values.
    pub fn len(&self) -> usize {
        self.ends.len()
    }

    /// Whether it holds none.
    pub fn is_empty(&self) -> bool {
        self.ends.is_empty()
    }

    fn span(&self, code: usize) -> std::ops::Range<usize> {
        let end = self.ends.get(code).copied().unwrap_or(0) as usize;
        let start = if code == 0 { 0 } else { self.ends.get(code - 1).copied().unwrap_or(0) as usize };
        start..end
    }
}

impl Dictionary<String> {
    /// The text of a code.
    pub fn text(&self, code: usize) -> &str {
        self.joined.get(self.span(code)).unwrap_or("")
    }
}

impl Dictionary<Vec<u8>> {
    /// The bytes of a code.
    pub fn bytes(&self, code: usize) -> &[u8] {
        self.joined.get(self.span(code)).unwrap_or(&[])
    }
}

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
        dictionary: Dictionary<String>,
        codes: Vec<u32>,
    },
    Blobs {
        dictionary: Dictionary<Vec<u8>>,
        codes: Vec<u32>,
    },
}

/// One column of a page.
#[derive(Debug, Clone, PartialEq)]
pub struct Column {
    /// The rows that have a value, ascending; `None` where all have.
    pub present: Option<Vec<u32>>,
    /// Their values.
    pub values: Values,
}

impl Column {
    /// The place in `values` of `row`, if it has one.
    pub fn place(&self, row: usize) -> Option<usize> {
        match &self.present {
            None => Some(row),
            Some(rows) => rows.binary_search(&(row as u32)).ok(),
        }
    }

    /// The number of a row.
    pub fn int(&self, row: usize) -> Option<i64> {
        match &self.values {
            Values::Ints(v) => v.get(self.place(row)?).copied(),
            _ => None,
        }
    }

    /// The text of a row.
    pub fn text(&self, row: usize) -> Option<&str> {
        match &self.values {
            Values::Texts { dictionary, codes } => Some(dictionary.text(*codes.get(self.place(row)?)? as usize)),
            _ => None,
        }
    }

    /// The bytes of a row.
    pub fn bytes(&self, row: usize) -> Option<&[u8]> {
        match &self.values {
            Values::Blobs { dictionary, codes } => Some(dictionary.bytes(*codes.get(self.place(row)?)? as usize)),
            _ => None,
        }
    }

    /// Smallest and largest number under this key, rounded to floats; `None` where it has no numbers or a NaN.
    pub fn zone_of(&self, key: &ColumnKey) -> Option<(f64, f64)> {
        if matches!(key, ColumnKey::Field(_, FieldType::UInt)) {
            return None;
        }
        let fold = |mut numbers: Box<dyn Iterator<Item = f64> + '_>| {
            let first = numbers.next()?;
            let zone = numbers.fold((first, first), |(lo, hi), n| (lo.min(n), hi.max(n)));
            Some(zone)
        };
        match &self.values {
            Values::Ints(v) => fold(Box::new(v.iter().map(|n| *n as f64))),
            Values::Floats(v) if v.iter().all(|f| !f.is_nan()) => fold(Box::new(v.iter().copied())),
            _ => None,
        }
    }
}

/// A page that can be scanned: in memory, or read column by column from a chunk.
pub trait PageRead {
    /// How many events.
    fn rows(&self) -> usize;
    /// The earliest and the latest time in it, nanoseconds.
    fn time_span(&self) -> (i64, i64);
    /// The columns it may have, in order.
    fn keys(&self) -> &[ColumnKey];
    /// The column of key `index`; `None` where no row of this page has it.
    ///
    /// # Errors
    /// Where stored bytes cannot be fetched or do not decode.
    fn column(&self, index: usize) -> Result<Option<Arc<Column>>>;
    /// Smallest and largest number of a column, where known without reading it.
    fn zone(&self, index: usize) -> Option<(f64, f64)>;

    /// An own column.
    ///
    /// # Errors
    /// As [`PageRead::column`].
    fn own(&self, own: Own) -> Result<Option<Arc<Column>>> {
        match self.keys().iter().position(|k| *k == ColumnKey::Own(own)) {
            Some(index) => self.column(index),
            None => Ok(None),
        }
    }
}

/// A page in memory.
#[derive(Debug, Clone)]
pub struct Page {
    rows: usize,
    span: (i64, i64),
    keys: Vec<ColumnKey>,
    columns: Vec<Arc<Column>>,
}

impl Page {
    /// From its columns, in the order of their keys.
    ///
    /// # Errors
    /// Where a column does not fit `rows`, or one that every event has is missing.
    pub fn new(rows: usize, parts: Vec<(ColumnKey, Column)>) -> Result<Self> {
        let (keys, columns): (Vec<_>, Vec<_>) = parts.into_iter().map(|(k, c)| (k, Arc::new(c))).unzip();
        let mut page = Page { rows, span: (0, 0), keys, columns };
        let time = page.own(Own::Time)?;
        match time.as_deref() {
            Some(Column { present: None, values: Values::Ints(times) }) if times.len() == rows && rows > 0 => {
                let lo = times.iter().min().copied().unwrap_or(0);
                page.span = (lo, times.iter().max().copied().unwrap_or(lo));
                Ok(page)
            }
            _ => Err(crate::CoreError::damaged("a page", "it has no time for each row")),
        }
    }

    /// The same page with its events' ids in journal row `seq` of `node` and `epoch`; places are kept.
    pub fn with_origin(mut self, node: u16, epoch: u32, seq: u64) -> Self {
        let constant = |n: i64| Arc::new(Column { present: None, values: Values::Ints(vec![n; self.rows]) });
        let origin = constant(i64::from(node) << 32 | i64::from(epoch));
        let seq = constant(seq as i64);
        for (own, column) in [(Own::IdOrigin, origin), (Own::IdSeq, seq)] {
            let key = ColumnKey::Own(own);
            match self.keys.binary_search(&key) {
                Ok(at) => self.columns[at] = column,
                Err(at) => {
                    self.keys.insert(at, key);
                    self.columns.insert(at, column);
                }
            }
        }
        self
    }

    /// Each column with its key.
    pub fn parts(&self) -> impl Iterator<Item = (&ColumnKey, &Arc<Column>)> {
        self.keys.iter().zip(&self.columns)
    }

    /// A rough size in memory.
    pub fn weight_bytes(&self) -> usize {
        let values = |c: &Column| match &c.values {
            Values::Nulls => 0,
            Values::Bools(v) => v.len(),
            Values::Ints(v) => v.len() * 8,
            Values::Floats(v) => v.len() * 8,
            Values::Texts { dictionary, codes } => dictionary.joined.len() + (dictionary.len() + codes.len()) * 4,
            Values::Blobs { dictionary, codes } => dictionary.joined.len() + (dictionary.len() + codes.len()) * 4,
        };
        self.columns.iter().map(|c| 96 + values(c) + c.present.as_ref().map_or(0, |p| p.len() * 4)).sum()
    }
}

impl PageRead for Page {
    fn rows(&self) -> usize {
        self.rows
    }

    fn time_span(&self) -> (i64, i64) {
        self.span
    }

    fn keys(&self) -> &[ColumnKey] {
        &self.keys
    }

    fn column(&self, index: usize) -> Result<Option<Arc<Column>>> {
        Ok(self.columns.get(index).cloned())
    }

    fn zone(&self, index: usize) -> Option<(f64, f64)> {
        self.columns.get(index).zip(self.keys.get(index)).and_then(|(c, k)| c.zone_of(k))
    }
}
