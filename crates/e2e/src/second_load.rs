//! A second load, unlike the first: the side of Fennmark that keeps accounts. Deep fields, ids of many values (85 thousand
//! accounts, a million customers, a session for every few events), UUIDs, lists, stack traces, texts in several languages,
//! one event in fifty days late, and one request in twenty of a day long ago, moved in.

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde_json::{Value, json};

const SERVICES: [&str; 7] = ["accounts", "tariff", "claims", "returns", "kiosk", "fleet", "dispatch"];
const LANGUAGES: [&str; 6] = ["sv", "de", "pl", "fr", "fi", "en"];
const NOTES: [&str; 6] = [
    "paketet väntar i facket",
    "das Fach öffnet sich nicht",
    "paczka czeka w skrytce",
    "le colis attend dans le casier",
    "lokero ei aukea kylmässä",
    "the parcel waits in its locker",
];
const FAILURES: [&str; 5] = ["TariffGone", "ClaimTwice", "AccountClosed", "LedgerBusy", "WeightUnknown"];
const TAGS: [&str; 9] = ["fragile", "heavy", "cold", "return", "prepaid", "night", "gift", "signed", "oversize"];
/// Accounts, the first ones far busier than the last.
const ACCOUNTS: f64 = 85_000.0;
/// Events of a request, as the benchmark sends them: every twentieth such run is of long ago.
const RUN: u64 = 2000;
const DAY_NS: i64 = 86_400_000_000_000;

/// Makes lines of NDJSON, about 600 bytes each.
pub struct SecondLoad {
    rng: ChaCha8Rng,
    serial: u64,
    now_ns: i64,
    step_ns: i64,
    open: Vec<Session>,
}

/// Somebody who does something about an account.
#[derive(Clone)]
struct Session {
    id: u128,
    trace: u128,
    account: u32,
    customer: u32,
}

fn uuid(n: u128) -> String {
    let digits = format!("{n:032x}");
    let groups = [0..8, 8..12, 12..16, 16..20, 20..32].map(|range| digits.get(range).unwrap_or("").to_owned());
    groups.join("-")
}

fn pick<'a>(rng: &mut ChaCha8Rng, of: &[&'a str]) -> &'a str {
    of[rng.random_range(0..of.len())]
}

impl SecondLoad {
    /// Events that begin at `from_ns`, `step_ns` apart.
    pub fn new(seed: u64, from_ns: i64, step_ns: i64) -> Self {
        SecondLoad { rng: ChaCha8Rng::seed_from_u64(seed), serial: 0, now_ns: from_ns, step_ns, open: Vec::new() }
    }

    fn session(&mut self) -> Session {
        let rng = &mut self.rng;
        if self.open.len() < 60 || rng.random_range(0..6) == 0 {
            let share: f64 = rng.random();
            self.open.push(Session {
                id: rng.random(),
                trace: rng.random::<u128>() | 1,
                account: (share * share * ACCOUNTS) as u32,
                customer: rng.random_range(0..1_000_000),
            });
        }
        let at = rng.random_range(0..self.open.len());
        let session = self.open[at].clone();
        if rng.random_range(0..6) == 0 {
            self.open.swap_remove(at);
        }
        session
    }

    fn event(&mut self) -> Value {
        self.serial += 1;
        self.now_ns += self.step_ns;
        let Session { id, trace, account, customer } = self.session();
        let moved = self.serial / RUN % 20 == 7;
        let rng = &mut self.rng;
        let late = !moved && rng.random_range(0..50) == 0;
        let behind_ns = if moved { 12 * DAY_NS } else { i64::from(late) * rng.random_range(1..9) * DAY_NS };
        let time = jiff::Timestamp::from_nanosecond(i128::from(self.now_ns - behind_ns)).unwrap_or_default();
        let language = rng.random_range(0..LANGUAGES.len());
        let (zone, amount) = (account % 16, rng.random_range(1..90_000));
        let fails = rng.random_range(0..30) == 0;
        let message = match rng.random_range(0..6) {
            _ if fails => format!("charge of {amount} to FA-{account:06} refused, try {}", rng.random_range(1..6)),
            0 => format!("note for locker {}: {}", rng.random_range(1..400), NOTES[language]),
            1 => format!("invoice IV-{}-{amount} made for zone Z{zone:02}", rng.random_range(1000..9999)),
            2 => format!("weighed {amount} g on scale {} of {}", rng.random_range(1..9), pick(rng, &TAGS)),
            3 => format!("route {} of van {} has {} stops", uuid(rng.random()), account % 300, rng.random_range(2..40)),
            _ => format!("account FA-{account:06} read in {} ms", rng.random_range(1..800)),
        };
        let tags: Vec<&str> = (0..rng.random_range(0..4)).map(|_| pick(rng, &TAGS)).collect();
        let kind = ["kiosk", "app", "counter"][language % 3];
        let tier = ["basic", "plus", "trade"][account as usize % 3];
        let mut event = json!({
            "time": format!("{time:.3}"),
            "level": if fails { "ERROR" } else if amount % 11 == 0 { "WARN" } else { "INFO" },
            "service": pick(rng, &SERVICES),
            "host": format!("acct-{}", account % 12),
            "message": message,
            "trace_id": format!("{trace:032x}"),
            "request": {
                "session": uuid(id),
                "client": { "kind": kind, "language": LANGUAGES[language] },
            },
            "customer": {
                "number": customer,
                "account": { "id": format!("FA-{account:06}"), "zone": format!("Z{zone:02}"), "plan": { "tier": tier } },
            },
            "amount": { "value": f64::from(amount) / 100.0, "paid": amount % 2 == 0 },
            "tags": tags,
            "took_ms": rng.random_range(1..2500),
        });
        if fails {
            let failure = pick(rng, &FAILURES);
            let frames: Vec<String> = (0..rng.random_range(4..22))
                .map(|n| {
                    format!("  at ledger.{}.step{}(Charge.kt:{})", pick(rng, &SERVICES), n, rng.random_range(10..900))
                })
                .collect();
            event["error"] =
                json!({ "type": failure, "stack": format!("ledger.{failure}: refused\n{}", frames.join("\n")) });
        }
        if self.serial.is_multiple_of(10_000) {
            event["message"] = json!(format!("seal of scale odd{} broken", self.serial / 10_000));
            event["audit"] = json!({ "mark": format!("MK-{}", self.serial / 10_000) });
        }
        event
    }

    /// `count` lines.
    pub fn lines(&mut self, count: usize) -> String {
        let mut out = String::with_capacity(count * 620);
        for _ in 0..count {
            out.push_str(&self.event().to_string());
            out.push('\n');
        }
        out
    }
}
