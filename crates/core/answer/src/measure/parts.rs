//! Groups in parts. Where nearly every row may be of another group, looking each up in a table that is larger than the
//! processor's caches would wait for memory once a row. Such rows are written to parts, by bits of the hash of their group,
//! and wait there until there are many; then they are looked up together, while all that is kept of the part's groups is in
//! the cache (as in Manegold, Boncz, Kersten: "Optimizing main-memory join on modern hardware", 2002). Each part is a smallest
//! share. A row's values are numbers there, the same in all parts of a worker.

use super::MeasureAsk;
use super::cells::NONE;
use super::coded::Coded;
use super::grouper::MAX_PER;
use super::groups::{Groups, hash_of};
use super::numbering::{Numbering, PageValues};
use super::numbers::RowNumber;
use super::share::Share;
use super::values::{Renumbered, Values};
use calvex_storage::columns::Rows;

/// Rows of a part that wait, at most; fewer where there is little memory.
const MAX_WAITING: usize = 2048;
/// The numbers of one dictionary's values take this part of a worker's memory at most.
const OF_DICTIONARY: usize = 16;

/// Groups of a share, in parts.
pub(super) struct PartedGroups {
    /// By field.
    numbering: Vec<Numbering>,
    /// By smallest share.
    parts: Vec<GroupPart>,
    /// Rows of a part that wait, at most.
    waiting: usize,
}

/// The groups of a smallest share.
struct GroupPart {
    groups: Groups,
    waiting: Waiting,
}

/// Rows of which the groups are not looked up yet.
#[derive(Default)]
struct Waiting {
    /// Of the group of each row.
    hashes: Vec<u64>,
    /// By field, the number of the value of each row.
    keys: Vec<Vec<u32>>,
    /// By aggregate, what it takes of each row; empty where that is nothing.
    numbers: Vec<Vec<RowNumber>>,
}

/// What the aggregates take of the rows of a page: by aggregate, and row. Empty where nothing is taken.
pub(super) type Inputs = Vec<Vec<RowNumber>>;

impl PartedGroups {
    /// None yet, in `most` bytes.
    pub fn new(ask: &MeasureAsk, most: usize) -> Self {
        let (fields, aggregates) = (ask.measure.per.len(), ask.measure.aggregates.len());
        let of_row = size_of::<u64>() + fields * size_of::<u32>() + aggregates * size_of::<RowNumber>();
        PartedGroups {
            numbering: (0..fields).map(|_| Numbering::new(most / OF_DICTIONARY)).collect(),
            parts: Share::ALL.smallest().map(|(_, share)| GroupPart::of(Groups::new(ask, share))).collect(),
            waiting: (most / (8 * Share::SMALLEST * of_row)).clamp(1, MAX_WAITING),
        }
    }

    /// How many groups there may be.
    pub fn group_count(&self) -> usize {
        self.parts.iter().map(|part| part.groups.len() + part.waiting.hashes.len()).sum()
    }

    /// Adds those of the `rows` of a page whose groups belong to a share: `fields` has the values of the page, each row one a
    /// field. Once a row was left out, its group stays out: it would have part of its events.
    pub fn add(&mut self, fields: &[Coded], rows: &Rows, inputs: &Inputs, share: Share, grows: bool) {
        let mut values: Vec<PageValues> =
            self.numbering.iter_mut().zip(fields).map(|(n, coded)| n.of_page(coded)).collect();
        let hash = |row: usize| hash_of(values.iter().map(|values| values.hash(row)));
        let mut of_rows: Vec<(u64, u32)> = rows.iter().map(|row| (hash(row), row as u32)).collect();
        of_rows.retain(|(hash, _)| share.holds(*hash));
        for (numbering, values) in self.numbering.iter_mut().zip(&mut values) {
            of_rows.iter().for_each(|(_, row)| numbering.give_number(values, *row as usize, grows));
        }
        of_rows.retain(|(hash, row)| {
            let known = values.iter().all(|values| values.number(*row as usize) != NONE);
            if !known && let Some(part) = self.parts.get_mut(Share::smallest_of(*hash)) {
                part.groups.leave_out(*hash);
            }
            known
        });
        // Part by part, as writing to many places by turns is slow.
        let of_rows = by_part(&of_rows);
        for of_part in of_rows.chunk_by(|(a, _), (b, _)| Share::smallest_of(*a) == Share::smallest_of(*b)) {
            let Some((hash, _)) = of_part.first() else { continue };
            let Some(part) = self.parts.get_mut(Share::smallest_of(*hash)) else { continue };
            let mut left = of_part;
            while !left.is_empty() {
                let room = self.waiting.saturating_sub(part.waiting.hashes.len()).clamp(1, left.len());
                let (now, later) = left.split_at(room);
                part.waiting.push(now, &values, inputs);
                left = later;
                if part.waiting.hashes.len() >= self.waiting {
                    part.settle(grows);
                }
            }
        }
    }

    /// Keeps the groups of a smaller share.
    pub fn narrow(&mut self, share: Share) {
        let kept: Vec<usize> = share.smallest().map(|(n, _)| n).collect();
        let old: Vec<Values> = self.numbering.iter_mut().map(Numbering::begin_anew).collect();
        let mut renumbered: Vec<Renumbered> = old.iter().map(Renumbered::unknown).collect();
        let numbering = &mut self.numbering;
        let mut number = |field: usize, number: u32| {
            let (Some(old), Some(renumbered)) = (old.get(field), renumbered.get_mut(field)) else { return NONE };
            let find = || numbering.get_mut(field)?.number(old.value(number), old.hash(number));
            renumbered.get_or_find(number, find)
        };
        for ((n, share), part) in Share::ALL.smallest().zip(&mut self.parts) {
            if kept.contains(&n) {
                part.groups.renumber(&mut number);
                let of_fields = part.waiting.keys.iter_mut().enumerate();
                of_fields.for_each(|(field, keys)| keys.iter_mut().for_each(|key| *key = number(field, *key)));
            } else {
                *part = GroupPart::of(part.groups.none_like(share));
            }
        }
    }

    /// Lets go of what is kept of dictionaries: it takes memory, and is found again.
    pub fn forget(&mut self) {
        self.numbering.iter_mut().for_each(Numbering::forget);
    }

    /// The values by field, and the groups by smallest share.
    pub fn into_groups(self) -> (Vec<Values>, Vec<Groups>) {
        let settled = |mut part: GroupPart| {
            part.settle(true);
            part.groups
        };
        let groups = self.parts.into_iter().map(settled).collect();
        (self.numbering.into_iter().map(Numbering::into_values).collect(), groups)
    }

    /// A rough size in memory.
    pub fn weight_bytes(&self) -> usize {
        let parts = self.parts.iter().map(|part| part.groups.weight_bytes() + part.waiting.weight_bytes());
        parts.sum::<usize>() + self.numbering.iter().map(Numbering::weight_bytes).sum::<usize>()
    }
}

impl GroupPart {
    fn of(groups: Groups) -> Self {
        GroupPart { groups, waiting: Waiting::default() }
    }

    /// Looks up the rows that wait.
    fn settle(&mut self, grows: bool) {
        let Waiting { hashes, keys, numbers } = &mut self.waiting;
        if hashes.is_empty() {
            return;
        }
        self.groups.make_room(grows && !self.groups.overfull);
        let mut key = [NONE; MAX_PER];
        let mut groups = Vec::with_capacity(hashes.len());
        for (row, hash) in hashes.iter().enumerate() {
            let of_row = keys.iter().map(|keys| keys.get(row).copied().unwrap_or(NONE));
            key.iter_mut().zip(of_row).for_each(|(slot, number)| *slot = number);
            groups.push(self.groups.group(*hash, key.get(..keys.len()).unwrap_or_default()));
        }
        self.groups.add_rows(&groups, numbers);
        hashes.clear();
        keys.iter_mut().for_each(Vec::clear);
        numbers.iter_mut().for_each(Vec::clear);
    }
}

impl Waiting {
    fn push(&mut self, of_rows: &[(u64, u32)], values: &[PageValues], inputs: &Inputs) {
        self.hashes.extend(of_rows.iter().map(|(hash, _)| hash));
        self.keys.resize(values.len(), Vec::new());
        let rows = || of_rows.iter().map(|(_, row)| *row as usize);
        for (keys, values) in self.keys.iter_mut().zip(values) {
            keys.extend(rows().map(|row| values.number(row)));
        }
        self.numbers.resize(inputs.len(), Vec::new());
        for (numbers, input) in self.numbers.iter_mut().zip(inputs).filter(|(_, input)| !input.is_empty()) {
            numbers.extend(rows().map(|row| input.get(row).copied().unwrap_or_default()));
        }
    }

    fn weight_bytes(&self) -> usize {
        let keys: usize = self.keys.iter().map(Vec::capacity).sum();
        let numbers: usize = self.numbers.iter().map(Vec::capacity).sum();
        self.hashes.capacity() * size_of::<u64>() + keys * size_of::<u32>() + numbers * size_of::<RowNumber>()
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
