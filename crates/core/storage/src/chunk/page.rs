//! One page of a chunk: its columns, read as search asks for them.

use super::reader::Directory;
use super::source::ChunkSource;
use super::{ordinals, v1};
use crate::columns::{
    BuiltinColumn, Column, ColumnKey, FEW_PART, FieldType, Letters, PageRead, Rows, Shared, Texts, Values, Wanted,
    decode_block_of,
};
use calvex_language::error::{CoreError, Result};
use std::cell::RefCell;
use std::collections::HashMap;
use std::sync::Arc;

/// Where less than this part of a page's rows is asked for, their numbers and codes alone are read.
const VERY_FEW_PART: usize = 64;

/// One page of a chunk; reads the columns it is asked for, and keeps them for the next question.
pub struct ChunkPage<'a> {
    directory: Arc<Directory>,
    page: usize,
    source: &'a dyn ChunkSource,
    read: Option<RefCell<HashMap<usize, Option<Arc<Column>>>>>,
}

impl<'a> ChunkPage<'a> {
    /// Page `page` of the chunk.
    pub fn new(directory: Arc<Directory>, page: usize, source: &'a dyn ChunkSource) -> Self {
        ChunkPage { directory, page, source, read: Some(RefCell::default()) }
    }

    /// The same, keeping nothing: for merging, which takes each column once.
    pub fn passing(directory: Arc<Directory>, page: usize, source: &'a dyn ChunkSource) -> Self {
        ChunkPage { directory, page, source, read: None }
    }

    /// Reads what is wanted of a column.
    fn fetch(&self, index: usize, wanted: Wanted) -> Result<Option<Arc<Column>>> {
        let directory = &self.directory;
        let Some(block) = directory.block(index, self.page) else { return Ok(None) };
        let Some(key) = directory.keys.get(index) else { return Ok(None) };
        directory.prefetch(self.page, std::iter::once(index), self.source);
        if directory.version == 1 {
            let read = directory.bytes(block, self.source, |bytes| v1::column(key, bytes, self.rows()));
            return read.map(|c| Some(Arc::new(c)));
        }
        let shared = directory.shared(index, self.source)?;
        // The rows of an earlier column; it stands before this one, so the way back ends.
        let earlier = |n: u32| {
            let earlier = usize::try_from(n).ok().filter(|n| *n < index)?;
            self.column(earlier).ok()??.present.clone()
        };
        let column = directory
            .bytes(block, self.source, |bytes| decode_block_of(bytes, self.rows(), &shared, &earlier, wanted).ok())?;
        let column = if directory.version > 2 && *key == ColumnKey::Builtin(BuiltinColumn::IdOrdinal) {
            self.by_distance(column, block.segment)?
        } else {
            column
        };
        let fits = match key {
            ColumnKey::Builtin(own) => own_fits(*own, &column.values),
            ColumnKey::Field(_, kind) => field_fits(*kind, &column.values),
        };
        if !fits {
            let location = format!("chunk {:x} segment {}", directory.chunk, block.segment);
            return Err(CoreError::damaged(location, "a column is of another type than the directory says"));
        }
        Ok(Some(Arc::new(column)))
    }
}

impl ChunkPage<'_> {
    /// Turns distances into ordinals.
    fn by_distance(&self, column: Column, segment: u16) -> Result<Column> {
        let seqs = self.builtin(BuiltinColumn::IdSeq)?;
        let turned = match (&column.values, seqs.as_deref().map(|c| &c.values)) {
            (Values::Ints(distances), Some(Values::Ints(seqs))) => ordinals::ordinals(distances, seqs),
            _ => None,
        };
        let location = || format!("chunk {:x} segment {segment}", self.directory.chunk);
        let turned = turned.ok_or_else(|| CoreError::damaged(location(), "ordinals without journal rows"))?;
        Ok(Column { values: Values::Ints(turned), ..column })
    }
}

fn own_fits(own: BuiltinColumn, values: &Values) -> bool {
    match own {
        BuiltinColumn::Service
        | BuiltinColumn::Host
        | BuiltinColumn::Sender
        | BuiltinColumn::Layout
        | BuiltinColumn::Transformed => matches!(values, Values::Texts { .. }),
        BuiltinColumn::Message => matches!(values, Values::Messages(_)),
        BuiltinColumn::Trace | BuiltinColumn::Span | BuiltinColumn::Parent | BuiltinColumn::Overflow => {
            matches!(values, Values::Blobs { .. })
        }
        _ => matches!(values, Values::Ints(_)),
    }
}

fn field_fits(kind: FieldType, values: &Values) -> bool {
    match kind {
        FieldType::Null => matches!(values, Values::Nulls),
        FieldType::Bool => matches!(values, Values::Bools(_)),
        FieldType::Int | FieldType::UInt => matches!(values, Values::Ints(_)),
        FieldType::Float => matches!(values, Values::Floats(_)),
        FieldType::Text | FieldType::Decimal => matches!(values, Values::Texts { .. }),
        FieldType::Nested => matches!(values, Values::Blobs { .. }),
    }
}

impl PageRead for ChunkPage<'_> {
    fn rows(&self) -> usize {
        self.directory.pages.get(self.page).map_or(0, |p| p.rows)
    }

    fn time_span(&self) -> (i64, i64) {
        self.directory.pages.get(self.page).map_or((0, 0), |p| (p.time_min, p.time_max))
    }

    fn keys(&self) -> &[ColumnKey] {
        &self.directory.keys
    }

    fn prefetch(&self, wanted: &dyn Fn(usize) -> bool) {
        self.directory.prefetch(self.page, (0..self.directory.keys.len()).filter(|n| wanted(*n)), self.source);
    }

    fn column(&self, index: usize) -> Result<Option<Arc<Column>>> {
        let Some(kept) = &self.read else { return self.fetch(index, Wanted::All) };
        if let Some(read) = kept.borrow().get(&index) {
            return Ok(read.clone());
        }
        let (at, columns) = ((self.directory.chunk, self.page, index), self.source.columns());
        let column = match columns.and_then(|columns| columns.get(at)) {
            Some(column) => Some(column),
            None => {
                let column = self.fetch(index, Wanted::All)?;
                if let (Some(columns), Some(column)) = (columns, &column) {
                    columns.keep(at, column);
                }
                column
            }
        };
        kept.borrow_mut().insert(index, column.clone());
        Ok(column)
    }

    fn column_if(
        &self,
        index: usize,
        letters: Letters,
        any_shared: &dyn Fn(&Texts) -> bool,
    ) -> Result<Option<Arc<Column>>> {
        let directory = &self.directory;
        let is_read = self.read.as_ref().is_none_or(|read| read.borrow().contains_key(&index));
        let Some(block) = directory.block(index, self.page).filter(|_| !is_read && directory.version > 1) else {
            return self.column(index);
        };
        if directory.letters(index, self.page, block, self.source)?.may_hold(letters) {
            return self.column(index);
        }
        match directory.shared(index, self.source)? {
            Shared::Texts(texts) if any_shared(&texts) => self.column(index),
            Shared::Texts(_) | Shared::None => Ok(None),
            Shared::Blobs(_) => self.column(index),
        }
    }

    fn column_of(&self, index: usize, rows: &Rows) -> Result<Option<Arc<Column>>> {
        let is_text = matches!(self.directory.keys.get(index), Some(ColumnKey::Field(_, FieldType::Text)));
        let is_read = self.read.as_ref().is_none_or(|read| read.borrow().contains_key(&index));
        let are_few = rows.count() * FEW_PART < self.rows();
        if !is_text || !are_few || is_read {
            return self.column(index);
        }
        // What is kept for other questions has to be whole, which a column must be worth: it was asked for before.
        let at = (self.directory.chunk, self.page, index);
        match self.source.columns() {
            Some(columns) if columns.get(at).is_some() || columns.was_asked_for(at) => self.column(index),
            _ => self.fetch(index, Wanted::Texts(rows)),
        }
    }

    fn column_at(&self, index: usize, rows: &Rows) -> Result<Option<Arc<Column>>> {
        // Journal rows and ordinals are worked out from one another, row by row.
        let whole = [BuiltinColumn::IdSeq, BuiltinColumn::IdOrdinal, BuiltinColumn::Message].map(ColumnKey::Builtin);
        let is_whole = self.directory.keys.get(index).is_some_and(|key| whole.contains(key));
        let is_read = self.read.as_ref().is_none_or(|read| read.borrow().contains_key(&index));
        let at = (self.directory.chunk, self.page, index);
        let is_kept = self.source.columns().is_some_and(|columns| columns.get(at).is_some());
        if is_whole || is_read || is_kept || rows.count() * VERY_FEW_PART >= self.rows() {
            return self.column_of(index, rows);
        }
        self.fetch(index, Wanted::Few(rows))
    }

    fn zone(&self, index: usize) -> Option<(f64, f64)> {
        self.directory.block(index, self.page).and_then(|b| b.zone)
    }

    fn weight_bytes(&self) -> usize {
        self.directory.pages.get(self.page).map_or(0, |p| p.weight_bytes)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::chunk::tests::{Shelf, build, event};
    use crate::columns::{materialise, materialise_all};
    use calvex_language::model::{Event, Path, Value};

    #[test]
    fn few_rows_are_what_they_are_among_all() {
        let sparse = |n: u32| {
            let mut e = event(n);
            let odd = n.wrapping_mul(2_654_435_761) >> 7;
            e.id.seq = u64::from(n / 500);
            e.id.ordinal = n % 500;
            e.host = format!("bank-{}", odd % 9);
            e.trace = odd.is_multiple_of(3).then(|| u128::from(odd).to_be_bytes());
            // A few are wider than the rest.
            let wide = if odd.is_multiple_of(1000) { 1 << 30 } else { 1 };
            e.took_ns = odd.is_multiple_of(5).then_some(i64::from(odd) * wide);
            let more = [
                ("weight", Value::Float(f64::from(odd) / 7.0), 2),
                ("courier", Value::Text(format!("C-{odd:x}")), 3),
                ("signed", Value::Bool(odd.is_multiple_of(7)), 4),
                ("doors", Value::List(vec![Value::Int(i64::from(odd % 30)), Value::Null]), 6),
                ("note", Value::Null, 11),
            ];
            let has = more.into_iter().filter(|(_, _, of)| odd.is_multiple_of(*of));
            e.fields.extend(has.map(|(name, value, _)| (Path::root(name), value)));
            if odd.is_multiple_of(13) {
                e.message = format!("parcel {odd} is {} cm high", odd % 90);
            }
            e
        };
        let chunk = &build(&(0..20_000).map(sparse).collect::<Vec<_>>(), 8192, || 7)[0];
        let shelf = Shelf(chunk.segments.clone());
        let directory = shelf.directory(chunk.id).unwrap();
        for page in 0..directory.pages.len() {
            let whole = materialise_all(&ChunkPage::new(directory.clone(), page, &shelf)).unwrap();
            let last = whole.len() - 1;
            let every = |n: usize| (0..=last).step_by(n).collect::<Vec<_>>();
            for rows in [vec![0], vec![last], vec![1, 2, 77, last / 2], every(97), every(65), every(20), every(3)] {
                let few = materialise(&ChunkPage::new(directory.clone(), page, &shelf), &rows).unwrap();
                let expected: Vec<Event> = rows.iter().map(|row| whole[*row].clone()).collect();
                assert!(few == expected, "page {page}, {} rows", rows.len());
            }
        }
    }
}
