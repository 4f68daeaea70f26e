//! Which cell each row of a page belongs to. A page codes each field of `per` by itself; the codes of a row, one field
//! after the other, and its step are one number, and each such number is resolved to a cell once a page.

use super::MeasureAsk;
use super::cells::NONE;
use super::coded::{Coded, code};
use super::partial::{Member, Partial};
use calvex_language::error::Result;
use calvex_language::query::Function;
use calvex_storage::columns::{BuiltinColumn, Column, PageRead, Rows, Values};
use std::collections::HashMap;
use std::sync::Arc;

/// Products of page codes up to this many are looked up in a table, more by hash.
const MAX_TABLE: usize = 1 << 16;
/// Groups of one row at most: three lists of a hundred values have a million combinations.
const MAX_ROW_GROUPS: usize = 4096;
/// Fields of `per` at most, as the parser bounds them.
pub(super) const MAX_PER: usize = 8;

/// The cells of a page's rows.
pub(super) struct Placement {
    /// The first cell of each row; none of rows that are in no cell.
    pub(super) first: Vec<u32>,
    /// Further cells of rows that stand in several groups.
    pub(super) more: HashMap<u32, Vec<u32>>,
}

impl Placement {
    /// Calls `f` with each cell of a row.
    pub(super) fn each(&self, row: usize, mut f: impl FnMut(usize)) {
        match self.first.get(row) {
            Some(cell) if *cell != NONE => f(*cell as usize),
            _ => return,
        }
        if !self.more.is_empty()
            && let Some(more) = self.more.get(&(row as u32))
        {
            more.iter().for_each(|cell| f(*cell as usize));
        }
    }
}

/// The cell of all rows of a page, where they are all of one step and group, and only counted; none elsewhere.
pub(super) fn only_cell(partial: &mut Partial, ask: &MeasureAsk, page: &dyn PageRead) -> Option<u32> {
    let counts = |function: &Function| matches!(function, Function::Count(_) | Function::Rate | Function::Share(_));
    let (from, to) = page.time_span();
    let step = step_of(ask, from);
    let is_one = ask.measure.per.is_empty() && step == step_of(ask, to);
    let only_counted = is_one && ask.measure.aggregates.iter().all(|aggregate| counts(&aggregate.function));
    only_counted.then(|| partial.cell(&mut [], step)).filter(|cell| *cell != NONE)
}

/// The step of a time; times beyond the range belong to its ends.
fn step_of(ask: &MeasureAsk, time_ns: i64) -> usize {
    ask.steps.of(time_ns.clamp(ask.range.from_ns, ask.range.to_ns.saturating_sub(1)))
}

/// A page's codes and steps, and the cells they were resolved to.
pub(super) struct Grouper<'a> {
    ask: &'a MeasureAsk<'a>,
    /// The fields of `per`, coded by the page.
    fields: Vec<Coded>,
    /// By field and code: the hash of the value, and its number in the partial figures once that is known.
    known_values: Vec<Vec<(u64, u32)>>,
    /// The first step of the page, and how many it touches.
    first_step: usize,
    steps: usize,
    /// The time column, where the page touches several steps.
    time: Option<Arc<Column>>,
    /// By number: its cell. Empty where there may be too many numbers for a table.
    table: Vec<u32>,
    /// The same where a table would be too large.
    known: hashbrown::HashMap<u128, u32>,
}

impl<'a> Grouper<'a> {
    /// Of the `rows` of a page.
    ///
    /// # Errors
    /// Where the page is damaged.
    pub fn of(ask: &'a MeasureAsk<'a>, page: &dyn PageRead, rows: &Rows, lane: &str) -> Result<Self> {
        let coded = |field| code(field, page, rows, lane);
        let fields: Vec<Coded> = ask.measure.per.iter().map(coded).collect::<Result<_>>()?;
        let (lo, hi) = page.time_span();
        let mut grouper = Grouper {
            ask,
            fields,
            known_values: Vec::new(),
            first_step: 0,
            steps: 1,
            time: None,
            table: Vec::new(),
            known: hashbrown::HashMap::new(),
        };
        grouper.first_step = step_of(ask, lo);
        grouper.steps = step_of(ask, hi) - grouper.first_step + 1;
        if grouper.steps > 1 {
            grouper.time = page.builtin(BuiltinColumn::Time)?;
        }
        Ok(grouper)
    }

    /// How many numbers there are: the groups and steps that a row may be of.
    fn numbers(&self) -> usize {
        self.fields.iter().fold(self.steps, |numbers, field| numbers.saturating_mul(field.len()))
    }

    /// Whether `rows` rows, each of one group, may mostly be of different groups.
    pub fn may_differ(&self, rows: usize) -> bool {
        let is_one = self.fields.iter().all(|field| field.more.is_empty());
        is_one && !self.fields.is_empty() && self.numbers() > rows / 2
    }

    /// The fields of `per`, coded by the page.
    pub fn fields(&self) -> &[Coded] {
        &self.fields
    }

    /// Finds the cells of the `rows` of the page, made in `partial` where they are new.
    pub fn place(mut self, partial: &mut Partial, page: &dyn PageRead, rows: &Rows) -> Placement {
        let known = |field: &Coded| field.hashes().into_iter().map(|hash| (hash, NONE)).collect();
        self.known_values = self.fields.iter().map(known).collect();
        let numbers = self.numbers();
        self.table = vec![NONE; if numbers <= MAX_TABLE { numbers } else { 0 }];
        let mut placement = Placement { first: vec![NONE; page.rows()], more: HashMap::new() };
        match self.row_keys(page.rows()) {
            // Plain loops over codes, and a cell for each number that occurs.
            Some(keys) => {
                for row in rows.iter() {
                    let known = self.table[keys[row] as usize];
                    placement.first[row] = if known == NONE { self.first_cell(row, partial) } else { known };
                }
            }
            None => rows.iter().for_each(|row| placement.first[row] = self.first_cell(row, partial)),
        }
        for row in self.rows_of_several(rows) {
            let more = self.further_cells(row, partial);
            if !more.is_empty() {
                placement.more.insert(row as u32, more);
            }
        }
        placement
    }

    fn times(&self) -> Option<&[i64]> {
        match self.time.as_deref() {
            Some(Column { values: Values::Ints(times), .. }) => Some(times),
            _ => None,
        }
    }

    /// The step of a row, from the page's first.
    fn step_of(&self, row: usize) -> usize {
        let time = self.times().and_then(|times| times.get(row));
        time.map_or(0, |time| step_of(self.ask, *time) - self.first_step)
    }

    /// The number of each row by the first value of each field, where numbers are looked up in a table.
    fn row_keys(&self, rows: usize) -> Option<Vec<u32>> {
        if self.table.is_empty() {
            return None;
        }
        let mut keys: Vec<u32> = match self.times() {
            None => vec![0; rows],
            Some(times) => times.iter().map(|time| (step_of(self.ask, *time) - self.first_step) as u32).collect(),
        };
        for field in &self.fields {
            let values = field.len() as u32;
            keys.iter_mut().zip(&field.first).for_each(|(key, code)| *key = *key * values + code);
        }
        Some(keys)
    }

    /// The cell of a row by the first value of each field.
    fn first_cell(&mut self, row: usize, partial: &mut Partial) -> u32 {
        let mut codes = [0; MAX_PER];
        codes.iter_mut().zip(&self.fields).for_each(|(code, field)| *code = field.first[row]);
        let fields = self.fields.len().min(MAX_PER);
        self.cell(&codes[..fields], self.step_of(row), partial)
    }

    /// The cell of one code a field in a step.
    fn cell(&mut self, codes: &[u32], step: usize, partial: &mut Partial) -> u32 {
        let number = codes
            .iter()
            .zip(&self.fields)
            .fold(step as u128, |number, (code, field)| number * field.len() as u128 + u128::from(*code));
        let known = match self.table.get(number as usize) {
            Some(cell) => Some(*cell).filter(|cell| *cell != NONE),
            None => self.known.get(&number).copied(),
        };
        if let Some(cell) = known {
            return cell;
        }
        let mut members = [Member::MISSING; MAX_PER];
        let members = members.get_mut(..codes.len()).unwrap_or_default();
        for (((member, code), field), known) in members.iter_mut().zip(codes).zip(&self.fields).zip(&self.known_values)
        {
            let (hash, number) = known.get(*code as usize).copied().unwrap_or((0, NONE));
            *member = Member { value: field.value(*code), hash, number };
        }
        let cell = partial.cell(members, self.first_step + step);
        for ((member, code), known) in members.iter().zip(codes).zip(&mut self.known_values) {
            if let Some((_, number)) = known.get_mut(*code as usize) {
                *number = member.number;
            }
        }
        match self.table.get_mut(number as usize) {
            Some(slot) => *slot = cell,
            None => drop(self.known.insert(number, cell)),
        }
        cell
    }

    /// Those of `rows` that have several values of a field.
    fn rows_of_several(&self, rows: &Rows) -> Vec<usize> {
        let mut several: Vec<usize> =
            self.fields.iter().flat_map(|f| f.more.iter().map(|(row, _)| *row as usize)).collect();
        several.sort_unstable();
        several.dedup();
        several.retain(|row| rows.has(*row));
        several
    }

    /// The cells of a row beside its first: it stands in the group of each combination of its values.
    fn further_cells(&mut self, row: usize, partial: &mut Partial) -> Vec<u32> {
        let choices: Vec<Vec<u32>> = self
            .fields
            .iter()
            .map(|field| {
                let more = field.more_of(row).iter().map(|(_, code)| *code);
                std::iter::once(field.first[row]).chain(more).collect()
            })
            .collect();
        let step = self.step_of(row);
        let all = choices.iter().fold(1usize, |n, choice| n.saturating_mul(choice.len()));
        partial.groups.overfull |= all > MAX_ROW_GROUPS;
        let all = all.min(MAX_ROW_GROUPS);
        let mut cells = Vec::new();
        for nth in 1..all {
            let mut rest = nth;
            let codes: Vec<u32> = choices
                .iter()
                .map(|choice| {
                    let code = choice[rest % choice.len()];
                    rest /= choice.len();
                    code
                })
                .collect();
            let cell = self.cell(&codes, step, partial);
            if cell != NONE {
                cells.push(cell);
            }
        }
        cells
    }
}
