//! The numbers of a field in the rows of a page.

use calvex_language::error::Result;
use calvex_language::model::{Value, decode_value};
use calvex_language::query::{Builtin, Field, Num, matching};
use calvex_storage::columns::{
    BuiltinColumn, Column, FieldType, PageRead, SentColumn, Values, columns_of, each_value_overflowing, field_value,
};
use std::sync::Arc;

/// What an aggregate takes of a row.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub(super) enum RowNumber {
    /// Nothing.
    #[default]
    None,
    /// A whole number; any where the row is only counted.
    Int(i64),
    /// A double.
    Float(f64),
}

/// The one column of the field, where whole numbers are all that the page has of it: the usual case, and the quick one.
pub(super) fn plain_ints(field: &Field, page: &dyn PageRead) -> Result<Option<Arc<Column>>> {
    let Field::Sent(name) = field else { return Ok(None) };
    let mut only = None;
    if page.builtin(BuiltinColumn::Overflow)?.is_some() {
        return Ok(None);
    }
    for SentColumn { index, kind, .. } in columns_of(page.keys(), name) {
        let Some(column) = page.column(index)? else { continue };
        if kind != FieldType::Int || only.replace(column).is_some() {
            return Ok(None);
        }
    }
    Ok(only)
}

/// Calls `f` with row and number of every number of the field, those in lists too.
pub(super) fn numbers(field: &Field, page: &dyn PageRead, mut f: impl FnMut(usize, Num)) -> Result<()> {
    let name = match field {
        Field::Sent(name) => name,
        Field::Builtin(part) => {
            let Some(own) = number_column(*part) else { return Ok(()) };
            if let Some(column) = page.builtin(own)?
                && let Values::Ints(v) = &column.values
            {
                v.iter().enumerate().for_each(|(value_index, n)| f(column.row(value_index), Num::int(i128::from(*n))));
            }
            return Ok(());
        }
    };
    for SentColumn { index, path, kind, .. } in columns_of(page.keys(), name) {
        let Some(column) = page.column(index)? else { continue };
        match (&column.values, kind) {
            (Values::Ints(v), FieldType::Int) => {
                v.iter().enumerate().for_each(|(value_index, n)| f(column.row(value_index), Num::int(i128::from(*n))));
            }
            (Values::Floats(v), _) => {
                v.iter().enumerate().for_each(|(value_index, n)| f(column.row(value_index), Num::float(*n)))
            }
            (Values::Texts { .. }, FieldType::Text) | (Values::Bools(_) | Values::Nulls, _) => {}
            (Values::Blobs { dictionary, codes }, _) => {
                for (value_index, code) in codes.iter().enumerate() {
                    let Some(value) = decode_value(dictionary.get(*code as usize)) else { continue };
                    for found in matching::descend(path, &value, name) {
                        in_value(found, &mut |n| f(column.row(value_index), n));
                    }
                }
            }
            (values, kind) => {
                for value_index in 0..values.len().unwrap_or(0) {
                    in_value(&field_value(kind, values, value_index)?, &mut |n| f(column.row(value_index), n));
                }
            }
        }
    }
    each_value_overflowing(page, name, |row, value| in_value(value, &mut |n| f(row, n)))?;
    Ok(())
}

/// Every number of a value.
pub(super) fn in_value(value: &Value, f: &mut dyn FnMut(Num)) {
    match value {
        Value::Int(n) => f(Num::int(i128::from(*n))),
        Value::UInt(n) => f(Num::int(i128::from(*n))),
        Value::Float(n) => f(Num::float(*n)),
        Value::Decimal(t) => f(Num::decimal(t)),
        Value::List(list) => list.iter().for_each(|v| in_value(v, f)),
        _ => {}
    }
}

/// The number of a field in each row; nothing where there may be several.
pub(super) fn row_numbers(field: &Field, page: &dyn PageRead) -> Result<Option<Vec<RowNumber>>> {
    let mut numbers = vec![RowNumber::None; page.rows()];
    let mut put = |column: &Column| -> bool {
        let mut each = |value_index: usize, number: RowNumber| {
            let slot = numbers.get_mut(column.row(value_index)).filter(|slot| **slot == RowNumber::None);
            slot.map(|slot| *slot = number).is_some()
        };
        match &column.values {
            Values::Ints(v) => v.iter().enumerate().all(|(at, n)| each(at, RowNumber::Int(*n))),
            Values::Floats(v) => v.iter().enumerate().all(|(at, n)| each(at, RowNumber::Float(*n))),
            _ => false,
        }
    };
    let name = match field {
        Field::Sent(name) => name,
        Field::Builtin(part) => {
            let Some(own) = number_column(*part) else { return Ok(Some(numbers)) };
            let alone = page.builtin(own)?.is_none_or(|column| put(&column));
            return Ok(alone.then_some(numbers));
        }
    };
    if page.builtin(BuiltinColumn::Overflow)?.is_some() {
        return Ok(None);
    }
    for SentColumn { index, kind, .. } in columns_of(page.keys(), name) {
        // What holds no number adds none.
        if matches!(kind, FieldType::Text | FieldType::Bool | FieldType::Null) {
            continue;
        }
        let is_plain = matches!(kind, FieldType::Int | FieldType::Float);
        if let Some(column) = page.column(index)?
            && !(is_plain && put(&column))
        {
            return Ok(None);
        }
    }
    Ok(Some(numbers))
}

/// The column of a part of an event, where it is one of numbers.
fn number_column(part: Builtin) -> Option<BuiltinColumn> {
    match part {
        Builtin::Time => Some(BuiltinColumn::Time),
        Builtin::Arrived => Some(BuiltinColumn::Arrived),
        Builtin::Severity => Some(BuiltinColumn::Severity),
        Builtin::Took => Some(BuiltinColumn::Took),
        _ => None,
    }
}
