//! What goes on once the demo is loaded: healthy requests at the rate that is usual for the hour, and an incident where
//! one was asked for.

use super::incident::UnderWay;
use super::{Kept, USUAL_EVENTS, days_and_night, now_ns, post};
use anyhow::Result;
use calvex_client::client::http_client;
use calvex_demo::{Incident, Sent, trickle};
use std::path::Path;
use std::time::Duration;

/// Requests a minute that keep the console moving at the quietest hour, too.
const LEAST_PER_MINUTE: f64 = 2.0;
/// Requests a minute that an incident touches, in a demo of the usual size: enough that its rule, whose threshold is in
/// proportion to the size as well, raises an alert within two minutes.
const TOUCHED_PER_MINUTE: f64 = 150.0;

/// Requests that begin at random moments, so many a minute.
struct Arrivals {
    seed: u64,
    serial: u64,
    next_ns: i64,
}

impl Arrivals {
    fn from(next_ns: i64) -> Self {
        Arrivals { seed: now_ns() as u64, serial: 0, next_ns }
    }

    /// Adds what the requests up to `now_ns` say.
    fn until(&mut self, now_ns: i64, per_minute: impl Fn(i64) -> f64, mut one: impl FnMut(u64, u64, i64)) {
        while self.next_ns <= now_ns {
            self.serial += 1;
            one(self.seed, self.serial, self.next_ns);
            let share = f64::from(rand::random::<u16>()) / f64::from(u16::MAX) + 0.5;
            self.next_ns += (60e9 / per_minute(self.next_ns).max(0.1) * share) as i64;
        }
    }
}

/// Goes on from a moment until it is dropped: the demo of a seed and of so many events. Each event is sent when its time
/// has come.
pub(super) async fn live(url: &str, dir: &Path, kept: &Kept, (seed, events): (u64, u64), from_ns: i64) -> Result<()> {
    let http = http_client(Duration::from_secs(30))?;
    let (days, _) = days_and_night(seed, kept.change_ns, events, now_ns());
    let touched = (TOUCHED_PER_MINUTE * events as f64 / USUAL_EVENTS as f64).clamp(20.0, 1500.0);
    let mut coming: Vec<Sent> = Vec::new();
    let mut usual = Arrivals::from(from_ns);
    let mut failing: Option<(Incident, Arrivals)> = None;
    let mut timer = tokio::time::interval(Duration::from_millis(500));
    loop {
        timer.tick().await;
        let now = now_ns();
        let asked = UnderWay::read(dir);
        let wanted = asked.as_ref().filter(|asked| asked.until_ns > now).and_then(|a| Incident::from_name(&a.kind));
        if failing.as_ref().map(|(kind, _)| *kind) != wanted {
            coming.extend(failing.take().map(|(kind, _)| kind.ends(now)));
            coming.extend(wanted.and_then(|kind| kind.begins(now)));
            failing = wanted.map(|kind| (kind, Arrivals::from(now)));
        }
        match (asked, wanted) {
            (Some(asked), Some(_)) if !asked.seen => UnderWay { seen: true, ..asked }.write(dir)?,
            (Some(_), None) => std::fs::remove_file(UnderWay::file(dir))?,
            _ => {}
        }
        usual.until(
            now,
            |at| days.requests_per_minute(at).clamp(LEAST_PER_MINUTE, 600.0),
            |seed, serial, at| coming.extend(trickle(seed, serial, at)),
        );
        if let Some((kind, arrivals)) = &mut failing {
            arrivals.until(now, |_| touched, |seed, serial, at| coming.extend(kind.request(seed, serial, at)));
        }
        let (due, later): (Vec<Sent>, Vec<Sent>) =
            std::mem::take(&mut coming).into_iter().partition(|e| e.send_ns <= now);
        coming = later;
        for batch in by_way(due) {
            // The trickle is decoration: when the service is busy, it waits for the next events.
            if let Err(e) = post(&http, url, kept, &batch).await {
                eprintln!("{e:#}");
            }
        }
    }
}

/// Events that go to one place with one key, together.
fn by_way(events: Vec<Sent>) -> Vec<Vec<Sent>> {
    let mut ways: std::collections::BTreeMap<(&'static str, bool), Vec<Sent>> = std::collections::BTreeMap::new();
    events.into_iter().for_each(|event| ways.entry((event.service, event.is_span)).or_default().push(event));
    ways.into_values().collect()
}
