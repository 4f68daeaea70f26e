//! Going through the pages of a view.

use super::{Explanation, Extent, Location, Scope};
use calvex_language::error::Result;
use calvex_language::query::{Filter, TimeRange};
use calvex_storage::chunk::{
    ChunkPage, ChunkSource, Directory, asks_for_keys, chunk_may_match, chunks_that_may_match, pages_that_may_match,
};
use calvex_storage::columns::{Admitted, Page, PageRead, RestrictedPage, Restriction, Rows, select_in_range};
use std::borrow::Cow;
use std::collections::BTreeMap;
use std::sync::{Arc, OnceLock};

/// A page of a view, not yet read.
#[derive(Clone)]
pub(crate) struct PageAt {
    stored: Stored,
    /// What may be read of it, where that is not all, and which rows those are once it was looked up.
    restriction: Option<(Arc<Restriction>, Arc<OnceLock<Admitted>>)>,
}

#[derive(Clone)]
enum Stored {
    Head(Arc<Page>),
    Chunk(Arc<Directory>, usize),
}

impl PageAt {
    pub fn head(page: &Arc<Page>, of: &Extent) -> Self {
        PageAt::new(Stored::Head(page.clone()), of)
    }

    pub fn chunk(directory: &Arc<Directory>, page: usize, of: &Extent) -> Self {
        PageAt::new(Stored::Chunk(directory.clone(), page), of)
    }

    fn new(stored: Stored, of: &Extent) -> Self {
        PageAt { stored, restriction: of.restriction.clone().map(|restriction| (restriction, Arc::default())) }
    }

    /// Calls `f` with the page ready to be read: that of the rows and fields that may be.
    pub fn with<T>(&self, source: &dyn ChunkSource, f: impl FnOnce(&dyn PageRead) -> Result<T>) -> Result<T> {
        match &self.stored {
            Stored::Head(page) => self.restricted(page.as_ref(), f),
            Stored::Chunk(directory, page) => self.restricted(&ChunkPage::new(directory.clone(), *page, source), f),
        }
    }

    fn restricted<T>(&self, page: &dyn PageRead, f: impl FnOnce(&dyn PageRead) -> Result<T>) -> Result<T> {
        let Some((restriction, known)) = &self.restriction else { return f(page) };
        let admitted = match known.get() {
            Some(admitted) => admitted.clone(),
            None => {
                let admitted = restriction.admitted(page)?;
                known.get_or_init(|| admitted).clone()
            }
        };
        f(&RestrictedPage::new(page, restriction, &admitted)?)
    }

    /// Rough bytes of one of its events in memory, in the middle.
    pub fn event_bytes(&self) -> usize {
        let (weight, rows) = match &self.stored {
            Stored::Head(page) => (page.weight_bytes(), page.rows()),
            Stored::Chunk(d, page) => d.pages.get(*page).map_or((0, 0), |p| (p.weight_bytes, p.rows)),
        };
        weight / rows.max(1)
    }

    /// How many rows are stored; fewer may be admitted.
    pub fn rows(&self) -> usize {
        match &self.stored {
            Stored::Head(page) => page.rows(),
            Stored::Chunk(d, page) => d.pages.get(*page).map_or(0, |p| p.rows),
        }
    }

    pub fn is_head(&self) -> bool {
        matches!(self.stored, Stored::Head(_))
    }

    /// The earliest and the latest time of what is stored.
    pub fn time_span(&self) -> (i64, i64) {
        match &self.stored {
            Stored::Head(page) => page.time_span(),
            Stored::Chunk(d, page) => d.pages.get(*page).map_or((0, 0), |p| (p.time_min, p.time_max)),
        }
    }
}

/// `filter`, and what the events of an extent must be to be admitted: for leaving out what can hold no such event.
fn within<'f>(filter: &'f Filter, extent: &Extent) -> Cow<'f, Filter> {
    match &extent.restriction {
        None => Cow::Borrowed(filter),
        Some(restriction) => Cow::Owned(filter.clone().and(restriction.rows.clone())),
    }
}

/// What a search begins with: a extent, or the chunks of a bloom set, to be sifted before they are opened.
#[derive(Clone)]
pub(crate) enum Reach<'a> {
    Extent(&'a Extent),
    BloomSet(u64, Vec<&'a Extent>),
}

/// The extents that touch `range`; chunks of one bloom set together, where it can rule some out for `filter`.
pub(crate) fn reach<'a>(scope: &Scope<'a>, filter: &Filter, range: &TimeRange) -> Vec<Reach<'a>> {
    let sifted = asks_for_keys(filter);
    let mut bloom_sets: BTreeMap<u64, Vec<&Extent>> = BTreeMap::new();
    let mut reached = Vec::new();
    for extent in scope.touching(range) {
        match extent.bloom_set.filter(|_| sifted) {
            Some(bloom_set) => bloom_sets.entry(bloom_set.id).or_default().push(extent),
            None => reached.push(Reach::Extent(extent)),
        }
    }
    reached.extend(bloom_sets.into_iter().map(|(id, chunks)| Reach::BloomSet(id, chunks)));
    reached
}

/// The chunks of a bloom set that may hold a match. One that cannot be read rules nothing out, and nothing is lost by it.
pub(crate) fn sift<'a>(
    id: u64,
    chunks: &[&'a Extent],
    filter: &Filter,
    source: &dyn ChunkSource,
) -> (Vec<&'a Extent>, Explanation) {
    let reported = chunks_that_may_match(filter, id, source).ok();
    let may_match = |s: &&Extent| match (s.bloom_set, &reported) {
        (Some(bloom_set), Some(may)) if bloom_set.member < may.len() => may.has(bloom_set.member),
        _ => true,
    };
    let left: Vec<&Extent> = chunks.iter().copied().filter(|s| may_match(s)).collect();
    let skipped = chunks.len() - left.len();
    (left, Explanation { skipped_by_bloom: skipped, skipped_by_bloom_set: skipped, ..Explanation::default() })
}

/// The pages of a extent that may hold a match in `range`, and what was skipped or cannot be read.
pub(crate) fn open(
    extent: &Extent,
    filter: &Filter,
    range: &TimeRange,
    source: &dyn ChunkSource,
) -> (Vec<PageAt>, Explanation) {
    let mut explain = Explanation::default();
    let id = match &extent.location {
        Location::Head(page) => return (vec![PageAt::head(page, extent)], explain),
        Location::Chunk(id) => *id,
    };
    let filter = within(filter, extent);
    // Of a chunk in no bloom set, the filter of the whole may be at hand.
    if source.chunk_bloom(id).is_some_and(|whole| !chunk_may_match(&filter, &whole)) {
        explain.skipped_by_bloom = 1;
        return (Vec::new(), explain);
    }
    let opened = source.directory(id).and_then(|d| Ok((pages_that_may_match(&filter, &d, source)?, d)));
    let (may_match, directory) = match opened {
        Ok(opened) => opened,
        Err(e) => {
            explain.left_out.push(e.to_string());
            return (Vec::new(), explain);
        }
    };
    let within = |p: usize| directory.pages.get(p).is_some_and(|p| range.touches(p.time_min, p.time_max));
    let in_range = (0..directory.pages.len()).filter(|p| within(*p)).count();
    let pages: Vec<PageAt> =
        may_match.iter().filter(|p| within(*p)).map(|p| PageAt::chunk(&directory, p, extent)).collect();
    explain.pages_skipped = in_range - pages.len();
    if pages.is_empty() {
        explain.skipped_by_bloom = 1;
    } else {
        explain.chunks_read = 1;
    }
    (pages, explain)
}

/// Every page of an extent, in the order of time.
///
/// # Errors
/// Where its directory cannot be read.
pub(crate) fn all_of(extent: &Extent, source: &dyn ChunkSource) -> Result<Vec<PageAt>> {
    Ok(match &extent.location {
        Location::Head(page) => vec![PageAt::head(page, extent)],
        Location::Chunk(id) => {
            let directory = source.directory(*id)?;
            (0..directory.pages.len()).map(|page| PageAt::chunk(&directory, page, extent)).collect()
        }
    })
}

/// Every page that may hold a match in `range`, with its lane.
pub(crate) fn open_all(
    scope: &Scope,
    filter: &Filter,
    range: &TimeRange,
    explain: &mut Explanation,
) -> Vec<(Arc<str>, PageAt)> {
    let reached = reach(scope, filter, range);
    let sifted = scope.map(reached.len(), explain, |n| match &reached[n] {
        Reach::Extent(extent) => (vec![*extent], Explanation::default()),
        Reach::BloomSet(id, chunks) => sift(*id, chunks, filter, scope.source),
    });
    let mut extents: Vec<&Extent> = Vec::new();
    for (left, part) in sifted.into_iter().flatten() {
        explain.add(part);
        extents.extend(left);
    }
    let opened = scope.map(extents.len(), explain, |n| open(extents[n], filter, range, scope.source));
    let mut pages = Vec::new();
    for (extent, opened) in extents.iter().zip(opened) {
        let Some((found, part)) = opened else { continue };
        explain.add(part);
        pages.extend(found.into_iter().map(|page| (extent.lane.clone(), page)));
    }
    pages
}

/// What `read` makes of a page and its matching rows. A page that cannot be read is left out, which the account says.
pub(crate) fn read_or_leave_out<T: Default>(
    scope: &Scope,
    filter: &Filter,
    range: &TimeRange,
    (lane, at): (&str, &PageAt),
    read: impl FnOnce(&dyn PageRead, &Rows) -> Result<T>,
) -> (T, Explanation) {
    let mut explain = Explanation::default();
    let done = at.with(scope.source, |page| {
        if page.rows() == 0 {
            return Ok(T::default());
        }
        let rows = scan(page, filter, range, lane, at.is_head(), &mut explain)?;
        if let Some(passing) = scope.passing {
            passing(lane, rows.count() as u64);
        }
        read(page, &rows)
    });
    let done = done.unwrap_or_else(|e| {
        explain.left_out.push(e.to_string());
        T::default()
    });
    (done, explain)
}

/// The matching rows of an open page, counted.
fn scan(
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
