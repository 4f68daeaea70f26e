//! The newest (or oldest) events that pass, by (time, id), reading no more than it takes to be sure.

use super::scan::{PageAt, open, scan};
use super::{Explanation, Segment, Stop, touching};
use crate::chunk::ChunkSource;
use crate::columns::{Own, PageRead, Values, gather};
use crate::error::{CoreError, Result};
use crate::event::{Event, EventId};
use crate::query::{Filter, TimeRange};
use std::collections::{BTreeMap, BinaryHeap};
use std::str::FromStr;
use std::sync::Arc;

/// Which end comes first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
#[allow(missing_docs)]
pub enum Order {
    #[default]
    Newest,
    Oldest,
}

/// Where the previous answer ended. Stays valid while chunks are sealed beneath it, because order and ids never change.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Cursor {
    /// The last event's time.
    pub time_ns: i64,
    /// The last event's id.
    pub id: EventId,
}

impl std::fmt::Display for Cursor {
    fn fmt(&self, f: &mut std::fmt::Formatter) -> std::fmt::Result {
        write!(f, "{}_{}", self.time_ns, self.id)
    }
}

impl FromStr for Cursor {
    type Err = String;
    fn from_str(text: &str) -> Result<Self, String> {
        let bad = || format!("`{text}` is no cursor; take `cursor` from the previous answer");
        let (time, id) = text.split_once('_').ok_or_else(bad)?;
        Ok(Cursor { time_ns: time.parse().map_err(|_| bad())?, id: id.parse().map_err(|_| bad())? })
    }
}

/// What is asked.
#[derive(Debug, Clone)]
pub struct Find<'a> {
    /// Which events.
    pub filter: &'a Filter,
    /// When.
    pub range: TimeRange,
    /// Which end first.
    pub order: Order,
    /// Only what comes after it, in the order asked.
    pub after: Option<Cursor>,
    /// How many at most.
    pub limit: usize,
}

/// What was found.
#[derive(Debug, Default)]
pub struct Found {
    /// In the order asked, each with its lane.
    pub events: Vec<(Event, Arc<str>)>,
    /// Whether there are more.
    pub more: bool,
    /// How the answer came about.
    pub explain: Explanation,
}

/// Sorts so that the greatest is what comes last in the order asked.
#[derive(PartialEq, Eq, PartialOrd, Ord, Clone, Copy)]
struct Rank(i128, i128, i128);

fn rank(order: Order, key: Cursor) -> Rank {
    let id = key.id;
    let origin = i128::from(id.node) << 32 | i128::from(id.epoch);
    let within = i128::from(id.seq) << 32 | i128::from(id.place);
    match order {
        Order::Oldest => Rank(i128::from(key.time_ns), origin, within),
        Order::Newest => Rank(-i128::from(key.time_ns), -origin, -within),
    }
}

enum Work<'a> {
    Segment(&'a Segment),
    Page(Arc<str>, PageAt),
}

/// Finds events. Segments are opened in the order in which they could hold the next event; the search ends when
/// nothing unopened can come before the last of a full answer.
pub fn find(view: &[Segment], ask: &Find, source: &dyn ChunkSource, stop: Stop) -> Found {
    let mut explain = Explanation::default();
    let is_chunk = |s: &&Segment| matches!(s.place, super::Place::Chunk(_));
    explain.chunks = view.iter().filter(is_chunk).count();
    explain.skipped_by_time = explain.chunks - touching(view, &ask.range).filter(is_chunk).count();

    // What could come first, by the near end of its time span.
    let near = |span: (i64, i64)| match ask.order {
        Order::Newest => -i128::from(span.1),
        Order::Oldest => i128::from(span.0),
    };
    let mut queue: BTreeMap<(i128, usize), Work> = BTreeMap::new();
    for (n, s) in touching(view, &ask.range).enumerate() {
        queue.insert((near((s.time_min, s.time_max)), n), Work::Segment(s));
    }
    let mut serial = queue.len();
    let mut best: BinaryHeap<(Rank, usize, usize)> = BinaryHeap::new();
    let mut pages: Vec<(Arc<str>, PageAt)> = Vec::new();
    let wanted = ask.limit.saturating_add(1);

    while let Some(((bound, _), work)) = queue.pop_first() {
        if best.len() == wanted && best.peek().is_some_and(|(worst, _, _)| worst.0 < bound) {
            let unopened = std::iter::once(&work).chain(queue.values());
            explain.skipped_by_order = unopened.filter(|w| matches!(w, Work::Segment(s) if is_chunk(s))).count();
            break;
        }
        if let Some(reason) = stop() {
            explain.stopped = Some(reason);
            break;
        }
        match work {
            Work::Segment(segment) => {
                for page in open(segment, ask.filter, &ask.range, source, &mut explain) {
                    queue.insert((near(page.time_span()), serial), Work::Page(segment.lane.clone(), page));
                    serial += 1;
                }
            }
            Work::Page(lane, at) => {
                let is_head = matches!(at, PageAt::Head(_));
                let index = pages.len();
                let scanned = at.with(source, |page| {
                    let rows = scan(page, ask.filter, &ask.range, &lane, is_head, &mut explain)?;
                    if rows.is_empty() {
                        return Ok(());
                    }
                    for (row, key) in keys(page, rows.iter())? {
                        let rank = rank(ask.order, key);
                        if ask.after.is_some_and(|after| rank <= self::rank(ask.order, after)) {
                            continue;
                        }
                        if best.len() < wanted {
                            best.push((rank, index, row));
                        } else if best.peek().is_some_and(|worst| rank < worst.0) {
                            best.pop();
                            best.push((rank, index, row));
                        }
                    }
                    Ok(())
                });
                if let Err(e) = scanned {
                    explain.left_out.push(e.to_string());
                }
                pages.push((lane, at));
            }
        }
    }
    collect(best, &pages, ask.limit, source, explain)
}

fn keys(page: &dyn PageRead, rows: impl Iterator<Item = usize>) -> Result<Vec<(usize, Cursor)>> {
    let missing = || CoreError::damaged("a page", "it lacks times or ids");
    let column = |own| page.own(own)?.ok_or_else(missing);
    let (time, origin) = (column(Own::Time)?, column(Own::IdOrigin)?);
    let (seq, place) = (column(Own::IdSeq)?, column(Own::IdPlace)?);
    let int = |c: &crate::columns::Column, row| match &c.values {
        Values::Ints(v) if c.present.is_none() => v.get(row).copied().ok_or_else(missing),
        _ => c.int(row).ok_or_else(missing),
    };
    rows.map(|row| {
        let origin = int(&origin, row)?;
        let id = EventId {
            node: (origin >> 32) as u16,
            epoch: origin as u32,
            seq: int(&seq, row)? as u64,
            place: int(&place, row)? as u32,
        };
        Ok((row, Cursor { time_ns: int(&time, row)?, id }))
    })
    .collect()
}

fn collect(
    best: BinaryHeap<(Rank, usize, usize)>,
    pages: &[(Arc<str>, PageAt)],
    limit: usize,
    source: &dyn ChunkSource,
    mut explain: Explanation,
) -> Found {
    let mut winners = best.into_sorted_vec();
    let more = winners.len() > limit;
    winners.truncate(limit);
    let mut by_page: BTreeMap<usize, Vec<(usize, usize)>> = BTreeMap::new();
    for (nth, (_, page, row)) in winners.iter().enumerate() {
        by_page.entry(*page).or_default().push((*row, nth));
    }
    let mut slots: Vec<Option<(Event, Arc<str>)>> = winners.iter().map(|_| None).collect();
    for (page, mut rows) in by_page {
        rows.sort_unstable();
        let (lane, at) = &pages[page];
        let wanted: Vec<usize> = rows.iter().map(|(row, _)| *row).collect();
        match at.with(source, |p| gather(p, &wanted)) {
            Ok(events) => {
                for (event, (_, nth)) in events.into_iter().zip(rows) {
                    slots[nth] = Some((event, lane.clone()));
                }
            }
            Err(e) => explain.left_out.push(e.to_string()),
        }
    }
    Found { events: slots.into_iter().flatten().collect(), more, explain }
}
