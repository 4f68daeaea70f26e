//! What one worker counts of one field. Values are looked up as seldom as may be: those of dictionaries that the pages of a
//! chunk share are counted by their codes, once for all of these pages; whole numbers pass a small table, by which what
//! repeats is added up before.

use super::ValueRef;
use super::coded::{MISSING, code, hashes_of};
use super::counts::ValueCounts;
use super::plain::plain_column;
use super::share::Share;
use calvex_language::error::Result;
use calvex_language::query::Field;
use calvex_storage::columns::{Column, PageRead, Rows, Texts, Values};
use std::sync::Arc;

/// Dictionaries of which codes are counted at once: pages of some chunks may come by turns.
const DICTIONARIES: usize = 4;
/// Whole numbers that are added up before they are looked up, a power of two.
const FRONT: usize = 1024;

/// What one worker counted of one field in one pass.
pub(super) struct Counted {
    /// Events that have the field.
    pub having: u64,
    /// Events that lack it.
    pub missing: u64,
    counts: ValueCounts,
    /// The one used last stands last.
    by_code: Vec<ByCode>,
    /// Whole numbers with their counts; empty until there is one.
    front: Vec<(i64, u64)>,
    most: usize,
}

/// Counts by the codes of a dictionary, from one code on.
struct ByCode {
    dictionary: Arc<Texts>,
    from: usize,
    counts: Vec<u32>,
}

impl Counted {
    /// Of the values of a share, or of a smaller one where they take more than `most` bytes.
    pub fn of(share: Share, most: usize) -> Self {
        let counts = ValueCounts::of(share, most);
        Counted { having: 0, missing: 0, counts, by_code: Vec::new(), front: Vec::new(), most }
    }

    /// Adds the values of the rows of a page.
    pub fn add(&mut self, field: &Field, page: &dyn PageRead, rows: &Rows, lane: &str) -> Result<()> {
        let before = self.having;
        let plain = plain_column(field, page, rows)?;
        match plain.as_deref().map(|column| (column, &column.values)) {
            Some((column, Values::Texts { dictionary, codes })) if self.has_room_for(dictionary) => {
                self.add_texts(column, rows, dictionary, codes);
            }
            Some((column, Values::Ints(numbers))) => {
                let mut having = 0;
                column.each_of(rows, |_, value_index| {
                    if let Some(n) = numbers.get(value_index) {
                        having += 1;
                        self.add_number(*n);
                    }
                });
                self.having += having;
            }
            _ => self.add_coded(field, page, rows, lane)?,
        }
        self.missing += rows.count() as u64 - (self.having - before);
        self.counts.make_room();
        Ok(())
    }

    fn has_room_for(&self, dictionary: &Texts) -> bool {
        dictionary.shared_len() * size_of::<u32>() * DICTIONARIES <= self.most / 4
    }

    fn add_coded(&mut self, field: &Field, page: &dyn PageRead, rows: &Rows, lane: &str) -> Result<()> {
        let coded = code(field, page, rows, lane)?;
        let mut counts = vec![0u64; coded.len()];
        rows.iter().for_each(|row| counts[coded.first[row] as usize] += 1);
        self.having += rows.count() as u64 - counts[MISSING as usize];
        coded.more.iter().for_each(|(_, code)| counts[*code as usize] += 1);
        for ((value, hash), n) in coded.values().zip(coded.hashes()).zip(counts).skip(1).filter(|(_, n)| *n > 0) {
            self.counts.add(value, hash, n);
        }
        Ok(())
    }

    fn add_texts(&mut self, column: &Column, rows: &Rows, dictionary: &Texts, codes: &[u32]) {
        let shared = dictionary.shared_len();
        let mut counts = dictionary.shared.as_ref().map_or(Vec::new(), |shared| self.counts_of(shared));
        // The page's own values stand behind those it shares.
        counts.resize(dictionary.len(), 0);
        let mut having = 0;
        let mut count = |code: Option<&u32>| {
            if let Some(n) = code.and_then(|code| counts.get_mut(*code as usize)) {
                *n += 1;
                having += 1;
            }
        };
        if column.present.is_none() && rows.is_full() {
            codes.iter().for_each(|code| count(Some(code)));
        } else {
            column.each_of(rows, |_, value_index| count(codes.get(value_index)));
        }
        self.having += having;
        for (code, n) in counts.iter().enumerate().skip(shared).filter(|(_, n)| **n > 0) {
            let value = ValueRef::Text(dictionary.get(code));
            self.counts.add(value, value.hash64(), u64::from(*n));
        }
        counts.truncate(shared);
        if let Some(dictionary) = &dictionary.shared {
            self.by_code.push(ByCode { dictionary: dictionary.clone(), from: 0, counts });
        }
    }

    /// Takes out the counts by a dictionary's codes, zeros at first.
    fn counts_of(&mut self, dictionary: &Arc<Texts>) -> Vec<u32> {
        if let Some(at) = self.by_code.iter().position(|by_code| Arc::ptr_eq(&by_code.dictionary, dictionary)) {
            return self.by_code.remove(at).counts;
        }
        if self.by_code.len() >= DICTIONARIES {
            let oldest = self.by_code.remove(0);
            self.look_up(&oldest);
        }
        vec![0; dictionary.len()]
    }

    fn look_up(&mut self, by_code: &ByCode) {
        let ByCode { dictionary, from, counts } = by_code;
        let of_codes = hashes_of(dictionary).iter().enumerate().skip(*from).zip(counts);
        for ((code, hash), n) in of_codes.filter(|(_, n)| **n > 0) {
            self.counts.add(ValueRef::Text(dictionary.get(code)), *hash, u64::from(*n));
        }
    }

    fn add_number(&mut self, n: i64) {
        if self.front.is_empty() {
            self.front = vec![(0, 0); FRONT];
        }
        // Multiplicative hashing, as in Knuth, The Art of Computer Programming, volume 3, section 6.4.
        let at = (n as u64).wrapping_mul(0x9E37_79B9_7F4A_7C15) >> (u64::BITS - FRONT.ilog2());
        let Some(slot) = self.front.get_mut(at as usize) else { return };
        if slot.0 == n {
            slot.1 += 1;
            return;
        }
        let (before, count) = std::mem::replace(slot, (n, 1));
        self.look_up_number(before, count);
    }

    fn look_up_number(&mut self, n: i64, count: u64) {
        if count > 0 {
            let value = ValueRef::Whole(i128::from(n));
            self.counts.add(value, value.hash64(), count);
        }
    }

    /// Adds up what several workers counted by the codes of one dictionary, and gives each a part of the codes: so each value is
    /// looked up once.
    pub fn add_up(workers: &mut [Counted]) {
        let mut all: Vec<ByCode> = Vec::new();
        for by_code in workers.iter_mut().flat_map(|worker| std::mem::take(&mut worker.by_code)) {
            match all.iter_mut().find(|known| Arc::ptr_eq(&known.dictionary, &by_code.dictionary)) {
                Some(known) => known.counts.iter_mut().zip(by_code.counts).for_each(|(sum, n)| *sum += n),
                None => all.push(by_code),
            }
        }
        for ByCode { dictionary, counts, .. } in all {
            let each = counts.len().div_ceil(workers.len()).max(1);
            for ((n, counts), worker) in counts.chunks(each).enumerate().zip(workers.iter_mut()) {
                worker.by_code.push(ByCode { dictionary: dictionary.clone(), from: n * each, counts: counts.to_vec() });
            }
        }
    }

    /// The counts of all values.
    pub fn into_counts(mut self) -> ValueCounts {
        for by_code in std::mem::take(&mut self.by_code) {
            self.look_up(&by_code);
        }
        for (n, count) in std::mem::take(&mut self.front) {
            self.look_up_number(n, count);
        }
        self.counts
    }

    /// A rough size in memory.
    pub fn weight_bytes(&self) -> usize {
        self.counts.weight_bytes() + self.by_code.iter().map(|by_code| by_code.counts.capacity() * 4).sum::<usize>()
    }
}
