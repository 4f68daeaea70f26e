//! Which small pages of a head become one.

use super::group::join;
use calvex_storage::columns::{PAGE_ROWS, PAGE_WEIGHT_BYTES, Page, PageRead};
use std::sync::Arc;

/// Pages of this many rows are left as they are: joining them would cost more than scanning them apart.
pub const SMALL_PAGE: usize = 1024;

/// How many of the last pages are to be one: as many as fit, of which each but the last is small and not more than twice as
/// large as those after it, so that a row is copied a few times only, however many pages come.
pub fn small_run(pages: &[Arc<Page>]) -> usize {
    let (mut count, mut rows, mut bytes) = (0, 0, 0);
    for page in pages.iter().rev() {
        if count > 0 && (page.rows() >= SMALL_PAGE || page.rows() > rows * 2) {
            break;
        }
        rows += page.rows();
        bytes += page.weight_bytes();
        if rows > PAGE_ROWS || bytes > PAGE_WEIGHT_BYTES {
            break;
        }
        count += 1;
    }
    count
}

/// Two pages of one head joined, where they fit into one.
pub fn fitting(a: &Page, b: &Page) -> Option<Page> {
    let fits = a.rows() + b.rows() <= PAGE_ROWS && a.weight_bytes() + b.weight_bytes() <= PAGE_WEIGHT_BYTES;
    // Within one head an earlier page has the lower ids, and joining keeps the order of equal times.
    fits.then(|| join(&[a.clone(), b.clone()]).ok()).flatten()
}

#[cfg(test)]
mod tests {
    use super::*;
    use calvex_language::model::Event;
    use calvex_storage::columns::build_page;

    fn pages(rows: &[usize]) -> Vec<Arc<Page>> {
        let page = |rows: &usize| {
            build_page(&(0..*rows as i64).map(|time_ns| Event { time_ns, ..Event::default() }).collect::<Vec<_>>())
        };
        rows.iter().map(|rows| Arc::new(page(rows).unwrap())).collect()
    }

    #[test]
    fn small_pages_at_the_end_are_one_run() {
        let run = |rows: &[usize]| small_run(&pages(rows));
        assert_eq!(run(&[]), 0);
        assert_eq!(run(&[5]), 1);
        assert_eq!(run(&[1024, 1023, 1000]), 2, "a page of 1,024 rows is no small one");
        assert_eq!(run(&[500; 10]), 10, "what came meanwhile is joined at once");
        assert_eq!(run(&[500, 500, 10]), 1, "much would be copied for little");
        assert_eq!(run(&[500, 20, 10]), 2);
        assert_eq!(run(&[900; 12]), PAGE_ROWS / 900, "as many as fit");
    }
}
