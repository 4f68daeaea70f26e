//! Where search gets chunks from, and where columns are kept decoded.

use super::segment::VerifiedSegment;
use super::{ChunkBloom, Directory};
use crate::columns::Column;
use calvex_language::error::Result;
use std::sync::Arc;

/// Where search gets chunks from.
pub trait ChunkSource: Sync {
    /// The directory of a chunk.
    ///
    /// # Errors
    /// Where it cannot be fetched or is damaged.
    fn directory(&self, chunk: u64) -> Result<Arc<Directory>>;
    /// A segment of a chunk.
    ///
    /// # Errors
    /// Where it cannot be fetched or is damaged.
    fn segment(&self, chunk: u64, segment: u16) -> Result<VerifiedSegment>;
    /// Whether the question is cold: a segment that it asked for was not at hand, so that it pays to prefetch others.
    fn is_cold(&self) -> bool {
        false
    }
    /// Reads segments of a chunk at once, since each of them is asked for next. What cannot be read is left to that.
    fn prefetch(&self, _chunk: u64, _segments: &[u16]) {}
    /// The bloom of a whole chunk, where it is at hand because no bloom set holds it yet.
    fn chunk_bloom(&self, _chunk: u64) -> Option<Arc<ChunkBloom>> {
        None
    }
    /// Where columns are kept decoded between questions, if they are.
    fn columns(&self) -> Option<&dyn KeptColumns> {
        None
    }
}

/// Columns that are kept decoded, for many questions of the same pages: alert rules look at each new page again and again,
/// and who looks for a cause asks for figures of one time in many ways.
pub trait KeptColumns: Sync {
    /// A column that is kept.
    fn get(&self, at: ColumnAt) -> Option<Arc<Column>>;
    /// Keeps a column, where there is room.
    fn keep(&self, at: ColumnAt, column: &Arc<Column>);
    /// Whether a column that is not kept was asked for before, as far as is remembered; it is noted now.
    fn was_asked_for(&self, at: ColumnAt) -> bool;
}

/// Which column: its chunk, page and number in the directory. Chunks never change, and their ids are not used again.
pub type ColumnAt = (u64, usize, usize);

#[cfg(test)]
mod tests {
    use super::super::tests::{build, event};
    use super::super::{BuiltChunk, ChunkPage};
    use super::*;
    use crate::columns::{PageRead, materialise_all, select};
    use calvex_language::model::{Event, Path, Value};
    use calvex_language::query::parse_filter;
    use std::collections::BTreeSet;
    use std::sync::Mutex;

    /// Segments that are far; what was brought first, and what was asked for after it.
    struct Far(BuiltChunk, Mutex<Vec<u16>>, Mutex<BTreeSet<u16>>);

    impl ChunkSource for Far {
        fn directory(&self, chunk: u64) -> Result<Arc<Directory>> {
            Ok(Arc::new(Directory::read(chunk, &VerifiedSegment::check(self.0.segments[0].clone(), chunk, 0)?)?))
        }
        fn segment(&self, chunk: u64, segment: u16) -> Result<VerifiedSegment> {
            self.2.lock().unwrap().insert(segment);
            VerifiedSegment::check(self.0.segments[usize::from(segment)].clone(), chunk, segment)
        }
        fn is_cold(&self) -> bool {
            true
        }
        fn prefetch(&self, _: u64, segments: &[u16]) {
            let mut first = self.1.lock().unwrap();
            if first.is_empty() {
                first.extend(segments);
            }
        }
    }

    fn with_code(mut event: Event, code: u128) -> Event {
        event.message = format!("{code:032x} was read");
        event.fields.push((Path::root("code"), Value::Int((code >> 64) as i64)));
        event
    }

    /// What was brought first, and what was asked for, when `read` reads the second page.
    fn reading(read: impl FnOnce(&dyn PageRead)) -> (Vec<u16>, Vec<u16>) {
        // What cannot be packed, so that each column stands in segments of its own.
        let far = |n: u32| u128::from(n).wrapping_mul(0x9e37_79b9_7f4a_7c15_f39c_c060_5ced_c835);
        let events: Vec<_> = (0..20_000).map(|n| with_code(event(n), far(n))).collect();
        let chunk = build(&events, 4096, || 7).remove(0);
        let far = Far(chunk, Mutex::default(), Mutex::default());
        read(&ChunkPage::new(far.directory(far.0.id).unwrap(), 1, &far));
        (far.1.into_inner().unwrap(), far.2.into_inner().unwrap().into_iter().collect())
    }

    #[test]
    fn all_that_whole_events_need_is_brought_at_once() {
        let (brought, asked) = reading(|page| assert_eq!(materialise_all(page).unwrap().len(), 4096));
        assert!(asked.len() > 3, "{asked:?}");
        assert_eq!(brought, asked);
    }

    #[test]
    fn all_that_a_question_for_words_needs_is_brought_at_once() {
        let filter = parse_filter("nowhere").unwrap();
        let (brought, asked) = reading(|page| assert!(select(&filter, page, "main").unwrap().is_empty()));
        assert!(!asked.is_empty());
        assert!(asked.iter().all(|n| brought.contains(n)), "{asked:?} of {brought:?}");
        let (whole, _) = reading(|page| drop(materialise_all(page)));
        assert!(brought.len() < whole.len(), "of the columns that texts stand in");
    }
}
