//! Figures of some of the pages: the rows of a page get their cells (`grouper`), then each aggregate runs over its own
//! column.

use super::cells::{Cells, NONE};
use super::coded::{Coded, code};
use super::grouper::{only_cell, place};
use super::{GroupValue, MeasureAsk};
use crate::scan::Cursor;
use calvex_language::error::Result;
use calvex_language::model::{Value, decode_value};
use calvex_language::query::{Builtin, Field, Function, Num, matching};
use calvex_storage::columns::{
    BuiltinColumn, Column, FieldType, OrderKeys, PageRead, Rows, SentColumn, Values, columns_of,
    each_value_overflowing, field_value, select,
};
use std::collections::HashMap;
use std::hash::BuildHasherDefault;
use std::sync::Arc;
use xxhash_rust::xxh3::Xxh3Default;

pub(super) type FastMap<K, V> = HashMap<K, V, BuildHasherDefault<Xxh3Default>>;

/// Groups at most; events of further groups are left out, and the answer says so.
pub(super) const MAX_GROUPS: usize = 50_000;
/// Cells (groups times steps that have events) at most.
const MAX_CELLS: usize = 400_000;

/// Figures of some of the pages.
pub(super) struct Partial {
    pub groups: FastMap<Vec<GroupValue>, u32>,
    /// Group and step to cell.
    pub cells: FastMap<(u32, u32), u32>,
    /// Events of each cell.
    pub events: Vec<u64>,
    pub states: Vec<Cells>,
    /// Whether groups were left out.
    pub overfull: bool,
}

impl Partial {
    pub fn new(ask: &MeasureAsk) -> Self {
        Partial {
            groups: FastMap::default(),
            cells: FastMap::default(),
            events: Vec::new(),
            states: ask.measure.aggregates.iter().map(|a| Cells::new(&a.function)).collect(),
            overfull: false,
        }
    }

    /// A rough size in memory.
    pub fn weight_bytes(&self) -> usize {
        self.groups.len() * 160 + self.cells.len() * 32 + self.states.iter().map(Cells::weight_bytes).sum::<usize>()
    }

    /// The cell of a group in a step.
    pub(super) fn cell(&mut self, group: Vec<GroupValue>, step: usize) -> u32 {
        let count = self.groups.len();
        let group = match self.groups.get(&group) {
            Some(known) => *known,
            None if count >= MAX_GROUPS => {
                self.overfull = true;
                return NONE;
            }
            None => {
                self.groups.insert(group, count as u32);
                count as u32
            }
        };
        let next = self.events.len() as u32;
        if let Some(cell) = self.cells.get(&(group, step as u32)) {
            return *cell;
        }
        if self.events.len() >= MAX_CELLS {
            self.overfull = true;
            return NONE;
        }
        self.cells.insert((group, step as u32), next);
        self.events.push(0);
        let cells = self.events.len();
        self.states.iter_mut().for_each(|s| s.resize(cells));
        next
    }

    /// Adds the `rows` of a page.
    pub fn add(&mut self, ask: &MeasureAsk, page: &dyn PageRead, rows: &Rows, lane: &str) -> Result<()> {
        if let Some(cell) = only_cell(self, ask, page) {
            return self.count(cell, ask, page, rows, lane);
        }
        let placement = place(self, ask, page, rows, lane)?;
        if placement.more.is_empty() {
            let events = &mut self.events;
            placement.first.iter().filter(|c| **c != NONE).for_each(|cell| events[*cell as usize] += 1);
        } else {
            rows.iter().for_each(|row| placement.each(row, |cell| self.events[cell] += 1));
        }
        for (n, aggregate) in ask.measure.aggregates.iter().enumerate() {
            let state = &mut self.states[n];
            match &aggregate.function {
                Function::Count(None) | Function::Rate => {}
                Function::Count(Some(filter)) | Function::Share(filter) => {
                    let mut passing = select(filter, page, lane)?;
                    passing.and(rows);
                    if let Cells::Counts(counts) = state {
                        passing.iter().for_each(|row| placement.each(row, |cell| counts[cell] += 1));
                    }
                }
                Function::Distinct(field) => {
                    let coded = code(field, page, lane)?;
                    let hashes: Vec<u64> = coded.values.iter().map(GroupValue::hash64).collect();
                    if let Cells::Distinct(cells) = state {
                        valued(&coded, rows, |row, code| {
                            placement.each(row, |cell| cells[cell].add(hashes[code as usize]))
                        });
                    }
                }
                Function::First(field) | Function::Last(field) => {
                    let coded = code(field, page, lane)?;
                    let keys = OrderKeys::of(page)?;
                    valued(&coded, rows, |row, code| {
                        if let Ok((time_ns, id)) = keys.get(row) {
                            let at = Cursor { time_ns, id };
                            placement.each(row, |cell| state.meet(cell, at, &coded.values[code as usize]));
                        }
                    });
                }
                Function::Sum(field)
                | Function::Mean(field)
                | Function::Min(field)
                | Function::Max(field)
                | Function::Percentile(_, field) => {
                    match plain_ints(field, page)?.filter(|_| placement.more.is_empty()) {
                        Some(column) => state.add_ints(&column, &placement.first),
                        None => numbers(field, page, |row, n| placement.each(row, |cell| state.add(cell, n)))?,
                    }
                }
            }
        }
        Ok(())
    }

    /// As [`Partial::add`], where all rows are of one cell and are only counted: no row is looked at by itself.
    fn count(&mut self, cell: u32, ask: &MeasureAsk, page: &dyn PageRead, rows: &Rows, lane: &str) -> Result<()> {
        if let Some(events) = self.events.get_mut(cell as usize) {
            *events += rows.count() as u64;
        }
        for (aggregate, state) in ask.measure.aggregates.iter().zip(&mut self.states) {
            let (Function::Count(Some(filter)) | Function::Share(filter)) = &aggregate.function else { continue };
            let mut passing = select(filter, page, lane)?;
            passing.and(rows);
            if let Cells::Counts(counts) = state
                && let Some(count) = counts.get_mut(cell as usize)
            {
                *count += passing.count() as u64;
            }
        }
        Ok(())
    }

    /// Adds all figures of another part.
    pub fn join(&mut self, other: &Partial) {
        self.overfull |= other.overfull;
        let mut by_id: Vec<Option<&Vec<GroupValue>>> = vec![None; other.groups.len()];
        other.groups.iter().for_each(|(group, id)| by_id[*id as usize] = Some(group));
        for ((group, step), from) in &other.cells {
            let Some(group) = by_id[*group as usize] else { continue };
            let to = self.cell(group.clone(), *step as usize);
            if to == NONE {
                continue;
            }
            self.events[to as usize] += other.events[*from as usize];
            for (state, theirs) in self.states.iter_mut().zip(&other.states) {
                state.join(to as usize, theirs, *from as usize);
            }
        }
    }
}

/// Calls `f` with row and code of every value of the rows.
fn valued(coded: &Coded, rows: &Rows, mut f: impl FnMut(usize, u32)) {
    for row in rows.iter() {
        let code = coded.first[row];
        if code != super::coded::MISSING {
            f(row, code);
        }
    }
    coded.more.iter().filter(|(row, _)| rows.has(*row as usize)).for_each(|(row, code)| f(*row as usize, *code));
}

/// The one column of the field, where whole numbers are all that the page has of it: the usual case, and the quick one.
fn plain_ints(field: &Field, page: &dyn PageRead) -> Result<Option<Arc<Column>>> {
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
fn numbers(field: &Field, page: &dyn PageRead, mut f: impl FnMut(usize, Num)) -> Result<()> {
    let name = match field {
        Field::Sent(name) => name,
        Field::Builtin(part) => {
            let own = match part {
                Builtin::Time => BuiltinColumn::Time,
                Builtin::Arrived => BuiltinColumn::Arrived,
                Builtin::Severity => BuiltinColumn::Severity,
                Builtin::Took => BuiltinColumn::Took,
                _ => return Ok(()),
            };
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
