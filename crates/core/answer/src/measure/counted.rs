//! What one worker counts of one field. Values are looked up as seldom as may be: those of dictionaries that the pages of a
//! chunk share are counted by their codes, once for all of these pages; whole numbers pass a small table, by which what
//! repeats is added up before.

use super::ValueRef;
use super::coded::{MISSING, code};
use super::counts::ValueCounts;
use super::share::Share;
use calvex_language::error::Result;
use calvex_language::query::{Builtin, Field};
use calvex_storage::columns::{
    BuiltinColumn, Column, FieldType, PageRead, Rows, SentColumn, Texts, Values, builtin_column, columns_of,
};
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

/// Counts by the codes of a dictionary.
struct ByCode {
    dictionary: Arc<Texts>,
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
        for (value, n) in coded.values().zip(counts).skip(1).filter(|(_, n)| *n > 0) {
            self.counts.add(value, value.hash64(), n);
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
            self.by_code.push(ByCode { dictionary: dictionary.clone(), counts });
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
        for (code, n) in by_code.counts.iter().enumerate().filter(|(_, n)| **n > 0) {
            let value = ValueRef::Text(by_code.dictionary.get(code));
            self.counts.add(value, value.hash64(), u64::from(*n));
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

/// The one column of the field, where texts or whole numbers are all that the page has of it: the usual case, and the quick
/// one.
fn plain_column(field: &Field, page: &dyn PageRead, rows: &Rows) -> Result<Option<Arc<Column>>> {
    let name = match field {
        Field::Sent(name) => name,
        Field::Builtin(own) => {
            let is_plain = matches!(
                own,
                Builtin::Service | Builtin::Host | Builtin::Sender | Builtin::Time | Builtin::Arrived | Builtin::Took
            );
            return builtin_column(*own).filter(|_| is_plain).map_or(Ok(None), |own| page.builtin(own));
        }
    };
    let mut only = None;
    for SentColumn { index, kind, .. } in columns_of(page.keys(), name) {
        let Some(column) = page.column_of(index, rows)? else { continue };
        if !matches!(kind, FieldType::Text | FieldType::Int) || only.replace(column).is_some() {
            return Ok(None);
        }
    }
    if only.is_some() && page.builtin(BuiltinColumn::Overflow)?.is_some() {
        return Ok(None);
    }
    Ok(only)
}
