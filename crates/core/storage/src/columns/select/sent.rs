//! Comparisons with sent fields: every column of the path, whatever its type, lists, and the overflow.

use super::super::sent::{SentColumn, columns_at_or_below, columns_of, each_overflowing, each_value_overflowing};
use super::super::{FieldType, field_value};
use super::verdicts::{asked, by_code};
use super::{Column, PageRead, Rows, Values, present};
use calvex_language::error::Result;
use calvex_language::model::{Value, decode_value};
use calvex_language::query::{Literal, Num, Op, SentName, Test, matching};

/// Whether no number between the ends of the zone can pass.
pub fn zone_excludes(test: &Test, zone: Option<(f64, f64)>) -> bool {
    let Some((lo, hi)) = zone else { return false };
    let float = |l: &Literal| l.number.map(|n| n.float);
    match test {
        Test::Compare(op, l) => match (op, float(l)) {
            (Op::Eq, Some(n)) => n < lo || n > hi,
            (Op::Lt, Some(n)) => lo > n,
            (Op::Le, Some(n)) => lo > n,
            (Op::Gt, Some(n)) => hi < n,
            (Op::Ge, Some(n)) => hi < n,
            (Op::Ne, _) | (_, None) => false,
        },
        Test::Between(a, b) => float(a).is_some_and(|a| hi < a) || float(b).is_some_and(|b| lo > b),
        _ => false,
    }
}

/// The rows whose field `name` passes.
pub(super) fn compare(name: &SentName, test: &Test, page: &dyn PageRead) -> Result<Rows> {
    let len = page.rows();
    let mut rows = Rows::none(len);
    let mut there = Rows::none(len);
    for SentColumn { index, path, kind, own } in columns_of(page.keys(), name) {
        // A column left aside by its zone still has the field, which `!=` asks for; no zone excludes `!=`.
        if zone_excludes(test, page.zone(index)) {
            continue;
        }
        let Some(column) = page.column(index)? else { continue };
        if !own {
            nested(&column, &mut there, || has_below(name), |v| !matching::descend(path, v, name).is_empty());
            let below = || asked(&format!("below {name:?}"), test);
            nested(&column, &mut rows, below, |v| matching::descend(path, v, name).into_iter().any(|v| test.value(v)));
            continue;
        }
        there.or(&present(Some(&column), len));
        column_passes(kind, &column, test, &mut rows)?;
    }
    each_value_overflowing(page, name, |row, value| {
        there.set(row);
        if test.value(value) {
            rows.set(row);
        }
    })?;
    if test.is_ne() {
        rows.invert();
        rows.and(&there);
    }
    Ok(rows)
}

fn has_below(name: &SentName) -> String {
    format!("has {name:?}")
}

/// Marks the rows whose list passes; `asked` names the test in full.
pub(super) fn nested(
    column: &Column,
    rows: &mut Rows,
    asked: impl FnOnce() -> String,
    passes: impl Fn(&Value) -> bool,
) {
    if let Values::Blobs { dictionary, codes } = &column.values {
        by_code(rows, column, (dictionary, codes), asked, |blob| decode_value(blob).is_some_and(|v| passes(&v)));
    }
}

fn column_passes(kind: FieldType, column: &Column, test: &Test, rows: &mut Rows) -> Result<()> {
    match (&column.values, kind) {
        (Values::Texts { dictionary, codes }, FieldType::Decimal) => {
            let passes = |decimal: &str| test.number(Num::decimal(decimal));
            by_code(rows, column, (dictionary, codes), || asked("decimal", test), passes);
        }
        (Values::Texts { dictionary, codes }, _) => {
            by_code(rows, column, (dictionary, codes), || asked("text", test), |text| test.text(text));
        }
        (Values::Ints(numbers), FieldType::Int) => {
            let passes = |n: &i64| test.number(Num::int(i128::from(*n)));
            numbers.iter().enumerate().filter(|(_, n)| passes(n)).for_each(|(p, _)| rows.set(column.row(p)));
        }
        (Values::Blobs { .. }, _) => nested(column, rows, || asked("value", test), |v| test.value(v)),
        (Values::Nulls, _) => {}
        (values, kind) => {
            for value_index in 0..values.len().unwrap_or(0) {
                if test.value(&field_value(kind, values, value_index)?) {
                    rows.set(column.row(value_index));
                }
            }
        }
    }
    Ok(())
}

/// The rows that have the field `name`, or any below it.
pub(super) fn has(name: &SentName, page: &dyn PageRead) -> Result<Rows> {
    let mut rows = Rows::none(page.rows());
    for SentColumn { index, path, own, .. } in columns_at_or_below(page.keys(), name) {
        let Some(column) = page.column(index)? else { continue };
        if own {
            rows.or(&present(Some(&column), page.rows()));
        } else {
            nested(&column, &mut rows, || has_below(name), |v| !matching::descend(path, v, name).is_empty());
        }
    }
    each_overflowing(page, |row, path, value| {
        if name.covers(&path.dotted()) || !matching::descend(path, value, name).is_empty() {
            rows.set(row);
        }
    })?;
    Ok(rows)
}
