//! The events of the rows that were found: read page by page, each page once, within the budget.

use super::rank::Rank;
use crate::scan::{Budget, Explanation, PageAt, Scope};
use calvex_language::model::Event;
use calvex_storage::columns::materialise;
use std::collections::BTreeMap;
use std::sync::Arc;

/// Events that are read at once, and rough bytes of them, between two looks at the budget.
const READ_AT_ONCE: usize = 256;
const READ_BYTES: usize = 8 << 20;

/// A row that may be among the first, by its page's number.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Candidate {
    pub(super) rank: Rank,
    pub(super) page: usize,
    pub(super) row: usize,
}

/// The events of `winners`, in their order, and whether the budget cut them off: then there are fewer, but one at
/// least, and the rest is found behind the last of them.
pub(super) fn gather(
    scope: &Scope,
    winners: &[Candidate],
    pages: &[(Arc<str>, PageAt)],
    explain: &mut Explanation,
) -> (Vec<(Event, Arc<str>)>, bool) {
    let mut events = Vec::new();
    let mut rest = winners;
    while !rest.is_empty() {
        if !events.is_empty() && scope.budget.is_spent() {
            return (events, true);
        }
        // By what an event of its page weighs in the middle; whole pages bound what that may miss.
        let mut bytes = 0;
        let fits = |candidate: &&Candidate| {
            bytes += pages.get(candidate.page).map_or(0, |(_, at)| at.event_bytes());
            bytes <= READ_BYTES
        };
        let most = if scope.budget.is_spent() { 1 } else { READ_AT_ONCE };
        let (some, others) = rest.split_at(rest.iter().take(most).take_while(fits).count().max(1));
        let read = read_events(scope, some, pages, explain);
        scope.budget.charge(read.iter().map(|(e, _)| e.weight_bytes()).sum());
        events.extend(read);
        rest = others;
    }
    (events, false)
}

/// The events of `winners`, in their order.
fn read_events(
    scope: &Scope,
    winners: &[Candidate],
    pages: &[(Arc<str>, PageAt)],
    explain: &mut Explanation,
) -> Vec<(Event, Arc<str>)> {
    let mut by_page: BTreeMap<usize, Vec<(usize, usize)>> = BTreeMap::new();
    for (nth, Candidate { page, row, .. }) in winners.iter().enumerate() {
        by_page.entry(*page).or_default().push((*row, nth));
    }
    let mut wanted: Vec<(usize, Vec<(usize, usize)>)> = by_page.into_iter().collect();
    wanted.iter_mut().for_each(|(_, rows)| rows.sort_unstable());
    // The budget was asked already; what it still has room for is read in any case.
    let room = Budget::new(usize::MAX / 2);
    let scope = &Scope { budget: &room, ..*scope };
    let read = scope.map(wanted.len(), explain, |n| {
        let (page, rows) = &wanted[n];
        let rows: Vec<usize> = rows.iter().map(|(row, _)| *row).collect();
        pages[*page].1.with(scope.source, |p| materialise(p, &rows))
    });
    let mut slots: Vec<Option<(Event, Arc<str>)>> = winners.iter().map(|_| None).collect();
    for ((page, rows), events) in wanted.into_iter().zip(read) {
        match events {
            Some(Ok(events)) => {
                for (event, (_, nth)) in events.into_iter().zip(rows) {
                    slots[nth] = Some((event, pages[page].0.clone()));
                }
            }
            Some(Err(e)) => explain.add(Explanation { left_out: vec![e.to_string()], ..Explanation::default() }),
            None => {}
        }
    }
    slots.into_iter().flatten().collect()
}
