//! Where a sent field can stand in a page: in columns of its own, one for each type; in a list of objects above it; in the
//! overflow of what had no room for a column.

use super::{BuiltinColumn, ColumnKey, FieldType, PageRead, overflow_fields};
use calvex_language::error::Result;
use calvex_language::model::{Path, Value};
use calvex_language::query::{SentName, matching};

/// A column that can hold a sent field.
pub struct SentColumn<'a> {
    /// Its index among the page's keys.
    pub index: usize,
    /// The path of the column.
    pub path: &'a Path,
    /// The type of its values.
    pub kind: FieldType,
    /// Whether the column is of the field itself. Otherwise it holds lists in whose objects the field may stand, and
    /// [`matching::descend`] finds its values there.
    pub own: bool,
}

/// The columns that can hold the field `name`.
pub fn columns_of<'a>(keys: &'a [ColumnKey], name: &'a SentName) -> impl Iterator<Item = SentColumn<'a>> {
    columns_where(keys, name, |path| name.is(path))
}

/// The columns that can hold the field `name` or any field below it.
pub fn columns_at_or_below<'a>(keys: &'a [ColumnKey], name: &'a SentName) -> impl Iterator<Item = SentColumn<'a>> {
    columns_where(keys, name, |path| name.covers(&path.dotted()))
}

fn columns_where<'a>(
    keys: &'a [ColumnKey],
    name: &'a SentName,
    is_own: impl Fn(&Path) -> bool,
) -> impl Iterator<Item = SentColumn<'a>> {
    keys.iter().enumerate().filter_map(move |(index, key)| {
        let ColumnKey::Field(path, kind) = key else { return None };
        let own = is_own(path);
        let holds = own || *kind == FieldType::Nested && matching::at_or_below(name.as_str(), &path.dotted());
        holds.then_some(SentColumn { index, path, kind: *kind, own })
    })
}

/// Calls `each` with row, path and value of every field in the overflow; whether the page has an overflow.
///
/// # Errors
/// Where the column cannot be read.
pub fn each_overflowing(page: &dyn PageRead, mut each: impl FnMut(usize, &Path, &Value)) -> Result<bool> {
    let Some(column) = page.builtin(BuiltinColumn::Overflow)? else { return Ok(false) };
    for value_index in 0..column.values.len().unwrap_or(0) {
        for (path, value) in overflow_fields(&column.values, value_index)? {
            each(column.row(value_index), &Path::from_stored(&path), &value);
        }
    }
    Ok(true)
}

/// Calls `each` with row and value of every value of the field `name` in the overflow; whether the page has an overflow.
///
/// # Errors
/// Where the column cannot be read.
pub fn each_value_overflowing(
    page: &dyn PageRead,
    name: &SentName,
    mut each: impl FnMut(usize, &Value),
) -> Result<bool> {
    each_overflowing(page, |row, path, value| {
        matching::descend(path, value, name).into_iter().for_each(|found| each(row, found));
    })
}
