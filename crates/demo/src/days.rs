//! The eight days before the night: a daily rhythm, a calm weekend, releases as marks, and on the fourth day before a
//! certificate that ends at `billing` for three quarters of an hour.

use crate::requests::{certificate_ended, release, request};
use crate::speech::Sent;
use crate::{AFTER_MIN, BEFORE_MIN, CHANGED_MIN, MINUTE_NS, Phase};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

/// Days before the night.
pub const DAYS: i64 = 8;
const DAY_MIN: i64 = 1440;
/// Spans and events of an average request, measured by `tests::days_are_about_as_many_as_asked`.
const PER_REQUEST: f64 = 11.4;
/// The day before the night on which the certificate ends, and when, minutes of the day.
const INCIDENT_DAY: i64 = 4;
const INCIDENT_MIN: std::ops::Range<i64> = 680..725;
/// What is released when: days before the night, minute of the day.
const RELEASES: [(i64, i64, &str); 5] = [
    (7, 610, "release 40.7 of slots"),
    (6, 845, "release 12.3 of edge"),
    (3, 615, "release 41.0 of slots"),
    (2, 870, "release 7.9 of notify"),
    (1, 640, "release 12.4 of edge"),
];

/// How busy a moment usually is: about 1 on average over a working day, little at night, less at the weekend; not so much
/// less that a Sunday's services stray from the days before.
pub fn rhythm(at_ns: i64) -> f64 {
    let at = Timestamp::from_nanosecond(i128::from(at_ns)).unwrap_or(Timestamp::UNIX_EPOCH).to_zoned(TimeZone::UTC);
    let hour = f64::from(at.hour()) + f64::from(at.minute()) / 60.0;
    let bump = |middle: f64, width: f64| (-((hour - middle) / width).powi(2)).exp();
    let weekend = matches!(at.weekday(), jiff::civil::Weekday::Saturday | jiff::civil::Weekday::Sunday);
    (0.3 + 1.1 * bump(11.0, 3.5) + 1.5 * bump(17.5, 2.8)) * if weekend { 0.7 } else { 1.0 }
}

/// The events of the days in the order of the minutes they happen in.
pub struct Days {
    rng: ChaCha8Rng,
    start_ns: i64,
    change_ns: i64,
    until_ns: i64,
    minute: i64,
    per_minute: f64,
    owed: f64,
    serial: u64,
    ready: Vec<Sent>,
}

impl Days {
    /// The days before a night whose change is made at `change_ns`, of about `events` spans and events, and what follows
    /// the night until `until_ns` at the same rates. The night itself is left out.
    pub fn new(seed: u64, change_ns: i64, events: u64, until_ns: i64) -> Self {
        let start_ns = change_ns - DAYS * DAY_MIN * MINUTE_NS;
        let sum: f64 = (0..DAYS * 24).map(|hour| rhythm(start_ns + hour * 60 * MINUTE_NS)).sum();
        Days {
            rng: ChaCha8Rng::seed_from_u64(seed ^ 0xda75),
            start_ns,
            change_ns,
            until_ns,
            minute: 0,
            per_minute: events as f64 / PER_REQUEST / (sum * 60.0),
            owed: 0.0,
            serial: 3_000_000,
            ready: Vec::new(),
        }
    }

    /// Requests a minute that are usual at a moment.
    pub fn requests_per_minute(&self, at_ns: i64) -> f64 {
        self.per_minute * rhythm(at_ns)
    }

    fn fill_minute(&mut self) {
        let from_ns = self.start_ns + self.minute * MINUTE_NS;
        let midnight_min = from_ns.div_euclid(MINUTE_NS).rem_euclid(DAY_MIN);
        // Days before the night, by the calendar: the night's own day is 0.
        let night_day = (self.start_ns + DAYS * DAY_MIN * MINUTE_NS).div_euclid(DAY_MIN * MINUTE_NS);
        let before = night_day - from_ns.div_euclid(DAY_MIN * MINUTE_NS);
        for (day, minute, what) in RELEASES {
            if (before, midnight_min) == (day, minute) {
                self.ready.push(release(from_ns, what));
            }
        }
        let broken = before == INCIDENT_DAY && INCIDENT_MIN.contains(&midnight_min);
        self.owed += self.requests_per_minute(from_ns);
        while self.owed >= 1.0 {
            self.owed -= 1.0;
            self.serial += 1;
            let at_ns = from_ns + self.rng.random_range(0..MINUTE_NS);
            self.ready.extend(request(&mut self.rng, self.serial, at_ns, Phase::Healthy));
            if broken {
                self.ready.extend(certificate_ended(&mut self.rng, self.serial, at_ns));
            }
        }
        self.minute += 1;
        self.ready.sort_by(|a, b| b.cmp(a));
    }
}

impl Iterator for Days {
    type Item = Sent;

    fn next(&mut self) -> Option<Sent> {
        while self.ready.is_empty() {
            let at_ns = self.start_ns + self.minute * MINUTE_NS;
            if at_ns + MINUTE_NS > self.until_ns {
                return None;
            }
            let night = self.change_ns - BEFORE_MIN * MINUTE_NS..self.change_ns + (CHANGED_MIN + AFTER_MIN) * MINUTE_NS;
            if night.contains(&at_ns) {
                self.minute += 1;
            } else {
                self.fill_minute();
            }
        }
        self.ready.pop()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const CHANGE: i64 = 1_791_079_800 * crate::SECOND_NS;

    #[test]
    fn days_are_about_as_many_as_asked() {
        for asked in [20_000u64, 100_000] {
            let got = Days::new(1, CHANGE, asked, CHANGE).count() as f64;
            assert!((0.85..1.2).contains(&(got / asked as f64)), "{got} of {asked}");
        }
    }

    #[test]
    fn the_days_have_their_rhythm_and_their_incident() {
        let days: Vec<Sent> = Days::new(3, CHANGE, 60_000, CHANGE).collect();
        assert!(days == Days::new(3, CHANGE, 60_000, CHANGE).collect::<Vec<_>>(), "the same seed gives the same days");
        let hour = |sent: &&Sent| sent.at_ns.div_euclid(60 * MINUTE_NS).rem_euclid(24);
        let of = |wanted: i64| days.iter().filter(|sent| hour(sent) == wanted).count();
        assert!(of(17) > 3 * of(3), "{} in the afternoon, {} at night", of(17), of(3));
        assert!(days.iter().all(|sent| sent.at_ns < CHANGE - 30 * MINUTE_NS));
        let ended: Vec<&Sent> = days.iter().filter(|sent| sent.json.contains("certificate")).collect();
        assert!(ended.len() > 20, "{}", ended.len());
        let span = ended.iter().map(|s| s.at_ns).max().unwrap() - ended.iter().map(|s| s.at_ns).min().unwrap();
        assert!(span < 46 * MINUTE_NS);
        assert_eq!(days.iter().filter(|sent| sent.json.contains("\"mark\"")).count(), RELEASES.len());
        assert!(ended.iter().any(|s| s.json.contains(".java:")) && ended.iter().any(|s| s.json.contains("Traceback")));
    }
}
