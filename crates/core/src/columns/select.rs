//! A filter against a page: the rows for which it holds. Text is tested once per distinct value.
//!
//! Must give for every row what `query::matches` gives for the event of that row; a property test compares the two.

use super::gather::field_value;
use super::{Column, ColumnKey, FieldType, Own, PageRead, Rows, Values};
use crate::error::Result;
use crate::event::{Value, decode_value, to_hex};
use crate::query::{Field, Filter, Num, Op, OwnPart, Test, TimeRange, WordsTest, contains_words, matching};

/// The rows within `range` for which `filter` holds.
///
/// # Errors
/// Where a column cannot be read.
pub fn select_in_range(filter: &Filter, range: &TimeRange, page: &dyn PageRead, lane: &str) -> Result<Rows> {
    let (lo, hi) = page.time_span();
    if !range.touches(lo, hi) {
        return Ok(Rows::none(page.rows()));
    }
    let mut rows = Rows::all(page.rows());
    if !(range.contains(lo) && range.contains(hi)) {
        let time = page.own(Own::Time)?;
        rows = marked(time.as_deref(), page.rows(), |n| range.contains(n));
    }
    if !rows.is_empty() {
        rows.and(&select(filter, page, lane)?);
    }
    Ok(rows)
}

/// The rows for which `filter` holds.
///
/// # Errors
/// Where a column cannot be read.
pub fn select(filter: &Filter, page: &dyn PageRead, lane: &str) -> Result<Rows> {
    let len = page.rows();
    match filter {
        Filter::All => Ok(Rows::all(len)),
        Filter::And(list) => {
            let mut rows = Rows::all(len);
            for f in list {
                if rows.is_empty() {
                    break;
                }
                rows.and(&select(f, page, lane)?);
            }
            Ok(rows)
        }
        Filter::Or(list) => {
            let mut rows = Rows::none(len);
            for f in list {
                if rows.is_full() {
                    break;
                }
                rows.or(&select(f, page, lane)?);
            }
            Ok(rows)
        }
        Filter::Not(inner) => {
            let mut rows = select(inner, page, lane)?;
            rows.invert();
            Ok(rows)
        }
        Filter::Words(test) => words(test, page),
        Filter::Has(Field::Own(part)) => own_present(*part, page, lane),
        Filter::Has(Field::Sent(name)) => has_sent(name, page),
        Filter::Compare(Field::Own(part), test) => own_compare(*part, test, page, lane),
        Filter::Compare(Field::Sent(name), test) => sent_compare(name, test, page),
    }
}

/// The rows whose number passes.
fn marked(column: Option<&Column>, len: usize, passes: impl Fn(i64) -> bool) -> Rows {
    let mut rows = Rows::none(len);
    if let Some(Column { values: Values::Ints(numbers), present }) = column {
        for (place, n) in numbers.iter().enumerate() {
            if passes(*n) {
                rows.set(row_at(present.as_deref(), place));
            }
        }
    }
    rows
}

fn row_at(present: Option<&[u32]>, place: usize) -> usize {
    match present {
        None => place,
        Some(rows) => rows.get(place).map_or(usize::MAX, |r| *r as usize),
    }
}

fn present(column: Option<&Column>, len: usize) -> Rows {
    match column {
        None => Rows::none(len),
        Some(Column { present: None, .. }) => Rows::all(len),
        Some(Column { present: Some(list), .. }) => {
            let mut rows = Rows::none(len);
            list.iter().for_each(|r| rows.set(*r as usize));
            rows
        }
    }
}

/// Marks the rows whose code passes, testing each distinct value once.
fn by_code(rows: &mut Rows, column: &Column, distinct: usize, codes: &[u32], passes: impl Fn(usize) -> bool) {
    let verdicts: Vec<bool> = (0..distinct).map(passes).collect();
    if verdicts.iter().any(|v| *v) {
        for (place, code) in codes.iter().enumerate() {
            if verdicts.get(*code as usize) == Some(&true) {
                rows.set(row_at(column.present.as_deref(), place));
            }
        }
    }
}

fn own_column(part: OwnPart) -> Option<Own> {
    Some(match part {
        OwnPart::Time => Own::Time,
        OwnPart::Arrived => Own::Arrived,
        OwnPart::Severity => Own::Severity,
        OwnPart::Service => Own::Service,
        OwnPart::Host => Own::Host,
        OwnPart::Message => Own::Message,
        OwnPart::Sender => Own::Sender,
        OwnPart::Trace => Own::Trace,
        OwnPart::Span => Own::Span,
        OwnPart::Parent => Own::Parent,
        OwnPart::Kind => Own::Kind,
        OwnPart::Lane | OwnPart::Shape | OwnPart::Took | OwnPart::Status => return None,
    })
}

fn own_present(part: OwnPart, page: &dyn PageRead, lane: &str) -> Result<Rows> {
    let len = page.rows();
    match own_column(part) {
        Some(own) => Ok(present(page.own(own)?.as_deref(), len)),
        None if part == OwnPart::Lane && !lane.is_empty() => Ok(Rows::all(len)),
        None => Ok(Rows::none(len)),
    }
}

fn own_compare(part: OwnPart, test: &Test, page: &dyn PageRead, lane: &str) -> Result<Rows> {
    let len = page.rows();
    let mut rows = Rows::none(len);
    let Some(own) = own_column(part) else {
        let holds = part == OwnPart::Lane && !lane.is_empty() && test.text(lane) != test.is_ne();
        return Ok(if holds { Rows::all(len) } else { rows });
    };
    let column = page.own(own)?;
    let Some(column) = column.as_deref() else { return Ok(rows) };
    match (&column.values, part) {
        (Values::Ints(_), OwnPart::Severity) => {
            let mask = test.severities();
            rows = marked(Some(column), len, |n| mask >> n & 1 == 1);
        }
        (Values::Ints(_), OwnPart::Kind) => {
            rows = marked(Some(column), len, |n| {
                u8::try_from(n).ok().and_then(crate::event::Kind::from_byte).is_some_and(|k| test.text(k.name()))
            });
        }
        (Values::Ints(_), _) => rows = marked(Some(column), len, |n| test.number(Num::int(i128::from(n)))),
        (Values::Texts { dictionary, codes }, _) => {
            by_code(&mut rows, column, dictionary.len(), codes, |c| test.text(dictionary.text(c)));
        }
        (Values::Blobs { dictionary, codes }, _) => {
            by_code(&mut rows, column, dictionary.len(), codes, |c| test.text(&to_hex(dictionary.bytes(c))));
        }
        _ => {}
    }
    if test.is_ne() {
        rows.invert();
        rows.and(&present(Some(column), len));
    }
    Ok(rows)
}

/// Whether no number between the ends of the zone can pass.
fn zone_excludes(test: &Test, zone: Option<(f64, f64)>) -> bool {
    let Some((lo, hi)) = zone else { return false };
    let float = |l: &crate::query::Literal| l.number.map(|n| n.float);
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

fn sent_compare(name: &str, test: &Test, page: &dyn PageRead) -> Result<Rows> {
    let len = page.rows();
    let mut rows = Rows::none(len);
    let mut there = Rows::none(len);
    for (index, key) in page.keys().iter().enumerate() {
        let ColumnKey::Field(path, kind) = key else { continue };
        let exact = path.is(name);
        let through_list = !exact && *kind == FieldType::Nested && matching::at_or_below(name, &path.dotted());
        if !exact && !through_list || zone_excludes(test, page.zone(index)) {
            continue;
        }
        let Some(column) = page.column(index)? else { continue };
        if through_list {
            nested(&column, &mut there, |v| !matching::descend(path, v, name).is_empty());
            nested(&column, &mut rows, |v| matching::descend(path, v, name).into_iter().any(|v| test.value(v)));
            continue;
        }
        there.or(&present(Some(&column), len));
        compare_column(*kind, &column, test, &mut rows)?;
    }
    if test.is_ne() {
        rows.invert();
        rows.and(&there);
    }
    Ok(rows)
}

fn nested(column: &Column, rows: &mut Rows, passes: impl Fn(&Value) -> bool) {
    if let Values::Blobs { dictionary, codes } = &column.values {
        by_code(rows, column, dictionary.len(), codes, |c| {
            decode_value(dictionary.bytes(c)).is_some_and(|v| passes(&v))
        });
    }
}

fn compare_column(kind: FieldType, column: &Column, test: &Test, rows: &mut Rows) -> Result<()> {
    let at = |place| row_at(column.present.as_deref(), place);
    match (&column.values, kind) {
        (Values::Texts { dictionary, codes }, _) => {
            by_code(rows, column, dictionary.len(), codes, |c| test.text(dictionary.text(c)));
        }
        (Values::Ints(numbers), FieldType::Int) => {
            numbers
                .iter()
                .enumerate()
                .filter(|(_, n)| test.number(Num::int(i128::from(**n))))
                .for_each(|(p, _)| rows.set(at(p)));
        }
        (Values::Blobs { .. }, _) => nested(column, rows, |v| test.value(v)),
        (Values::Nulls, _) => {}
        (values, kind) => {
            let places = match values {
                Values::Bools(v) => v.len(),
                Values::Ints(v) => v.len(),
                Values::Floats(v) => v.len(),
                _ => 0,
            };
            for place in 0..places {
                if test.value(&field_value(kind, values, place)?) {
                    rows.set(at(place));
                }
            }
        }
    }
    Ok(())
}

fn has_sent(name: &str, page: &dyn PageRead) -> Result<Rows> {
    let mut rows = Rows::none(page.rows());
    for (index, key) in page.keys().iter().enumerate() {
        let ColumnKey::Field(path, kind) = key else { continue };
        let dotted = path.dotted();
        let below = matching::at_or_below(&dotted, name);
        let through_list = !below && *kind == FieldType::Nested && matching::at_or_below(name, &dotted);
        if !below && !through_list {
            continue;
        }
        let Some(column) = page.column(index)? else { continue };
        if below {
            rows.or(&present(Some(&column), page.rows()));
        } else {
            nested(&column, &mut rows, |v| !matching::descend(path, v, name).is_empty());
        }
    }
    Ok(rows)
}

fn words(test: &WordsTest, page: &dyn PageRead) -> Result<Rows> {
    let mut rows = Rows::none(page.rows());
    for (index, key) in page.keys().iter().enumerate() {
        let searched = match key {
            ColumnKey::Own(own) => {
                matches!(own, Own::Message | Own::Service | Own::Host | Own::Trace | Own::Span | Own::Parent)
            }
            ColumnKey::Field(_, FieldType::Null | FieldType::Bool) => false,
            ColumnKey::Field(_, FieldType::Int | FieldType::UInt | FieldType::Float) => {
                test.number.is_some_and(|n| page.zone(index).is_none_or(|(lo, hi)| lo <= n.float && n.float <= hi))
            }
            ColumnKey::Field(..) => true,
        };
        if !searched {
            continue;
        }
        let Some(column) = page.column(index)? else { continue };
        match (key, &column.values) {
            (_, Values::Texts { dictionary, codes }) => by_code(&mut rows, &column, dictionary.len(), codes, |c| {
                contains_words(dictionary.text(c), &test.words, test.prefix)
            }),
            (ColumnKey::Own(_), Values::Blobs { dictionary, codes }) => {
                by_code(&mut rows, &column, dictionary.len(), codes, |c| matching::hex_is(test, dictionary.bytes(c)));
            }
            (ColumnKey::Field(..), Values::Blobs { .. }) => {
                nested(&column, &mut rows, |v| matching::words_in_value(test, v));
            }
            (ColumnKey::Field(_, kind), values @ (Values::Ints(_) | Values::Floats(_))) => {
                let places = if let Values::Ints(v) = values {
                    v.len()
                } else if let Values::Floats(v) = values {
                    v.len()
                } else {
                    0
                };
                for place in 0..places {
                    if matching::words_in_value(test, &field_value(*kind, values, place)?) {
                        rows.set(row_at(column.present.as_deref(), place));
                    }
                }
            }
            _ => {}
        }
    }
    Ok(rows)
}
