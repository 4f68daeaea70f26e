//! Arrivals: what came, from whom, and what became of it. Counted in memory beside intake, added to the database every
//! few seconds, told by sender, service and host.

use crate::access::Reader;
use crate::error::Result;
use crate::state::Shared;
use calvex_core::arrivals::Tally;
use calvex_core::event::time::format_utc;
use calvex_core::mask::mask;
use calvex_store::records::arrivals::{ArrivalRow, AsideRow, RefusalRow};
use calvex_wire::api::{Arrival, ArrivalsAnswer, Refused, SetAside};
use parking_lot::Mutex;
use std::collections::{BTreeMap, HashMap};

const HOUR_NS: i64 = 3_600_000_000_000;
/// Different accounts held between two writings; what comes beyond is counted without its host, then without its service.
const MAX_HELD: usize = 20_000;
/// Longest name of a service or host in the account, as its column has it.
const MAX_NAME: usize = 128;
/// Longest sample of something refused, bytes.
const MAX_SAMPLE: usize = 300;
/// Hours that are kept.
pub const KEPT_HOURS: u32 = 24 * 8;
/// A sender that came in this many of the last hours, and then not for so long, has fallen silent.
const REGULAR_HOURS: usize = 2;
const SILENT_NS: i64 = 15 * 60 * 1_000_000_000;

#[derive(Debug, Clone, PartialEq, Eq, Hash)]
struct Account {
    hour: u32,
    sender: String,
    service: String,
    host: String,
    lane: u32,
}

impl Account {
    /// Of a row that was to be written.
    fn written(hour: u32, [sender, service, host]: [&String; 3], lane: u32) -> Self {
        Account { hour, sender: sender.clone(), service: service.clone(), host: host.clone(), lane }
    }

    /// Of a tally; beside `crowded` others without its host, then without its service.
    fn of(now_ns: i64, sender: &str, tally: &Tally, lane: u32, crowded: usize) -> Self {
        let kept =
            |name: &str, most: usize| if crowded < most { shortened(name, MAX_NAME).to_owned() } else { String::new() };
        Account {
            hour: hour_of(now_ns),
            sender: shortened(sender, 64).to_owned(),
            service: kept(&tally.service, MAX_HELD * 2),
            host: kept(&tally.host, MAX_HELD),
            lane,
        }
    }
}

/// What was counted since the last writing.
#[derive(Default)]
struct Held {
    arrivals: HashMap<Account, ArrivalRow>,
    refusals: HashMap<(u32, String, String), RefusalRow>,
    asides: HashMap<(Account, String), AsideRow>,
    /// When each key was last used.
    used: HashMap<String, i64>,
    /// By shaping rule: events, and when last.
    rules: HashMap<String, (u64, i64)>,
}

/// The account of this node.
#[derive(Default)]
pub struct Ledger {
    held: Mutex<Held>,
}

fn hour_of(ns: i64) -> u32 {
    u32::try_from(ns.div_euclid(HOUR_NS)).unwrap_or(0)
}

/// The beginning of a text, of at most so many bytes.
pub(crate) fn shortened(text: &str, bytes: usize) -> &str {
    text.get(..text.floor_char_boundary(bytes)).unwrap_or(text)
}

impl Ledger {
    /// Counts what a batch stored.
    pub fn stored(&self, now_ns: i64, sender: &str, lane: u32, late: bool, timed: bool, tallies: Vec<Tally>) {
        let mut held = self.held.lock();
        for tally in tallies {
            let crowded = held.arrivals.len();
            let account = Account::of(now_ns, sender, &tally, lane, crowded);
            let row = held.arrivals.entry(account).or_insert_with_key(|a| ArrivalRow {
                hour: a.hour,
                sender: a.sender.clone(),
                service: a.service.clone(),
                host: a.host.clone(),
                lane,
                stored: 0,
                late: 0,
                bytes: 0,
                untimed: 0,
                first_ns: now_ns,
                last_ns: now_ns,
                delay_ns: i64::MAX,
            });
            row.stored += tally.events;
            row.bytes += tally.bytes;
            row.late += if late { tally.events } else { 0 };
            row.untimed += if timed { 0 } else { tally.events };
            row.last_ns = row.last_ns.max(now_ns);
            row.delay_ns = row.delay_ns.min(tally.least_delay_ns);
        }
    }

    /// Counts what was refused; `sample` shows what, its secrets are masked here.
    pub fn refused(&self, now_ns: i64, sender: &str, reason: &str, count: u64, sample: &str) {
        let key = (hour_of(now_ns), shortened(sender, 64).to_owned(), shortened(reason, 32).to_owned());
        let mut held = self.held.lock();
        if held.refusals.len() >= MAX_HELD && !held.refusals.contains_key(&key) {
            return;
        }
        let row = held.refusals.entry(key).or_insert_with_key(|(hour, sender, reason)| RefusalRow {
            hour: *hour,
            sender: sender.clone(),
            reason: reason.clone(),
            refused: 0,
            first_ns: now_ns,
            last_ns: now_ns,
            sample: String::new(),
        });
        row.refused += count;
        row.last_ns = row.last_ns.max(now_ns);
        row.sample = shortened(&mask(sample), MAX_SAMPLE).to_owned();
    }

    /// Counts what was not stored on purpose.
    pub fn set_aside(&self, now_ns: i64, sender: &str, cause: &str, lane: u32, tallies: Vec<Tally>) {
        let mut held = self.held.lock();
        for tally in tallies {
            let crowded = held.asides.len();
            let account = Account::of(now_ns, sender, &tally, lane, crowded);
            let row = held.asides.entry((account, shortened(cause, 96).to_owned())).or_insert_with_key(|(a, cause)| {
                AsideRow {
                    hour: a.hour,
                    sender: a.sender.clone(),
                    service: a.service.clone(),
                    host: a.host.clone(),
                    lane,
                    cause: cause.clone(),
                    events: 0,
                    bytes: 0,
                    first_ns: now_ns,
                    last_ns: now_ns,
                }
            });
            row.events += tally.events;
            row.bytes += tally.bytes;
            row.last_ns = row.last_ns.max(now_ns);
        }
    }

    /// Notes that a key was used.
    pub fn used(&self, now_ns: i64, sender: &str) {
        let mut held = self.held.lock();
        match held.used.get_mut(sender) {
            Some(last_ns) => *last_ns = now_ns,
            None => drop(held.used.insert(sender.to_owned(), now_ns)),
        }
    }

    /// Counts the events that shaping rules were applied to.
    pub fn held(&self, now_ns: i64, rules: Vec<(String, u64)>) {
        if rules.is_empty() {
            return;
        }
        let mut held = self.held.lock();
        for (rule, events) in rules {
            let counted = held.rules.entry(rule).or_insert((0, now_ns));
            counted.0 += events;
            counted.1 = counted.1.max(now_ns);
        }
    }

    /// Takes out what was counted; what cannot be written is put back.
    fn take(&self) -> Held {
        std::mem::take(&mut *self.held.lock())
    }

    fn put_back(&self, written: Written) {
        let mut held = self.held.lock();
        let Written { arrivals, refusals, asides } = written;
        for row in asides {
            let account = Account::written(row.hour, [&row.sender, &row.service, &row.host], row.lane);
            match held.asides.get_mut(&(account.clone(), row.cause.clone())) {
                Some(newer) => {
                    newer.events += row.events;
                    newer.bytes += row.bytes;
                    newer.first_ns = newer.first_ns.min(row.first_ns);
                }
                None => drop(held.asides.insert((account, row.cause.clone()), row)),
            }
        }
        for row in arrivals {
            let account = Account::written(row.hour, [&row.sender, &row.service, &row.host], row.lane);
            match held.arrivals.get_mut(&account) {
                Some(newer) => {
                    newer.stored += row.stored;
                    newer.late += row.late;
                    newer.bytes += row.bytes;
                    newer.untimed += row.untimed;
                    newer.first_ns = newer.first_ns.min(row.first_ns);
                    newer.delay_ns = newer.delay_ns.min(row.delay_ns);
                }
                None => drop(held.arrivals.insert(account, row)),
            }
        }
        for row in refusals {
            match held.refusals.get_mut(&(row.hour, row.sender.clone(), row.reason.clone())) {
                Some(newer) => {
                    newer.refused += row.refused;
                    newer.first_ns = newer.first_ns.min(row.first_ns);
                }
                None => drop(held.refusals.insert((row.hour, row.sender.clone(), row.reason.clone()), row)),
            }
        }
    }
}

/// What goes to the database at once.
struct Written {
    arrivals: Vec<ArrivalRow>,
    refusals: Vec<RefusalRow>,
    asides: Vec<AsideRow>,
}

/// Adds to the database what was counted since the last time.
///
/// # Errors
/// Where the database fails; it is tried again then, which may count some twice.
pub async fn write(app: &Shared) -> Result<()> {
    let Held { arrivals, refusals, asides, used, rules } = app.ledger.take();
    let written = Written {
        arrivals: arrivals.into_values().collect(),
        refusals: refusals.into_values().collect(),
        asides: asides.into_values().collect(),
    };
    if let Err(e) = app.store.add_arrivals(&written.arrivals, &written.refusals, &written.asides).await {
        app.ledger.put_back(written);
        return Err(e.into());
    }
    // Less than a row's loss hangs on these two: the next use tells them again.
    app.store.touch_keys(&used.into_iter().collect::<Vec<_>>()).await?;
    let rules: Vec<_> = rules.into_iter().map(|(rule, (events, last_ns))| (rule, events, last_ns)).collect();
    app.store.count_shaping(&rules).await?;
    Ok(())
}

/// Tells what came in the last `hours`, in the lanes that `reader` may read; of one service where given. Samples of what
/// was refused are told to administrators, for they may come from anyone.
///
/// # Errors
/// Where the database fails.
pub async fn arrivals(app: &Shared, reader: &Reader, hours: u32, service: Option<&str>) -> Result<ArrivalsAnswer> {
    // What was counted this moment belongs to the answer.
    write(app).await?;
    let now_ns = (app.clock)();
    let hours = hours.clamp(1, KEPT_HOURS);
    let from_hour = hour_of(now_ns).saturating_sub(hours - 1);
    let config = app.catalogue.get();
    let mut by_account: BTreeMap<(String, String, String, u32), Vec<ArrivalRow>> = BTreeMap::new();
    for row in app.store.arrivals(from_hour, service).await?.into_iter().filter(|r| reader.may_read(r.lane)) {
        let key = (row.service.clone(), row.host.clone(), row.sender.clone(), row.lane);
        by_account.entry(key).or_default().push(row);
    }
    let told = |((service, host, sender, lane), rows): ((String, String, String, u32), Vec<ArrivalRow>)| {
        let sum = |f: fn(&ArrivalRow) -> u64| rows.iter().map(f).sum::<u64>();
        let last_ns = rows.iter().map(|r| r.last_ns).max().unwrap_or(0);
        let mut per_hour = vec![0u64; hours as usize];
        for row in &rows {
            if let Some(slot) = per_hour.get_mut((row.hour - from_hour) as usize) {
                *slot += row.stored;
            }
        }
        let silent = rows.len() >= REGULAR_HOURS && now_ns - last_ns > SILENT_NS;
        Arrival {
            service,
            host,
            sender,
            lane: config.name(lane).to_string(),
            stored: sum(|r| r.stored),
            late: sum(|r| r.late),
            untimed: sum(|r| r.untimed),
            bytes: sum(|r| r.bytes),
            first: format_utc(rows.iter().map(|r| r.first_ns).min().unwrap_or(0), 3),
            last: format_utc(last_ns, 3),
            clock_ahead_ms: rows.iter().map(|r| -r.delay_ns).max().filter(|ns| *ns > 0).map_or(0, |ns| ns / 1_000_000),
            silent,
            per_hour,
        }
    };
    let arrivals = by_account.into_iter().map(told).collect();
    let mut refused: BTreeMap<(String, String), Refused> = BTreeMap::new();
    for row in app.store.refusals(from_hour).await? {
        let told = refused.entry((row.sender.clone(), row.reason.clone())).or_insert_with(|| Refused {
            sender: row.sender.clone(),
            reason: row.reason.clone(),
            refused: 0,
            first: format_utc(row.first_ns, 3),
            last: String::new(),
            sample: None,
        });
        told.refused += row.refused;
        told.last = format_utc(row.last_ns, 3);
        told.sample = Some(row.sample).filter(|s| !s.is_empty() && reader.who.administers);
    }
    let mut set_aside: BTreeMap<(String, String, String, String, u32), SetAside> = BTreeMap::new();
    for row in app.store.asides(from_hour, service).await?.into_iter().filter(|r| reader.may_read(r.lane)) {
        let key = (row.service.clone(), row.host.clone(), row.sender.clone(), row.cause.clone(), row.lane);
        let told = set_aside.entry(key).or_insert_with(|| SetAside {
            service: row.service,
            host: row.host,
            sender: row.sender,
            lane: config.name(row.lane).to_string(),
            cause: row.cause,
            events: 0,
            bytes: 0,
            first: format_utc(row.first_ns, 3),
            last: String::new(),
        });
        told.events += row.events;
        told.bytes += row.bytes;
        told.last = format_utc(row.last_ns, 3);
    }
    let refused = refused.into_values().collect();
    Ok(ArrivalsAnswer { hours, arrivals, refused, set_aside: set_aside.into_values().collect() })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn tally(host: &str, events: u64) -> Tally {
        Tally { service: "slots".into(), host: host.into(), events, least_delay_ns: -5, ..Tally::default() }
    }

    #[test]
    fn counts_gather_and_come_back_when_they_cannot_be_written() {
        let ledger = Ledger::default();
        ledger.stored(10, "slots-prod", 1, false, true, vec![tally("a", 3), tally("b", 1)]);
        ledger.refused(10, "slots-prod", "not-json", 2, "password=hush");
        ledger.set_aside(10, "slots-prod", "dial 3", 1, vec![tally("a", 4)]);
        let written = |held: Held| Written {
            arrivals: held.arrivals.into_values().collect(),
            refusals: held.refusals.into_values().collect(),
            asides: held.asides.into_values().collect(),
        };
        let first = written(ledger.take());
        assert_eq!(first.arrivals.len(), 2);
        ledger.set_aside(20, "slots-prod", "dial 3", 1, vec![tally("a", 1)]);
        ledger.stored(20, "slots-prod", 1, true, false, vec![tally("a", 2)]);
        ledger.refused(20, "slots-prod", "not-json", 1, "door 17");
        ledger.put_back(first);
        let Written { mut arrivals, refusals, asides } = written(ledger.take());
        assert_eq!((asides.len(), asides[0].events, asides[0].first_ns), (1, 5, 10));
        arrivals.sort_by(|x, y| x.host.cmp(&y.host));
        let a = &arrivals[0];
        assert_eq!((a.stored, a.late, a.untimed, a.first_ns, a.last_ns, a.delay_ns), (5, 2, 2, 10, 20, -5));
        assert_eq!((refusals.len(), refusals[0].refused, refusals[0].sample.as_str()), (1, 3, "door 17"));
        ledger.refused(10, "x", "not-json", 1, "password=hush");
        assert_eq!(written(ledger.take()).refusals[0].sample, "password=•••");
    }
}
