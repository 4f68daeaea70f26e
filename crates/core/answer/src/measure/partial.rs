//! Figures of some of the pages: the rows of a page get their cells (`grouper`), then each aggregate runs over its own
//! column.

use super::cells::{Cells, NONE};
use super::coded::{Coded, code};
use super::grouper::{MAX_PER, only_cell, place};
use super::share::Share;
use super::value_table::ValueTable;
use super::workers::Figures;
use super::{MeasureAsk, ValueRef};
use crate::scan::Cursor;
use calvex_language::error::Result;
use calvex_language::model::{Value, decode_value};
use calvex_language::query::{Builtin, Field, Function, Num, matching};
use calvex_storage::columns::{
    BuiltinColumn, Column, FieldType, OrderKeys, PageRead, Rows, SentColumn, Values, columns_of,
    each_value_overflowing, field_value, select,
};
use hashbrown::{HashMap, HashTable};
use std::sync::Arc;
use xxhash_rust::xxh3::xxh3_64;

/// Groups and cells (a group's step that has events) that one page may add at most; events of further groups are left
/// out, and the answer says so.
const PAGE_ROOM: usize = 100_000;
/// The same of all pages, where groups are not worked out share by share.
const WHOLE_ROOM: usize = 400_000;

/// Figures of some of the pages: of the groups of a share.
pub(super) struct Partial {
    share: Share,
    /// The values of each field of `per`.
    fields: Vec<ValueTable>,
    /// Of group after group: the number of its value of each field.
    keys: Vec<u32>,
    /// Of each group.
    hashes: Vec<u64>,
    /// Groups, by hash.
    table: HashTable<u32>,
    /// Group and step to cell. Where there is one step, the cell of a group has its number, and this is empty.
    cells: HashMap<(u32, u32), u32>,
    one_step: bool,
    /// Events of each cell.
    pub events: Vec<u64>,
    pub states: Vec<Cells>,
    /// Groups and cells that may yet be added.
    room: usize,
    /// Whether groups were left out.
    pub overfull: bool,
}

/// One value of a group: its hash, and its number among the values of its field once that is known.
#[derive(Clone, Copy)]
pub(super) struct Member<'a> {
    pub value: ValueRef<'a>,
    pub hash: u64,
    /// [`NONE`] until it is known.
    pub number: u32,
}

impl Member<'_> {
    /// None.
    pub const MISSING: Member<'static> = Member { value: ValueRef::Missing, hash: 0, number: NONE };
}

/// The hash of a group.
fn hash_of(hashes: impl ExactSizeIterator<Item = u64>) -> u64 {
    if hashes.len() == 1 {
        return hashes.sum();
    }
    let mut bytes = [0; 8 * MAX_PER];
    bytes.chunks_exact_mut(8).zip(hashes).for_each(|(slot, hash)| slot.copy_from_slice(&hash.to_le_bytes()));
    xxh3_64(&bytes)
}

impl Partial {
    /// Of the groups of a share.
    pub fn new(ask: &MeasureAsk, share: Share) -> Self {
        let states = ask.measure.aggregates.iter().map(|a| Cells::new(&a.function)).collect();
        Partial::with(share, ask.measure.per.len(), ask.steps.count() == 1, states)
    }

    fn with(share: Share, fields: usize, one_step: bool, states: Vec<Cells>) -> Self {
        Partial {
            share,
            fields: (0..fields).map(|_| ValueTable::default()).collect(),
            keys: Vec::new(),
            hashes: Vec::new(),
            table: HashTable::new(),
            cells: HashMap::new(),
            one_step,
            events: Vec::new(),
            states,
            room: WHOLE_ROOM,
            overfull: false,
        }
    }

    /// The groups that it has figures of.
    pub fn share(&self) -> Share {
        self.share
    }

    /// How many groups; they are numbered from 0.
    pub fn group_count(&self) -> usize {
        self.hashes.len()
    }

    /// The numbers of a group's values.
    fn key(&self, group: usize) -> &[u32] {
        let fields = self.fields.len();
        self.keys.get(group * fields..(group + 1) * fields).unwrap_or_default()
    }

    /// The values of a group.
    pub fn values(&self, group: usize) -> impl Iterator<Item = ValueRef<'_>> {
        self.fields.iter().zip(self.key(group)).map(|(field, number)| field.value(*number))
    }

    /// Each cell, with its group and step.
    pub fn cells(&self) -> impl Iterator<Item = ((u32, u32), u32)> {
        let alone = if self.one_step { self.hashes.len() as u32 } else { 0 };
        (0..alone).map(|n| ((n, 0), n)).chain(self.cells.iter().map(|(at, cell)| (*at, *cell)))
    }

    /// Whether each group has one cell, which has its number.
    pub fn has_one_step(&self) -> bool {
        self.one_step
    }

    /// Adds the group of no values, where there are no events of it.
    pub fn with_whole(&mut self) {
        if self.hashes.is_empty() {
            self.cell(&mut [], 0);
        }
    }

    /// Before a page: makes room for its groups, unless more than `most` bytes are taken.
    pub fn make_room(&mut self, most: usize) {
        self.room = if self.weight_bytes() < most { PAGE_ROOM } else { 0 };
    }

    /// After a page: keeps the groups of a smaller share, until they take less than `most` bytes.
    pub fn shrink(&mut self, most: usize) {
        while self.weight_bytes() >= most
            && let Some(half) = self.share.half()
        {
            self.narrow(half);
        }
    }

    fn narrow(&mut self, share: Share) {
        let states = self.states.iter().map(Cells::none_like).collect();
        let mut kept = Partial::with(share, self.fields.len(), self.one_step, states);
        kept.take(self);
        *self = kept;
    }

    /// The cell of a group in a step; none where it does not belong to the share, or where there is no room.
    pub(super) fn cell(&mut self, group: &mut [Member], step: usize) -> u32 {
        let hash = hash_of(group.iter().map(|member| member.hash));
        if !self.share.holds(hash) {
            return NONE;
        }
        for (member, field) in group.iter_mut().zip(&mut self.fields).filter(|(member, _)| member.number == NONE) {
            let Some(number) = field.number(member.value, member.hash, self.room > 0) else {
                self.overfull = true;
                return NONE;
            };
            member.number = number;
        }
        let (keys, fields) = (&self.keys, self.fields.len());
        let is = |n: &u32| {
            let key = keys.get(*n as usize * fields..(*n as usize + 1) * fields).unwrap_or_default();
            key.iter().zip(group.iter()).all(|(number, member)| *number == member.number)
        };
        let known = self.table.find(hash, is).copied();
        if self.room == 0 && (known.is_none() || !self.one_step) {
            let cell = known.and_then(|group| self.cells.get(&(group, step as u32)).copied());
            self.overfull |= cell.is_none();
            return cell.unwrap_or(NONE);
        }
        let group = known.unwrap_or_else(|| {
            let number = self.hashes.len() as u32;
            self.keys.extend(group.iter().map(|member| member.number));
            self.hashes.push(hash);
            let hashes = &self.hashes;
            self.table.insert_unique(hash, number, |n| hashes.get(*n as usize).copied().unwrap_or(0));
            self.room = self.room.saturating_sub(1);
            number
        });
        let next = self.events.len() as u32;
        if self.one_step {
            if group < next {
                return group;
            }
        } else {
            if let Some(cell) = self.cells.get(&(group, step as u32)) {
                return *cell;
            }
            self.cells.insert((group, step as u32), next);
            self.room = self.room.saturating_sub(1);
        }
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
                    let coded = code(field, page, rows, lane)?;
                    let hashes = coded.hashes();
                    if let Cells::Distinct(cells) = state {
                        valued(&coded, rows, |row, code| {
                            placement.each(row, |cell| cells[cell].add(hashes[code as usize]))
                        });
                    }
                }
                Function::First(field) | Function::Last(field) => {
                    let coded = code(field, page, rows, lane)?;
                    let keys = OrderKeys::of(page)?;
                    valued(&coded, rows, |row, code| {
                        if let Ok((time_ns, id)) = keys.get(row) {
                            let at = Cursor { time_ns, id };
                            placement.each(row, |cell| state.meet(cell, at, coded.value(code)));
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

    /// Adds all figures of another part; of both, the groups of the smaller share stay.
    pub fn join(&mut self, other: &Partial) {
        let share = self.share.smaller(other.share);
        if share != self.share {
            self.narrow(share);
        }
        self.take(other);
    }

    /// Adds the figures of the groups of the own share.
    fn take(&mut self, other: &Partial) {
        self.overfull |= other.overfull;
        // Both are in memory already.
        self.room = usize::MAX;
        // Many of them are new, where there are many.
        let (more, hashes) = (self.share.part_of(other.hashes.len()), &self.hashes);
        self.table.reserve(more, |n| hashes.get(*n as usize).copied().unwrap_or(0));
        // By field: the own number of each of their values.
        let mut own: Vec<Vec<u32>> = other.fields.iter().map(|field| vec![NONE; field.len()]).collect();
        for ((group, step), from) in other.cells() {
            let key = other.key(group as usize);
            let mut members = [Member::MISSING; MAX_PER];
            let members = members.get_mut(..key.len()).unwrap_or_default();
            for (((member, number), field), own) in members.iter_mut().zip(key).zip(&other.fields).zip(&own) {
                let known = own.get(*number as usize).copied().unwrap_or(NONE);
                *member = Member { value: field.value(*number), hash: field.hash(*number), number: known };
            }
            let to = self.cell(members, step as usize);
            if to == NONE {
                continue;
            }
            for ((member, number), own) in members.iter().zip(key).zip(&mut own) {
                if let Some(slot) = own.get_mut(*number as usize) {
                    *slot = member.number;
                }
            }
            self.events[to as usize] += other.events[from as usize];
            for (state, theirs) in self.states.iter_mut().zip(&other.states) {
                state.join(to as usize, theirs, from as usize);
            }
        }
    }
}

impl Figures for Partial {
    fn weight_bytes(&self) -> usize {
        let values: usize = self.fields.iter().map(ValueTable::weight_bytes).sum();
        let groups = self.keys.capacity() * 4 + self.hashes.capacity() * 8 + self.table.capacity() * 5;
        values
            + groups
            + self.events.len() * 8
            + self.cells.capacity() * 16
            + self.states.iter().map(Cells::weight_bytes).sum::<usize>()
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
