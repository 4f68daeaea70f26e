//! A group of submissions as journal rows: what one commit writes.

use calvex_intake::batch::HeadKey;
use calvex_storage::chunk::journal::encode_batch;
use calvex_storage::columns::{
    BuiltinColumn, PAGE_ROWS, PAGE_WEIGHT_BYTES, Page, PageRead, SourceRow, Values, permute,
};
use std::collections::BTreeMap;

/// Pages of fewer rows wait to be joined with others of their head before they are encoded.
const SMALL_ROWS: usize = 1024;

/// A page on its way to a head, with its journal bytes where it is large enough to stand alone.
pub struct HeadPage {
    /// Its head.
    pub key: HeadKey,
    /// Its rows.
    pub page: Page,
    batch: Option<Vec<u8>>,
}

impl HeadPage {
    /// Encodes the page at once where it is large: that is work for the sender's own slot, not for the committer.
    pub fn new(key: HeadKey, page: Page) -> Self {
        let batch = (page.rows() >= SMALL_ROWS).then(|| encode_batch(&page));
        HeadPage { key, page, batch }
    }

    /// Rows that are still to be encoded.
    pub fn rows_to_encode(&self) -> usize {
        if self.batch.is_some() { 0 } else { self.page.rows() }
    }
}

/// A page and its journal bytes; ids get their origin at commit.
pub struct Built {
    /// Its head.
    pub key: HeadKey,
    /// Its rows.
    pub page: Page,
    /// The same as a journal row.
    pub batch: Vec<u8>,
}

/// The journal rows of a group: large pages as they are, small ones of one head together.
///
/// # Errors
/// Only for a defect: a page that cannot be read back.
pub fn build(pages: Vec<HeadPage>) -> calvex_language::error::Result<Vec<Built>> {
    let mut built = Vec::new();
    let mut small: BTreeMap<HeadKey, Vec<Page>> = BTreeMap::new();
    for HeadPage { key, page, batch } in pages {
        match batch {
            Some(batch) => built.push(Built { key, page, batch }),
            None => small.entry(key).or_default().push(page),
        }
    }
    for (key, pages) in small {
        let mut rest = pages.as_slice();
        while !rest.is_empty() {
            let (mut rows, mut weight) = (0, 0);
            let fits = |p: &&Page| {
                rows += p.rows();
                weight += p.weight_bytes();
                rows <= PAGE_ROWS && weight <= PAGE_WEIGHT_BYTES
            };
            let take = rest.iter().take_while(fits).count().max(1);
            let (some, others) = rest.split_at(take);
            let page = join(some)?.with_ordinals();
            let batch = encode_batch(&page);
            built.push(Built { key, page, batch });
            rest = others;
        }
    }
    Ok(built)
}

/// One page of all rows, in the order of time.
pub fn join(pages: &[Page]) -> calvex_language::error::Result<Page> {
    if let [page] = pages {
        return Ok(page.clone());
    }
    let mut order = Vec::with_capacity(pages.iter().map(PageRead::rows).sum());
    for (source, page) in pages.iter().enumerate() {
        let time = page.builtin(BuiltinColumn::Time)?;
        if let Some(Values::Ints(times)) = time.as_deref().map(|c| &c.values) {
            let placed = |row: usize| SourceRow { source: source as u32, row: row as u32 };
            order.extend(times.iter().enumerate().map(|(row, t)| (*t, placed(row))));
        }
    }
    order.sort_by_key(|(time, _)| *time);
    let order: Vec<SourceRow> = order.into_iter().map(|(_, placed)| placed).collect();
    let sources: Vec<&dyn PageRead> = pages.iter().map(|p| p as &dyn PageRead).collect();
    permute(&sources, &order)
}

#[cfg(test)]
mod tests {
    use super::*;
    use calvex_language::model::Event;
    use calvex_storage::columns::build_page;

    #[test]
    fn small_pages_of_one_head_become_one_row() {
        let key = |lane| HeadKey { lane, day: 1, late: false };
        let page = |times: std::ops::Range<i64>| {
            build_page(&times.map(|time_ns| Event { time_ns, ..Event::default() }).collect::<Vec<_>>()).unwrap()
        };
        let pages = vec![
            HeadPage::new(key(1), page(5..7)),
            HeadPage::new(key(2), page(0..2000)),
            HeadPage::new(key(1), page(0..6)),
            HeadPage::new(key(2), page(0..1)),
        ];
        let built = build(pages).unwrap();
        let reported: Vec<_> = built.iter().map(|b| (b.key.lane, b.page.rows(), b.page.time_span())).collect();
        assert_eq!(reported, [(2, 2000, (0, 1999)), (1, 8, (0, 6)), (2, 1, (0, 0))]);
    }
}
