//! A page in memory, and what search asks of a page wherever it stands.

use super::column::{Column, Values};
use super::dictionary::Texts;
use super::key::{BuiltinColumn, ColumnKey};
use super::rows::Rows;
use super::texts::Letters;
use calvex_language::error::{CoreError, Result};
use std::sync::Arc;

/// A page that can be scanned: in memory, or read column by column from a chunk.
pub trait PageRead {
    /// How many events.
    fn rows(&self) -> usize;
    /// The earliest and the latest time in it, nanoseconds.
    fn time_span(&self) -> (i64, i64);
    /// The columns it may have, in order.
    fn keys(&self) -> &[ColumnKey];
    /// Reads at once what the columns for whose index `wanted` is true stand in, where the question is cold, since they
    /// are asked for next. What cannot be read is left to that.
    fn prefetch(&self, _wanted: &dyn Fn(usize) -> bool) {}
    /// The column of key `index`; `None` where no row of this page has it.
    ///
    /// # Errors
    /// Where stored bytes cannot be fetched or do not decode.
    fn column(&self, index: usize) -> Result<Option<Arc<Column>>>;
    /// As [`PageRead::column`], of which only the values of `rows` are asked for: others may be wrong in it.
    ///
    /// # Errors
    /// As [`PageRead::column`].
    fn column_of(&self, index: usize, _rows: &Rows) -> Result<Option<Arc<Column>>> {
        self.column(index)
    }
    /// As [`PageRead::column_of`], for whoever takes the values of a few rows out of all columns: nothing of the column is
    /// kept for the next who asks.
    ///
    /// # Errors
    /// As [`PageRead::column`].
    fn column_at(&self, index: usize, rows: &Rows) -> Result<Option<Arc<Column>>> {
        self.column_of(index, rows)
    }
    /// As [`PageRead::column`], for whoever looks for texts that pass a test. A text that passes holds `letters`, and
    /// `any_shared` returns whether one of the values that pages share passes. None also where no text of the page passes.
    ///
    /// # Errors
    /// As [`PageRead::column`].
    fn column_if(
        &self,
        index: usize,
        _letters: Letters,
        _any_shared: &dyn Fn(&Texts) -> bool,
    ) -> Result<Option<Arc<Column>>> {
        self.column(index)
    }
    /// Smallest and largest number of a column, where known without reading it.
    fn zone(&self, index: usize) -> Option<(f64, f64)>;
    /// A rough size of its events in memory.
    fn weight_bytes(&self) -> usize;

    /// An own column.
    ///
    /// # Errors
    /// As [`PageRead::column`].
    fn builtin(&self, builtin: BuiltinColumn) -> Result<Option<Arc<Column>>> {
        // BuiltinColumn columns stand first and in order.
        let keys = self.keys();
        let owned = keys.partition_point(|k| matches!(k, ColumnKey::Builtin(o) if *o < builtin));
        match keys.get(owned) {
            Some(ColumnKey::Builtin(found)) if *found == builtin => self.column(owned),
            _ => Ok(None),
        }
    }
}

/// A page in memory.
#[derive(Debug, Clone)]
pub struct Page {
    rows: usize,
    span: (i64, i64),
    /// Asked for on every way through intake.
    weight: usize,
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
        let weight = columns.iter().map(|c| c.weight_bytes()).sum();
        let mut page = Page { rows, span: (0, 0), weight, keys, columns };
        let ordered = page.keys.is_sorted_by(|a, b| a < b);
        let time = page.builtin(BuiltinColumn::Time)?;
        match time.as_deref() {
            Some(Column { present: None, values: Values::Ints(times) })
                if ordered && times.len() == rows && rows > 0 =>
            {
                let lo = times.iter().min().copied().unwrap_or(0);
                page.span = (lo, times.iter().max().copied().unwrap_or(lo));
                Ok(page)
            }
            _ => Err(CoreError::damaged("a page", "it has no time for each row")),
        }
    }

    /// The same page with its events' ids in journal row `seq` of `node` and `epoch`; ordinals are kept.
    pub fn with_origin(mut self, node: u16, epoch: u32, seq: u64) -> Self {
        self.put(BuiltinColumn::IdOrigin, Values::Ints(vec![i64::from(node) << 32 | i64::from(epoch); self.rows]));
        self.put(BuiltinColumn::IdSeq, Values::Ints(vec![seq as i64; self.rows]));
        self
    }

    /// The same page with each event numbered by its row.
    pub fn with_ordinals(mut self) -> Self {
        self.put(BuiltinColumn::IdOrdinal, Values::Ints((0..self.rows as i64).collect()));
        self
    }

    /// Sets an own column that every row has.
    fn put(&mut self, own: BuiltinColumn, values: Values) {
        let key = ColumnKey::Builtin(own);
        let column = Arc::new(Column { present: None, values });
        self.weight += column.weight_bytes();
        match self.keys.binary_search(&key) {
            Ok(at) => {
                if let Some(slot) = self.columns.get_mut(at) {
                    self.weight = self.weight.saturating_sub(slot.weight_bytes());
                    *slot = column;
                }
            }
            Err(at) => {
                self.keys.insert(at, key);
                self.columns.insert(at, column);
            }
        }
    }

    /// Each column with its key.
    pub fn keyed_columns(&self) -> impl Iterator<Item = (&ColumnKey, &Arc<Column>)> {
        self.keys.iter().zip(&self.columns)
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

    fn weight_bytes(&self) -> usize {
        self.weight
    }
}
