//! What senders and lanes may use up: events a second, and events and bytes a day.
//!
//! A rate is a bucket that fills by the rate each second, up to [`BURST_S`] seconds of it, and may be emptied below nothing
//! by one batch: how many events a body holds is known only once it is decoded. While it is below nothing, the sender waits.
//! Days are those of UTC. At the start of the service the day's use is read from arrivals.
//!
//! Beside other nodes each takes an equal part: of a rate, and of what a day's quota has left. What the others took is read
//! from arrivals every few seconds, and what is left is shared anew then. What they took since is not known meanwhile, so
//! that a day's quota can be passed by what came in these seconds, and never by more.

use crate::config::Config;
use crate::error::{Result, ServiceError};
use crate::intake::sender::Sender;
use calvex_intake::batch::Admitted;
use calvex_language::model::time::day_of;
use calvex_store::Store;
use parking_lot::Mutex;
use std::collections::HashMap;
use std::sync::atomic::{AtomicU32, Ordering};

/// Seconds of a rate that may come at once.
const BURST_S: f64 = 2.0;
/// Keys whose buckets are held.
const MAX_BUCKETS: usize = 10_000;

struct Bucket {
    events: f64,
    at_ns: i64,
}

/// Who uses up a day's quota.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
enum Who {
    Key(String),
    Lane(u32),
}

#[derive(Default)]
struct Used {
    day: i32,
    /// By all nodes, up to when it was read.
    by: HashMap<Who, (u64, u64)>,
    /// By this one, since then.
    since: HashMap<Who, (u64, u64)>,
}

/// The use of this node.
#[derive(Default)]
pub struct Limits {
    buckets: Mutex<HashMap<u32, Bucket>>,
    used: Mutex<Used>,
    /// Nodes beside this one.
    others: AtomicU32,
}

/// A quota of a day.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
struct Daily {
    events: Option<u64>,
    bytes: Option<u64>,
}

impl Limits {
    /// Reads what was used today.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn load(&self, store: &Store, now_ns: i64) -> Result<()> {
        let day = day_of(now_ns);
        let from_hour = u32::try_from(i64::from(day) * 24).unwrap_or(0);
        let arrived = store.arrived_since(from_hour).await?;
        let mut used = self.used.lock();
        *used = Used { day, ..Used::default() };
        for (sender, lane, events, bytes) in arrived {
            for who in [Who::Key(sender), Who::Lane(lane)] {
                let sum = used.by.entry(who).or_default();
                sum.0 += events;
                sum.1 += bytes;
            }
        }
        Ok(())
    }

    /// Shares rates and quotas among so many nodes; whether it were others before.
    pub fn share(&self, nodes: u32) -> bool {
        let others = nodes.saturating_sub(1);
        self.others.swap(others, Ordering::SeqCst) != others
    }

    fn nodes(&self) -> u32 {
        self.others.load(Ordering::SeqCst).saturating_add(1)
    }

    /// Whether a key of this rate may send now.
    ///
    /// # Errors
    /// [`ServiceError::TooMany`] with the seconds to wait.
    pub fn check_rate(&self, key_id: u32, rate: Option<u32>, now_ns: i64) -> Result<()> {
        let Some(of_all) = rate else { return Ok(()) };
        let rate = f64::from(of_all) / f64::from(self.nodes());
        let mut buckets = self.buckets.lock();
        if buckets.len() >= MAX_BUCKETS && !buckets.contains_key(&key_id) {
            buckets.clear();
        }
        let bucket = buckets.entry(key_id).or_insert(Bucket { events: rate * BURST_S, at_ns: now_ns });
        let elapsed_s = (now_ns - bucket.at_ns).max(0) as f64 / 1e9;
        bucket.events = (bucket.events + elapsed_s * rate).min(rate * BURST_S);
        bucket.at_ns = now_ns;
        if bucket.events > 0.0 {
            return Ok(());
        }
        let wait_s = (-bucket.events / rate).ceil().clamp(1.0, 3600.0) as u32;
        Err(ServiceError::TooMany(format!("this key may send {of_all} events a second; wait {wait_s} s"), wait_s))
    }

    /// Counts what a key of a rate sent.
    pub fn sent(&self, key_id: u32, events: u64) {
        if let Some(bucket) = self.buckets.lock().get_mut(&key_id) {
            bucket.events -= events as f64;
        }
    }

    /// How many of so many events of so many bytes the daily quotas of sender and lane still take; what both take counts
    /// as used.
    pub fn admit(&self, lane: u32, sender: &Sender, config: &Config, now_ns: i64, events: u64, bytes: u64) -> Admitted {
        let row = config.lane(lane);
        let daily = [
            Daily { events: sender.limits.day_events, bytes: sender.limits.day_bytes },
            Daily { events: row.and_then(|l| l.day_events), bytes: row.and_then(|l| l.day_bytes) },
        ];
        self.take([Who::Key(sender.name.clone()), Who::Lane(lane)], daily, day_of(now_ns), events, bytes)
    }

    fn take(&self, who: [Who; 2], daily: [Daily; 2], day: i32, events: u64, bytes: u64) -> Admitted {
        let mut used = self.used.lock();
        if used.day != day {
            *used = Used { day, ..Used::default() };
        }
        let each = (bytes / events.max(1)).max(1);
        let nodes = u64::from(self.nodes());
        let still = |who: &Who, daily: &Daily| {
            let (events_used, bytes_used) = used.by.get(who).copied().unwrap_or_default();
            let (events_since, bytes_since) = used.since.get(who).copied().unwrap_or_default();
            let left = |limit: u64, used: u64, since: u64| (limit.saturating_sub(used) / nodes).saturating_sub(since);
            let by_events = daily.events.map_or(events, |limit| left(limit, events_used, events_since));
            let by_bytes = daily.bytes.map_or(events, |limit| left(limit, bytes_used, bytes_since) / each);
            by_events.min(by_bytes).min(events)
        };
        let [key, lane] = &who;
        let by_key = still(key, &daily[0]);
        let admitted = by_key.min(still(lane, &daily[1]));
        let admitted_bytes = if admitted == events { bytes } else { each * admitted };
        for who in who {
            let sum = used.since.entry(who).or_default();
            sum.0 += admitted;
            sum.1 += admitted_bytes;
        }
        Admitted { by_key, events: admitted }
    }

    /// Gives back what was admitted but could not be stored.
    pub fn give_back(&self, sender: &str, lane: u32, now_ns: i64, events: u64, bytes: u64) {
        let mut used = self.used.lock();
        if used.day != day_of(now_ns) {
            return;
        }
        for who in [Who::Key(sender.to_owned()), Who::Lane(lane)] {
            if let Some(sum) = used.since.get_mut(&who) {
                sum.0 = sum.0.saturating_sub(events);
                sum.1 = sum.1.saturating_sub(bytes);
            }
        }
    }

    /// Events and bytes that a sender used today.
    pub fn used_by(&self, sender: &str, now_ns: i64) -> (u64, u64) {
        let used = self.used.lock();
        if used.day != day_of(now_ns) {
            return (0, 0);
        }
        let who = Who::Key(sender.to_owned());
        let of = |map: &HashMap<Who, (u64, u64)>| map.get(&who).copied().unwrap_or_default();
        let (before, since) = (of(&used.by), of(&used.since));
        (before.0 + since.0, before.1 + since.1)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const SECOND: i64 = 1_000_000_000;

    #[test]
    fn a_rate_lets_bursts_through_and_then_waits() {
        let limits = Limits::default();
        assert!(limits.check_rate(1, None, 0).is_ok());
        assert!(limits.check_rate(1, Some(100), 0).is_ok());
        limits.sent(1, 1200);
        let waits = |now| limits.check_rate(1, Some(100), now).err().map(|e| e.problem().retry_after_s);
        assert_eq!(waits(0), Some(Some(10)));
        assert_eq!(waits(9 * SECOND), Some(Some(1)));
        assert_eq!(waits(10 * SECOND + 1), None);
        assert!(limits.check_rate(2, Some(100), 0).is_ok(), "another key");
    }

    #[test]
    fn a_day_takes_so_much_and_no_more() {
        let limits = Limits::default();
        let who = || [Who::Key("slots-prod".into()), Who::Lane(1)];
        let of = |events, bytes| Daily { events, bytes };
        let key = [of(Some(100), Some(5000)), Daily::default()];
        let take = |daily, day, events, bytes| {
            let admitted = limits.take(who(), daily, day, events, bytes);
            (admitted.by_key, admitted.events)
        };
        assert_eq!(take(key, 7, 80, 800), (80, 80));
        assert_eq!(take(key, 7, 80, 800), (20, 20));
        assert_eq!(take(key, 7, 1, 10), (0, 0));
        assert_eq!(take([Daily::default(); 2], 7, 80, 800), (80, 80), "without a quota");
        assert_eq!(take([of(None, Some(6000)), Daily::default()], 7, 10, 6000), (7, 7), "by bytes: 1800 are used");
        // What the lane does not take does not count against the key.
        assert_eq!(take([of(Some(10), None), of(Some(4), None)], 8, 6, 60), (6, 4), "the next day");
        assert_eq!(take([of(Some(10), None), Daily::default()], 8, 9, 90), (6, 6));
        limits.give_back("slots-prod", 1, 8 * 86_400 * SECOND, 10, 100);
        assert_eq!(limits.used_by("slots-prod", 8 * 86_400 * SECOND), (0, 0));
    }

    #[test]
    fn beside_others_a_node_takes_its_part_of_what_is_left() {
        let limits = Limits::default();
        assert!(limits.share(4));
        assert!(!limits.share(4), "as before");
        let who = || [Who::Key("slots-prod".into()), Who::Lane(1)];
        let daily = [Daily { events: Some(100), bytes: None }, Daily::default()];
        let take = |events| limits.take(who(), daily, 7, events, events * 10).events;
        assert_eq!((take(20), take(20)), (20, 5), "a quarter");
        // The others took theirs too, and some is left to be shared anew.
        limits.used.lock().by.insert(Who::Key("slots-prod".into()), (60, 600));
        limits.used.lock().since.clear();
        assert_eq!((take(50), take(1)), (10, 0));
        assert_eq!(limits.used_by("slots-prod", 7 * 86_400 * SECOND), (70, 700));
        // A rate is a quarter too.
        assert!(limits.check_rate(1, Some(100), 0).is_ok());
        limits.sent(1, 100);
        let waits = |now| limits.check_rate(1, Some(100), now).err().map(|e| e.problem().retry_after_s);
        assert_eq!((waits(0), waits(2 * SECOND + 1)), (Some(Some(2)), None));
        limits.share(1);
        assert_eq!(take(50), 30, "alone it takes all that is left");
    }
}
