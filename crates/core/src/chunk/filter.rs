//! Membership filter: a split block Bloom filter (Putze, Sanders, Singler: "Cache-, Hash- and Space-Efficient Bloom
//! Filters", 2007). A key sets one bit in each of the eight 32-bit words of one block, so a probe touches one cache
//! line. At 10 bits a key about one absent key in a hundred is let through.

const BLOCK_BYTES: usize = 32;
const BITS_PER_KEY: usize = 10;
/// A filter never outgrows half a part; with more keys it only lets more through.
const MAX_BYTES: usize = 2 << 20;
/// Odd multipliers, one a word, that choose the bits.
const SALT: [u32; 8] =
    [0x47b6_137b, 0x4497_4d91, 0x8824_ad5b, 0xa2b7_289d, 0x7054_95c7, 0x2df1_424b, 0x9efc_4947, 0x5c6b_fb31];

/// Tells for sure that a key is absent, and nearly that one is there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Membership {
    blocks: Vec<u8>,
}

impl Membership {
    /// A filter of `keys` (hashes, each once).
    pub fn build(keys: impl ExactSizeIterator<Item = u64>) -> Self {
        let bytes = (keys.len() * BITS_PER_KEY / 8).clamp(BLOCK_BYTES, MAX_BYTES).next_multiple_of(BLOCK_BYTES);
        let mut filter = Membership { blocks: vec![0; bytes] };
        for key in keys {
            let at = filter.block_of(key);
            for (word, mask) in masks(key).into_iter().enumerate() {
                for (byte, bits) in mask.to_le_bytes().into_iter().enumerate() {
                    filter.blocks[at + word * 4 + byte] |= bits;
                }
            }
        }
        filter
    }

    /// From stored bytes.
    pub fn from_bytes(bytes: &[u8]) -> Option<Self> {
        let whole = !bytes.is_empty() && bytes.len().is_multiple_of(BLOCK_BYTES) && bytes.len() <= MAX_BYTES;
        whole.then(|| Membership { blocks: bytes.to_vec() })
    }

    /// To be stored.
    pub fn as_bytes(&self) -> &[u8] {
        &self.blocks
    }

    fn block_of(&self, key: u64) -> usize {
        let blocks = (self.blocks.len() / BLOCK_BYTES) as u64;
        (((key >> 32) * blocks) >> 32) as usize * BLOCK_BYTES
    }

    /// False only where the key was not among those built from.
    pub fn may_hold(&self, key: u64) -> bool {
        let at = self.block_of(key);
        masks(key).into_iter().enumerate().all(|(word, mask)| {
            let from = at + word * 4;
            let stored = self.blocks.get(from..from + 4).map_or(0, |b| u32::from_le_bytes([b[0], b[1], b[2], b[3]]));
            stored & mask == mask
        })
    }
}

fn masks(key: u64) -> [u32; 8] {
    SALT.map(|salt| 1 << ((key as u32).wrapping_mul(salt) >> 27))
}

#[cfg(test)]
mod tests {
    use super::*;
    use xxhash_rust::xxh3::xxh3_64;

    #[test]
    fn none_is_missed_and_few_are_let_through() {
        let key = |n: u32| xxh3_64(&n.to_le_bytes());
        let filter = Membership::build((0..20_000u32).map(key).collect::<Vec<_>>().into_iter());
        assert!((0..20_000).all(|n| filter.may_hold(key(n))));
        let through = (20_000..60_000).filter(|n| filter.may_hold(key(*n))).count();
        assert!(through < 1200, "{through} of 40000 absent keys were let through");
        assert_eq!(Membership::from_bytes(filter.as_bytes()), Some(filter));
        assert_eq!(Membership::from_bytes(&[0; 31]), None);
    }
}
