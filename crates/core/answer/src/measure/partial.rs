//! Figures of some of the pages: the rows of a page get their cells (`grouper`), then each aggregate runs over its own
//! column.

use super::cells::{Cells, NONE};
use super::coded::code;
use super::grouper::{Grouper, MAX_PER, only_cell};
use super::numbers::{RowNumber, numbers, plain_ints};
use super::share::Share;
use super::value_table::ValueTable;
use super::workers::Figures;
use super::{MeasureAsk, ValueRef};
use crate::scan::Cursor;
use calvex_language::error::Result;
use calvex_language::query::Function;
use calvex_storage::columns::{OrderKeys, PageRead, Rows, select};
use hashbrown::{HashMap, HashTable};
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

/// The hash of a group, of those of its values.
pub(super) fn hash_of(hashes: impl ExactSizeIterator<Item = u64>) -> u64 {
    let length = hashes.len();
    if length == 1 {
        return hashes.sum();
    }
    let mut bytes = [0; 8 * MAX_PER];
    bytes.chunks_exact_mut(8).zip(hashes).for_each(|(slot, hash)| slot.copy_from_slice(&hash.to_le_bytes()));
    xxh3_64(bytes.get(..8 * length).unwrap_or(&bytes))
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

    /// Before a page: makes room for its groups, or for none.
    pub fn make_room(&mut self, grows: bool) {
        self.room = if grows { PAGE_ROOM } else { 0 };
    }

    /// Keeps the groups of a smaller share.
    pub fn narrow(&mut self, share: Share) {
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
        for (n, member) in group.iter_mut().enumerate().filter(|(_, member)| member.number == NONE) {
            let Some(number) = self.number(n, member.value, member.hash) else { return NONE };
            member.number = number;
        }
        let mut key = [NONE; MAX_PER];
        key.iter_mut().zip(group.iter()).for_each(|(number, member)| *number = member.number);
        let key = key.get(..group.len()).unwrap_or_default();
        let known = self.find(hash, key);
        if self.room == 0 && (known.is_none() || !self.one_step) {
            let cell = known.and_then(|group| self.cells.get(&(group, step as u32)).copied());
            self.overfull |= cell.is_none();
            return cell.unwrap_or(NONE);
        }
        let group = known.unwrap_or_else(|| self.insert(hash, key));
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

    /// The group of a key.
    fn find(&self, hash: u64, key: &[u32]) -> Option<u32> {
        self.table.find(hash, |group| self.key(*group as usize) == key).copied()
    }

    /// Adds a group.
    fn insert(&mut self, hash: u64, key: &[u32]) -> u32 {
        let group = self.hashes.len() as u32;
        self.keys.extend(key);
        self.hashes.push(hash);
        let hashes = &self.hashes;
        self.table.insert_unique(hash, group, |n| hashes.get(*n as usize).copied().unwrap_or(0));
        self.room = self.room.saturating_sub(1);
        group
    }

    /// Makes a cell for each group, where there is one step.
    fn make_cells(&mut self) {
        let cells = self.hashes.len();
        self.events.resize(cells, 0);
        self.states.iter_mut().for_each(|state| state.resize(cells));
    }

    /// The number of a field's value; none where there is no room for another.
    pub(super) fn number(&mut self, field: usize, value: ValueRef, hash: u64) -> Option<u32> {
        let number = self.fields.get_mut(field)?.number(value, hash, self.room > 0);
        self.overfull |= number.is_none();
        number
    }

    /// The group of these values, which is made where it is new; none where there is no room for it. There is one step.
    pub(super) fn group<'v>(&mut self, hash: u64, value: impl Fn(usize) -> ValueRef<'v>) -> Option<u32> {
        let is = |group: &u32| {
            let numbers = self.key(*group as usize).iter().zip(&self.fields).enumerate();
            numbers.map(|(n, (number, field))| (n, field.value(*number))).all(|(n, known)| known == value(n))
        };
        if let Some(group) = self.table.find(hash, is) {
            return Some(*group);
        }
        if self.room == 0 {
            self.overfull = true;
            return None;
        }
        let mut key = [NONE; MAX_PER];
        for (n, (number, field)) in key.iter_mut().zip(&mut self.fields).enumerate() {
            *number = field.number(value(n), value(n).hash64(), true)?;
        }
        Some(self.insert(hash, key.get(..self.fields.len()).unwrap_or_default()))
    }

    /// Adds events to groups, and to each the numbers that go with them by aggregate. There is one step.
    pub(super) fn add_rows(&mut self, groups: &[Option<u32>], numbers: &[Vec<RowNumber>]) {
        self.make_cells();
        let cells = || groups.iter().map(|group| group.map(|cell| cell as usize));
        cells().flatten().for_each(|cell| self.events[cell] += 1);
        for (state, numbers) in self.states.iter_mut().zip(numbers).filter(|(_, numbers)| !numbers.is_empty()) {
            let each = cells().zip(numbers).filter_map(|(cell, number)| Some((cell?, *number)));
            each.for_each(|(cell, number)| state.take(cell, number));
        }
    }

    /// Adds the `rows` of a page, where all are of one cell and only counted; false where they are not, and nothing was
    /// added.
    pub fn add_as_one(&mut self, ask: &MeasureAsk, page: &dyn PageRead, rows: &Rows, lane: &str) -> Result<bool> {
        let Some(cell) = only_cell(self, ask, page) else { return Ok(false) };
        self.count(cell, ask, page, rows, lane)?;
        Ok(true)
    }

    /// Adds the `rows` of a page.
    pub fn add(
        &mut self,
        grouper: Grouper,
        ask: &MeasureAsk,
        page: &dyn PageRead,
        rows: &Rows,
        lane: &str,
    ) -> Result<()> {
        let placement = grouper.place(self, page, rows);
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
                        coded
                            .each(rows, |row, code| placement.each(row, |cell| cells[cell].add(hashes[code as usize])));
                    }
                }
                Function::First(field) | Function::Last(field) => {
                    let coded = code(field, page, rows, lane)?;
                    let keys = OrderKeys::of(page)?;
                    coded.each(rows, |row, code| {
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

    /// Adds the figures that another has of the groups of the own share.
    pub fn take(&mut self, other: &Partial) {
        self.overfull |= other.overfull;
        // Both are in memory already.
        self.room = usize::MAX;
        // Many of them are new, where there are many.
        let (more, hashes) = (self.share.part_of(other.hashes.len()), &self.hashes);
        self.table.reserve(more, |n| hashes.get(*n as usize).copied().unwrap_or(0));
        if self.one_step {
            return self.take_groups(other);
        }
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

    /// As [`Partial::take`], where each group has one cell.
    fn take_groups(&mut self, other: &Partial) {
        let mut own: Vec<Vec<u32>> = other.fields.iter().map(|field| vec![NONE; field.len()]).collect();
        let mut cells = vec![NONE; other.group_count()];
        for (group, (hash, cell)) in other.hashes.iter().zip(&mut cells).enumerate() {
            if !self.share.holds(*hash) {
                continue;
            }
            let mut key = [NONE; MAX_PER];
            let numbers =
                key.iter_mut().zip(other.key(group)).zip(&mut own).zip(self.fields.iter_mut().zip(&other.fields));
            for (((number, theirs), own), (field, values)) in numbers {
                let Some(slot) = own.get_mut(*theirs as usize) else { continue };
                if *slot == NONE {
                    let value = field.number(values.value(*theirs), values.hash(*theirs), true);
                    *slot = value.unwrap_or(NONE);
                }
                *number = *slot;
            }
            let key = key.get(..self.fields.len()).unwrap_or_default();
            *cell = self.find(*hash, key).unwrap_or_else(|| self.insert(*hash, key));
        }
        self.make_cells();
        let each = || cells.iter().enumerate().filter(|(_, cell)| **cell != NONE);
        each().for_each(|(from, to)| self.events[*to as usize] += other.events[from]);
        for (state, theirs) in self.states.iter_mut().zip(&other.states) {
            each().for_each(|(from, to)| state.join(*to as usize, theirs, from));
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
