//! What one worker gathers. Where a page has few groups, its rows get their cells at once (`partial`). Where nearly every row
//! may be of another group, looking each up in a table that is larger than the processor's caches would wait for memory once
//! a row. Such rows are written to parts, by bits of the hash of their group, and wait there until there are many; then they
//! are looked up together, while all that is kept of the part's groups is in the cache (as in Manegold, Boncz, Kersten:
//! "Optimizing main-memory join on modern hardware", 2002). Each part is a smallest share.

use super::grouper::Grouper;
use super::numbers::{RowNumber, row_numbers};
use super::partial::Partial;
use super::share::Share;
use super::value_table::Key;
use super::workers::Figures;
use super::{MeasureAsk, ValueRef};
use calvex_language::error::Result;
use calvex_language::query::Function;
use calvex_storage::columns::{PageRead, Rows, select};

/// Rows of a part that wait, at most; fewer where there is little memory.
const MAX_WAITING: usize = 2048;
/// Bytes of text for each row that waits, on average, before a part is looked up early.
const WAITING_TEXT: usize = 64;

/// Figures of some pages, of the groups of a share.
pub(super) struct WorkerGroups {
    share: Share,
    /// Bytes that it may take; no bound where groups are not worked out share by share.
    most: Option<usize>,
    /// Groups of pages that have few.
    few: Partial,
    /// Groups of other pages, by smallest share; none until there is such a page.
    many: Vec<GroupPart>,
    /// Rows of a part that wait, at most.
    waiting: usize,
}

/// The groups of a smallest share.
pub(super) struct GroupPart {
    groups: Partial,
    waiting: Waiting,
}

/// Rows of which the groups are not looked up yet.
#[derive(Default)]
struct Waiting {
    /// Of the group of each row.
    hashes: Vec<u64>,
    /// Of row after row: the values of its group.
    keys: Vec<Key>,
    /// Of the keys.
    texts: String,
    /// By aggregate, what it takes of each row; empty where that is nothing.
    numbers: Vec<Vec<RowNumber>>,
}

impl WorkerGroups {
    /// Of the groups of a share, or of a smaller one where they take more than `most` bytes.
    pub fn new(ask: &MeasureAsk, share: Share, most: Option<usize>) -> Self {
        let of_row = size_of::<u64>()
            + ask.measure.per.len() * size_of::<Key>()
            + ask.measure.aggregates.len() * size_of::<RowNumber>()
            + WAITING_TEXT;
        let waiting = most.map_or(0, |most| (most / (8 * Share::SMALLEST * of_row)).clamp(1, MAX_WAITING));
        WorkerGroups { share, most, few: Partial::new(ask, share), many: Vec::new(), waiting }
    }

    /// The groups that it has figures of.
    pub fn share(&self) -> Share {
        self.share
    }

    /// How many groups there may be.
    pub fn group_count(&self) -> usize {
        let many = self.many.iter().map(|part| part.groups.group_count() + part.waiting.hashes.len());
        self.few.group_count() + many.sum::<usize>()
    }

    /// Adds the `rows` of a page.
    ///
    /// # Errors
    /// Where the page is damaged.
    pub fn add(&mut self, ask: &MeasureAsk, page: &dyn PageRead, rows: &Rows, lane: &str) -> Result<()> {
        let grows = self.most.is_none_or(|most| self.weight_bytes() < most);
        if self.most.is_some() {
            self.few.make_room(grows);
        }
        if self.few.add_as_one(ask, page, rows, lane)? {
            return Ok(());
        }
        let grouper = Grouper::of(ask, page, rows, lane)?;
        let parted = self.most.is_some() && can_wait(ask) && grouper.may_differ(rows.count());
        let inputs = if parted { inputs(ask, page, rows, lane)? } else { None };
        match inputs {
            Some(inputs) => self.add_many(ask, &grouper, rows, &inputs, grows),
            None => self.few.add(grouper, ask, page, rows, lane)?,
        }
        if let Some(most) = self.most.filter(|_| !ask.measure.per.is_empty()) {
            while self.weight_bytes() >= most
                && let Some(half) = self.share.half()
            {
                self.narrow(ask, half);
            }
        }
        Ok(())
    }

    fn add_many(&mut self, ask: &MeasureAsk, grouper: &Grouper, rows: &Rows, inputs: &Inputs, grows: bool) {
        if self.many.is_empty() {
            self.many = Share::ALL.smallest().map(|(_, share)| GroupPart::new(ask, share)).collect();
        }
        // GroupPart by part, as writing to many places by turns is slow.
        let mut of_rows = grouper.hashes(rows);
        of_rows.retain(|(hash, _)| self.share.holds(*hash));
        for (hash, row) in by_part(&of_rows) {
            let Some(part) = self.many.get_mut(Share::smallest_of(hash)) else { continue };
            part.waiting.push(hash, grouper.values(row as usize), inputs, row as usize);
            if part.waiting.hashes.len() >= self.waiting || part.waiting.texts.len() >= self.waiting * WAITING_TEXT {
                part.settle(grows);
            }
        }
    }

    /// Keeps the groups of a smaller share.
    pub fn narrow(&mut self, ask: &MeasureAsk, share: Share) {
        if share == self.share {
            return;
        }
        self.share = share;
        self.few.narrow(share);
        let kept: Vec<usize> = share.smallest().map(|(n, _)| n).collect();
        let each = Share::ALL.smallest().zip(&mut self.many);
        each.filter(|((n, _), _)| !kept.contains(n)).for_each(|((_, share), part)| *part = GroupPart::new(ask, share));
    }

    /// Whether there are groups in parts; there is one step then.
    pub fn has_parts(&self) -> bool {
        !self.many.is_empty()
    }

    /// The groups of pages that have few, and those of the others by smallest share.
    pub fn into_parts(self) -> (Partial, Vec<GroupPart>) {
        (self.few, self.many)
    }

    /// All groups.
    pub fn into_whole(mut self) -> Partial {
        for part in self.many {
            self.few.take(&part.into_groups());
        }
        self.few
    }
}

impl GroupPart {
    fn new(ask: &MeasureAsk, share: Share) -> Self {
        GroupPart { groups: Partial::new(ask, share), waiting: Waiting::default() }
    }

    /// Looks up the rows that wait. Once a row was left out, its group stays out: it would have part of its events.
    fn settle(&mut self, grows: bool) {
        let Waiting { hashes, keys, texts, numbers } = &mut self.waiting;
        if hashes.is_empty() {
            return;
        }
        self.groups.make_room(grows && !self.groups.overfull);
        let fields = keys.len() / hashes.len();
        let mut groups = Vec::with_capacity(hashes.len());
        for (row, hash) in hashes.iter().enumerate() {
            let key = keys.get(row * fields..(row + 1) * fields).unwrap_or_default();
            groups.push(self.groups.group(*hash, |n| key.get(n).map_or(ValueRef::Missing, |key| key.value(texts))));
        }
        self.groups.add_rows(&groups, numbers);
        hashes.clear();
        keys.clear();
        texts.clear();
        numbers.iter_mut().for_each(Vec::clear);
    }

    /// Its groups.
    pub fn into_groups(mut self) -> Partial {
        self.settle(true);
        self.groups
    }
}

impl Waiting {
    fn push<'v>(&mut self, hash: u64, values: impl Iterator<Item = ValueRef<'v>>, inputs: &Inputs, row: usize) {
        self.hashes.push(hash);
        let texts = &mut self.texts;
        self.keys.extend(values.map(|value| Key::of(value, texts)));
        if self.numbers.len() < inputs.len() {
            self.numbers.resize(inputs.len(), Vec::new());
        }
        for (numbers, input) in self.numbers.iter_mut().zip(inputs).filter(|(_, input)| !input.is_empty()) {
            numbers.push(input.get(row).copied().unwrap_or_default());
        }
    }

    fn weight_bytes(&self) -> usize {
        let numbers: usize = self.numbers.iter().map(Vec::capacity).sum();
        self.hashes.capacity() * size_of::<u64>()
            + self.keys.capacity() * size_of::<Key>()
            + self.texts.capacity()
            + numbers * size_of::<RowNumber>()
    }
}

impl Figures for WorkerGroups {
    fn weight_bytes(&self) -> usize {
        let many = self.many.iter().map(|part| part.groups.weight_bytes() + part.waiting.weight_bytes());
        self.few.weight_bytes() + many.sum::<usize>()
    }
}

/// Rows with the hashes of their groups, by the parts of these (a counting sort: Knuth, The Art of Computer Programming,
/// volume 3, section 5.2).
fn by_part(of_rows: &[(u64, u32)]) -> Vec<(u64, u32)> {
    let mut from = [0usize; Share::SMALLEST + 1];
    of_rows.iter().for_each(|(hash, _)| from[Share::smallest_of(*hash) + 1] += 1);
    let mut before = 0;
    from.iter_mut().for_each(|n| {
        before += *n;
        *n = before;
    });
    let mut out = vec![(0, 0); of_rows.len()];
    for of_row in of_rows {
        let at = &mut from[Share::smallest_of(of_row.0)];
        out[*at] = *of_row;
        *at += 1;
    }
    out
}

/// What the aggregates take of the rows of a page: by aggregate, and row. Empty where nothing is taken.
type Inputs = Vec<Vec<RowNumber>>;

/// Whether rows can wait: there is one step, and each aggregate takes a number of a row at most.
fn can_wait(ask: &MeasureAsk) -> bool {
    let takes_more =
        |function: &Function| matches!(function, Function::Distinct(_) | Function::First(_) | Function::Last(_));
    ask.steps.count() == 1 && !ask.measure.aggregates.iter().any(|aggregate| takes_more(&aggregate.function))
}

/// What the aggregates take of the rows of a page; nothing where one takes several numbers of a row.
///
/// # Errors
/// Where the page is damaged.
fn inputs(ask: &MeasureAsk, page: &dyn PageRead, rows: &Rows, lane: &str) -> Result<Option<Inputs>> {
    let mut inputs = Inputs::new();
    for aggregate in &ask.measure.aggregates {
        inputs.push(match &aggregate.function {
            Function::Count(None) | Function::Rate => Vec::new(),
            Function::Count(Some(filter)) | Function::Share(filter) => {
                let mut passing = select(filter, page, lane)?;
                passing.and(rows);
                let mut counted = vec![RowNumber::None; page.rows()];
                passing.iter().for_each(|row| counted[row] = RowNumber::Int(1));
                counted
            }
            Function::Sum(field)
            | Function::Mean(field)
            | Function::Min(field)
            | Function::Max(field)
            | Function::Percentile(_, field) => match row_numbers(field, page)? {
                Some(numbers) => numbers,
                None => return Ok(None),
            },
            Function::Distinct(_) | Function::First(_) | Function::Last(_) => return Ok(None),
        });
    }
    Ok(Some(inputs))
}
