//! The values of one field over a page, as small codes: what groups, distinct counts and breakdowns are made from.

use super::{GroupValue, ValueRef};
use calvex_language::error::Result;
use calvex_language::model::{Kind, Path, Severity, Status, Value, decode_value, shape, to_hex};
use calvex_language::query::{Builtin, Field, Num, SentName, matching};
use calvex_storage::columns::{
    Column, ErrorGroups, FieldType, PageRead, Rows, SentColumn, Texts, Values, builtin_column, columns_of,
    each_value_overflowing, field_value,
};
use std::collections::HashMap;
use std::sync::Arc;

/// Code 0: the row lacks the field.
pub(crate) const MISSING: u32 = 0;

/// One field of some rows of a page.
#[derive(Debug)]
pub(crate) struct Coded {
    /// By code; the first is missing.
    values: Vec<Stored>,
    /// The columns whose dictionaries hold texts of `values`.
    columns: Vec<Arc<Column>>,
    /// The first value of each row.
    pub first: Vec<u32>,
    /// Further values of rows that have several (lists, and equal dotted names of two paths), by row, each once.
    pub more: Vec<(u32, u32)>,
}

/// Where a value stands: texts stay in the dictionary of their column.
#[derive(Debug, Clone)]
enum Stored {
    Own(GroupValue),
    Text { column: u32, code: u32 },
}

impl Coded {
    fn new(rows: usize) -> Self {
        let values = vec![Stored::Own(GroupValue::Missing)];
        Coded { values, columns: Vec::new(), first: vec![MISSING; rows], more: Vec::new() }
    }

    /// How many values, with the missing one.
    pub fn len(&self) -> usize {
        self.values.len()
    }

    /// The value of a code.
    pub fn value(&self, code: u32) -> ValueRef<'_> {
        match self.values.get(code as usize) {
            Some(Stored::Own(value)) => value.as_ref(),
            Some(Stored::Text { column, code }) => match self.columns.get(*column as usize).map(|c| &c.values) {
                Some(Values::Texts { dictionary, .. }) => ValueRef::Text(dictionary.get(*code as usize)),
                _ => ValueRef::Missing,
            },
            None => ValueRef::Missing,
        }
    }

    /// By column of the field: the dictionary that its texts share with those of other pages, if they do.
    pub fn dictionaries(&self) -> impl Iterator<Item = Option<&Arc<Texts>>> {
        self.columns.iter().map(|column| match &column.values {
            Values::Texts { dictionary, .. } => dictionary.shared.as_ref(),
            _ => None,
        })
    }

    /// The column of a value and its code in the dictionary that pages share, where it stands there.
    pub fn shared(&self, code: u32) -> Option<(usize, u32)> {
        let Stored::Text { column, code } = self.values.get(code as usize)? else { return None };
        let Values::Texts { dictionary, .. } = &self.columns.get(*column as usize)?.values else { return None };
        ((*code as usize) < dictionary.shared_len()).then_some((*column as usize, *code))
    }

    /// The hash of each value, by code. Those of dictionaries that pages share are worked out once for all pages.
    pub fn hashes(&self) -> Vec<u64> {
        let shared: Vec<&[u64]> =
            self.dictionaries().map(|texts| texts.map_or(&[][..], |texts| hashes_of(texts))).collect();
        let kept = |code| {
            let (column, code) = self.shared(code)?;
            shared.get(column)?.get(code as usize).copied()
        };
        (0..self.values.len() as u32).map(|code| kept(code).unwrap_or_else(|| self.value(code).hash64())).collect()
    }

    /// The values, by code.
    pub fn values(&self) -> impl Iterator<Item = ValueRef<'_>> {
        (0..self.values.len() as u32).map(|code| self.value(code))
    }

    fn put(&mut self, row: usize, code: u32) {
        match self.first.get_mut(row) {
            Some(slot) if *slot == MISSING => *slot = code,
            Some(slot) if *slot != code => self.more.push((row as u32, code)),
            _ => {}
        }
    }

    /// Takes a column whose codes name the values that `value` gives.
    fn take_codes(
        &mut self,
        column: &Column,
        rows: &Rows,
        codes: &[u32],
        distinct: usize,
        value: impl Fn(usize) -> Stored,
    ) {
        // Dictionaries that pages share hold much that this page does not.
        let mut known = vec![MISSING; distinct];
        let values = &mut self.values;
        let fresh = values.len() == 1;
        let mut coded = |code: u32| {
            let slot = known.get_mut(code as usize)?;
            if *slot == MISSING {
                *slot = values.len() as u32;
                values.push(value(code as usize));
            }
            Some(*slot)
        };
        if fresh && column.present.is_none() && codes.len() == self.first.len() {
            let first = &mut self.first;
            if rows.is_full() {
                return first.iter_mut().zip(codes).for_each(|(first, c)| *first = coded(*c).unwrap_or(MISSING));
            }
            return rows.iter().for_each(|row| {
                if let (Some(first), Some(code)) = (first.get_mut(row), codes.get(row)) {
                    *first = coded(*code).unwrap_or(MISSING);
                }
            });
        }
        let mut found: Vec<(usize, u32)> = Vec::new();
        column.each_of(rows, |row, value_index| {
            found.extend(codes.get(value_index).and_then(|code| coded(*code)).map(|code| (row, code)));
        });
        found.into_iter().for_each(|(row, code)| self.put(row, code));
    }

    /// Takes a column of texts; they stay where they are.
    fn take_texts(&mut self, column: &Arc<Column>, rows: &Rows) {
        let Values::Texts { dictionary, codes } = &column.values else { return };
        let at = self.columns.len() as u32;
        let stored = |code: usize| Stored::Text { column: at, code: code as u32 };
        self.take_codes(column, rows, codes, dictionary.len(), stored);
        self.columns.push(column.clone());
    }

    fn take_list(&mut self, row: usize, value: &Value, known: &mut HashMap<GroupValue, u32>) {
        let mut list = Vec::new();
        GroupValue::of(value, &mut list);
        for value in list {
            let code = self.code(value, known);
            self.put(row, code);
        }
    }

    fn code(&mut self, value: GroupValue, known: &mut HashMap<GroupValue, u32>) -> u32 {
        let values = &mut self.values;
        *known.entry(value).or_insert_with_key(|value| {
            values.push(Stored::Own(value.clone()));
            values.len() as u32 - 1
        })
    }

    /// Calls `f` with row and code of every value of the rows.
    pub fn each(&self, rows: &Rows, mut f: impl FnMut(usize, u32)) {
        let first = |row: usize| self.first.get(row).copied().filter(|code| *code != MISSING);
        rows.iter().for_each(|row| first(row).into_iter().for_each(|code| f(row, code)));
        self.more.iter().filter(|(row, _)| rows.has(*row as usize)).for_each(|(row, code)| f(*row as usize, *code));
    }

    /// The further values of a row.
    pub fn more_of(&self, row: usize) -> &[(u32, u32)] {
        let (row, more) = (row as u32, self.more.as_slice());
        let from = more.partition_point(|(r, _)| *r < row);
        let to = from + more.get(from..).unwrap_or_default().partition_point(|(r, _)| *r == row);
        more.get(from..to).unwrap_or_default()
    }

    /// A row counts once for each value it has, however often it has it: a list of one value a thousand times, or
    /// values of two columns that are equal. Sorting once keeps long lists from costing their square.
    fn each_once(&mut self) {
        self.more.sort_unstable();
        self.more.dedup();
        let first = &self.first;
        self.more.retain(|(row, code)| first.get(*row as usize) != Some(code));
    }

    /// Puts equal values that came from columns of two types, or from two dictionaries, under one code.
    fn join(&mut self) {
        let mut known: HashMap<ValueRef, u32> = HashMap::new();
        let mut to: Vec<u32> = Vec::with_capacity(self.values.len());
        for value in self.values() {
            let next = known.len() as u32;
            to.push(*known.entry(value).or_insert(next));
        }
        if known.len() == self.values.len() {
            return;
        }
        let mut at = 0;
        let mut seen = 0;
        let map = to.clone();
        self.values.retain(|_| {
            let fresh = to[at] == seen;
            at += 1;
            seen += u32::from(fresh);
            fresh
        });
        self.first.iter_mut().for_each(|c| *c = map[*c as usize]);
        self.more.iter_mut().for_each(|(_, c)| *c = map[*c as usize]);
    }
}

/// The hash of each text of a dictionary that pages share.
pub(crate) fn hashes_of(texts: &Texts) -> &[u64] {
    texts.noted.hashes(|| texts.iter().map(|text| ValueRef::Text(text).hash64()).collect())
}

/// Codes a field of some rows of a page; the others have no value.
///
/// # Errors
/// Where a column cannot be read.
pub(crate) fn code(field: &Field, page: &dyn PageRead, rows: &Rows, lane: &str) -> Result<Coded> {
    let mut coded = Coded::new(page.rows());
    match field {
        Field::Builtin(builtin) => own(*builtin, page, rows, lane, &mut coded)?,
        Field::Sent(name) => sent(name, page, rows, &mut coded)?,
    }
    coded.each_once();
    Ok(coded)
}

fn own(builtin: Builtin, page: &dyn PageRead, rows: &Rows, lane: &str, coded: &mut Coded) -> Result<()> {
    if builtin == Builtin::ErrorGroup {
        let groups = ErrorGroups::of(page, rows)?;
        let ids = groups.groups.iter().map(|group| Stored::Own(GroupValue::Text(group.id.clone())));
        coded.values.extend(ids);
        for row in rows.iter() {
            coded.put(row, groups.of_row(row).map_or(MISSING, |n| n as u32 + 1));
        }
        return Ok(());
    }
    let Some(own) = builtin_column(builtin) else {
        if builtin == Builtin::Lane && !lane.is_empty() {
            coded.values.push(Stored::Own(GroupValue::Text(lane.to_owned())));
            coded.first.fill(1);
        }
        return Ok(());
    };
    let Some(column) = page.builtin(own)? else { return Ok(()) };
    match (&column.values, builtin) {
        (Values::Ints(v), Builtin::Severity) => {
            let level = |s: &i64| (s.clamp(&1, &24) - 1) as u32 / 4;
            let codes: Vec<u32> = v.iter().map(level).collect();
            let name = |c: usize| Stored::Own(GroupValue::Text(Severity(c as u8 * 4 + 1).name().to_owned()));
            coded.take_codes(&column, rows, &codes, 6, name);
        }
        (Values::Ints(v), Builtin::Kind) => {
            let codes: Vec<u32> = v.iter().map(|n| *n as u32).collect();
            let name = |c: usize| u8::try_from(c).ok().and_then(Kind::from_byte).map_or("", Kind::name);
            coded.take_codes(&column, rows, &codes, 256, |c| Stored::Own(GroupValue::Text(name(c).to_owned())));
        }
        (Values::Ints(v), Builtin::Status) => {
            let codes: Vec<u32> = v.iter().map(|n| *n as u32).collect();
            let name = |c: usize| u8::try_from(c).ok().and_then(Status::from_byte).map_or("", Status::name);
            coded.take_codes(&column, rows, &codes, 256, |c| Stored::Own(GroupValue::Text(name(c).to_owned())));
        }
        (Values::Ints(v), _) => ints(coded, &column, rows, v, |n| Num::int(i128::from(n))),
        (Values::Texts { dictionary, codes }, Builtin::Transformed) => {
            let mut known = HashMap::new();
            column.each_of(rows, |row, value_index| {
                let Some(text) = codes.get(value_index) else { return };
                for rule in calvex_language::model::rules_of(dictionary.get(*text as usize)) {
                    let code = coded.code(GroupValue::Text(rule.to_owned()), &mut known);
                    coded.put(row, code);
                }
            });
        }
        (Values::Texts { .. }, _) => coded.take_texts(&column, rows),
        (Values::Blobs { dictionary, codes }, _) => {
            let value = |c: usize| Stored::Own(GroupValue::Text(to_hex(dictionary.get(c))));
            coded.take_codes(&column, rows, codes, dictionary.len(), value);
        }
        (Values::Messages(m), Builtin::Shape) => {
            // Several templates may have one shape.
            let (mut known, mut by_template) = (HashMap::new(), vec![None; m.templates.len()]);
            column.each_of(rows, |row, value_index| {
                let template = m.codes.get(value_index).copied().unwrap_or(u32::MAX);
                let Some(code) = by_template.get_mut(template as usize) else { return };
                let code = *code.get_or_insert_with(|| {
                    let shape = shape::of_template(m.templates.get(template as usize), |_| {});
                    coded.code(GroupValue::Shape(shape), &mut known)
                });
                coded.put(row, code);
            });
        }
        (Values::Messages(m), _) => {
            let mut known = HashMap::new();
            for value_index in (0..m.codes.len()).filter(|value_index| rows.has(column.row(*value_index))) {
                let code = coded.code(GroupValue::Text(m.text(value_index)?), &mut known);
                coded.put(column.row(value_index), code);
            }
        }
        _ => {}
    }
    Ok(())
}

fn ints(coded: &mut Coded, column: &Column, rows: &Rows, numbers: &[i64], num: impl Fn(i64) -> Num) {
    let mut known: hashbrown::HashMap<i64, u32> = hashbrown::HashMap::new();
    column.each_of(rows, |row, value_index| {
        let Some(n) = numbers.get(value_index) else { return };
        let values = &mut coded.values;
        let code = *known.entry(*n).or_insert_with(|| {
            values.push(Stored::Own(GroupValue::number(num(*n))));
            values.len() as u32 - 1
        });
        coded.put(row, code);
    });
}

fn sent(name: &SentName, page: &dyn PageRead, rows: &Rows, coded: &mut Coded) -> Result<()> {
    let mut columns = 0;
    for SentColumn { index, path, kind, .. } in columns_of(page.keys(), name) {
        let Some(column) = page.column_of(index, rows)? else { continue };
        columns += 1;
        take_column(coded, name, path, kind, &column, rows)?;
    }
    let mut known = HashMap::new();
    let overflows = each_value_overflowing(page, name, |row, value| {
        if rows.has(row) {
            coded.take_list(row, value, &mut known);
        }
    })?;
    columns += usize::from(overflows);
    if columns > 1 {
        coded.join();
    }
    Ok(())
}

fn take_column(
    coded: &mut Coded,
    name: &SentName,
    path: &Path,
    kind: FieldType,
    column: &Arc<Column>,
    rows: &Rows,
) -> Result<()> {
    let stands = |value_index: &usize| rows.has(column.row(*value_index));
    match (&column.values, kind) {
        (Values::Texts { .. }, FieldType::Text) => coded.take_texts(column, rows),
        (Values::Ints(v), FieldType::Int) => ints(coded, column, rows, v, |n| Num::int(i128::from(n))),
        (Values::Ints(v), _) => ints(coded, column, rows, v, |n| Num::int(i128::from(n as u64))),
        (Values::Nulls, _) => {
            coded.values.push(Stored::Own(GroupValue::Null));
            let code = coded.values.len() as u32 - 1;
            column.each_of(rows, |row, _| coded.put(row, code));
        }
        (Values::Blobs { dictionary, codes }, _) => {
            let mut known = HashMap::new();
            for value_index in (0..codes.len()).filter(stands) {
                let code = codes.get(value_index).copied().unwrap_or_default();
                let Some(value) = decode_value(dictionary.get(code as usize)) else { continue };
                for found in matching::descend(path, &value, name) {
                    coded.take_list(column.row(value_index), found, &mut known);
                }
            }
        }
        (values, kind) => {
            let mut known = HashMap::new();
            for value_index in (0..values.len().unwrap_or(0)).filter(stands) {
                coded.take_list(column.row(value_index), &field_value(kind, values, value_index)?, &mut known);
            }
        }
    }
    Ok(())
}
