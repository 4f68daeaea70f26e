//! Figures of some of the pages: the rows of a page get their cells (`grouper`), then each aggregate runs over its own
//! column.

use super::cells::{Cells, NONE};
use super::coded::code;
use super::grouper::{Grouper, MAX_PER, only_cell};
use super::groups::{Groups, hash_of};
use super::numbers::{numbers, plain_ints};
use super::plain::each_hash;
use super::share::Share;
use super::values::{Renumbered, Values};
use super::workers::Figures;
use super::{MeasureAsk, ValueRef};
use crate::scan::Cursor;
use calvex_language::error::Result;
use calvex_language::query::Function;
use calvex_storage::columns::{OrderKeys, PageRead, Rows, select};

/// Figures of some of the pages: of the groups of a share.
pub(super) struct Partial {
    /// The values of each field of `per`.
    pub fields: Vec<Values>,
    pub groups: Groups,
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

/// The values of a group of this key.
pub(super) fn values_of<'a>(fields: &'a [Values], key: &'a [u32]) -> impl Iterator<Item = ValueRef<'a>> {
    fields.iter().zip(key).map(|(values, number)| values.value(*number))
}

impl Partial {
    /// Of the groups of a share.
    pub fn new(ask: &MeasureAsk, share: Share) -> Self {
        let fields = ask.measure.per.iter().map(|_| Values::new()).collect();
        Partial { fields, groups: Groups::new(ask, share) }
    }

    /// Keeps the groups of a smaller share.
    pub fn narrow(&mut self, share: Share) {
        let fields = self.fields.iter().map(|_| Values::new()).collect();
        let mut kept = Partial { fields, groups: self.groups.none_like(share) };
        kept.take(&self.fields, std::slice::from_ref(&self.groups));
        *self = kept;
    }

    /// The cell of a group in a step; none where it does not belong to the share, or where there is no room.
    pub(super) fn cell(&mut self, group: &mut [Member], step: usize) -> u32 {
        let hash = hash_of(group.iter().map(|member| member.hash));
        if !self.groups.holds(hash) {
            return NONE;
        }
        let grows = self.groups.has_room();
        for (member, values) in group.iter_mut().zip(&mut self.fields).filter(|(member, _)| member.number == NONE) {
            let Some(number) = values.number(member.value, member.hash, grows) else {
                self.groups.leave_out(hash);
                return NONE;
            };
            member.number = number;
        }
        let mut key = [NONE; MAX_PER];
        key.iter_mut().zip(group.iter()).for_each(|(number, member)| *number = member.number);
        self.groups.cell(hash, key.get(..group.len()).unwrap_or_default(), step)
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
            let events = &mut self.groups.events;
            placement.first.iter().filter(|c| **c != NONE).for_each(|cell| events[*cell as usize] += 1);
        } else {
            rows.iter().for_each(|row| placement.each(row, |cell| self.groups.events[cell] += 1));
        }
        for (n, aggregate) in ask.measure.aggregates.iter().enumerate() {
            let state = &mut self.groups.states[n];
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
                    if let Cells::Distinct(cells) = state {
                        each_hash(field, page, rows, lane, |row, hash| {
                            placement.each(row, |cell| cells[cell].add(hash))
                        })?;
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
        if let Some(events) = self.groups.events.get_mut(cell as usize) {
            *events += rows.count() as u64;
        }
        for (aggregate, state) in ask.measure.aggregates.iter().zip(&mut self.groups.states) {
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

    /// Adds the figures that others have of groups of the own share; `fields` has the values of their groups.
    pub fn take(&mut self, fields: &[Values], others: &[Groups]) {
        let mut renumbered: Vec<Renumbered> = fields.iter().map(Renumbered::unknown).collect();
        let own = &mut self.fields;
        for other in others {
            self.groups.take(other, |field, number| {
                let (Some(renumbered), Some(theirs)) = (renumbered.get_mut(field), fields.get(field)) else {
                    return NONE;
                };
                let find = || own.get_mut(field)?.number(theirs.value(number), theirs.hash(number), true);
                renumbered.get_or_find(number, find)
            });
        }
    }
}

impl Figures for Partial {
    fn weight_bytes(&self) -> usize {
        self.groups.weight_bytes() + self.fields.iter().map(Values::weight_bytes).sum::<usize>()
    }
}
