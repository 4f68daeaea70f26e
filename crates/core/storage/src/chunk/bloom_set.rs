//! Bloom sets: the blooms of many chunks of one lane side by side, so that a search for a key reads one piece of one
//! bloom set instead of a directory and a piece of bloom of each chunk.
//!
//! ```text
//! segment 0   := pieces:varint  members:varint  (chunk:u64 LE  blocks:varint)*
//! segment n   := piece n - 1: of each member in turn, its blocks that the piece's share of all hashes falls into
//! ```
//!
//! Segments have the chunk's envelope under an id of the bloom set's own, and stand in the same bucket. With `P` pieces, a key
//! whose upper 32 bits are `h` is asked of piece `h * P / 2^32`; a member of `B` blocks has there those from
//! `piece * B / P` up to what `(piece + 1) * B / P` rounds up to, so that members need not be of one size, and the block
//! on the edge of two pieces stands in both. A member of 0 blocks may hold anything.
//!
//! A bloom set is made of blooms of whole chunks (see [`super::chunk_bloom`]) and can be left out at any time: then the chunks'
//! pages are asked.

use super::segment::seal_segment;
use super::{ChunkBloom, ChunkSource, SEGMENT_BYTES, VerifiedSegment, chunk_bloom};
use crate::columns::Rows;
use calvex_language::error::{CoreError, Result};
use calvex_language::model::{put_varint, take_varint};
use std::ops::Range;
use std::sync::Arc;

/// Chunks of one bloom set at most.
pub const MAX_MEMBERS: usize = 64;

/// A chunk of a bloom set.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Member {
    chunk: u64,
    blocks: usize,
}

/// What a bloom set holds.
#[derive(Debug)]
pub struct BloomSet {
    id: u64,
    pieces: usize,
    members: Vec<Member>,
}

fn damaged(id: u64, what: &str) -> CoreError {
    CoreError::damaged(format!("bloom set {id:x} segment 0"), what)
}

/// The blocks of a member that stand in a piece.
fn blocks_in(piece: usize, pieces: usize, blocks: usize) -> Range<usize> {
    piece * blocks / pieces..((piece + 1) * blocks).div_ceil(pieces)
}

/// Makes the segments of bloom set `id` of chunks and their blooms.
pub fn build_bloom_set(id: u64, chunks: &[(u64, Arc<ChunkBloom>)]) -> Vec<Vec<u8>> {
    let chunks = chunks.get(..MAX_MEMBERS).unwrap_or(chunks);
    // A block more of each member for each of the two edges.
    let bytes_of = |pieces: usize| {
        let blocks = |f: &ChunkBloom| if f.is_empty() { 0 } else { f.blocks() / pieces + 2 };
        chunks.iter().map(|(_, f)| blocks(f)).sum::<usize>() * chunk_bloom::BLOCK_BYTES
    };
    let pieces = (1..usize::from(u16::MAX)).find(|n| bytes_of(*n) <= SEGMENT_BYTES).unwrap_or(1);
    let mut first = Vec::new();
    put_varint(&mut first, pieces as u64);
    put_varint(&mut first, chunks.len() as u64);
    for (chunk, bloom) in chunks {
        first.extend_from_slice(&chunk.to_le_bytes());
        put_varint(&mut first, bloom.blocks() as u64);
    }
    let mut segments = vec![seal_segment(id, 0, &first)];
    for piece in 0..pieces {
        let of =
            |(_, bloom): &(u64, Arc<ChunkBloom>)| bloom.bytes_of(blocks_in(piece, pieces, bloom.blocks())).to_vec();
        let payload: Vec<u8> = chunks.iter().flat_map(of).collect();
        segments.push(seal_segment(id, piece as u16 + 1, &payload));
    }
    segments
}

impl BloomSet {
    /// Reads segment 0.
    ///
    /// # Errors
    /// [`CoreError::Damaged`].
    pub fn read(id: u64, first: &VerifiedSegment) -> Result<Self> {
        Self::parse(id, first.payload()).ok_or_else(|| damaged(id, "its list of chunks does not decode"))
    }

    fn parse(id: u64, payload: &[u8]) -> Option<Self> {
        let mut at = 0;
        let number = |at: &mut usize| take_varint(payload, at).and_then(|n| usize::try_from(n).ok());
        let pieces = number(&mut at).filter(|n| (1..u16::MAX as usize).contains(n))?;
        let count = number(&mut at).filter(|n| *n <= MAX_MEMBERS)?;
        let mut members = Vec::with_capacity(count);
        for _ in 0..count {
            let chunk = u64::from_le_bytes(*payload.get(at..)?.first_chunk()?);
            at += 8;
            let blocks = number(&mut at).filter(|n| *n == 0 || chunk_bloom::can_have(*n))?;
            members.push(Member { chunk, blocks });
        }
        (at == payload.len()).then_some(BloomSet { id, pieces, members })
    }

    /// Its chunks, by their places.
    pub fn chunks(&self) -> impl ExactSizeIterator<Item = u64> + '_ {
        self.members.iter().map(|m| m.chunk)
    }

    /// The places of the chunks that may hold `key`; a chunk left out does not.
    ///
    /// # Errors
    /// Where the piece cannot be read.
    pub(super) fn probe(&self, key: u64, source: &dyn ChunkSource) -> Result<Rows> {
        let piece = (((key >> 32) * self.pieces as u64) >> 32) as usize;
        let segment = source.segment(self.id, piece as u16 + 1)?;
        let mut rest = segment.payload();
        let mut found = Rows::none(self.members.len());
        for (index, member) in self.members.iter().enumerate() {
            if member.blocks == 0 {
                found.set(index);
                continue;
            }
            let here = blocks_in(piece, self.pieces, member.blocks);
            let at = chunk_bloom::block_of(key, member.blocks).saturating_sub(here.start) * chunk_bloom::BLOCK_BYTES;
            let block = rest.get(at..at + chunk_bloom::BLOCK_BYTES).unwrap_or_default();
            if chunk_bloom::lets_through(block, key) {
                found.set(index);
            }
            rest = rest.get(here.len() * chunk_bloom::BLOCK_BYTES..).unwrap_or_default();
        }
        Ok(found)
    }
}

/// The chunks to roll up next, of those of one lane and bucket that are in no bloom set and will not be merged any more;
/// nothing where too few have gathered. `settled` says that no more are expected.
pub fn plan_bloom_set(mut chunks: Vec<(i64, u64)>, settled: bool) -> Option<Vec<u64>> {
    let wanted = if settled { SETTLED } else { FULL };
    // Neighbours in time, so that a range of time asks few bloom sets.
    chunks.sort_unstable();
    (chunks.len() >= wanted).then(|| chunks.into_iter().take(FULL).map(|(_, id)| id).collect())
}

/// Chunks of a bloom set.
const FULL: usize = 16;
/// As many are worth one where no more come.
const SETTLED: usize = 4;

#[cfg(test)]
mod tests {
    use super::*;
    use crate::chunk::chunk_bloom;
    use crate::chunk::prune::chunks_that_may_match;
    use crate::testing::Shelf;
    use calvex_language::model::Event;
    use calvex_language::query::parse_filter;

    fn event(chunk: u64, n: u64) -> Event {
        let id = chunk * 1000 + n;
        Event {
            time_ns: id as i64,
            message: format!("parcel PX-{id:06} handed over at door {}", n % 30),
            trace: Some((u128::from(id) + 1).to_be_bytes()),
            service: if chunk == 3 { "sorter".into() } else { "parcels".into() },
            ..Event::default()
        }
    }

    /// Five chunks of unequal sizes, rolled up.
    fn in_bloom_sets() -> (Shelf, Vec<u64>) {
        let mut shelf = Shelf::default();
        let mut chunks = Vec::new();
        for chunk in 0..5u64 {
            let events: Vec<Event> = (0..100 + chunk * 200).map(|n| event(chunk, n)).collect();
            let sealed = shelf.seal(&events, 64);
            chunks.extend(sealed.iter().map(|s| s.id));
        }
        // Made again from the columns.
        let bloom = |chunk: &u64| (*chunk, Arc::new(chunk_bloom(*chunk, &shelf).unwrap()));
        let segments = build_bloom_set(99, &chunks.iter().map(bloom).collect::<Vec<_>>());
        segments.into_iter().enumerate().for_each(|(n, segment)| drop(shelf.segments.insert((99, n as u16), segment)));
        (shelf, chunks)
    }

    #[test]
    fn a_key_leads_to_its_chunk() {
        let (shelf, chunks) = in_bloom_sets();
        let may = |query: &str| -> Vec<usize> {
            let found = chunks_that_may_match(&parse_filter(query).unwrap(), 99, &shelf).unwrap();
            assert_eq!(found.len(), chunks.len());
            found.iter().collect()
        };
        let mut others = 0;
        for (chunk, n) in (0..5u64).flat_map(|c| (0..100).map(move |n| (c, n))) {
            let trace = format!("trace={:032x}", chunk * 1000 + n + 1);
            let found = may(&trace);
            assert!(found.contains(&(chunk as usize)), "{trace}: {found:?}");
            others += found.len() - 1;
        }
        assert!(others < 500 * 4 / 8, "{others} of 2000 were let through");
        let reported = may("service=sorter");
        assert!(reported.contains(&3) && reported.len() < 3, "{reported:?}");
        assert_eq!(may("severity>=info"), [0, 1, 2, 3, 4], "no key is asked for");
        assert!(may("PX-003017 or PX-001005").contains(&1));
        assert_eq!(may("service=sorter not 17"), reported);
        assert!(may("service=billing \"no such words\"").is_empty());
    }

    #[test]
    fn chunks_without_a_filter_may_hold_anything() {
        let (mut shelf, chunks) = in_bloom_sets();
        let none = |c: &u64| *c == chunks[1];
        let bloom = |c: &u64| if none(c) { ChunkBloom::default() } else { chunk_bloom(*c, &shelf).unwrap() };
        let blooms: Vec<_> = chunks.iter().map(|c| (*c, Arc::new(bloom(c)))).collect();
        build_bloom_set(100, &blooms).into_iter().enumerate().for_each(|(n, segment)| {
            shelf.segments.insert((100, n as u16), segment);
        });
        let found = chunks_that_may_match(&parse_filter("service=sorter").unwrap(), 100, &shelf).unwrap();
        assert!(found.has(1) && found.has(3) && found.count() < 4);
    }

    #[test]
    fn each_byte_of_part_0_that_is_wrong_is_an_error_or_bounded() {
        let (shelf, chunks) = in_bloom_sets();
        let first = VerifiedSegment::check(shelf.segments[&(99, 0)].clone(), 99, 0).unwrap();
        assert!(BloomSet::read(99, &first).unwrap().chunks().eq(chunks.iter().copied()));
        let payload = first.payload();
        assert!((0..payload.len()).all(|cut| BloomSet::parse(99, &payload[..cut]).is_none()));
        for at in 0..payload.len() {
            let mut forged = payload.to_vec();
            forged[at] ^= 0x55;
            if let Some(bloom_set) = BloomSet::parse(99, &forged) {
                let _ = bloom_set.probe(u64::MAX, &shelf);
            }
        }
    }

    #[test]
    fn enough_chunks_make_a_bloom_set() {
        let chunks = |n: u64| (0..n).map(|c| (-(c as i64), c)).collect::<Vec<_>>();
        assert_eq!(plan_bloom_set(chunks(15), false), None);
        assert_eq!(plan_bloom_set(chunks(20), false).unwrap(), (4..20).rev().collect::<Vec<_>>());
        assert_eq!(plan_bloom_set(chunks(3), true), None);
        assert_eq!(plan_bloom_set(chunks(4), true).unwrap().len(), 4);
    }
}
