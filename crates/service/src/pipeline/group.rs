//! A group of submissions as pages: what one commit writes.

use super::HeadKey;
use calvex_core::columns::{PAGE_ROWS, PAGE_WEIGHT_BYTES, Page, build_page};
use calvex_core::event::time::{SECOND_NS, day_of};
use calvex_core::event::{Event, EventId};
use calvex_core::journal::encode_batch;
use std::collections::HashMap;

/// An event this much older than its arrival came late and goes to a head of its own.
const LATE_NS: i64 = 600 * SECOND_NS;

/// A page and its journal bytes; ids get their origin at commit.
pub struct Built {
    pub key: HeadKey,
    pub page: Page,
    pub batch: Vec<u8>,
}

/// Builds the pages of a group: one head's events each, in (time, place) order.
pub fn build(events: Vec<(u32, Event)>) -> calvex_core::error::Result<Vec<Built>> {
    let mut by_head: HashMap<HeadKey, Vec<Event>> = HashMap::new();
    for (lane, event) in events {
        let late = event.arrived_ns.saturating_sub(event.time_ns) > LATE_NS;
        by_head.entry(HeadKey { lane, day: day_of(event.time_ns), late }).or_default().push(event);
    }
    let mut built = Vec::new();
    for (key, mut events) in by_head {
        events.sort_by_key(|e| e.time_ns);
        while !events.is_empty() {
            let mut weight = 0;
            let within = |e: &&Event| {
                weight += e.weight_bytes();
                weight <= PAGE_WEIGHT_BYTES
            };
            let take = events.iter().take(PAGE_ROWS).take_while(within).count().max(1);
            let rest = events.split_off(take);
            for (place, event) in events.iter_mut().enumerate() {
                event.id = EventId { place: place as u32, ..EventId::default() };
            }
            let page = build_page(&events)?;
            let batch = encode_batch(&page);
            built.push(Built { key, page, batch });
            events = rest;
        }
    }
    Ok(built)
}

#[cfg(test)]
mod tests {
    use super::*;
    use calvex_core::columns::PageRead;

    #[test]
    fn heads_are_parted_by_lane_day_and_lateness() {
        let day = 86_400 * SECOND_NS;
        let event = |time_ns, arrived_ns| Event { time_ns, arrived_ns, ..Event::default() };
        let events = vec![
            (1, event(10 * day, 10 * day)),
            (1, event(10 * day + 5, 10 * day)),
            (2, event(10 * day, 10 * day)),
            (1, event(9 * day, 10 * day)),
        ];
        let mut heads: Vec<_> =
            build(events).unwrap().iter().map(|b| (b.key.lane, b.key.day, b.key.late, b.page.rows())).collect();
        heads.sort_unstable();
        assert_eq!(heads, [(1, 9, true, 1), (1, 10, false, 2), (2, 10, false, 1)]);
    }

    #[test]
    fn heavy_events_get_pages_of_their_own() {
        let heavy = Event { message: "x".repeat(PAGE_WEIGHT_BYTES), ..Event::default() };
        assert_eq!(build(vec![(1, heavy.clone()), (1, heavy)]).unwrap().len(), 2);
    }
}
