//! Steps 4 to 6 for one request: decoded events to pages, one for each head they belong to. Works on columns from the
//! first byte to the last: routes are asked of a page, not of an event.

mod partition;
mod refused;

pub use partition::{Admitted, Aside, Cause, Policy};
pub use refused::{MAX_KEPT, Refused, RefusedEvents};

use crate::normalise::{Arrival, Flattener, Limits, PathRoles, RawEvent, normalise};
use calvex_language::error::Result;
use calvex_language::model::PathTable;
use calvex_language::model::Refusal;
use calvex_language::model::time::{DAY_NS, SECOND_NS, day_of};
use calvex_storage::columns::{PAGE_ROWS, PAGE_WEIGHT_BYTES, Page, PageBuilder};
use partition::{Sheet, partition, transformed};
use std::collections::HashMap;

/// An event this much older than its arrival came late and goes to a head of its own.
pub const LATE_NS: i64 = 600 * SECOND_NS;

/// Bytes of a refused line that are kept to be shown.
const SAMPLE_BYTES: usize = 200;
/// Days that the events of one request may lie on, late ones counted apart. Each has a page and a journal row of its
/// own, so a request must not decide how many there are.
pub const MAX_DAYS: usize = 64;

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

/// What became of a request.
#[derive(Debug, Default)]
pub struct Batch {
    /// Pages in (time, place) order, by head.
    pub pages: Vec<(HeadKey, Page)>,
    /// Events taken.
    pub stored: usize,
    /// Events not taken.
    pub refused: RefusedEvents,
    /// Events not stored on purpose.
    pub aside: Vec<Aside>,
    /// By transform rule, for how many events it held.
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

/// Lines between two pauses: half a millisecond of work or less.
const PAUSE_EVERY: usize = 128;

/// A page being filled.
#[derive(Default)]
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
    meanings: PathRoles,
    /// A page for each day, late events apart: what would have to be parted later is never put together.
    open: HashMap<(i32, bool), OpenPage>,
    full: Vec<OpenPage>,
    /// Rough bytes of all pages.
    weight: usize,
    /// What is called between lines, and how many there were.
    pause: Option<&'a dyn Fn()>,
    lines: usize,
    batch: Batch,
}

impl<'a> BatchBuilder<'a> {
    /// For events that came as `arrival` describes.
    pub fn new(arrival: Arrival<'a>) -> Self {
        BatchBuilder {
            arrival,
            meanings: PathRoles::default(),
            open: HashMap::new(),
            full: Vec::new(),
            weight: 0,
            pause: None,
            lines: 0,
            batch: Batch { timed: true, ..Batch::default() },
        }
    }

    /// Calls `pause` every [`PAUSE_EVERY`] lines, so that whoever works on a long body lets others in.
    pub fn with_pauses(mut self, pause: &'a dyn Fn()) -> Self {
        self.pause = Some(pause);
        self
    }

    /// One more line is looked at; every so many there is a pause.
    fn note_line(&mut self) {
        self.lines += 1;
        if self.lines.is_multiple_of(PAUSE_EVERY)
            && let Some(pause) = self.pause
        {
            pause();
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

    /// Asks whether a request may have so many events, before any is decoded.
    ///
    /// # Errors
    /// [`Refusal::TooManyEvents`]; the request is refused as a whole then.
    pub fn expect(&self, events: usize) -> Result<()> {
        let most = self.arrival.limits.events;
        if events > most {
            return Err(Refusal::TooManyEvents(events, most).into());
        }
        Ok(())
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
        self.note_line();
        let normalised = event.and_then(|raw| normalise(raw, &mut reading.paths, &mut self.meanings, &self.arrival));
        let taken = normalised.and_then(|normalised| {
            let (time_ns, limits) = (normalised.draft.time_ns, &self.arrival.limits);
            let age_ns = self.arrival.arrived_ns.saturating_sub(time_ns);
            let age_days = age_ns.div_euclid(DAY_NS);
            if age_days >= i64::from(limits.keep_days) {
                return Err(Refusal::OlderThanAll(age_days, limits.keep_days));
            }
            if self.weight > limits.batch_bytes {
                return Err(Refusal::BatchTooLarge(limits.batch_bytes));
            }
            let head = (day_of(time_ns), age_ns > LATE_NS);
            if self.open.len() >= MAX_DAYS && !self.open.contains_key(&head) {
                return Err(Refusal::TooManyDays(MAX_DAYS));
            }
            Ok((head, normalised))
        });
        match taken {
            Ok(((day, late), normalised)) => {
                self.batch.timed &= normalised.timed;
                let new_page = || OpenPage { day, late, ..OpenPage::default() };
                let page = self.open.entry((day, late)).or_insert_with(new_page);
                let before = page.builder.weight_bytes();
                page.builder.push(&normalised.draft, &reading.paths);
                page.lines.push(line);
                self.weight += page.builder.weight_bytes().saturating_sub(before);
                if page.builder.rows() >= PAGE_ROWS || page.builder.weight_bytes() >= PAGE_WEIGHT_BYTES {
                    // The day stays in the map, so that it counts among the days of the request.
                    let full = std::mem::replace(page, new_page());
                    self.full.push(full);
                }
            }
            Err(refusal) => self.batch.refused.push(Refused { line, refusal, sample: None }),
        }
        Ok(())
    }

    /// Refuses a line, of which `text` can be shown in short.
    pub fn refuse(&mut self, line: usize, refusal: Refusal, text: &[u8]) {
        self.note_line();
        if !self.batch.refused.keeps(line) {
            return self.batch.refused.count(refusal.reason(), 1);
        }
        let begins = text.get(..text.len().min(SAMPLE_BYTES)).unwrap_or_default();
        let sample = Some(String::from_utf8_lossy(begins).into_owned());
        self.batch.refused.push(Refused { line, refusal, sample });
    }

    /// Shapes and routes what was taken, as `policy` says.
    ///
    /// # Errors
    /// Only for a defect: a page that cannot be read back.
    pub fn finish(mut self, reading: &Reading, policy: &Policy) -> Result<Batch> {
        let mut open: Vec<OpenPage> = self.open.drain().map(|(_, page)| page).filter(|p| !p.lines.is_empty()).collect();
        // The order of heads must not hang on a map's.
        open.sort_by_key(|p| (p.day, p.late));
        self.full.append(&mut open);
        self.batch.held = vec![0; policy.transforms.len()];
        for OpenPage { day, late, builder, lines } in std::mem::take(&mut self.full) {
            if let Some(pause) = self.pause {
                pause();
            }
            let page = builder.finish(&reading.paths)?;
            let sheet = Sheet { page, day, late, lines, lanes: Vec::new() };
            for sheet in transformed(sheet, policy, self.arrival.arrived_ns, &mut self.batch)? {
                partition(sheet, policy, self.arrival.arrived_ns, &mut self.batch)?;
            }
        }
        self.batch.refused.finish();
        Ok(self.batch)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::normalise::Known;
    use crate::route::{Route, RouteTable};
    use crate::transform::Transforms;
    use calvex_language::query::parse_filter;
    use calvex_storage::columns::{PageRead, materialise_all};

    const DAY_NS: i64 = 86_400 * SECOND_NS;

    fn take(lines: &[String], arrived_ns: i64, event_bytes: usize) -> Batch {
        take_within(lines, arrived_ns, Limits { event_bytes, ..Limits::default() }, 30)
    }

    #[test]
    fn whoever_is_long_at_work_pauses() {
        let pauses = std::cell::Cell::new(0);
        let pause = || pauses.set(pauses.get() + 1);
        let ties = calvex_language::query::Ties::default();
        let arrival = Arrival { arrived_ns: 0, sender: "x", fixed: &[], limits: Limits::default(), ties: &ties };
        let mut builder = BatchBuilder::new(arrival).with_pauses(&pause);
        let mut reading = Reading::default();
        for line in 1..=10 * PAUSE_EVERY {
            // What is refused is work too.
            let fields = reading.flattener.json("{\"msg\":\"x\"}", &mut reading.paths, &Limits::default());
            match line % 2 {
                0 => builder.refuse(line, Refusal::TooManyDays(1), b"x"),
                _ => {
                    let raw = fields.map(|fields| RawEvent { fields, known: Known::default() });
                    builder.push(line, raw, &mut reading).unwrap();
                }
            }
        }
        assert_eq!(pauses.get(), 10);
    }

    fn take_within(lines: &[String], arrived_ns: i64, limits: Limits, days: u32) -> Batch {
        let mut reading = Reading::default();
        let ties = calvex_language::query::Ties::default();
        let arrival = Arrival { arrived_ns, sender: "x", fixed: &[], limits, ties: &ties };
        let mut builder = BatchBuilder::new(arrival);
        for (n, line) in lines.iter().enumerate() {
            let fields = reading.flattener.json(line, &mut reading.paths, &limits);
            let raw = fields.map(|fields| RawEvent { fields, known: Known::default() });
            builder.push(n + 1, raw, &mut reading).unwrap();
        }
        let route = Route { filter: parse_filter("service=access").unwrap(), lane: 2 };
        let routes = RouteTable::new(vec![route], 1);
        let transforms = Transforms::default();
        builder.finish(&reading, &Policy::of_routes(&routes, &transforms, &|_| ("main", days))).unwrap()
    }

    #[test]
    fn heads_are_parted_by_lane_day_and_lateness() {
        let at = |time_ns: i64, service: &str| {
            format!(r#"{{"time":"{}","service":"{service}"}}"#, calvex_language::model::time::format_utc(time_ns, 9))
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
        let reported: Vec<_> =
            materialise_all(&page).unwrap().iter().map(|e| (e.time_ns % DAY_NS, e.id.ordinal)).collect();
        assert_eq!(reported, [(5, 0), (9, 1)], "in order of time, places by row");
    }

    #[test]
    fn a_request_lies_on_so_many_days_and_no_more() {
        let at = |day: i64| format!(r#"{{"time":"{}"}}"#, calvex_language::model::time::format_utc(day * DAY_NS, 9));
        let limits = Limits { keep_days: 5000, ..Limits::default() };
        let lines: Vec<String> = (0..3000).map(|n| at(10_000 - n)).collect();
        let batch = take_within(&lines, 10_000 * DAY_NS, limits, 5000);
        assert_eq!((batch.stored, batch.refused.len()), (MAX_DAYS, 3000 - MAX_DAYS));
        assert_eq!(batch.refused.by_reason().map(|(reason, ..)| reason).collect::<Vec<_>>(), ["too-many-days"]);
        // What no lane keeps is refused before it gets a page.
        let batch = take_within(&lines, 10_000 * DAY_NS, Limits { keep_days: 3, ..limits }, 5000);
        assert_eq!((batch.stored, batch.pages.len()), (3, 3));
        assert_eq!(batch.refused.by_reason().map(|(reason, ..)| reason).collect::<Vec<_>>(), ["too-old"]);
    }

    #[test]
    fn a_batch_takes_so_much_memory_and_no_more() {
        let line = format!(r#"{{"message":"{}"}}"#, "x".repeat(1000));
        let limits = Limits { batch_bytes: 100_000, ..Limits::default() };
        let batch = take_within(&vec![line; 1000], 0, limits, 30);
        assert!((50..=110).contains(&batch.stored), "{} stored", batch.stored);
        assert_eq!(batch.refused.by_reason().map(|(reason, ..)| reason).collect::<Vec<_>>(), ["batch-too-large"]);
    }

    #[test]
    fn heavy_events_get_pages_of_their_own() {
        let heavy = format!(r#"{{"message":"{}"}}"#, "x".repeat(PAGE_WEIGHT_BYTES));
        assert_eq!(take(&[heavy.clone(), heavy], 0, 1 << 30).pages.len(), 2);
    }
}
