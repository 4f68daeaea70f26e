//! A deviation on ninety days of a made-up rhythm: busy by day, quiet by night, calm at weekends, scattered by chance, with
//! planted anomalies. Of these nine of ten are to be found, with one false alarm a month at most.

use crate::testing::{Shelf, numbered, scope};
use crate::watch::*;
use calvex_language::model::Event;
use calvex_language::query::Ties;

const MINUTE: i64 = 60_000_000_000;
const DAYS: i64 = 90;
/// The days before are learned from: eight weeks.
const JUDGED_FROM: i64 = 56;

/// Numbers from 0 to 1 by chance, the same each time (Marsaglia: "Xorshift RNGs", 2003).
struct Chance(u64);

impl Chance {
    fn next(&mut self) -> f64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0 >> 11) as f64 / (1u64 << 53) as f64
    }

    /// How many come where so many are expected (Knuth: "Seminumerical Algorithms", 3.4.1).
    fn count(&mut self, expected: f64) -> i64 {
        let (limit, mut product, mut n) = ((-expected).exp(), self.next(), 0);
        while product > limit {
            product *= self.next();
            n += 1;
        }
        n
    }
}

/// Events expected in a minute.
fn rhythm(day: i64, minute: i64) -> f64 {
    let hour = minute as f64 / 60.0;
    let busy = (1.0 + ((hour - 14.0) / 24.0 * std::f64::consts::TAU).cos()) / 2.0;
    // 1970 began on a Thursday.
    let calm = if matches!(day % 7, 2 | 3) { 0.5 } else { 1.0 };
    (1.5 + 10.0 * busy) * calm
}

/// The planted anomalies: the day, the minute at which it begins, and how many times the usual come for half an hour.
fn planted() -> Vec<(i64, i64, f64)> {
    (0..20i64)
        .map(|n| (JUDGED_FROM + 1 + n * 33 / 20, (n * 377 + 95) % 1380, if n % 2 == 0 { 2.2 } else { 2.8 }))
        .collect()
}

fn events_of(day: i64, chance: &mut Chance, anomalies: &[(i64, i64, f64)]) -> Vec<Event> {
    let mut events = Vec::new();
    for minute in 0..1440 {
        let odd = anomalies.iter().find(|(d, from, _)| *d == day && (*from..from + 30).contains(&minute));
        let count = chance.count(rhythm(day, minute) * odd.map_or(1.0, |(.., times)| *times));
        let at = day * 1440 * MINUTE + minute * MINUTE;
        let event = |n: i64| Event { time_ns: at + n * MINUTE / (count + 1), ..Event::default() };
        events.extend((0..count).map(event));
    }
    events
}

#[test]
fn nine_of_ten_anomalies_are_found_with_one_false_alarm_a_month_at_most() {
    let text = "name='rate'\nfor='5m'\n[deviation]\nover='15m'\nabove=5\nleast=20\nlike='week'";
    let rule = RuleDocument::read(text, &Ties::default()).unwrap();
    let anomalies = planted();
    let mut chance = Chance(0x5eed_1234_5678_9abc);
    let mut usual = Usual::default();
    let (mut before, mut raised): (Vec<Event>, Vec<i64>) = (Vec::new(), Vec::new());
    for day in 0..DAYS {
        let events = events_of(day, &mut chance, &anomalies);
        // The day before is there as well, for windows that begin in it.
        let mut shelf = Shelf::default();
        let view = shelf.seal(&numbered([before, events.clone()].concat()), 2048);
        let scope = scope(&view, &shelf);
        if day >= JUDGED_FROM {
            let known = Known { usual: std::sync::Arc::new(usual.clone()), ..Known::default() };
            let moments = Moments::between(day * 1440 * MINUTE, (day + 1) * 1440 * MINUTE, rule.step_ns);
            let read = strips(&scope, &rule, moments, &known, &mut Rings::default());
            assert!(!read.learning, "day {day}");
            raised.extend(replay(&read, &moments, &rule.bound, rule.hold_ns).iter().map(|alert| alert.raised_ns));
        }
        usual.add(day, rule.step_ns, usual_day(&scope, &rule, day).unwrap());
        before = events;
    }
    let span = |(day, minute, _): &(i64, i64, f64)| {
        let from = (day * 1440 + minute) * MINUTE;
        from..from + 50 * MINUTE
    };
    let found = anomalies.iter().filter(|one| raised.iter().any(|at| span(one).contains(at))).count();
    let wrong = raised.iter().filter(|at| !anomalies.iter().any(|one| span(one).contains(at))).count();
    assert!(found * 10 >= anomalies.len() * 9, "{found} of {} found", anomalies.len());
    println!("{found} of {} anomalies found, {wrong} false alarms in {} days", anomalies.len(), DAYS - JUDGED_FROM);
    // Thirty-four days are judged.
    assert!(wrong <= 1, "{wrong} false alarms: {raised:?}");
}
