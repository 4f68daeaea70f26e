//! A share of all values, by their hashes: where all values together would not fit, they are counted share by share, each in
//! a pass of its own, so that what is reported of each value is right however many there are (partitioning by hash, as in
//! Shapiro: "Join processing in database systems with large main memories", 1986).

/// Bits of a hash that make shares begin here: the table of a hash map goes by those below and by the seven highest.
const FIRST_BIT: u32 = 32;
/// The smallest share is one of so many powers of two, so that the passes are bounded.
const MAX_BITS: u32 = 6;

/// The values of which some bits of the hash are these; all values where there are no bits.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) struct Share {
    bits: u32,
    /// Below `1 << bits`.
    residue: u64,
}

impl Share {
    /// How many smallest shares there are.
    pub const SMALLEST: usize = 1 << MAX_BITS;
    /// Every value.
    pub const ALL: Share = Share { bits: 0, residue: 0 };

    /// Whether a value of this hash belongs to it.
    pub fn holds(self, hash: u64) -> bool {
        hash >> FIRST_BIT & ((1 << self.bits) - 1) == self.residue
    }

    /// The smallest share that holds a value of this hash, by its number.
    pub fn smallest_of(hash: u64) -> usize {
        (hash >> FIRST_BIT) as usize % Share::SMALLEST
    }

    /// The smallest shares in it, with their numbers.
    pub fn smallest(self) -> impl Iterator<Item = (usize, Share)> {
        let all = (0..Share::SMALLEST).map(|n| (n, Share { bits: MAX_BITS, residue: n as u64 }));
        all.filter(move |(_, share)| share.residue & ((1 << self.bits) - 1) == self.residue)
    }

    /// About how many of so many values belong to it.
    pub fn part_of(self, values: usize) -> usize {
        values >> self.bits
    }

    /// Half of it; none where it is as small as may be.
    pub fn half(self) -> Option<Share> {
        (self.bits < MAX_BITS).then_some(Share { bits: self.bits + 1, ..self })
    }

    /// The smaller of two, one of which came from the other by halving.
    pub fn smaller(self, other: Share) -> Share {
        if other.bits > self.bits { other } else { self }
    }

    /// What is left of it beside `taken`, which came from it by halving: shares as small as that.
    pub fn rest(self, taken: Share) -> impl Iterator<Item = Share> {
        let parts = 1u64 << taken.bits.saturating_sub(self.bits);
        (1..parts).map(move |n| Share { bits: taken.bits, residue: self.residue + (n << self.bits) })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_share_and_its_rest_hold_each_value_once(hash in any::<u64>(), first in 0u32..4, second in 0u32..3) {
            let mut taken = Share::ALL;
            (0..first).for_each(|_| taken = taken.half().unwrap());
            let mut shares: Vec<Share> = std::iter::once(taken).chain(Share::ALL.rest(taken)).collect();
            prop_assert_eq!(shares.len(), 1 << first);
            // One of them was still too large.
            let large = shares.pop().unwrap();
            let mut part = large;
            (0..second).for_each(|_| part = part.half().unwrap());
            shares.extend(std::iter::once(part).chain(large.rest(part)));
            prop_assert_eq!(shares.iter().filter(|share| share.holds(hash)).count(), 1);
            prop_assert_eq!(part.smaller(large), part);
            let smallest: Vec<_> = large.smallest().filter(|(_, share)| share.holds(hash)).collect();
            prop_assert_eq!(smallest.len(), usize::from(large.holds(hash)));
            prop_assert!(smallest.iter().all(|(n, _)| *n == Share::smallest_of(hash)));
        }
    }

    #[test]
    fn shares_are_halved_so_often_and_no_more() {
        let mut share = Share::ALL;
        let mut halved = 0;
        while let Some(half) = share.half() {
            (share, halved) = (half, halved + 1);
        }
        assert_eq!(halved, MAX_BITS);
    }
}
