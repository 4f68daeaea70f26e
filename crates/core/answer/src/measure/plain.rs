//! Fields of which a page has one column, of texts or whole numbers: each row has one value then, and it need not be coded.

use super::ValueRef;
use super::coded::{code, hashes_of};
use super::whole_counts::hash_of_whole;
use calvex_language::error::Result;
use calvex_language::query::{Builtin, Field};
use calvex_storage::columns::{
    BuiltinColumn, Column, FieldType, PageRead, Rows, SentColumn, Values, builtin_column, columns_of,
};
use std::sync::Arc;

/// The one column of the field, where texts or whole numbers are all that the page has of it: the usual case, and the quick
/// one.
pub(super) fn plain_column(field: &Field, page: &dyn PageRead, rows: &Rows) -> Result<Option<Arc<Column>>> {
    let name = match field {
        Field::Sent(name) => name,
        Field::Builtin(own) => {
            let is_plain = matches!(
                own,
                Builtin::Service | Builtin::Host | Builtin::Sender | Builtin::Time | Builtin::Arrived | Builtin::Took
            );
            return builtin_column(*own).filter(|_| is_plain).map_or(Ok(None), |own| page.builtin(own));
        }
    };
    let mut only = None;
    for SentColumn { index, kind, .. } in columns_of(page.keys(), name) {
        let Some(column) = page.column_of(index, rows)? else { continue };
        if !matches!(kind, FieldType::Text | FieldType::Int) || only.replace(column).is_some() {
            return Ok(None);
        }
    }
    if only.is_some() && page.builtin(BuiltinColumn::Overflow)?.is_some() {
        return Ok(None);
    }
    Ok(only)
}

/// Calls `f` with the row and the hash of every value of the field in the rows of a page, each value of a row once.
///
/// # Errors
/// Where a column cannot be read.
pub(super) fn each_hash(
    field: &Field,
    page: &dyn PageRead,
    rows: &Rows,
    lane: &str,
    mut f: impl FnMut(usize, u64),
) -> Result<()> {
    let plain = plain_column(field, page, rows)?;
    match plain.as_deref().map(|column| (column, &column.values)) {
        Some((column, Values::Texts { dictionary, codes })) => {
            let shared = dictionary.shared.as_deref().map_or(&[][..], hashes_of);
            let own = (shared.len()..dictionary.len()).map(|code| ValueRef::Text(dictionary.get(code)).hash64());
            let own: Vec<u64> = own.collect();
            let hash = |code: usize| shared.get(code).or_else(|| own.get(code.checked_sub(shared.len())?)).copied();
            column.each_of(rows, |row, value_index| {
                if let Some(hash) = codes.get(value_index).and_then(|code| hash(*code as usize)) {
                    f(row, hash);
                }
            });
        }
        Some((column, Values::Ints(numbers))) => column.each_of(rows, |row, value_index| {
            if let Some(n) = numbers.get(value_index) {
                f(row, hash_of_whole(*n));
            }
        }),
        _ => {
            let coded = code(field, page, rows, lane)?;
            let hashes = coded.hashes();
            coded.each(rows, |row, code| f(row, hashes.get(code as usize).copied().unwrap_or(0)));
        }
    }
    Ok(())
}
