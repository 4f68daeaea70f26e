//! Rows of several pages put in a new order, column by column: what parts a batch by lane and day, joins small pages of
//! the head, seals it, and merges chunks. No event is taken apart for it.
#![cfg_attr(
    not(test),
    expect(clippy::indexing_slicing, reason = "writes what this process built: numbers that it gave out itself")
)]

use super::build::{Coded, MessageBuilder, presence};
use super::column::{Column, Values};
use super::dictionary::{Dictionary, Interner, Joined};
use super::key::{BuiltinColumn, ColumnKey};
use super::materialise::{field_value, overflow_fields};
use super::{MAX_FIELD_COLUMNS, Page, PageRead};
use calvex_language::error::{CoreError, Result};
use calvex_language::model::{Value, encode_value};
use std::collections::BTreeMap;
use std::sync::Arc;

/// A row of one of several pages.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SourceRow {
    /// Which page.
    pub source: u32,
    /// Which row of it.
    pub row: u32,
}

/// The page of the rows `order` of `sources`. Fields beyond [`MAX_FIELD_COLUMNS`] go into the overflow column.
///
/// # Errors
/// Where a source cannot be read, or `order` is empty.
pub fn permute(sources: &[&dyn PageRead], order: &[SourceRow]) -> Result<Page> {
    let mut used = vec![false; sources.len()];
    order.iter().for_each(|p| used[p.source as usize] = true);
    let mut by_key: BTreeMap<&ColumnKey, Vec<(usize, usize)>> = BTreeMap::new();
    for (source, page) in sources.iter().enumerate().filter(|(s, _)| used[*s]) {
        for (index, key) in page.keys().iter().enumerate() {
            by_key.entry(key).or_default().push((source, index));
        }
    }
    let mut parts = Vec::with_capacity(by_key.len());
    let mut spilled = Spill::default();
    let mut fields = 0;
    for (key, places) in by_key {
        let loaded = Loaded::at(sources, &places)?;
        let beyond = matches!(key, ColumnKey::Field(..)) && fields >= MAX_FIELD_COLUMNS;
        if beyond || *key == ColumnKey::Builtin(BuiltinColumn::Overflow) {
            spilled.take(key, &loaded, order)?;
        } else if let Some(column) = loaded.arranged(order)? {
            fields += usize::from(matches!(key, ColumnKey::Field(..)));
            parts.push((key.clone(), column));
        }
    }
    if let Some(column) = spilled.column(order.len()) {
        let key = ColumnKey::Builtin(BuiltinColumn::Overflow);
        let at = parts.partition_point(|(k, _)| *k < key);
        parts.insert(at, (key, column));
    }
    Page::new(order.len(), parts)
}

/// The columns of one key, of every source that has it.
pub struct Loaded {
    columns: Vec<Option<Source>>,
}

impl Loaded {
    /// Reads the columns of `key`.
    ///
    /// # Errors
    /// Where a source cannot be read.
    pub fn of(sources: &[&dyn PageRead], key: &ColumnKey) -> Result<Self> {
        let place = |(n, page): (usize, &&dyn PageRead)| Some((n, page.keys().binary_search(key).ok()?));
        Self::at(sources, &sources.iter().enumerate().filter_map(place).collect::<Vec<_>>())
    }

    /// Reads column `index` of one page.
    pub(super) fn of_one(page: &dyn PageRead, index: usize) -> Result<Self> {
        Self::at(&[page], &[(0, index)])
    }

    fn at(sources: &[&dyn PageRead], places: &[(usize, usize)]) -> Result<Self> {
        let mut columns: Vec<Option<Source>> = sources.iter().map(|_| None).collect();
        for (source, index) in places {
            let page = sources[*source];
            columns[*source] = page.column(*index)?.map(|c| Source::new(c, page.rows()));
        }
        Ok(Loaded { columns })
    }

    /// The column of the rows `order`; `None` where none of them has a value.
    ///
    /// # Errors
    /// Where a column does not hold what its type says.
    pub fn arranged(&self, order: &[SourceRow]) -> Result<Option<Column>> {
        rearranged(&self.columns, order)
    }
}

/// A column of one source, with the place of each row at hand.
struct Source {
    column: Arc<Column>,
    /// Place by row, `u32::MAX` where the row has none; nothing where every row has.
    places: Option<Vec<u32>>,
}

impl Source {
    fn new(column: Arc<Column>, rows: usize) -> Self {
        let places = column.present.as_ref().map(|present| {
            let mut places = vec![u32::MAX; rows];
            for (place, row) in present.iter().enumerate() {
                if let Some(slot) = places.get_mut(*row as usize) {
                    *slot = place as u32;
                }
            }
            places
        });
        Source { column, places }
    }

    fn place(&self, row: u32) -> Option<usize> {
        match &self.places {
            None => Some(row as usize),
            Some(places) => places.get(row as usize).filter(|p| **p != u32::MAX).map(|p| *p as usize),
        }
    }
}

/// The rows of `order` that have a value: new row, source, its place there.
fn valued<'a>(columns: &'a [Option<Source>], order: &'a [SourceRow]) -> impl Iterator<Item = (u32, usize, usize)> + 'a {
    order.iter().enumerate().filter_map(|(row, placed)| {
        let source = columns.get(placed.source as usize)?.as_ref()?;
        Some((row as u32, placed.source as usize, source.place(placed.row)?))
    })
}

fn mixed() -> CoreError {
    CoreError::damaged("a page", "columns of one key are of two types")
}

fn rearranged(columns: &[Option<Source>], order: &[SourceRow]) -> Result<Option<Column>> {
    let Some(first) = columns.iter().flatten().next() else { return Ok(None) };
    let of = order.len();
    match &first.column.values {
        Values::Nulls => {
            let rows: Vec<u32> = valued(columns, order).map(|(row, ..)| row).collect();
            Ok((!rows.is_empty()).then(|| Column { present: presence(rows, of), values: Values::Nulls }))
        }
        Values::Bools(_) => {
            copied(columns, order, |v| if let Values::Bools(v) = v { Some(v) } else { None }, Values::Bools)
        }
        Values::Ints(_) => {
            copied(columns, order, |v| if let Values::Ints(v) = v { Some(v) } else { None }, Values::Ints)
        }
        Values::Floats(_) => {
            copied(columns, order, |v| if let Values::Floats(v) = v { Some(v) } else { None }, Values::Floats)
        }
        Values::Texts { .. } => recoded::<String>(
            columns,
            order,
            |v| if let Values::Texts { dictionary, codes } = v { Some((dictionary, codes)) } else { None },
            |dictionary, codes| Values::Texts { dictionary, codes },
        ),
        Values::Blobs { .. } => recoded::<Vec<u8>>(
            columns,
            order,
            |v| if let Values::Blobs { dictionary, codes } = v { Some((dictionary, codes)) } else { None },
            |dictionary, codes| Values::Blobs { dictionary, codes },
        ),
        Values::Messages(_) => messages(columns, order),
    }
}

fn messages(columns: &[Option<Source>], order: &[SourceRow]) -> Result<Option<Column>> {
    let mut sources = Vec::with_capacity(columns.len());
    for source in columns {
        sources.push(match source.as_ref().map(|s| &s.column.values) {
            Some(Values::Messages(m)) => Some((&m.templates, &m.codes, m.variables()?)),
            Some(_) => return Err(mixed()),
            None => None,
        });
    }
    // The new code of each old template, looked up once.
    let mut known: Vec<Vec<u32>> = sources.iter().map(|s| vec![u32::MAX; s.map_or(0, |(t, ..)| t.len())]).collect();
    let mut builder = MessageBuilder::default();
    for (row, source, place) in valued(columns, order) {
        let (templates, codes, variables) = sources[source].ok_or_else(mixed)?;
        let old = *codes.get(place).ok_or_else(mixed)? as usize;
        let slot = known[source].get_mut(old).ok_or_else(mixed)?;
        if *slot == u32::MAX {
            *slot = builder.template_code(templates.get(old));
        }
        builder.push_coded(row, *slot, variables.of(place));
    }
    Ok(builder.column(order.len()))
}

fn copied<T: Copy>(
    columns: &[Option<Source>],
    order: &[SourceRow],
    list: impl Fn(&Values) -> Option<&Vec<T>>,
    values: impl Fn(Vec<T>) -> Values,
) -> Result<Option<Column>> {
    let lists: Vec<Option<&Vec<T>>> = columns.iter().map(|c| c.as_ref().and_then(|c| list(&c.column.values))).collect();
    let (mut rows, mut out) = (Vec::with_capacity(order.len()), Vec::with_capacity(order.len()));
    for (row, source, place) in valued(columns, order) {
        out.push(*lists[source].and_then(|l| l.get(place)).ok_or_else(mixed)?);
        rows.push(row);
    }
    Ok((!rows.is_empty()).then(|| Column { present: presence(rows, order.len()), values: values(out) }))
}

fn recoded<T: Joined>(
    columns: &[Option<Source>],
    order: &[SourceRow],
    coded: impl Fn(&Values) -> Option<(&Dictionary<T>, &Vec<u32>)>,
    values: impl Fn(Dictionary<T>, Vec<u32>) -> Values,
) -> Result<Option<Column>> {
    let sources: Vec<_> = columns.iter().map(|c| c.as_ref().and_then(|c| coded(&c.column.values))).collect();
    // The new code of each old one, looked up once.
    let mut known: Vec<Vec<u32>> = sources.iter().map(|s| vec![u32::MAX; s.map_or(0, |(d, _)| d.len())]).collect();
    let mut interner = Interner::<T>::default();
    let (mut rows, mut codes) = (Vec::with_capacity(order.len()), Vec::with_capacity(order.len()));
    for (row, source, place) in valued(columns, order) {
        let (dictionary, old) = sources[source].ok_or_else(mixed)?;
        let old = *old.get(place).ok_or_else(mixed)? as usize;
        let slot = known[source].get_mut(old).ok_or_else(mixed)?;
        if *slot == u32::MAX {
            *slot = interner.code(dictionary.get(old));
        }
        codes.push(*slot);
        rows.push(row);
    }
    let column = |rows| Column { present: presence(rows, order.len()), values: values(interner.dictionary, codes) };
    Ok((!rows.is_empty()).then(|| column(rows)))
}

/// Values that get no column of their own.
#[derive(Default)]
pub struct Spill {
    by_row: BTreeMap<u32, Vec<(String, Value)>>,
}

impl Spill {
    /// Takes the values of a column, which may be an overflow itself.
    ///
    /// # Errors
    /// Where a column does not hold what its type says.
    pub fn take(&mut self, key: &ColumnKey, loaded: &Loaded, order: &[SourceRow]) -> Result<()> {
        for (row, source, place) in valued(&loaded.columns, order) {
            let Some(Source { column, .. }) = &loaded.columns[source] else { continue };
            let fields = self.by_row.entry(row).or_default();
            match key {
                ColumnKey::Field(path, kind) => {
                    fields.push((path.as_str().to_owned(), field_value(*kind, &column.values, place)?));
                }
                ColumnKey::Builtin(_) => fields.extend(overflow_fields(&column.values, place)?),
            }
        }
        Ok(())
    }

    /// The overflow column of a page of `rows`.
    pub fn column(self, rows: usize) -> Option<Column> {
        let mut coded = Coded::<Vec<u8>>::default();
        let mut bytes = Vec::new();
        for (row, fields) in self.by_row {
            bytes.clear();
            encode_value(&Value::Object(fields), &mut bytes);
            coded.push(row, &bytes);
        }
        coded.column(rows)
    }
}
