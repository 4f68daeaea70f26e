//! A page as somebody sees it who may read a part of it: the rows that are admitted, without the fields that are hidden.
//!
//! It is a page of its own. Dictionaries, zones, times and names are those of the rows and fields that are left, so that
//! whatever is worked out of it is what would be worked out if nothing else had ever been stored.

use super::build::Coded;
use super::dictionary::Interner;
use super::permute::{Loaded, SourceRow};
use super::{BuiltinColumn, Column, ColumnKey, PageRead, Values, select};
use calvex_language::error::Result;
use calvex_language::model::{Event, Value, decode_value, encode_value};
use calvex_language::query::{Filter, HiddenFields, matches};
use std::borrow::Cow;
use std::cell::RefCell;
use std::collections::HashMap;
use std::sync::Arc;

/// What may be read of the events of one lane.
#[derive(Debug, Clone, PartialEq)]
pub struct Restriction {
    /// The events for which it holds are admitted. It is asked of them as they are stored, hidden fields too.
    pub rows: Filter,
    /// Fields that are as absent.
    pub hidden: HiddenFields,
    /// The lane, for filters that name it.
    pub lane: Arc<str>,
}

/// Sets of hidden fields that are kept apart; the rows of further grants show what all of these show.
const MAX_LAYERS: usize = 4;

/// What grants on one lane give together, each the rows that it admits and the fields that it hides. Rows are the union of
/// theirs, and a field of a row is hidden unless a grant that admits the row shows it. So there may be several restrictions,
/// of which no two admit the same row; none at all, where everything may be read.
pub fn together(lane: &Arc<str>, grants: Vec<(Filter, HiddenFields)>) -> Vec<Restriction> {
    let mut sets: Vec<(HiddenFields, Filter)> = Vec::new();
    for (rows, hidden) in grants {
        match sets.iter_mut().find(|(known, _)| *known == hidden) {
            Some((_, of)) => *of = std::mem::replace(of, Filter::All).or(rows),
            None => sets.push((hidden, rows)),
        }
    }
    // A grant of all rows that hides no more than another leaves nothing for the other to add.
    let whole: Vec<HiddenFields> =
        sets.iter().filter(|(_, rows)| *rows == Filter::All).map(|(of, _)| of.clone()).collect();
    sets.retain(|(of, rows)| !whole.iter().any(|w| (w != of || *rows != Filter::All) && w.both(of) == *w));
    while sets.len() > MAX_LAYERS
        && let (Some((a, of_a)), Some((b, of_b))) = (sets.pop(), sets.pop())
    {
        sets.push((a.either(&b), of_a.or(of_b)));
    }
    let mut layers = Vec::new();
    for chosen in 1..1usize << sets.len() {
        let (mut rows, mut hidden) = (Filter::All, None);
        for (n, (of_set, filter)) in sets.iter().enumerate() {
            if chosen >> n & 1 == 1 {
                rows = rows.and(filter.clone());
                hidden = Some(hidden.map_or_else(|| of_set.clone(), |known: HiddenFields| known.both(of_set)));
            } else {
                rows = rows.and(filter.clone().negated());
            }
        }
        if rows != Filter::nothing() {
            layers.push(Restriction { rows, hidden: hidden.unwrap_or_default(), lane: lane.clone() });
        }
    }
    // Rows of which the same is hidden stand together again.
    let mut joined: Vec<Restriction> = Vec::new();
    for layer in layers {
        match joined.iter_mut().find(|known| known.hidden == layer.hidden) {
            Some(known) => known.rows = std::mem::replace(&mut known.rows, Filter::All).or(layer.rows),
            None => joined.push(layer),
        }
    }
    if joined.iter().any(|r| r.rows == Filter::All && r.hidden.is_empty()) {
        return Vec::new();
    }
    if joined.is_empty() {
        joined.push(Restriction { rows: Filter::nothing(), hidden: HiddenFields::default(), lane: lane.clone() });
    }
    joined
}

/// The admitted rows of a page.
#[derive(Debug, Clone)]
pub enum Admitted {
    /// All.
    All,
    /// These, ascending.
    Some(Arc<[u32]>),
}

impl Restriction {
    /// What is left of an event; none where it is not admitted. Says the same as [`RestrictedPage`], event by event.
    pub fn event(&self, mut event: Event) -> Option<Event> {
        let admitted = matches(&self.rows, &event, &self.lane);
        self.hidden.strip(&mut event);
        admitted.then_some(event)
    }

    /// The rows of `page` that are admitted.
    ///
    /// # Errors
    /// Where a column cannot be read.
    pub fn admitted(&self, page: &dyn PageRead) -> Result<Admitted> {
        let rows = select(&self.rows, page, &self.lane)?;
        Ok(match rows.is_full() {
            true => Admitted::All,
            false => Admitted::Some(rows.iter().map(|row| row as u32).collect()),
        })
    }
}

/// A page seen through a [`Restriction`].
pub struct RestrictedPage<'a> {
    inner: &'a dyn PageRead,
    hidden: &'a HiddenFields,
    /// Its rows in the page, where not all are admitted.
    order: Option<Vec<SourceRow>>,
    rows: usize,
    span: (i64, i64),
    keys: Vec<ColumnKey>,
    /// Where each key stands in the page.
    places: Vec<usize>,
    read: RefCell<HashMap<usize, Option<Arc<Column>>>>,
}

impl<'a> RestrictedPage<'a> {
    /// What `restriction` leaves of `page`, of which it admits `admitted`.
    ///
    /// # Errors
    /// Where the times cannot be read.
    pub fn new(page: &'a dyn PageRead, restriction: &'a Restriction, admitted: &Admitted) -> Result<Self> {
        let hidden = &restriction.hidden;
        let shown = |key: &ColumnKey| match key {
            ColumnKey::Field(path, _) => !hidden.hides(&path.dotted()),
            ColumnKey::Builtin(_) => true,
        };
        let places: Vec<usize> = (0..).zip(page.keys()).filter(|(_, key)| shown(key)).map(|(place, _)| place).collect();
        let order: Option<Vec<SourceRow>> = match admitted {
            Admitted::All => None,
            Admitted::Some(rows) => Some(rows.iter().map(|row| SourceRow { source: 0, row: *row }).collect()),
        };
        let mut seen = RestrictedPage {
            inner: page,
            hidden,
            rows: order.as_ref().map_or_else(|| page.rows(), Vec::len),
            order,
            span: page.time_span(),
            keys: places.iter().filter_map(|place| page.keys().get(*place).cloned()).collect(),
            places,
            read: RefCell::default(),
        };
        if seen.order.is_some() {
            seen.span = seen.times()?;
        }
        Ok(seen)
    }

    fn times(&self) -> Result<(i64, i64)> {
        let time = self.builtin(BuiltinColumn::Time)?;
        let times: &[i64] = match time.as_deref().map(|column| &column.values) {
            Some(Values::Ints(times)) => times,
            _ => &[],
        };
        let least = times.iter().min().copied().unwrap_or(i64::MAX);
        Ok((least, times.iter().max().copied().unwrap_or(i64::MIN)))
    }

    fn fetch(&self, index: usize) -> Result<Option<Arc<Column>>> {
        let (Some(place), Some(key)) = (self.places.get(index), self.keys.get(index)) else { return Ok(None) };
        let column = match &self.order {
            None => self.inner.column(*place)?,
            Some(order) => Loaded::of_one(self.inner, *place)?.arranged(order)?.map(Arc::new),
        };
        let Some(column) = column else { return Ok(None) };
        match key {
            ColumnKey::Builtin(BuiltinColumn::Overflow) if !self.hidden.is_empty() => {
                self.rewritten(&column, |fields| self.hidden.without_overflowing(fields))
            }
            ColumnKey::Builtin(BuiltinColumn::Layout) if !self.hidden.is_empty() => Ok(Some(self.relaid(column))),
            ColumnKey::Field(path, super::FieldType::Nested) if self.hidden.reaches_below(&path.dotted()) => {
                self.rewritten(&column, |list| self.hidden.without(&path.dotted(), list))
            }
            _ => Ok(Some(column)),
        }
    }

    /// A column of layouts without the names of hidden fields.
    fn relaid(&self, column: Arc<Column>) -> Arc<Column> {
        let Values::Texts { dictionary, codes } = &column.values else { return column };
        let layouts: Vec<Cow<'_, str>> = dictionary.iter().map(|layout| self.hidden.without_laid(layout)).collect();
        if layouts.iter().all(|layout| matches!(layout, Cow::Borrowed(_))) {
            return column;
        }
        let mut interner = Interner::<String>::default();
        let anew: Vec<u32> = layouts.iter().map(|layout| interner.code(layout)).collect();
        let codes = codes.iter().map(|code| anew.get(*code as usize).copied().unwrap_or(0)).collect();
        let values = Values::Texts { dictionary: interner.dictionary, codes };
        Arc::new(Column { present: column.present.clone(), values })
    }

    /// A column of encoded values, each put through `rewrite`; a row whose value is nothing then has none.
    fn rewritten(&self, column: &Column, rewrite: impl Fn(Value) -> Option<Value>) -> Result<Option<Arc<Column>>> {
        let Values::Blobs { dictionary, codes } = &column.values else { return Ok(None) };
        let once = |code: usize| {
            let mut bytes = Vec::new();
            encode_value(&rewrite(decode_value(dictionary.get(code))?)?, &mut bytes);
            Some(bytes)
        };
        let rewritten: Vec<Option<Vec<u8>>> = (0..dictionary.len()).map(once).collect();
        let mut coded = Coded::<Vec<u8>>::default();
        for (value_index, code) in codes.iter().enumerate() {
            if let Some(Some(bytes)) = rewritten.get(*code as usize) {
                coded.push(column.row(value_index) as u32, bytes);
            }
        }
        Ok(coded.column(self.rows).map(Arc::new))
    }
}

impl PageRead for RestrictedPage<'_> {
    fn rows(&self) -> usize {
        self.rows
    }

    fn time_span(&self) -> (i64, i64) {
        self.span
    }

    fn keys(&self) -> &[ColumnKey] {
        &self.keys
    }

    fn prefetch(&self, wanted: &dyn Fn(usize) -> bool) {
        let index = |at| self.places.iter().position(|place| *place == at);
        self.inner.prefetch(&|at| index(at).is_some_and(wanted));
    }

    fn column(&self, index: usize) -> Result<Option<Arc<Column>>> {
        if let Some(read) = self.read.borrow().get(&index) {
            return Ok(read.clone());
        }
        let column = self.fetch(index)?;
        self.read.borrow_mut().insert(index, column.clone());
        Ok(column)
    }

    fn zone(&self, index: usize) -> Option<(f64, f64)> {
        // A zone is of all rows, and only says which pages need not be read.
        self.places.get(index).and_then(|place| self.inner.zone(*place)).filter(|_| self.order.is_none())
    }

    fn weight_bytes(&self) -> usize {
        let whole = self.inner.weight_bytes();
        whole.checked_div(self.inner.rows()).map_or(0, |each| each * self.rows)
    }
}
