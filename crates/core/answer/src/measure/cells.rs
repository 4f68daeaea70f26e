//! The running figures of one aggregate, a cell for each group and step. Cells of two parts join in any order.

use super::numbers::RowNumber;
use super::{Distinct, GroupValue, Quantiles, Sum, ValueRef};
use crate::scan::Cursor;
use calvex_language::query::{Function, Num};
use calvex_storage::columns::{Column, Values};
use std::cmp::Ordering;

/// No cell: the row does not pass.
pub(super) const NONE: u32 = u32::MAX;

/// The cells of one aggregate.
#[derive(Debug, Clone)]
pub(super) enum Cells {
    /// Nothing: the events of each cell are counted in any case.
    Events,
    Counts(Vec<u64>),
    Distinct(Vec<Distinct>),
    /// How many of them are large, too.
    Sums(Vec<Sum>, usize),
    /// The smallest, or with `true` the largest.
    Ends(bool, Vec<Option<Num>>),
    Quantiles(Vec<Quantiles>),
    /// The earliest, or with `true` the latest value.
    Moments(bool, Vec<Option<(Cursor, GroupValue)>>),
}

/// The value of an aggregate's cell.
#[derive(Debug, Clone, PartialEq)]
pub enum Cell {
    /// No event had a value.
    Missing,
    /// A count.
    Count(u64),
    /// A number.
    Number(f64),
    /// A value as the event had it.
    Value(GroupValue),
}

impl Cell {
    /// The number it stands for, where it is compared and ordered.
    pub fn number(&self) -> Option<f64> {
        match self {
            Cell::Missing => None,
            Cell::Count(n) => Some(*n as f64),
            Cell::Number(f) => Some(*f),
            Cell::Value(v) => v.as_num().map(|n| n.float),
        }
    }
}

impl Cells {
    pub fn new(function: &Function) -> Self {
        match function {
            Function::Count(None) | Function::Rate => Cells::Events,
            Function::Count(Some(_)) | Function::Share(_) => Cells::Counts(Vec::new()),
            Function::Distinct(_) => Cells::Distinct(Vec::new()),
            Function::Sum(_) | Function::Mean(_) => Cells::Sums(Vec::new(), 0),
            Function::Min(_) => Cells::Ends(false, Vec::new()),
            Function::Max(_) => Cells::Ends(true, Vec::new()),
            Function::Percentile(..) => Cells::Quantiles(Vec::new()),
            Function::First(_) => Cells::Moments(false, Vec::new()),
            Function::Last(_) => Cells::Moments(true, Vec::new()),
        }
    }

    /// No cell of the same aggregate.
    pub fn none_like(&self) -> Self {
        match self {
            Cells::Events => Cells::Events,
            Cells::Counts(_) => Cells::Counts(Vec::new()),
            Cells::Distinct(_) => Cells::Distinct(Vec::new()),
            Cells::Sums(..) => Cells::Sums(Vec::new(), 0),
            Cells::Ends(largest, _) => Cells::Ends(*largest, Vec::new()),
            Cells::Quantiles(_) => Cells::Quantiles(Vec::new()),
            Cells::Moments(latest, _) => Cells::Moments(*latest, Vec::new()),
        }
    }

    pub fn resize(&mut self, cells: usize) {
        match self {
            Cells::Events => {}
            Cells::Counts(v) => v.resize(cells, 0),
            Cells::Distinct(v) => v.resize(cells, Distinct::default()),
            Cells::Sums(v, _) => v.resize(cells, Sum::default()),
            Cells::Ends(_, v) => v.resize(cells, None),
            Cells::Quantiles(v) => v.resize(cells, Quantiles::default()),
            Cells::Moments(_, v) => v.resize(cells, None),
        }
    }

    /// Adds a number to a cell.
    pub fn add(&mut self, cell: usize, n: Num) {
        match self {
            Cells::Sums(v, large) => add_to(&mut v[cell], large, |sum| match n.whole {
                Some(whole) => sum.add_int(whole),
                None => sum.add_float(n.float),
            }),
            Cells::Ends(largest, v) => end(*largest, &mut v[cell], n),
            Cells::Quantiles(v) => v[cell].add(n.float),
            Cells::Events | Cells::Counts(_) | Cells::Distinct(_) | Cells::Moments(..) => {}
        }
    }

    /// Adds what was taken of a row to its cell.
    pub fn take(&mut self, cell: usize, number: RowNumber) {
        match (self, number) {
            (_, RowNumber::None) => {}
            (Cells::Counts(v), _) => v[cell] += 1,
            (Cells::Sums(v, large), RowNumber::Int(n)) => add_to(&mut v[cell], large, |sum| sum.add_int(i128::from(n))),
            (Cells::Quantiles(v), RowNumber::Int(n)) => v[cell].add(n as f64),
            (Cells::Sums(v, large), RowNumber::Float(f)) => add_to(&mut v[cell], large, |sum| sum.add_float(f)),
            (cells, RowNumber::Int(n)) => cells.add(cell, Num::int(i128::from(n))),
            (cells, RowNumber::Float(f)) => cells.add(cell, Num::float(f)),
        }
    }

    /// Adds the whole numbers of a column, each to the cell of its row.
    pub fn add_ints(&mut self, column: &Column, cell_of: &[u32]) {
        let Values::Ints(numbers) = &column.values else { return };
        let cells =
            |value_index: usize| cell_of.get(column.row(value_index)).filter(|c| **c != NONE).map(|c| *c as usize);
        let each = numbers.iter().enumerate().filter_map(|(value_index, n)| Some((cells(value_index)?, *n)));
        match self {
            Cells::Quantiles(v) => each.for_each(|(cell, n)| v[cell].add(n as f64)),
            Cells::Sums(v, large) => {
                each.for_each(|(cell, n)| add_to(&mut v[cell], large, |sum| sum.add_int(i128::from(n))));
            }
            other => each.for_each(|(cell, n)| other.add(cell, Num::int(i128::from(n)))),
        }
    }

    /// Takes a value met at `at`, if it is the earliest (or latest) so far.
    pub fn meet(&mut self, cell: usize, at: Cursor, value: ValueRef) {
        if let Cells::Moments(latest, v) = self {
            moment(*latest, &mut v[cell], (at, value));
        }
    }

    /// Adds cell `from` of `other` to cell `to`.
    pub fn join(&mut self, to: usize, other: &Cells, from: usize) {
        match (self, other) {
            (Cells::Counts(a), Cells::Counts(b)) => a[to] += b[from],
            (Cells::Distinct(a), Cells::Distinct(b)) => a[to].join(&b[from]),
            (Cells::Sums(a, large), Cells::Sums(b, _)) => add_to(&mut a[to], large, |sum| sum.join(&b[from])),
            (Cells::Quantiles(a), Cells::Quantiles(b)) => a[to].join(&b[from]),
            (Cells::Ends(largest, a), Cells::Ends(_, b)) => {
                if let Some(n) = b[from] {
                    end(*largest, &mut a[to], n);
                }
            }
            (Cells::Moments(latest, a), Cells::Moments(_, b)) => {
                if let Some((at, value)) = &b[from] {
                    moment(*latest, &mut a[to], (*at, value.as_ref()));
                }
            }
            // Both are of one aggregate.
            _ => {}
        }
    }

    /// Adds cell `from` to cell `to`.
    pub fn join_own(&mut self, to: usize, from: usize) {
        let one = match self {
            Cells::Events => return,
            Cells::Counts(v) => Cells::Counts(vec![v[from]]),
            Cells::Distinct(v) => Cells::Distinct(vec![v[from].clone()]),
            Cells::Sums(v, _) => Cells::Sums(vec![v[from].clone()], 0),
            Cells::Ends(largest, v) => Cells::Ends(*largest, vec![v[from]]),
            Cells::Quantiles(v) => Cells::Quantiles(vec![v[from].clone()]),
            Cells::Moments(latest, v) => Cells::Moments(*latest, vec![v[from].clone()]),
        };
        self.join(to, &one, 0);
    }

    /// The value of a cell over `events` events and `seconds`, and whether it is an estimate.
    pub fn report(&self, function: &Function, cell: usize, events: u64, seconds: f64) -> (Cell, bool) {
        let number = |n: Option<f64>| n.map_or(Cell::Missing, Cell::Number);
        match (self, function) {
            (Cells::Counts(v), Function::Share(_)) => {
                (number((events > 0).then(|| v[cell] as f64 / events as f64)), false)
            }
            (Cells::Events, Function::Rate) => (number((seconds > 0.0).then(|| events as f64 / seconds)), false),
            (Cells::Events, _) => (Cell::Count(events), false),
            (Cells::Counts(v), _) => (Cell::Count(v[cell]), false),
            (Cells::Distinct(v), _) => (Cell::Count(v[cell].count()), v[cell].estimated()),
            (Cells::Sums(v, _), Function::Mean(_)) => (number(v[cell].mean()), false),
            (Cells::Sums(v, _), _) => (number((v[cell].count > 0).then(|| v[cell].total())), false),
            (Cells::Ends(_, v), _) => (v[cell].map_or(Cell::Missing, |n| Cell::Value(GroupValue::number(n))), false),
            (Cells::Quantiles(v), Function::Percentile(p, _)) => {
                (number(v[cell].percentile(p.parse().unwrap_or(50.0))), v[cell].estimated())
            }
            (Cells::Quantiles(_), _) => (Cell::Missing, false),
            (Cells::Moments(_, v), _) => {
                (v[cell].as_ref().map_or(Cell::Missing, |(_, value)| Cell::Value(value.clone())), false)
            }
        }
    }

    /// A rough size in memory.
    pub fn weight_bytes(&self) -> usize {
        match self {
            Cells::Events => 0,
            Cells::Counts(v) => v.len() * 8,
            Cells::Distinct(v) => v.iter().map(|d| 64 + d.weight_bytes()).sum(),
            Cells::Sums(v, large) => v.len() * size_of::<Sum>() + large * Sum::LARGE_BYTES,
            Cells::Ends(_, v) => v.len() * 48,
            Cells::Quantiles(v) => v.iter().map(|q| 64 + q.weight_bytes()).sum(),
            Cells::Moments(_, v) => v.len() * 128,
        }
    }
}

/// Changes a sum, and counts it where it is large from now on.
fn add_to(sum: &mut Sum, large: &mut usize, change: impl FnOnce(&mut Sum)) {
    let before = sum.is_large();
    change(sum);
    *large += usize::from(sum.is_large() != before);
}

fn end(largest: bool, slot: &mut Option<Num>, n: Num) {
    let wins = match slot.and_then(|held| n.order(held)) {
        Some(Ordering::Greater) => largest,
        Some(Ordering::Less) => !largest,
        Some(Ordering::Equal) => false,
        // NaN is neither; it is never kept.
        None => slot.is_none() && !n.float.is_nan(),
    };
    if wins {
        *slot = Some(n);
    }
}

fn moment(latest: bool, slot: &mut Option<(Cursor, GroupValue)>, (at, value): (Cursor, ValueRef)) {
    let wins = slot.as_ref().is_none_or(|(held, kept)| match at.cmp(held) {
        Ordering::Greater => latest,
        Ordering::Less => !latest,
        // One event with several values: the least of them, wherever it is looked at.
        Ordering::Equal => value < kept.as_ref(),
    });
    if wins {
        *slot = Some((at, value.to_value()));
    }
}
