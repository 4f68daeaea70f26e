//! Groups by the numbers of their values, and the figures of each: a cell for each aggregate, and step that has events.

use super::MeasureAsk;
use super::cells::{Cells, NONE};
use super::grouper::MAX_PER;
use super::numbers::RowNumber;
use super::share::Share;
use hashbrown::{HashMap, HashTable};
use xxhash_rust::xxh3::xxh3_64;

/// Groups and cells (a group's step that has events) that one page may add at most; events of further groups are left
/// out, and the answer says so.
const PAGE_ROOM: usize = 100_000;
/// The same of all pages, where groups are not worked out share by share.
const WHOLE_ROOM: usize = 400_000;
/// Bits by which it is known of which groups events were left out, a power of two.
const LEFT_OUT_BITS: usize = 1 << 19;
/// Their place in a group's hash: above those of shares, below the seven that a hash table compares first.
const LEFT_OUT_FROM: u32 = 38;

/// Figures of groups of a share.
pub(super) struct Groups {
    share: Share,
    /// How many fields groups are made of.
    fields: usize,
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
    /// A bit for each group of which events were left out, by some bits of its hash: another worker may have other events of
    /// it. Empty until there is such a group.
    left_out: Vec<u64>,
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

/// The word of a group's bit among those of [`Groups::left_out`], and the bit there.
fn left_out_bit(hash: u64) -> (usize, u64) {
    let bit = (hash >> LEFT_OUT_FROM) as usize % LEFT_OUT_BITS;
    (bit / u64::BITS as usize, 1 << (bit % u64::BITS as usize))
}

impl Groups {
    /// Of a share.
    pub fn new(ask: &MeasureAsk, share: Share) -> Self {
        let states = ask.measure.aggregates.iter().map(|a| Cells::new(&a.function)).collect();
        Groups::with(share, ask.measure.per.len(), ask.steps.count() == 1, states)
    }

    /// No groups, of a share.
    pub fn none_like(&self, share: Share) -> Self {
        let states = self.states.iter().map(Cells::none_like).collect();
        Groups::with(share, self.fields, self.one_step, states)
    }

    fn with(share: Share, fields: usize, one_step: bool, states: Vec<Cells>) -> Self {
        Groups {
            share,
            fields,
            keys: Vec::new(),
            hashes: Vec::new(),
            table: HashTable::new(),
            cells: HashMap::new(),
            one_step,
            events: Vec::new(),
            states,
            room: WHOLE_ROOM,
            overfull: false,
            left_out: Vec::new(),
        }
    }

    /// How many there are; they are numbered from 0.
    pub fn len(&self) -> usize {
        self.hashes.len()
    }

    /// Whether a group of this hash belongs to the share.
    pub fn holds(&self, hash: u64) -> bool {
        self.share.holds(hash)
    }

    /// Whether there is room for another.
    pub fn has_room(&self) -> bool {
        self.room > 0
    }

    /// Notes that an event of a group was left out.
    pub fn leave_out(&mut self, hash: u64) {
        self.overfull = true;
        self.left_out.resize(LEFT_OUT_BITS / u64::BITS as usize, 0);
        let (word, bit) = left_out_bit(hash);
        self.left_out[word] |= bit;
    }

    /// Whether all events of a group are there. It may be that they are, where this is false: another group has the same bit.
    pub fn is_whole(&self, group: usize) -> bool {
        let Some(hash) = self.hashes.get(group).filter(|_| !self.left_out.is_empty()) else { return true };
        let (word, bit) = left_out_bit(*hash);
        self.left_out[word] & bit == 0
    }

    /// The numbers of a group's values.
    pub fn key(&self, group: usize) -> &[u32] {
        self.keys.get(group * self.fields..(group + 1) * self.fields).unwrap_or_default()
    }

    /// Gives the values of all groups other numbers.
    pub fn renumber(&mut self, mut number: impl FnMut(usize, u32) -> u32) {
        if self.fields > 0 {
            let of_each = self.keys.chunks_exact_mut(self.fields);
            of_each.for_each(|key| key.iter_mut().enumerate().for_each(|(field, n)| *n = number(field, *n)));
        }
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
            self.cell(hash_of(std::iter::empty()), &[], 0);
        }
    }

    /// Before a page: makes room for its groups, or for none.
    pub fn make_room(&mut self, grows: bool) {
        self.room = if grows { PAGE_ROOM } else { 0 };
    }

    /// The cell of a group of the share in a step; none where there is no room for it.
    pub fn cell(&mut self, hash: u64, key: &[u32], step: usize) -> u32 {
        let known = self.find(hash, key);
        if self.room == 0 && (known.is_none() || !self.one_step) {
            let cell = known.and_then(|group| self.cells.get(&(group, step as u32)).copied());
            if cell.is_none() {
                self.leave_out(hash);
            }
            return cell.unwrap_or(NONE);
        }
        let group = known.unwrap_or_else(|| self.insert(hash, key));
        self.cell_of(group, step)
    }

    /// The cell of a group in a step, which is made where it is new.
    fn cell_of(&mut self, group: u32, step: usize) -> u32 {
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
        // Without a call for a few numbers.
        let is = |group: &u32| self.key(*group as usize).iter().zip(key).all(|(a, b)| a == b);
        self.table.find(hash, is).copied()
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

    /// The group of a key, which is made where it is new; none where there is no room for it. There is one step.
    pub fn group(&mut self, hash: u64, key: &[u32]) -> Option<u32> {
        let known = self.find(hash, key);
        if known.is_none() && self.room == 0 {
            self.leave_out(hash);
            return None;
        }
        Some(known.unwrap_or_else(|| self.insert(hash, key)))
    }

    /// Makes a cell for each group, where there is one step.
    fn make_cells(&mut self) {
        let cells = self.hashes.len();
        self.events.resize(cells, 0);
        self.states.iter_mut().for_each(|state| state.resize(cells));
    }

    /// Adds events to groups, and to each the numbers that go with them by aggregate. There is one step.
    pub fn add_rows(&mut self, groups: &[Option<u32>], numbers: &[Vec<RowNumber>]) {
        self.make_cells();
        let cells = || groups.iter().map(|group| group.map(|cell| cell as usize));
        cells().flatten().for_each(|cell| self.events[cell] += 1);
        for (state, numbers) in self.states.iter_mut().zip(numbers).filter(|(_, numbers)| !numbers.is_empty()) {
            let each = cells().zip(numbers).filter_map(|(cell, number)| Some((cell?, *number)));
            each.for_each(|(cell, number)| state.take(cell, number));
        }
    }

    /// Adds the figures that another has of groups of the own share; `number` returns the own number of one of its values of a
    /// field.
    pub fn take(&mut self, other: &Groups, mut number: impl FnMut(usize, u32) -> u32) {
        self.overfull |= other.overfull;
        self.left_out.resize(self.left_out.len().max(other.left_out.len()), 0);
        self.left_out.iter_mut().zip(&other.left_out).for_each(|(own, theirs)| *own |= theirs);
        // Both are in memory already.
        self.room = usize::MAX;
        // Many of them are new, where there are many.
        let (more, hashes) = (self.share.part_of(other.len()), &self.hashes);
        self.table.reserve(more, |n| hashes.get(*n as usize).copied().unwrap_or(0));
        let mut own = vec![NONE; other.len()];
        for (group, (hash, own)) in other.hashes.iter().zip(&mut own).enumerate() {
            if !self.share.holds(*hash) {
                continue;
            }
            let mut key = [NONE; MAX_PER];
            let numbers = key.iter_mut().zip(other.key(group)).enumerate();
            numbers.for_each(|(field, (own, theirs))| *own = number(field, *theirs));
            let key = key.get(..self.fields).unwrap_or_default();
            *own = self.find(*hash, key).unwrap_or_else(|| self.insert(*hash, key));
        }
        if self.one_step {
            self.make_cells();
            let each = || own.iter().enumerate().filter(|(_, cell)| **cell != NONE);
            each().for_each(|(from, to)| self.events[*to as usize] += other.events[from]);
            for (state, theirs) in self.states.iter_mut().zip(&other.states) {
                each().for_each(|(from, to)| state.join(*to as usize, theirs, from));
            }
            return;
        }
        for ((group, step), from) in other.cells() {
            let Some(group) = own.get(group as usize).copied().filter(|group| *group != NONE) else { continue };
            let to = self.cell_of(group, step as usize) as usize;
            self.events[to] += other.events[from as usize];
            self.states.iter_mut().zip(&other.states).for_each(|(state, theirs)| state.join(to, theirs, from as usize));
        }
    }

    /// A rough size in memory.
    pub fn weight_bytes(&self) -> usize {
        self.keys.capacity() * 4
            + self.hashes.capacity() * 8
            + self.table.capacity() * 5
            + self.events.len() * 8
            + self.cells.capacity() * 16
            + self.left_out.len() * 8
            + self.states.iter().map(Cells::weight_bytes).sum::<usize>()
    }
}
