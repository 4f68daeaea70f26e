//! The order of events, which answers and chunks go by: time, then id.

use super::{BuiltinColumn, Column, PageRead};
use calvex_language::error::{CoreError, Result};
use calvex_language::model::EventId;
use std::sync::Arc;

/// Reads time and id of a page's rows.
pub struct OrderKeys {
    time: Arc<Column>,
    origin: Arc<Column>,
    seq: Arc<Column>,
    ordinal: Arc<Column>,
}

fn missing() -> CoreError {
    CoreError::damaged("a page", "it lacks times or ids")
}

impl OrderKeys {
    /// Of a page.
    ///
    /// # Errors
    /// Where the page lacks one of the columns, or one cannot be read.
    pub fn of(page: &dyn PageRead) -> Result<Self> {
        let column = |own| page.builtin(own)?.ok_or_else(missing);
        Ok(OrderKeys {
            time: column(BuiltinColumn::Time)?,
            origin: column(BuiltinColumn::IdOrigin)?,
            seq: column(BuiltinColumn::IdSeq)?,
            ordinal: column(BuiltinColumn::IdOrdinal)?,
        })
    }

    /// Time and id of a row.
    ///
    /// # Errors
    /// Where the page has no such row.
    pub fn get(&self, row: usize) -> Result<(i64, EventId)> {
        let int = |column: &Column| column.int(row).ok_or_else(missing);
        let origin = int(&self.origin)?;
        let id = EventId {
            node: (origin >> 32) as u16,
            epoch: origin as u32,
            seq: int(&self.seq)? as u64,
            ordinal: int(&self.ordinal)? as u32,
        };
        Ok((int(&self.time)?, id))
    }
}
