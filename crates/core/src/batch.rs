//! Steps 4 to 6 for one request: decoded events to pages, one for each head they belong to. Works on columns from the
//! first byte to the last: routes are asked of a page, not of an event.

use crate::columns::{Own, Values};
use crate::columns::{PAGE_ROWS, PAGE_WEIGHT_BYTES, Page, PageBuilder, PageRead, Placed, arrange};
use crate::error::Result;
use crate::event::PathTable;
use crate::event::time::{SECOND_NS, day_of};
use crate::normalise::{Arrival, Flattener, Limits, Meanings, RawEvent, Refusal, check_age, normalise};
use crate::route::RouteTable;
use std::collections::BTreeMap;

/// An event this much older than its arrival came late and goes to a head of its own.
pub const LATE_NS: i64 = 600 * SECOND_NS;

/// A head: the events of one lane and day, late ones apart.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct HeadKey {
    /// The lane.
    pub lane: u32,
    /// The day of the events, from 1970.
    pub day: i32,
    /// Whether they came late.
    pub late: bool,
}

/// An event that was not taken.
#[derive(Debug, Clone, PartialEq)]
pub struct Refused {
    /// Its line or record in the request, from 1.
    pub line: usize,
    /// Why.
    pub refusal: Refusal,
}

/// What became of a request.
#[derive(Debug, Default)]
pub struct Batch {
    /// Pages in (time, place) order, by head.
    pub pages: Vec<(HeadKey, Page)>,
    /// Events taken.
    pub stored: usize,
    /// Events not taken.
    pub refused: Vec<Refused>,
    /// Whether every event taken carried its own time.
    pub timed: bool,
}

/// What a decoder needs to hand over fields: the paths of the batch, and how to read them.
#[derive(Default)]
pub struct Reading {
    /// The paths of the batch.
    pub paths: PathTable,
    /// Turns objects into fields.
    pub flattener: Flattener,
}

/// Takes the events of a request one by one.
pub struct BatchBuilder<'a> {
    arrival: Arrival<'a>,
    meanings: Meanings,
    builder: PageBuilder,
    lines: Vec<usize>,
    full: Vec<(Page, Vec<usize>)>,
    batch: Batch,
}

impl<'a> BatchBuilder<'a> {
    /// For events that came as `arrival` tells.
    pub fn new(arrival: Arrival<'a>) -> Self {
        BatchBuilder {
            arrival,
            meanings: Meanings::default(),
            builder: PageBuilder::default(),
            lines: Vec::new(),
            full: Vec::new(),
            batch: Batch { timed: true, ..Batch::default() },
        }
    }

    /// What one event may measure.
    pub fn limits(&self) -> Limits {
        self.arrival.limits
    }

    /// Takes the event of a line, or why there is none.
    ///
    /// # Errors
    /// Only for a defect: a page that cannot be built.
    pub fn push<'e>(
        &mut self,
        line: usize,
        event: std::result::Result<RawEvent<'e>, Refusal>,
        reading: &mut Reading,
    ) -> Result<()>
    where
        'a: 'e,
    {
        let normalised = event.and_then(|raw| normalise(raw, &mut reading.paths, &mut self.meanings, &self.arrival));
        match normalised {
            Ok(normalised) => {
                self.batch.timed &= normalised.timed;
                self.builder.push(&normalised.draft, &reading.paths);
                self.lines.push(line);
                if self.builder.rows() >= PAGE_ROWS || self.builder.weight_bytes() >= PAGE_WEIGHT_BYTES {
                    self.close_page(reading)?;
                }
            }
            Err(refusal) => self.batch.refused.push(Refused { line, refusal }),
        }
        Ok(())
    }

    fn close_page(&mut self, reading: &Reading) -> Result<()> {
        if self.builder.rows() > 0 {
            let page = std::mem::take(&mut self.builder).finish(&reading.paths)?;
            self.full.push((page, std::mem::take(&mut self.lines)));
        }
        Ok(())
    }

    /// Routes what was taken; `term` gives a lane's name and how many days it keeps.
    ///
    /// # Errors
    /// Only for a defect: a page that cannot be read back.
    pub fn finish<'t>(
        mut self,
        reading: &Reading,
        routes: &RouteTable<u32>,
        term: impl Fn(u32) -> (&'t str, u32),
    ) -> Result<Batch> {
        self.close_page(reading)?;
        for (page, lines) in std::mem::take(&mut self.full) {
            part(&page, &lines, self.arrival.arrived_ns, routes, &term, &mut self.batch)?;
        }
        self.batch.refused.sort_by_key(|r| r.line);
        Ok(self.batch)
    }
}

/// Parts a page by head; refuses what lies before its lane's term.
fn part<'t>(
    page: &Page,
    lines: &[usize],
    arrived_ns: i64,
    routes: &RouteTable<u32>,
    term: &impl Fn(u32) -> (&'t str, u32),
    batch: &mut Batch,
) -> Result<()> {
    let lanes = routes.lanes_of(page)?;
    let time = page.own(Own::Time)?;
    let Some(Values::Ints(times)) = time.as_deref().map(|c| &c.values) else { return Ok(()) };
    let mut by_head: BTreeMap<HeadKey, Vec<(i64, u32)>> = BTreeMap::new();
    let mut last: Option<(HeadKey, i64)> = None;
    for (row, (time_ns, lane)) in times.iter().zip(lanes).enumerate() {
        let (name, days) = term(lane);
        if let Err(refusal) = check_age(*time_ns, arrived_ns, name, days) {
            batch.refused.push(Refused { line: lines.get(row).copied().unwrap_or(0), refusal });
            continue;
        }
        let late = arrived_ns.saturating_sub(*time_ns) > LATE_NS;
        // Neighbours are mostly of one head; looking it up for each would cost more than all else here.
        let key = match last {
            Some((key, _)) if key.lane == lane && key.late == late && key.day == day_of(*time_ns) => key,
            _ => HeadKey { lane, day: day_of(*time_ns), late },
        };
        last = Some((key, *time_ns));
        by_head.entry(key).or_default().push((*time_ns, row as u32));
    }
    for (key, mut rows) in by_head {
        batch.stored += rows.len();
        let whole = rows.len() == page.rows() && rows.is_sorted();
        if whole {
            batch.pages.push((key, page.clone()));
            continue;
        }
        rows.sort_unstable();
        let order: Vec<Placed> = rows.into_iter().map(|(_, row)| Placed { source: 0, row }).collect();
        batch.pages.push((key, arrange(&[page], &order)?.with_places()));
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::columns::gather_all;
    use crate::normalise::Known;
    use crate::query::parse_filter;
    use crate::route::Route;

    const DAY_NS: i64 = 86_400 * SECOND_NS;

    fn take(lines: &[String], arrived_ns: i64, event_bytes: usize) -> Batch {
        let limits = Limits { event_bytes, ..Limits::default() };
        let mut reading = Reading::default();
        let mut builder = BatchBuilder::new(Arrival { arrived_ns, sender: "x", fixed: &[], limits });
        for (n, line) in lines.iter().enumerate() {
            let fields = reading.flattener.json(line, &mut reading.paths, &limits);
            let raw = fields.map(|fields| RawEvent { fields, known: Known::default() });
            builder.push(n + 1, raw, &mut reading).unwrap();
        }
        let route = Route { filter: parse_filter("service=access").unwrap(), lane: 2 };
        builder.finish(&reading, &RouteTable::new(vec![route], 1), |_| ("main", 30)).unwrap()
    }

    #[test]
    fn heads_are_parted_by_lane_day_and_lateness() {
        let at = |time_ns: i64, service: &str| {
            format!(r#"{{"time":"{}","service":"{service}"}}"#, crate::event::time::format_utc(time_ns, 9))
        };
        let lines = [
            at(100 * DAY_NS + 9, "slots"),
            at(100 * DAY_NS + 5, "slots"),
            at(100 * DAY_NS, "access"),
            at(99 * DAY_NS, "slots"),
            at(10 * DAY_NS, "slots"),
            "[]".to_owned(),
        ];
        let batch = take(&lines, 100 * DAY_NS, 1 << 20);
        let heads: Vec<_> = batch.pages.iter().map(|(k, p)| (k.lane, k.day, k.late, p.rows())).collect();
        assert_eq!(heads, [(1, 99, true, 1), (1, 100, false, 2), (2, 100, false, 1)]);
        let refused: Vec<_> = batch.refused.iter().map(|r| (r.line, r.refusal.reason())).collect();
        assert_eq!(refused, [(5, "too-old"), (6, "not-an-object")]);
        assert_eq!((batch.stored, batch.timed), (4, true));
        let page = batch.pages[1].1.clone().with_origin(1, 1, 1);
        let told: Vec<_> = gather_all(&page).unwrap().iter().map(|e| (e.time_ns % DAY_NS, e.id.place)).collect();
        assert_eq!(told, [(5, 0), (9, 1)], "in order of time, places by row");
    }

    #[test]
    fn heavy_events_get_pages_of_their_own() {
        let heavy = format!(r#"{{"message":"{}"}}"#, "x".repeat(PAGE_WEIGHT_BYTES));
        assert_eq!(take(&[heavy.clone(), heavy], 0, 1 << 30).pages.len(), 2);
    }
}
