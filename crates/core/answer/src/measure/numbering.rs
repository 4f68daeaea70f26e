//! The values of a field as one worker numbers them. Pages of a chunk share dictionaries: the numbers of their values are
//! found by code, and a value is looked up once, not once a page.

use super::ValueRef;
use super::cells::NONE;
use super::coded::Coded;
use super::values::Values;
use calvex_storage::columns::Texts;
use std::sync::Arc;

/// Dictionaries of which numbers are kept by code: pages of some chunks may come by turns.
const DICTIONARIES: usize = 4;

/// The values of a field, numbered as they come.
pub(super) struct Numbering {
    values: Values,
    /// Bytes that the numbers of one dictionary may take.
    most: usize,
    by_code: Vec<ByCode>,
    /// Whose place the next dictionary gets.
    oldest: usize,
}

/// The numbers of a dictionary's values, by code; [`NONE`] of those that have none yet.
struct ByCode {
    dictionary: Arc<Texts>,
    numbers: Vec<u32>,
}

/// The values of a field in a page, by the codes of the page.
pub(super) struct PageValues<'a> {
    coded: &'a Coded,
    hashes: Vec<u64>,
    /// [`NONE`] of those that have no number yet.
    numbers: Vec<u32>,
    /// By column of the field: where the numbers of its dictionary are kept, if they are.
    by_code: Vec<Option<usize>>,
}

impl PageValues<'_> {
    /// The hash of a row's value.
    pub fn hash(&self, row: usize) -> u64 {
        self.coded.first.get(row).and_then(|code| self.hashes.get(*code as usize)).copied().unwrap_or(0)
    }

    /// The number of a row's value; [`NONE`] where it has none.
    pub fn number(&self, row: usize) -> u32 {
        self.coded.first.get(row).and_then(|code| self.numbers.get(*code as usize)).copied().unwrap_or(NONE)
    }
}

impl Numbering {
    /// None yet; the numbers of one dictionary may take `most` bytes.
    pub fn new(most: usize) -> Self {
        Numbering { values: Values::new(), most, by_code: Vec::new(), oldest: 0 }
    }

    /// The values, by their numbers.
    pub fn into_values(self) -> Values {
        self.values
    }

    /// Begins anew with no values; returns those it had.
    pub fn begin_anew(&mut self) -> Values {
        self.forget();
        std::mem::replace(&mut self.values, Values::new())
    }

    /// The number of a value with this hash, given now if it is new.
    pub fn number(&mut self, value: ValueRef, hash: u64) -> Option<u32> {
        self.values.number(value, hash, true)
    }

    /// Lets go of what is kept by code.
    pub fn forget(&mut self) {
        (self.by_code, self.oldest) = (Vec::new(), 0);
    }

    /// The values of a page, with their hashes, and the numbers of those of a dictionary that was met before.
    pub fn of_page<'a>(&mut self, coded: &'a Coded) -> PageValues<'a> {
        let mut used = Vec::new();
        let by_code = coded.dictionaries().map(|dictionary| self.of_dictionary(dictionary?, &mut used)).collect();
        let mut page = PageValues { coded, hashes: coded.hashes(), numbers: Vec::with_capacity(coded.len()), by_code };
        for code in 0..coded.len() as u32 {
            let number = self.place(&page, code).map_or(NONE, |place| *place);
            page.numbers.push(number);
        }
        page
    }

    /// Where the numbers of a dictionary's values are kept. Nowhere, if that would take too much or the page has texts of many
    /// dictionaries.
    fn of_dictionary(&mut self, dictionary: &Arc<Texts>, used: &mut Vec<usize>) -> Option<usize> {
        let at =
            self.by_code.iter().position(|by_code| Arc::ptr_eq(&by_code.dictionary, dictionary)).or_else(|| {
                let fits = dictionary.len() * size_of::<u32>() <= self.most && used.len() < DICTIONARIES;
                let fresh = || ByCode { dictionary: dictionary.clone(), numbers: vec![NONE; dictionary.len()] };
                if !fits {
                    return None;
                }
                if self.by_code.len() < DICTIONARIES {
                    self.by_code.push(fresh());
                    return Some(self.by_code.len() - 1);
                }
                while used.contains(&self.oldest) {
                    self.oldest = (self.oldest + 1) % DICTIONARIES;
                }
                let at = self.oldest;
                self.oldest = (at + 1) % DICTIONARIES;
                *self.by_code.get_mut(at)? = fresh();
                Some(at)
            })?;
        used.push(at);
        Some(at)
    }

    /// Where the number of a page's value is kept.
    fn place(&mut self, page: &PageValues, code: u32) -> Option<&mut u32> {
        let (column, shared) = page.coded.shared(code)?;
        let by_code = *page.by_code.get(column)?;
        self.by_code.get_mut(by_code?)?.numbers.get_mut(shared as usize)
    }

    /// Gives the value of a row a number, if it has none; where it is new, only if `grows`.
    pub fn give_number(&mut self, page: &mut PageValues, row: usize, grows: bool) {
        let Some(code) = page.coded.first.get(row).copied() else { return };
        let hash = page.hash(row);
        let Some(slot) = page.numbers.get_mut(code as usize).filter(|number| **number == NONE) else { return };
        let Some(number) = self.values.number(page.coded.value(code), hash, grows) else { return };
        *slot = number;
        self.place(page, code).into_iter().for_each(|place| *place = number);
    }

    /// A rough size in memory.
    pub fn weight_bytes(&self) -> usize {
        let numbers: usize = self.by_code.iter().map(|by_code| by_code.numbers.capacity()).sum();
        self.values.weight_bytes() + numbers * size_of::<u32>()
    }
}
