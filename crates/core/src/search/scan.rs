//! Going through the pages of a view.

use super::{Explanation, Place, Segment};
use crate::chunk::{ChunkPage, ChunkSource, Directory, may_match};
use crate::columns::{PageRead, Rows, select_in_range};
use crate::error::Result;
use crate::query::{Filter, TimeRange};
use std::sync::Arc;

/// A page of a view, not yet read.
#[derive(Clone)]
pub(super) enum PageAt {
    Head(Arc<crate::columns::Page>),
    Chunk(Arc<Directory>, usize),
}

impl PageAt {
    /// Calls `f` with the page ready to be read.
    pub fn with<T>(&self, source: &dyn ChunkSource, f: impl FnOnce(&dyn PageRead) -> Result<T>) -> Result<T> {
        match self {
            PageAt::Head(page) => f(page.as_ref()),
            PageAt::Chunk(directory, page) => f(&ChunkPage::new(directory.clone(), *page, source)),
        }
    }

    pub fn time_span(&self) -> (i64, i64) {
        match self {
            PageAt::Head(page) => page.time_span(),
            PageAt::Chunk(d, page) => d.pages.get(*page).map_or((0, 0), |p| (p.time_min, p.time_max)),
        }
    }
}

/// The pages of a segment that may hold a match in `range`; counts what was skipped, and notes what cannot be read.
pub(super) fn open(
    segment: &Segment,
    filter: &Filter,
    range: &TimeRange,
    source: &dyn ChunkSource,
    explain: &mut Explanation,
) -> Vec<PageAt> {
    match &segment.place {
        Place::Head(page) => vec![PageAt::Head(page.clone())],
        Place::Chunk(id) => {
            let directory = match source.directory(*id) {
                Ok(directory) => directory,
                Err(e) => {
                    explain.left_out.push(e.to_string());
                    return Vec::new();
                }
            };
            if !may_match(filter, &directory) {
                explain.skipped_by_filter += 1;
                return Vec::new();
            }
            explain.chunks_read += 1;
            let within = |p: &usize| directory.pages.get(*p).is_some_and(|p| range.touches(p.time_min, p.time_max));
            (0..directory.pages.len()).filter(within).map(|p| PageAt::Chunk(directory.clone(), p)).collect()
        }
    }
}

/// The matching rows of an open page, counted.
pub(super) fn scan(
    page: &dyn PageRead,
    filter: &Filter,
    range: &TimeRange,
    lane: &str,
    is_head: bool,
    explain: &mut Explanation,
) -> Result<Rows> {
    explain.pages_scanned += 1;
    explain.rows_looked_at += page.rows() as u64;
    explain.head_rows += if is_head { page.rows() as u64 } else { 0 };
    select_in_range(filter, range, page, lane)
}
