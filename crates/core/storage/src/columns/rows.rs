//! A set of row numbers of one page.

/// Where less than this part of a page's rows is asked for, their texts and messages alone are written out.
pub const FEW_PART: usize = 4;

/// One bit a row.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rows {
    bits: Vec<u64>,
    len: usize,
}

impl Rows {
    /// No row of `len`.
    pub fn none(len: usize) -> Self {
        Rows { bits: vec![0; len.div_ceil(64)], len }
    }

    /// Every row of `len`.
    pub fn all(len: usize) -> Self {
        let mut rows = Rows { bits: vec![u64::MAX; len.div_ceil(64)], len };
        rows.trim();
        rows
    }

    /// The rows of `list`.
    pub fn of(list: &[u32], len: usize) -> Self {
        let mut rows = Rows::none(len);
        list.iter().for_each(|row| rows.set(*row as usize));
        rows
    }

    /// How many rows there could be.
    pub fn len(&self) -> usize {
        self.len
    }

    fn trim(&mut self) {
        if !self.len.is_multiple_of(64)
            && let Some(last) = self.bits.last_mut()
        {
            *last &= (1 << (self.len % 64)) - 1;
        }
    }

    /// Adds a row.
    pub fn set(&mut self, row: usize) {
        if let Some(word) = self.bits.get_mut(row / 64) {
            *word |= 1 << (row % 64);
        }
    }

    /// Adds each row whose value passes; value `n` is of row `n`. Sixty-four rows at once, without a branch for each.
    pub fn set_where<T>(&mut self, values: &[T], passes: impl Fn(&T) -> bool) {
        for (word, values) in self.bits.iter_mut().zip(values.chunks(64)) {
            let marks = values.iter().enumerate().map(|(n, value)| u64::from(passes(value)) << n);
            *word |= marks.fold(0, |marks, mark| marks | mark);
        }
    }

    /// Takes a row out.
    pub fn clear(&mut self, row: usize) {
        if let Some(word) = self.bits.get_mut(row / 64) {
            *word &= !(1 << (row % 64));
        }
    }

    /// Whether the row is in it.
    pub fn has(&self, row: usize) -> bool {
        self.bits.get(row / 64).is_some_and(|w| w >> (row % 64) & 1 == 1)
    }

    /// Keeps what is in both.
    pub fn and(&mut self, other: &Rows) {
        self.bits.iter_mut().zip(&other.bits).for_each(|(a, b)| *a &= b);
    }

    /// Keeps what is in either.
    pub fn or(&mut self, other: &Rows) {
        self.bits.iter_mut().zip(&other.bits).for_each(|(a, b)| *a |= b);
    }

    /// Keeps what was not in it.
    pub fn invert(&mut self) {
        self.bits.iter_mut().for_each(|w| *w = !*w);
        self.trim();
    }

    /// How many rows.
    pub fn count(&self) -> usize {
        self.bits.iter().map(|w| w.count_ones() as usize).sum()
    }

    /// Whether it holds none.
    pub fn is_empty(&self) -> bool {
        self.bits.iter().all(|w| *w == 0)
    }

    /// Whether it holds every row.
    pub fn is_full(&self) -> bool {
        self.count() == self.len
    }

    /// The rows, ascending.
    pub fn iter(&self) -> impl Iterator<Item = usize> + '_ {
        self.bits.iter().enumerate().flat_map(|(at, word)| {
            let mut left = *word;
            std::iter::from_fn(move || {
                if left == 0 {
                    return None;
                }
                let bit = left.trailing_zeros() as usize;
                left &= left - 1;
                Some(at * 64 + bit)
            })
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn sixty_four_at_once_are_as_one_by_one(values in prop::collection::vec(0u8..4, 0..300), more in 0usize..3) {
            let len = values.len() + more;
            let mut one_by_one = Rows::none(len);
            values.iter().enumerate().filter(|(_, v)| **v == 1).for_each(|(row, _)| one_by_one.set(row));
            let mut at_once = Rows::none(len);
            at_once.set_where(&values, |v| *v == 1);
            prop_assert_eq!(at_once, one_by_one);
        }
    }
}
