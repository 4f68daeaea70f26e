//! General compression: one zstd frame (RFC 8878) of a run of bytes whose length is known from outside.
//!
//! What compresses is made once for each thread and level, and what decompresses once for each thread: their tables are as
//! large as what they are used for, and there are a thousand blocks in a chunk.

use std::cell::RefCell;
use zstd::bulk::{Compressor, Decompressor};

/// The highest level whose strategies are built (`.cargo/config.toml`).
pub(crate) const MAX_LEVEL: i32 = 3;

thread_local! {
    static COMPRESSORS: RefCell<Vec<(i32, Compressor<'static>)>> = const { RefCell::new(Vec::new()) };
    static DECOMPRESSOR: RefCell<Option<Decompressor<'static>>> = const { RefCell::new(None) };
}

/// One frame of `raw`; `None` where the compressor cannot be made, for want of memory.
pub(crate) fn compress(raw: &[u8], level: i32) -> Option<Vec<u8>> {
    COMPRESSORS.with_borrow_mut(|all| {
        let at = match all.iter().position(|(of, _)| *of == level) {
            Some(at) => at,
            None => {
                all.push((level, Compressor::new(level).ok()?));
                all.len() - 1
            }
        };
        all.get_mut(at)?.1.compress(raw).ok()
    })
}

/// What one frame holds, where that is just `raw_len` bytes.
pub(crate) fn decompress(compressed: &[u8], raw_len: usize) -> Option<Vec<u8>> {
    DECOMPRESSOR.with_borrow_mut(|one| {
        if one.is_none() {
            *one = Some(Decompressor::new().ok()?);
        }
        let raw = one.as_mut()?.decompress(compressed, raw_len).ok()?;
        (raw.len() == raw_len).then_some(raw)
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// Each frame stands alone, whatever was compressed and decompressed before it, damaged or not.
        #[test]
        fn round_trip_truncation_and_flips(
            lists in prop::collection::vec(prop::collection::vec(0u8..4, 1..400), 1..4),
            flip in any::<prop::sample::Index>(),
        ) {
            for raw in &lists {
                for level in [1, MAX_LEVEL] {
                    let compressed = compress(raw, level).unwrap();
                    prop_assert!(decompress(&compressed, raw.len()).as_ref() == Some(raw));
                    prop_assert!(decompress(&compressed, raw.len() + 1).is_none());
                    prop_assert!(decompress(&compressed, raw.len() - 1).is_none());
                    for cut in 0..compressed.len() {
                        prop_assert!(decompress(&compressed[..cut], raw.len()).is_none());
                    }
                    let mut damaged = compressed.clone();
                    damaged[flip.index(compressed.len())] ^= 1;
                    // It may unpack to other bytes, which checksums find out; there are never more of them.
                    prop_assert!(decompress(&damaged, raw.len()).is_none_or(|other| other.len() == raw.len()));
                    prop_assert!(decompress(&compressed, raw.len()).as_ref() == Some(raw));
                }
            }
        }
    }
}
