//! Arrivals: what came, from whom, and what became of it. Counted in memory beside intake, added to the database every
//! few seconds, by sender, service and host.

use crate::auth::Reader;
use crate::error::Result;
use crate::state::Base;
use calvex_intake::arrivals::Tally;
use calvex_language::domain::arrivals::{ArrivalGroup, ArrivedHour, RefusedHour, SetAsideHour};
use calvex_language::model::mask::mask;
use calvex_language::model::time::format_utc;
use calvex_wire::api::{Arrival, ArrivalsAnswer, Refused, SetAside};
use parking_lot::Mutex;
use std::collections::{BTreeMap, HashMap};

const HOUR_NS: i64 = 3_600_000_000_000;
/// Accounts of an hour; what comes beyond is counted without its host, then without its service, then without its
/// sender, all of which are [`OTHERS`] then. So whoever writes names decides neither memory nor rows.
const MAX_ACCOUNTS: usize = 5000;
const WITHOUT_HOST: usize = MAX_ACCOUNTS + 1000;
const WITHOUT_SERVICE: usize = WITHOUT_HOST + 1000;
/// Senders and reasons of refusals in an hour; beyond, the sender is [`OTHERS`].
const MAX_REFUSALS: usize = 1000;
/// Stands for every name beyond.
const OTHERS: &str = "(others)";
/// Rows of an answer, unless asked for less, and at most.
const ROWS: u32 = 1000;
const MAX_ROWS: u32 = 5000;
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
    /// Of a tally; beside `crowded` others without its host, then without its service, then without its sender.
    fn of(now_ns: i64, sender: &str, tally: &Tally, lane: u32, crowded: usize) -> Self {
        let kept = |name: &str, bytes: usize, most: usize| {
            if crowded < most { shortened(name, bytes).to_owned() } else { OTHERS.to_owned() }
        };
        Account {
            hour: hour_of(now_ns),
            sender: kept(sender, 64, WITHOUT_SERVICE),
            service: kept(&tally.service, MAX_NAME, WITHOUT_HOST),
            host: kept(&tally.host, MAX_NAME, MAX_ACCOUNTS),
            lane,
        }
    }
}

/// A row, and whether it changed since it was written.
struct Total<R> {
    row: R,
    changed: bool,
}

impl<R> Total<R> {
    fn new(row: R) -> Self {
        Total { row, changed: false }
    }

    /// The row, to be changed.
    fn change(&mut self) -> &mut R {
        self.changed = true;
        &mut self.row
    }
}

/// Totals of this claim, of the hours that are not written yet and of the present one.
#[derive(Default)]
struct Held {
    arrivals: HashMap<Account, Total<ArrivedHour>>,
    refusals: HashMap<(u32, String, String), Total<RefusedHour>>,
    asides: HashMap<(Account, String), Total<SetAsideHour>>,
    /// When each key was last used.
    used: HashMap<String, i64>,
    /// By transform rule: events, and when last.
    rules: HashMap<String, (u64, i64)>,
}

/// The account of this node.
#[derive(Default)]
pub struct Ledger {
    held: Mutex<Held>,
    /// Held while totals are written.
    writing: tokio::sync::Mutex<()>,
}

fn hour_of(ns: i64) -> u32 {
    u32::try_from(ns.div_euclid(HOUR_NS)).unwrap_or(0)
}

/// The beginning of a text, of at most so many bytes.
pub fn shortened(text: &str, bytes: usize) -> &str {
    text.get(..text.floor_char_boundary(bytes)).unwrap_or(text)
}

impl Ledger {
    /// Counts what a batch stored.
    pub fn stored(&self, now_ns: i64, sender: &str, lane: u32, late: bool, timed: bool, tallies: Vec<Tally>) {
        let mut held = self.held.lock();
        for tally in tallies {
            let crowded = held.arrivals.len();
            let account = Account::of(now_ns, sender, &tally, lane, crowded);
            let row = held.arrivals.entry(account).or_insert_with_key(|a| {
                Total::new(ArrivedHour {
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
                })
            });
            let row = row.change();
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
        let mut key = (hour_of(now_ns), shortened(sender, 64).to_owned(), shortened(reason, 32).to_owned());
        let mut held = self.held.lock();
        if held.refusals.len() >= MAX_REFUSALS && !held.refusals.contains_key(&key) {
            key.1 = OTHERS.to_owned();
        }
        let row = held.refusals.entry(key).or_insert_with_key(|(hour, sender, reason)| {
            Total::new(RefusedHour {
                hour: *hour,
                sender: sender.clone(),
                reason: reason.clone(),
                refused: 0,
                first_ns: now_ns,
                last_ns: now_ns,
                sample: String::new(),
            })
        });
        let row = row.change();
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
            let key = (account, shortened(cause, 96).to_owned());
            let total = held.asides.entry(key).or_insert_with_key(|(a, cause)| {
                Total::new(SetAsideHour {
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
                })
            });
            let row = total.change();
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

    /// Counts the events that transform rules were applied to.
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

    /// The totals that changed since they were written.
    fn changed(&self) -> Changed {
        fn of<K, R: Clone>(totals: &mut HashMap<K, Total<R>>) -> Vec<R> {
            let changed = totals.values_mut().filter_map(|t| std::mem::take(&mut t.changed).then(|| t.row.clone()));
            changed.collect()
        }
        let mut held = self.held.lock();
        Changed {
            arrivals: of(&mut held.arrivals),
            refusals: of(&mut held.refusals),
            asides: of(&mut held.asides),
            used: std::mem::take(&mut held.used),
            rules: std::mem::take(&mut held.rules),
        }
    }

    /// Forgets the totals of hours that are over, once they are written; all others count as not written where that
    /// failed.
    fn settle(&self, written: bool, now_ns: i64) {
        let hour = hour_of(now_ns);
        let mut held = self.held.lock();
        if written {
            held.arrivals.retain(|a, t| t.changed || a.hour >= hour);
            held.refusals.retain(|(h, ..), t| t.changed || *h >= hour);
            held.asides.retain(|(a, _), t| t.changed || a.hour >= hour);
        } else {
            held.arrivals.values_mut().for_each(|t| t.changed = true);
            held.refusals.values_mut().for_each(|t| t.changed = true);
            held.asides.values_mut().for_each(|t| t.changed = true);
        }
    }
}

/// What goes to the database at once.
struct Changed {
    arrivals: Vec<ArrivedHour>,
    refusals: Vec<RefusedHour>,
    asides: Vec<SetAsideHour>,
    used: HashMap<String, i64>,
    rules: HashMap<String, (u64, i64)>,
}

/// Writes to the database what was counted since the last time. Totals are written over, so that a try whose outcome is
/// not known counts nothing twice.
///
/// # Errors
/// Where the database fails; it is tried again at the next turn.
pub async fn write(base: &Base) -> Result<()> {
    // Two at once could write an older total over a newer one.
    let _writing = base.ledger.writing.lock().await;
    let Changed { arrivals, refusals, asides, used, rules } = base.ledger.changed();
    let written = base.store.put_arrivals(&base.claim, &arrivals, &refusals, &asides).await;
    base.ledger.settle(written.is_ok(), (base.clock)());
    written?;
    // Less than a row's loss hangs on these two: the next use counts them again.
    base.store.touch_keys(&used.into_iter().collect::<Vec<_>>()).await?;
    let rules: Vec<_> = rules.into_iter().map(|(rule, (events, last_ns))| (rule, events, last_ns)).collect();
    base.store.count_transforms(&rules).await?;
    Ok(())
}

/// What of the account is asked for.
#[derive(Debug, Default)]
pub struct Asked<'a> {
    /// The last so many hours.
    pub hours: u32,
    /// Of one service alone.
    pub service: Option<&'a str>,
    /// Rows of `arrivals`, from which on and how many.
    pub from: u32,
    /// See `from`.
    pub limit: Option<u32>,
}

/// Returns what came in the last hours, in the lanes that `reader` may read. Samples of what was refused are shown to
/// administrators, for they may come from anyone; a reader of some lanes sees the refusals of the senders of these.
///
/// # Errors
/// Where the database fails.
pub async fn arrivals(base: &Base, reader: &Reader, asked: Asked<'_>) -> Result<ArrivalsAnswer> {
    // What was counted this moment belongs to the answer.
    write(base).await?;
    let now_ns = (base.clock)();
    let (hours, service) = (asked.hours.clamp(1, KEPT_HOURS), asked.service);
    let from_hour = hour_of(now_ns).saturating_sub(hours - 1);
    let config = base.config.get();
    let limit = asked.limit.unwrap_or(ROWS).clamp(1, MAX_ROWS);
    // What was counted over all events of a lane is shown to those who may read all of them.
    let scope = reader.scope();
    let lanes: Vec<u32> = config.lanes().iter().map(|l| l.id).filter(|lane| scope.reads_all_rows(*lane)).collect();
    let mut groups = base.store.arrival_groups(from_hour, service, Some(&lanes), (asked.from, limit + 1)).await?;
    let more = groups.len() > limit as usize;
    groups.truncate(limit as usize);
    let reported = |g: ArrivalGroup| {
        let mut per_hour = vec![0u64; hours as usize];
        for (hour, stored) in &g.per_hour {
            if let Some(slot) = hour.checked_sub(from_hour).and_then(|at| per_hour.get_mut(at as usize)) {
                *slot += stored;
            }
        }
        Arrival {
            lane: config.name(g.lane).to_string(),
            stored: g.stored,
            late: g.late,
            untimed: g.untimed,
            bytes: g.bytes,
            first: format_utc(g.first_ns, 3),
            last: format_utc(g.last_ns, 3),
            clock_ahead_ms: g.delay_ns.saturating_neg().max(0) / 1_000_000,
            silent: g.hours as usize >= REGULAR_HOURS && now_ns - g.last_ns > SILENT_NS,
            per_hour,
            service: g.service,
            host: g.host,
            sender: g.sender,
        }
    };
    let arrivals: Vec<Arrival> = groups.into_iter().map(reported).collect();
    let senders: std::collections::BTreeSet<&str> = arrivals.iter().map(|a| a.sender.as_str()).collect();
    let may_see = |sender: &str| reader.who.administers || senders.contains(sender);
    let mut refused: BTreeMap<(String, String), Refused> = BTreeMap::new();
    for row in base.store.refusals(from_hour).await?.into_iter().rev().filter(|r| may_see(&r.sender)) {
        let reported = refused.entry((row.sender.clone(), row.reason.clone())).or_insert_with(|| Refused {
            sender: row.sender.clone(),
            reason: row.reason.clone(),
            refused: 0,
            first: format_utc(row.first_ns, 3),
            last: String::new(),
            sample: None,
        });
        reported.refused += row.refused;
        reported.last = format_utc(row.last_ns, 3);
        reported.sample = Some(row.sample).filter(|s| !s.is_empty() && reader.who.administers);
    }
    let mut set_aside: BTreeMap<(String, String, String, String, u32), SetAside> = BTreeMap::new();
    for row in base.store.asides(from_hour, service).await?.into_iter().rev().filter(|r| lanes.contains(&r.lane)) {
        let key = (row.service.clone(), row.host.clone(), row.sender.clone(), row.cause.clone(), row.lane);
        let reported = set_aside.entry(key).or_insert_with(|| SetAside {
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
        reported.events += row.events;
        reported.bytes += row.bytes;
        reported.last = format_utc(row.last_ns, 3);
    }
    let mut refused: Vec<Refused> = refused.into_values().collect();
    refused.sort_by_key(|r| std::cmp::Reverse(r.refused));
    refused.truncate(MAX_ROWS as usize);
    let set_aside = set_aside.into_values().take(MAX_ROWS as usize).collect();
    Ok(ArrivalsAnswer { hours, arrivals, more, refused, set_aside })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn tally(host: &str, events: u64) -> Tally {
        Tally { service: "slots".into(), host: host.into(), events, least_delay_ns: -5, ..Tally::default() }
    }

    #[test]
    fn totals_are_written_over_and_forgotten_with_their_hour() {
        let ledger = Ledger::default();
        ledger.stored(10, "slots-prod", 1, false, true, vec![tally("a", 3), tally("b", 1)]);
        ledger.refused(10, "slots-prod", "not-json", 2, "password=hush");
        ledger.set_aside(10, "slots-prod", "dial 3", 1, vec![tally("a", 4)]);
        let first = ledger.changed();
        assert_eq!((first.arrivals.len(), first.refusals.len(), first.asides.len()), (2, 1, 1));
        assert!(ledger.changed().arrivals.is_empty(), "nothing changed since");
        ledger.settle(false, 20);
        assert_eq!(ledger.changed().arrivals.len(), 2, "what was not written is written again, in the same words");
        ledger.settle(true, 20);
        ledger.set_aside(20, "slots-prod", "dial 3", 1, vec![tally("a", 1)]);
        ledger.stored(20, "slots-prod", 1, true, false, vec![tally("a", 2)]);
        ledger.refused(20, "slots-prod", "not-json", 1, "door 17");
        let Changed { arrivals, refusals, asides, .. } = ledger.changed();
        assert_eq!((asides.len(), asides[0].events, asides[0].first_ns), (1, 5, 10));
        assert_eq!(arrivals.len(), 1);
        let a = &arrivals[0];
        assert_eq!((a.stored, a.late, a.untimed, a.first_ns, a.last_ns, a.delay_ns), (5, 2, 2, 10, 20, -5));
        assert_eq!((refusals.len(), refusals[0].refused, refusals[0].sample.as_str()), (1, 3, "door 17"));
        ledger.settle(true, 2 * HOUR_NS);
        assert!(ledger.held.lock().arrivals.is_empty(), "an hour that is over and written is forgotten");
        ledger.refused(10, "x", "not-json", 1, "password=hush");
        assert!(!ledger.changed().refusals[0].sample.contains("hush"));
    }

    #[test]
    fn whoever_writes_names_decides_neither_memory_nor_rows() {
        let ledger = Ledger::default();
        for n in 0..30_000 {
            let of = |host: String, service: String| Tally { service, host, events: 1, ..Tally::default() };
            ledger.stored(10, "slots-prod", 1, false, true, vec![of(format!("h{n}"), format!("s{n}"))]);
            ledger.refused(10, &format!("calvex-key-{n}"), "wrong-key", 1, "");
            ledger.set_aside(10, "slots-prod", "dial 3", 1, vec![of(format!("h{n}"), "slots".into())]);
        }
        let held = ledger.held.lock();
        assert!(held.arrivals.len() <= WITHOUT_SERVICE + 1 && held.asides.len() <= WITHOUT_SERVICE + 1);
        assert!(held.refusals.len() <= MAX_REFUSALS + 1);
        let stored: u64 = held.arrivals.values().map(|t| t.row.stored).sum();
        let refused: u64 = held.refusals.values().map(|t| t.row.refused).sum();
        assert_eq!((stored, refused), (30_000, 30_000), "all are counted, beyond the caps among the others");
    }
}
