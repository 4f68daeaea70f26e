//! The load generator: events of the made-up network in several hundred message forms, requests interleaved, nested
//! fields, free text, one in a thousand hours late.

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde_json::json;

const SERVICES: [&str; 9] =
    ["edge", "parcels", "slots", "codes", "courier", "notify", "billing", "sorter", "locker-agent"];
const VERBS: [&str; 12] = [
    "opened", "closed", "leased", "released", "queued", "sent", "read", "rated", "scanned", "moved", "checked", "held",
];
const THINGS: [&str; 10] =
    ["door", "parcel", "lease", "code", "message", "route", "belt", "invoice", "bank", "compartment"];
const CLAUSES: [&str; 8] = [
    "by courier",
    "after a retry",
    "before the lease ended",
    "at the depot",
    "for the recipient",
    "within its window",
    "on the second try",
    "without a code",
];
const WORDS: [&str; 16] = [
    "left", "hinge", "stiff", "cold", "night", "rain", "sensor", "slow", "answered", "twice", "label", "torn", "again",
    "quiet", "screen", "dim",
];

/// Makes lines of NDJSON, about 400 bytes each.
pub struct Load {
    rng: ChaCha8Rng,
    serial: u64,
    now_ns: i64,
    step_ns: i64,
    open: Vec<(u128, u32)>,
}

impl Load {
    /// Events that begin at `from_ns`, `step_ns` apart.
    pub fn new(seed: u64, from_ns: i64, step_ns: i64) -> Self {
        Load { rng: ChaCha8Rng::seed_from_u64(seed), serial: 0, now_ns: from_ns, step_ns, open: Vec::new() }
    }

    /// The next event as a line, its newline included.
    pub fn push_line(&mut self, out: &mut String) {
        self.serial += 1;
        self.now_ns += self.step_ns;
        let rng = &mut self.rng;
        // About forty requests are under way at any time, each of a dozen events.
        if self.open.len() < 40 || rng.random_range(0..12) == 0 {
            self.open.push((rng.random(), rng.random_range(1..90_000)));
        }
        let at = rng.random_range(0..self.open.len());
        let (trace, parcel) = self.open[at];
        if rng.random_range(0..12) == 0 {
            self.open.swap_remove(at);
        }
        let (verb, thing, clause) = (pick(rng, &VERBS), pick(rng, &THINGS), pick(rng, &CLAUSES));
        let service = pick(rng, &SERVICES);
        let door = rng.random_range(1..37);
        let message = match rng.random_range(0..10) {
            0 => {
                let words: Vec<&str> = (0..rng.random_range(4..14)).map(|_| pick(rng, &WORDS)).collect();
                format!("note on {thing} {door}: {}", words.join(" "))
            }
            1..4 => format!(
                "{thing} {} {verb} {clause} in {} ms",
                rng.random_range(1000..99_999),
                rng.random_range(1..5000)
            ),
            _ => format!("{thing} of PX-{parcel:05} {verb} at door {door} {clause}"),
        };
        let late_ns = if rng.random_range(0..1000) == 0 { rng.random_range(1..6) * 3_600_000_000_000 } else { 0 };
        let level = ["debug", "info", "info", "info", "info", "info", "info", "info", "warn", "error"]
            [rng.random_range(0..10usize)];
        let time =
            jiff::Timestamp::from_nanosecond(i128::from(self.now_ns - late_ns)).unwrap_or(jiff::Timestamp::UNIX_EPOCH);
        let mut event = json!({
            "time": format!("{time:.6}"),
            "level": level,
            "service": service,
            "host": format!("{service}-{}", parcel % 4),
            "message": message,
            "trace_id": format!("{:032x}", trace | 1),
            "span_id": format!("{:016x}", rng.random::<u64>() | 1),
            "slot": { "bank": format!("BK-{:03}", parcel % 40 + 1), "door": door },
            "took_ms": rng.random_range(1..4000),
            "parcel": { "id": format!("PX-{parcel:05}"), "weight_g": rng.random_range(80..9000) },
            "release": format!("2026.{}", parcel % 5),
        });
        if service == "edge" {
            let status = [200, 201, 409, 504][rng.random_range(0..4usize)];
            event["http"] = json!({ "method": "POST", "route": format!("/{thing}s"), "status": status });
        }
        if self.serial.is_multiple_of(10_000) {
            event["message"] = json!(format!("door {door} seal rare{} found broken", self.serial / 10_000));
        }
        out.push_str(&event.to_string());
        out.push('\n');
    }

    /// `count` lines.
    pub fn lines(&mut self, count: usize) -> String {
        let mut out = String::with_capacity(count * 420);
        (0..count).for_each(|_| self.push_line(&mut out));
        out
    }
}

fn pick<'a>(rng: &mut ChaCha8Rng, of: &[&'a str]) -> &'a str {
    of[rng.random_range(0..of.len())]
}
