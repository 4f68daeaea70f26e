//! A filter against a page: the rows for which it holds. Text is tested once per distinct value.
//!
//! Must give for every row what `query::matches` gives for the event of that row; a property test compares the two.

mod pattern;
mod sent;
mod verdicts;
mod words;

pub use sent::zone_excludes;

use pattern::Judge;
use verdicts::{Verdicts, asked, by_code};
use words::Verdict;

use super::{BuiltinColumn, Column, ErrorGroups, PageRead, Rows, Values};
use calvex_language::error::Result;
use calvex_language::model::{parse_span, parse_trace, to_hex};
use calvex_language::query::matching::names_shape;
use calvex_language::query::{Builtin, Field, Filter, Num, Op, Test, TimeRange};

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
        let time = page.builtin(BuiltinColumn::Time)?;
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
            for f in by_cost(list) {
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
        Filter::Words(test) => words::select(test, page),
        Filter::Has(Field::Builtin(builtin)) => own_present(*builtin, page, lane),
        Filter::Has(Field::Sent(name)) => sent::has(name, page),
        Filter::Compare(Field::Builtin(builtin), test) => own_compare(*builtin, test, page, lane),
        Filter::Compare(Field::Sent(name), test) => sent::compare(name, test, page),
    }
}

const ALL: u8 = Verdict::All as u8;
const NONE: u8 = Verdict::None as u8;

/// What reads one small column before what reads many: an empty result spares the rest.
fn by_cost(list: &[Filter]) -> Vec<&Filter> {
    let mut ordered: Vec<&Filter> = list.iter().collect();
    ordered.sort_by_key(|f| match f {
        Filter::All => 0,
        Filter::Compare(Field::Builtin(Builtin::Message), _) => 4,
        Filter::Compare(Field::Builtin(Builtin::ErrorGroup), _) | Filter::Has(Field::Builtin(Builtin::ErrorGroup)) => 6,
        Filter::Compare(Field::Builtin(_), _) | Filter::Has(Field::Builtin(_)) => 1,
        Filter::Compare(..) | Filter::Has(_) => 2,
        Filter::And(_) | Filter::Or(_) | Filter::Not(_) => 3,
        Filter::Words(_) => 5,
    });
    ordered
}

/// The rows whose number passes.
fn marked(column: Option<&Column>, len: usize, passes: impl Fn(i64) -> bool) -> Rows {
    let mut rows = Rows::none(len);
    if let Some(column) = column
        && let Values::Ints(numbers) = &column.values
    {
        set_passing(&mut rows, column, numbers, |n| passes(*n));
    }
    rows
}

/// Marks the rows whose value passes; `values` are those of the column.
fn set_passing<T>(rows: &mut Rows, column: &Column, values: &[T], passes: impl Fn(&T) -> bool) {
    match &column.present {
        // Every row has one.
        None if values.len() <= rows.len() => rows.set_where(values, passes),
        _ => {
            let passing = values.iter().enumerate().filter(|(_, value)| passes(value));
            passing.for_each(|(value_index, _)| rows.set(column.row(value_index)));
        }
    }
}

fn present(column: Option<&Column>, len: usize) -> Rows {
    match column {
        None => Rows::none(len),
        Some(Column { present: None, .. }) => Rows::all(len),
        Some(Column { present: Some(list), .. }) => Rows::of(list, len),
    }
}

/// The column that a builtin is kept in, if in one.
pub fn builtin_column(builtin: Builtin) -> Option<BuiltinColumn> {
    Some(match builtin {
        Builtin::Time => BuiltinColumn::Time,
        Builtin::Arrived => BuiltinColumn::Arrived,
        Builtin::Severity => BuiltinColumn::Severity,
        Builtin::Service => BuiltinColumn::Service,
        Builtin::Host => BuiltinColumn::Host,
        Builtin::Message | Builtin::Shape => BuiltinColumn::Message,
        Builtin::Sender => BuiltinColumn::Sender,
        Builtin::Trace => BuiltinColumn::Trace,
        Builtin::Span => BuiltinColumn::Span,
        Builtin::Parent => BuiltinColumn::Parent,
        Builtin::Kind => BuiltinColumn::Kind,
        Builtin::Took => BuiltinColumn::Took,
        Builtin::Status => BuiltinColumn::Status,
        Builtin::Transformed => BuiltinColumn::Transformed,
        Builtin::Lane | Builtin::ErrorGroup => return None,
    })
}

/// The ids that the test asks for, as bytes, where it asks for ids by their whole hex.
fn exact_ids(test: &Test) -> Option<Vec<Vec<u8>>> {
    let literals = match test {
        Test::Compare(Op::Eq | Op::Ne, literal) => std::slice::from_ref(literal),
        Test::In(list) => list,
        _ => return None,
    };
    let id = |text: &str| {
        let lower = !text.bytes().any(|b| b.is_ascii_uppercase());
        let id = parse_trace(text).map(|id| id.to_vec()).or_else(|| parse_span(text).map(|id| id.to_vec()));
        id.filter(|_| lower)
    };
    literals.iter().map(|l| id(&l.text)).collect()
}

fn own_present(builtin: Builtin, page: &dyn PageRead, lane: &str) -> Result<Rows> {
    let len = page.rows();
    match builtin_column(builtin) {
        Some(own) => Ok(present(page.builtin(own)?.as_deref(), len)),
        None if builtin == Builtin::ErrorGroup => Ok(in_groups(page, |_| true)?.1),
        None if builtin == Builtin::Lane && !lane.is_empty() => Ok(Rows::all(len)),
        None => Ok(Rows::none(len)),
    }
}

/// The failures whose group's id passes, and all failures.
fn in_groups(page: &dyn PageRead, passes: impl Fn(&str) -> bool) -> Result<(Rows, Rows)> {
    let (mut named, mut failures) = (Rows::none(page.rows()), Rows::none(page.rows()));
    let groups = ErrorGroups::of(page, &Rows::all(page.rows()))?;
    let verdicts: Vec<bool> = groups.groups.iter().map(|group| passes(&group.id)).collect();
    for row in 0..page.rows() {
        let Some(n) = groups.of_row(row) else { continue };
        failures.set(row);
        if verdicts.get(n) == Some(&true) {
            named.set(row);
        }
    }
    Ok((named, failures))
}

fn own_compare(builtin: Builtin, test: &Test, page: &dyn PageRead, lane: &str) -> Result<Rows> {
    let len = page.rows();
    let mut rows = Rows::none(len);
    if builtin == Builtin::ErrorGroup {
        let (named, mut rows) = in_groups(page, |id| test.text(id))?;
        if !test.is_ne() {
            return Ok(named);
        }
        let mut others = named;
        others.invert();
        rows.and(&others);
        return Ok(rows);
    }
    let Some(own) = builtin_column(builtin) else {
        let holds = builtin == Builtin::Lane && !lane.is_empty() && test.text(lane) != test.is_ne();
        return Ok(if holds { Rows::all(len) } else { rows });
    };
    let column = page.builtin(own)?;
    let Some(column) = column.as_deref() else { return Ok(rows) };
    match (&column.values, builtin) {
        (Values::Ints(_), Builtin::Severity) => {
            let mask = test.severities();
            rows = marked(Some(column), len, |n| (0..32).contains(&n) && mask >> n & 1 == 1);
        }
        (Values::Ints(_), Builtin::Kind) => {
            rows = marked(Some(column), len, |n| {
                u8::try_from(n)
                    .ok()
                    .and_then(calvex_language::model::Kind::from_byte)
                    .is_some_and(|k| test.text(k.name()))
            });
        }
        (Values::Ints(_), Builtin::Status) => {
            rows = marked(Some(column), len, |n| {
                u8::try_from(n)
                    .ok()
                    .and_then(calvex_language::model::Status::from_byte)
                    .is_some_and(|s| test.text(s.name()))
            });
        }
        (Values::Ints(_), _) => rows = marked(Some(column), len, |n| test.number(Num::int(i128::from(n)))),
        (Values::Texts { dictionary, codes }, Builtin::Transformed) => {
            let passes = |names: &str| calvex_language::model::rules_of(names).any(|rule| test.text(rule));
            by_code(&mut rows, column, (dictionary, codes), || asked("rules", test), passes);
        }
        (Values::Texts { dictionary, codes }, _) => {
            by_code(&mut rows, column, (dictionary, codes), || asked("text", test), |text| test.text(text));
        }
        (Values::Messages(m), Builtin::Shape) => {
            let named = |template: &str| names_shape(test, template);
            by_code(&mut rows, column, (&m.templates, &m.codes), || asked("shape", test), named);
        }
        (Values::Messages(m), _) => {
            let mut message = String::new();
            let mut judge = Judge::new(test);
            let verdicts =
                Verdicts::of(&m.templates, || asked("message", test), |template| judge.judge(template) as u8);
            for (value_index, code) in m.codes.iter().enumerate() {
                let holds = match verdicts.of_code(*code) {
                    ALL => true,
                    NONE => false,
                    _ => {
                        message.clear();
                        m.write(value_index, &mut message)?;
                        test.text(&message)
                    }
                };
                if holds {
                    rows.set(column.row(value_index));
                }
            }
        }
        (Values::Blobs { dictionary, codes }, _) => match exact_ids(test) {
            Some(ids) => {
                let named = |id: &[u8]| ids.iter().any(|asked| asked == id);
                by_code(&mut rows, column, (dictionary, codes), || asked("id", test), named);
            }
            None => {
                by_code(&mut rows, column, (dictionary, codes), || asked("hex", test), |id| test.text(&to_hex(id)));
            }
        },
        _ => {}
    }
    if test.is_ne() {
        rows.invert();
        rows.and(&present(Some(column), len));
    }
    Ok(rows)
}
