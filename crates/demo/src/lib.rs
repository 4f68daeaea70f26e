//! Fennmark Lockers, a made-up network of parcel lockers: the night that demo, docs and tests share.
//!
//! Thirty healthy minutes; then an operator sets the slot lease from 120 s to 12 s. Leases run out before doors
//! confirm, `codes` retries, `parcels` gives up, `edge` answers 409 and 504. Bank BK-017 is offline and reports 25 minutes
//! late. A harmless storm of warnings in `sorter` misleads. After 31 minutes the change is undone; half an hour follows.
//! Seeded: the same seed, moment and size give the same events.

mod days;
mod incident;
mod requests;
mod speech;

pub use days::{DAYS, Days, rhythm};
pub use incident::Incident;
pub use speech::{SERVICES, Sent};

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use std::cmp::Reverse;
use std::collections::BinaryHeap;

/// One second in nanoseconds.
pub const SECOND_NS: i64 = 1_000_000_000;
/// One minute in nanoseconds.
pub const MINUTE_NS: i64 = 60 * SECOND_NS;
/// Healthy minutes before the change.
pub const BEFORE_MIN: i64 = 30;
/// Minutes until the change is undone.
pub const CHANGED_MIN: i64 = 31;
/// Minutes after that.
pub const AFTER_MIN: i64 = 29;
/// The bank that loses its line.
pub const OFFLINE_BANK: u32 = 17;
/// How late its events come.
pub const OFFLINE_NS: i64 = 25 * MINUTE_NS;

/// Events of an average request with its share of the noise, measured by `tests::size_is_about_what_was_asked`.
const EVENTS_PER_REQUEST: f64 = 6.5;

/// What holds at a moment.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Phase {
    /// Leases last 120 s.
    Healthy,
    /// Leases last 12 s.
    Changed,
}

/// The night's events in the order in which they are sent.
pub struct Night {
    rng: ChaCha8Rng,
    change_ns: i64,
    minute: i64,
    per_minute: f64,
    owed: f64,
    serial: u64,
    spans: bool,
    waiting: BinaryHeap<Reverse<Sent>>,
}

impl Night {
    /// A night whose change is made at `change_ns`, of about `events` events.
    pub fn new(seed: u64, change_ns: i64, events: u64) -> Self {
        let minutes = (BEFORE_MIN + CHANGED_MIN + AFTER_MIN) as f64;
        Night {
            rng: ChaCha8Rng::seed_from_u64(seed),
            change_ns,
            minute: -BEFORE_MIN,
            per_minute: events as f64 / EVENTS_PER_REQUEST / minutes,
            owed: 0.0,
            serial: 0,
            spans: false,
            waiting: BinaryHeap::new(),
        }
    }

    /// The same with the spans of its requests, which come beside its events.
    #[must_use]
    pub fn with_spans(self) -> Self {
        Night { spans: true, ..self }
    }

    /// When the change is undone.
    pub fn undone_ns(&self) -> i64 {
        self.change_ns + CHANGED_MIN * MINUTE_NS
    }

    fn phase(&self, at_ns: i64) -> Phase {
        if (self.change_ns..self.undone_ns()).contains(&at_ns) { Phase::Changed } else { Phase::Healthy }
    }

    fn fill_minute(&mut self) {
        let from_ns = self.change_ns + self.minute * MINUTE_NS;
        let undone = self.undone_ns();
        self.owed += self.per_minute;
        while self.owed >= 1.0 {
            self.owed -= 1.0;
            let at_ns = from_ns + self.rng.random_range(0..MINUTE_NS);
            let phase = self.phase(at_ns);
            self.serial += 1;
            let sent = requests::request(&mut self.rng, self.serial, at_ns, phase);
            self.waiting.extend(sent.into_iter().filter(|sent| self.spans || !sent.is_span).map(Reverse));
        }
        if self.minute == 0 {
            self.waiting.push(Reverse(requests::lease_change(self.change_ns, 120, 12)));
        }
        if from_ns == undone {
            self.waiting.push(Reverse(requests::lease_change(undone, 12, 120)));
        }
        // The storm that misleads begins before the change and ends by itself.
        if (-8..14).contains(&self.minute) {
            let belts = (self.per_minute * 1.2).ceil() as u64;
            for _ in 0..belts {
                let at_ns = from_ns + self.rng.random_range(0..MINUTE_NS);
                self.waiting.push(Reverse(requests::dusty_eye(&mut self.rng, at_ns)));
            }
        }
        for event in self.waiting.drain().collect::<Vec<_>>() {
            self.waiting.push(Reverse(self.delay_offline(event.0)));
        }
        self.minute += 1;
    }

    /// What BK-017 sees while its line is down, from five minutes after the change on, is sent later.
    fn delay_offline(&self, mut event: Sent) -> Sent {
        let down = self.change_ns + 5 * MINUTE_NS..self.change_ns + 5 * MINUTE_NS + OFFLINE_NS;
        if event.bank == Some(OFFLINE_BANK) && event.service == "locker-agent" && down.contains(&event.at_ns) {
            event.send_ns = event.at_ns + OFFLINE_NS;
        }
        event
    }
}

impl Iterator for Night {
    type Item = Sent;

    fn next(&mut self) -> Option<Sent> {
        loop {
            let filled_to = self.change_ns + self.minute * MINUTE_NS;
            let over = self.minute >= CHANGED_MIN + AFTER_MIN;
            match self.waiting.peek() {
                Some(Reverse(first)) if over || first.send_ns < filled_to => return self.waiting.pop().map(|r| r.0),
                None if over => return None,
                _ => self.fill_minute(),
            }
        }
    }
}

/// A quiet trickle for a console that moves: one healthy request at `at_ns`, its events reaching into the seconds after.
pub fn trickle(seed: u64, serial: u64, at_ns: i64) -> Vec<Sent> {
    let mut rng = ChaCha8Rng::seed_from_u64(seed ^ serial.wrapping_mul(0x9e37_79b9_7f4a_7c15));
    requests::request(&mut rng, 1_000_000 + serial, at_ns, Phase::Healthy)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeMap;

    const CHANGE: i64 = 1_791_079_800 * SECOND_NS;

    #[test]
    fn the_same_seed_gives_the_same_night() {
        let a: Vec<Sent> = Night::new(7, CHANGE, 3000).collect();
        let b: Vec<Sent> = Night::new(7, CHANGE, 3000).collect();
        let c: Vec<Sent> = Night::new(8, CHANGE, 3000).collect();
        assert!(a == b && a != c);
        assert!(a.windows(2).all(|w| w[0].send_ns <= w[1].send_ns), "in the order of sending");
    }

    #[test]
    fn size_is_about_what_was_asked() {
        for asked in [5_000u64, 50_000] {
            let got = Night::new(1, CHANGE, asked).count() as f64;
            assert!((0.8..1.25).contains(&(got / asked as f64)), "{got} of {asked}");
        }
    }

    #[test]
    fn the_story_of_the_night_is_in_it() {
        let night: Vec<Sent> = Night::new(1, CHANGE, 20_000).collect();
        let mut by_service: BTreeMap<&str, usize> = BTreeMap::new();
        night.iter().for_each(|e| *by_service.entry(e.service).or_default() += 1);
        assert_eq!(by_service.keys().copied().collect::<Vec<_>>(), {
            let mut s = SERVICES.to_vec();
            s.sort_unstable();
            s
        });
        let within = |e: &&Sent| (CHANGE..CHANGE + 33 * MINUTE_NS).contains(&e.at_ns);
        let ran_out: Vec<&Sent> = night.iter().filter(|e| e.json.contains("ran out")).collect();
        assert!(ran_out.len() > 50 && ran_out.iter().all(within));
        assert!(
            night.iter().any(|e| e.json.contains("from 120 s to 12 s"))
                && night.iter().any(|e| e.json.contains("from 12 s to 120 s"))
        );
        let late = night.iter().filter(|e| e.send_ns - e.at_ns > 20 * MINUTE_NS).collect::<Vec<_>>();
        assert!(!late.is_empty() && late.iter().all(|e| e.bank == Some(OFFLINE_BANK)));
        assert!(night.iter().all(|e| serde_json::from_str::<serde_json::Value>(&e.json).is_ok_and(|v| v.is_object())));
    }

    #[test]
    fn every_request_has_spans_that_nest() {
        let night: Vec<Sent> = Night::new(1, CHANGE, 5_000).with_spans().collect();
        let plain: Vec<Sent> = Night::new(1, CHANGE, 5_000).collect();
        let lines: Vec<&Sent> = night.iter().filter(|sent| !sent.is_span).collect();
        assert!(lines.len() == plain.len() && lines.iter().all(|line| plain.contains(line)), "spans change no line");
        let spans: Vec<serde_json::Value> = night
            .iter()
            .filter(|sent| sent.is_span)
            .map(|sent| {
                let listed: serde_json::Value = serde_json::from_str(&sent.json).unwrap();
                listed["scopeSpans"][0]["spans"][0].clone()
            })
            .collect();
        let parents: BTreeMap<&str, Option<&str>> =
            spans.iter().map(|s| (s["spanId"].as_str().unwrap(), s["parentSpanId"].as_str())).collect();
        assert_eq!(parents.len(), spans.len(), "ids are of one span each");
        let depth = |span: &serde_json::Value| {
            std::iter::successors(span["parentSpanId"].as_str(), |parent| parents[parent]).count() + 1
        };
        assert!(spans.iter().all(|s| s["parentSpanId"].as_str().is_none_or(|parent| parents.contains_key(parent))));
        assert_eq!(spans.iter().map(depth).max(), Some(4));
        assert!(spans.iter().any(|s| s["kind"] == 5 && s["links"][0]["spanId"].is_string()), "a hop by a queue");
        let failed = spans.iter().filter(|s| s["status"]["code"] == 2).count();
        assert!(failed > 50 && failed < spans.len() / 2, "{failed} of {}", spans.len());
    }
}
