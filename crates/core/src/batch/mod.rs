//! Steps 4 to 6 for one request: decoded events to pages, one for each head they belong to. Works on columns from the
//! first byte to the last: routes are asked of a page, not of an event.

mod part;

pub use part::{Admitted, Aside, Cause, Policy};

use crate::columns::{PAGE_ROWS, PAGE_WEIGHT_BYTES, Page, PageBuilder};
use crate::error::Result;
use crate::event::PathTable;
use crate::event::time::{SECOND_NS, day_of};
use crate::normalise::{Arrival, Flattener, Limits, Meanings, RawEvent, Refusal, normalise};
use part::{Sheet, part, shaped};

/// An event this much older than its arrival came late and goes to a head of its own.
pub const LATE_NS: i64 = 600 * SECOND_NS;

/// Bytes of a refused line that are kept to be shown.
const SAMPLE_BYTES: usize = 200;

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
    /// How what was sent begins, where it is at hand.
    pub sample: Option<String>,
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
    /// Events not stored on purpose.
    pub aside: Vec<Aside>,
    /// By shaping rule, for how many events it held.
    pub held: Vec<u64>,
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

/// A page being filled.
struct OpenPage {
    day: i32,
    late: bool,
    builder: PageBuilder,
    /// The line of each row.
    lines: Vec<usize>,
}

/// Takes the events of a request one by one.
pub struct BatchBuilder<'a> {
    arrival: Arrival<'a>,
    meanings: Meanings,
    /// A page for each day, late events apart: what would have to be parted later is never put together.
    open: Vec<OpenPage>,
    full: Vec<OpenPage>,
    batch: Batch,
}

impl<'a> BatchBuilder<'a> {
    /// For events that came as `arrival` tells.
    pub fn new(arrival: Arrival<'a>) -> Self {
        BatchBuilder {
            arrival,
            meanings: Meanings::default(),
            open: Vec::new(),
            full: Vec::new(),
            batch: Batch { timed: true, ..Batch::default() },
        }
    }

    /// What one event may measure.
    pub fn limits(&self) -> Limits {
        self.arrival.limits
    }

    /// When the batch arrived, nanoseconds from 1970.
    pub fn arrived_ns(&self) -> i64 {
        self.arrival.arrived_ns
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
                let draft = &normalised.draft;
                let day = day_of(draft.time_ns);
                let late = self.arrival.arrived_ns.saturating_sub(draft.time_ns) > LATE_NS;
                let at = self.open.iter().position(|p| p.day == day && p.late == late).unwrap_or_else(|| {
                    self.open.push(OpenPage { day, late, builder: PageBuilder::default(), lines: Vec::new() });
                    self.open.len() - 1
                });
                let page = &mut self.open[at];
                page.builder.push(draft, &reading.paths);
                page.lines.push(line);
                if page.builder.rows() >= PAGE_ROWS || page.builder.weight_bytes() >= PAGE_WEIGHT_BYTES {
                    self.full.push(self.open.swap_remove(at));
                }
            }
            Err(refusal) => self.batch.refused.push(Refused { line, refusal, sample: None }),
        }
        Ok(())
    }

    /// Refuses a line, of which `text` can be shown in short.
    pub fn refuse(&mut self, line: usize, refusal: Refusal, text: &[u8]) {
        let begins = text.get(..text.len().min(SAMPLE_BYTES)).unwrap_or_default();
        let sample = Some(String::from_utf8_lossy(begins).into_owned());
        self.batch.refused.push(Refused { line, refusal, sample });
    }

    /// Shapes and routes what was taken, as `policy` says.
    ///
    /// # Errors
    /// Only for a defect: a page that cannot be read back.
    pub fn finish(mut self, reading: &Reading, policy: &Policy) -> Result<Batch> {
        self.full.append(&mut self.open);
        self.batch.held = vec![0; policy.shaping.len()];
        for OpenPage { day, late, builder, lines } in std::mem::take(&mut self.full) {
            let page = builder.finish(&reading.paths)?;
            let sheet = Sheet { page, day, late, lines, lanes: Vec::new() };
            for sheet in shaped(sheet, policy, self.arrival.arrived_ns, &mut self.batch)? {
                part(sheet, policy, self.arrival.arrived_ns, &mut self.batch)?;
            }
        }
        self.batch.refused.sort_by_key(|r| r.line);
        Ok(self.batch)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::columns::{PageRead, gather_all};
    use crate::normalise::Known;
    use crate::query::parse_filter;
    use crate::route::{Route, RouteTable};
    use crate::shape::Shaping;

    const DAY_NS: i64 = 86_400 * SECOND_NS;

    fn take(lines: &[String], arrived_ns: i64, event_bytes: usize) -> Batch {
        let limits = Limits { event_bytes, ..Limits::default() };
        let mut reading = Reading::default();
        let ties = crate::tie::Ties::default();
        let arrival = Arrival { arrived_ns, sender: "x", fixed: &[], limits, ties: &ties };
        let mut builder = BatchBuilder::new(arrival);
        for (n, line) in lines.iter().enumerate() {
            let fields = reading.flattener.json(line, &mut reading.paths, &limits);
            let raw = fields.map(|fields| RawEvent { fields, known: Known::default() });
            builder.push(n + 1, raw, &mut reading).unwrap();
        }
        let route = Route { filter: parse_filter("service=access").unwrap(), lane: 2 };
        let routes = RouteTable::new(vec![route], 1);
        let shaping = Shaping::default();
        builder.finish(&reading, &Policy::of_routes(&routes, &shaping, &|_| ("main", 30))).unwrap()
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
        let mut batch = batch;
        batch.pages.sort_by_key(|(key, _)| *key);
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
