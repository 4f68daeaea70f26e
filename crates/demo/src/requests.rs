//! What happens in the network, one function a kind of request.

use crate::speech::{Ids, Level, OpenSpan, Sent, SpanKind, say};
use crate::{Phase, SECOND_NS};
use rand::RngExt;
use rand_chacha::ChaCha8Rng;
use serde_json::{Value, json};

const MS: i64 = 1_000_000;
const BANKS: u32 = 40;

fn bank_name(bank: u32) -> String {
    format!("BK-{bank:03}")
}

/// One request of a random kind, with all that the services write of it.
pub fn request(rng: &mut ChaCha8Rng, serial: u64, at_ns: i64, phase: Phase) -> Vec<Sent> {
    match rng.random_range(0..100) {
        0..42 => drop_off(rng, serial, at_ns, phase),
        42..64 => pick_up(rng, serial, at_ns),
        64..76 => parcel_list(rng, serial, at_ns),
        76..84 => courier_round(rng, at_ns),
        84..92 => vec![dusty_eye(rng, at_ns), belt_speed(rng, at_ns)],
        92..96 => health_check(rng, at_ns),
        _ => vec![door_override(rng, at_ns)],
    }
}

fn ids(rng: &mut ChaCha8Rng) -> Ids {
    Ids { trace: format!("{:032x}", rng.random::<u128>() | 1), span: format!("{:016x}", rng.random::<u64>() | 1) }
}

/// Collects what one request's services say, in order.
struct Scene<'a> {
    rng: &'a mut ChaCha8Rng,
    ids: Ids,
    serial: u64,
    at_ns: i64,
    said: Vec<Sent>,
    /// Spans that have begun, each within the one before.
    open: Vec<OpenSpan>,
    spans: u64,
}

impl<'a> Scene<'a> {
    fn new(rng: &'a mut ChaCha8Rng, serial: u64, at_ns: i64) -> Self {
        let ids = ids(rng);
        Scene { rng, ids, serial, at_ns, said: Vec::new(), open: Vec::new(), spans: 0 }
    }

    /// Lets between `lo` and `hi` milliseconds pass.
    fn pass(&mut self, lo: i64, hi: i64) {
        self.at_ns += self.rng.random_range(lo * 1000..=hi * 1000) * 1000;
    }

    fn say(&mut self, service: &'static str, level: Level, message: String, fields: Value) {
        // Drawn in any case, so that the same seed has the services say the same.
        let drawn = format!("{:016x}", self.rng.random::<u64>() | 1);
        let within = self.open.iter().rev().find(|span| span.service == service);
        self.ids.span = within.map_or(drawn, |span| span.id.clone());
        self.said.push(say(service, self.serial, self.at_ns, level, Some(&self.ids), message, fields));
    }

    /// A span begins within the one that is open.
    fn begin(&mut self, service: &'static str, kind: SpanKind, name: &'static str) {
        self.begin_at(service, &format!("{service}-{}", self.serial % 3 + 1), kind, name);
    }

    fn begin_at(&mut self, service: &'static str, host: &str, kind: SpanKind, name: &'static str) {
        self.spans += 1;
        // Of the trace and a count, so that no chance is drawn.
        let low = u64::from_str_radix(self.ids.trace.get(16..).unwrap_or("1"), 16).unwrap_or(1);
        let id = low.wrapping_add(self.spans.wrapping_mul(0x9e37_79b9_7f4a_7c15)) | 1;
        self.open.push(OpenSpan {
            id: format!("{id:016x}"),
            parent: self.open.last().map(|span| span.id.clone()),
            service,
            host: host.to_owned(),
            name,
            kind,
            began_ns: self.at_ns,
            link: None,
        });
    }

    /// The innermost span ends.
    fn end(&mut self, failed: bool) {
        if let Some(span) = self.open.pop() {
            self.said.push(span.end(&self.ids.trace, self.at_ns, failed));
        }
    }

    /// Leaves a message in a queue; another service takes it some seconds later.
    fn queue(&mut self, from: &'static str, to: &'static str, names: [&'static str; 2]) {
        self.begin(from, SpanKind::Producer, names[0]);
        let producer = self.open.last().map(|span| span.id.clone());
        self.end(false);
        let at_ns = self.at_ns;
        self.at_ns += SECOND_NS * (2 + (self.serial % 19) as i64);
        self.begin(to, SpanKind::Consumer, names[1]);
        if let Some(span) = self.open.last_mut() {
            span.parent.clone_from(&producer);
            span.link = producer;
        }
        self.at_ns += MS * (40 + (self.serial % 130) as i64);
        self.end(false);
        self.at_ns = at_ns;
    }

    fn agent(&mut self, bank: u32, level: Level, message: String, mut fields: Value) {
        fields["bank"] = json!(bank_name(bank));
        fields["host"] = json!(bank_name(bank).to_lowercase());
        self.say("locker-agent", level, message, fields);
        if let Some(last) = self.said.last_mut() {
            last.bank = Some(bank);
        }
    }
}

pub fn drop_off(rng: &mut ChaCha8Rng, serial: u64, at_ns: i64, phase: Phase) -> Vec<Sent> {
    let (bank, door) = (rng.random_range(1..=BANKS), rng.random_range(1..=36u32));
    let (bk, px, ls) = (
        bank_name(bank),
        format!("PX-{:05}", 10_000 + serial % 90_000),
        format!("LS-{:05}", rng.random_range(10_000..99_999u32)),
    );
    let lease_s = if phase == Phase::Changed { 12 } else { 120 };
    // People take between 5 and 35 seconds at a door.
    let open_ms = rng.random_range(5_000..35_000i64);
    let weight = rng.random_range(80..9_000u32);
    let mut s = Scene::new(rng, serial, at_ns);
    let began = s.at_ns;
    let route = "/drop-offs";
    s.begin("edge", SpanKind::Server, "POST /drop-offs");
    s.say(
        "edge",
        Level::Info,
        format!("drop-off asked for parcel {px} at {bk}"),
        json!({"http": {"method": "POST", "route": route}, "parcelId": px}),
    );
    s.pass(3, 12);
    s.begin("parcels", SpanKind::Server, "drop off");
    s.say(
        "parcels",
        Level::Info,
        format!("parcel {px} moves to dropping"),
        json!({"parcel": {"id": px, "state": "dropping"}}),
    );
    s.begin("slots", SpanKind::Server, "lease a slot");
    s.begin("slots", SpanKind::Internal, "claim row");
    s.pass(4, 15);
    s.end(false);
    s.say(
        "slots",
        Level::Info,
        format!("lease {ls} on door {door} for {lease_s} s"),
        json!({"lease": {"id": ls, "seconds": lease_s}, "slot": {"bank": bk, "door": door}, "parcel": {"id": px}}),
    );
    s.end(false);
    s.begin_at("locker-agent", &bk.to_lowercase(), SpanKind::Server, "open door");
    s.pass(10, 40);
    s.agent(bank, Level::Info, format!("door {door} opened by courier"), json!({"door": door, "parcel": px}));
    s.pass(open_ms, open_ms + 50);
    s.agent(
        bank,
        Level::Info,
        format!("door {door} closed, weight {weight} g"),
        json!({"door": door, "weight_g": weight, "parcel": px}),
    );
    s.end(false);
    s.begin("slots", SpanKind::Server, "confirm lease");
    if open_ms <= lease_s * 1000 {
        s.pass(20, 60);
        s.say(
            "slots",
            Level::Debug,
            format!("lease {ls} confirmed"),
            json!({"lease": {"id": ls, "seconds": lease_s}, "slot": {"bank": bk, "door": door}}),
        );
        s.end(false);
        s.begin("codes", SpanKind::Server, "make code");
        s.pass(10, 30);
        s.say(
            "codes",
            Level::Info,
            format!("pick-up code made for {px}"),
            json!({"parcel": px, "code": {"digits": 6}}),
        );
        s.end(false);
        s.pass(5, 20);
        s.queue("parcels", "notify", ["message queued", "send message"]);
        s.say(
            "notify",
            Level::Info,
            format!("message to recipient of {px} queued as sms"),
            // Of the numbers that are nobody's.
            json!({"channel": "sms", "parcel_id": px, "recipient": {"phone": format!("+46 70 174 06{:02}", 5 + door % 95)}}),
        );
        s.begin("billing", SpanKind::Server, "rate");
        s.say(
            "billing",
            Level::Info,
            format!("rating zone {} tariff night", door % 6),
            json!({"zone": door % 6, "amount": 1.5 + f64::from(door % 4) * 0.25, "parcel": {"id": px}}),
        );
        s.end(false);
        s.pass(2, 9);
        s.end(false);
        let took = (s.at_ns - began) / MS;
        s.say(
            "edge",
            Level::Info,
            format!("drop-off of parcel {px} done"),
            json!({"http": {"method": "POST", "route": route, "status": 201}, "took_ms": took, "parcelId": px}),
        );
        s.end(false);
        return s.said;
    }
    s.pass(20, 60);
    let late_ms = open_ms - lease_s * 1000;
    s.say(
        "slots",
        Level::Warn,
        format!("lease {ls} ran out {:.1} s before door {door} confirmed", late_ms as f64 / 1000.0),
        json!({"lease": {"id": ls, "seconds": lease_s}, "slot": {"bank": bk, "door": door}, "late_by_ms": late_ms, "parcel": {"id": px}}),
    );
    s.end(true);
    for attempt in 1..=3 {
        s.begin("codes", SpanKind::Server, "make code");
        s.pass(600, 1700);
        s.say(
            "codes",
            Level::Warn,
            format!("pick-up code for {px} withheld, compartment unknown, try {attempt}"),
            json!({"parcel": px, "try": attempt}),
        );
        s.end(true);
    }
    s.pass(300, 900);
    s.say(
        "parcels",
        Level::Error,
        format!("gave up on drop-off of {px} after 3 tries"),
        json!({"parcel": {"id": px, "state": "stranded"}, "error": {"kind": "lease_gone", "stack": ["drop_off::confirm", "slots::claim", "lease::check"]}}),
    );
    s.end(true);
    s.pass(3, 15);
    let took = (s.at_ns - began) / MS;
    let slow = s.serial.is_multiple_of(4);
    let (status, text) = if slow {
        (504, format!("upstream parcels answered in {took} ms"))
    } else {
        (409, format!("drop-off refused for parcel {px}: slot lease gone"))
    };
    s.say(
        "edge",
        Level::Error,
        text,
        json!({"http": {"method": "POST", "route": route, "status": status}, "took_ms": took, "parcelId": px}),
    );
    s.end(true);
    s.said
}

fn pick_up(rng: &mut ChaCha8Rng, serial: u64, at_ns: i64) -> Vec<Sent> {
    let (bank, door) = (rng.random_range(1..=BANKS), rng.random_range(1..=36u32));
    let (bk, px) = (bank_name(bank), format!("PX-{:05}", 10_000 + (serial * 7) % 90_000));
    let mut s = Scene::new(rng, serial, at_ns);
    let began = s.at_ns;
    s.begin("edge", SpanKind::Server, "POST /pick-ups");
    s.say(
        "edge",
        Level::Info,
        format!("pick-up asked at {bk}"),
        json!({"http": {"method": "POST", "route": "/pick-ups"}}),
    );
    s.begin("parcels", SpanKind::Server, "hand over");
    s.begin("codes", SpanKind::Server, "check code");
    s.pass(4, 12);
    s.say("codes", Level::Info, format!("code accepted for {px}"), json!({"parcel": px, "code": {"digits": 6}}));
    s.end(false);
    s.begin_at("locker-agent", &bk.to_lowercase(), SpanKind::Server, "open door");
    s.pass(8, 30);
    s.agent(bank, Level::Info, format!("door {door} opened by code"), json!({"door": door, "parcel": px}));
    s.pass(3_000, 14_000);
    s.agent(
        bank,
        Level::Info,
        format!("door {door} closed, empty"),
        json!({"door": door, "weight_g": 0, "parcel": px}),
    );
    s.end(false);
    s.pass(5, 20);
    s.say(
        "parcels",
        Level::Info,
        format!("parcel {px} handed over"),
        json!({"parcel": {"id": px, "state": "handed over"}}),
    );
    s.end(false);
    s.pass(2, 8);
    let took = (s.at_ns - began) / MS;
    s.say(
        "edge",
        Level::Info,
        "pick-up done".into(),
        json!({"http": {"method": "POST", "route": "/pick-ups", "status": 200}, "took_ms": took}),
    );
    s.end(false);
    s.said
}

fn parcel_list(rng: &mut ChaCha8Rng, serial: u64, at_ns: i64) -> Vec<Sent> {
    let (count, took) = (rng.random_range(0..40u32), rng.random_range(6..48u32));
    let mut s = Scene::new(rng, serial, at_ns);
    s.begin("edge", SpanKind::Server, "GET /parcels");
    s.begin("parcels", SpanKind::Server, "list parcels");
    s.say("parcels", Level::Debug, format!("{count} parcels read"), json!({"rows": count, "cache": count % 3 == 0}));
    s.pass(2, 6);
    s.end(false);
    s.say(
        "edge",
        Level::Info,
        "parcel list served".into(),
        json!({"http": {"method": "GET", "route": "/parcels", "status": 200}, "took_ms": took}),
    );
    s.end(false);
    s.said
}

fn courier_round(rng: &mut ChaCha8Rng, at_ns: i64) -> Vec<Sent> {
    let (route, stops) = (rng.random_range(100..180u32), rng.random_range(20..40u32));
    let stop = rng.random_range(1..=stops);
    let serial = rng.random();
    let message = format!("route R-{route} stop {stop} of {stops} reached");
    let place = json!({"lat": 60.0 + f64::from(route) / 1000.0, "lon": 10.0 + f64::from(stop) / 1000.0});
    vec![say(
        "courier",
        serial,
        at_ns,
        Level::Info,
        None,
        message,
        json!({"route": format!("R-{route}"), "stop": stop, "place": place}),
    )]
}

/// A harmless warning of the depot's belt.
pub fn dusty_eye(rng: &mut ChaCha8Rng, at_ns: i64) -> Sent {
    let message =
        format!("belt {} photo eye dusty, reading {:.2}", rng.random_range(1..=6u32), rng.random_range(0.4..0.8f64));
    say("sorter", 0, at_ns, Level::Warn, None, message, json!({}))
}

fn belt_speed(rng: &mut ChaCha8Rng, at_ns: i64) -> Sent {
    let message = format!("belt {} at {:.1} m/s", rng.random_range(1..=6u32), rng.random_range(1.2..1.9f64));
    say("sorter", 0, at_ns + SECOND_NS, Level::Debug, None, message, json!({}))
}

fn health_check(rng: &mut ChaCha8Rng, at_ns: i64) -> Vec<Sent> {
    let of = ["parcels", "slots", "codes", "billing"];
    let name = of[rng.random_range(0..of.len())];
    vec![say(
        "edge",
        rng.random(),
        at_ns,
        Level::Debug,
        None,
        format!("health check of {name} fine"),
        json!({"upstream": name, "took_ms": rng.random_range(1..9u32)}),
    )]
}

fn door_override(rng: &mut ChaCha8Rng, at_ns: i64) -> Sent {
    let (bank, door) = (bank_name(rng.random_range(1..=BANKS)), rng.random_range(1..=36u32));
    let operator = ["ines", "tore", "liv"][rng.random_range(0..3usize)];
    let message = format!("operator {operator} opened door {door} at {bank} for a recipient");
    say(
        "access",
        0,
        at_ns,
        Level::Info,
        None,
        message,
        json!({"operator": operator, "action": "door.override", "slot": {"bank": bank, "door": door}}),
    )
}

/// The operator's change of the slot lease, as the audit has it.
pub fn lease_change(at_ns: i64, from: u32, to: u32) -> Sent {
    let message = format!("slot lease changed from {from} s to {to} s by operator ines");
    let change = json!({"setting": "slots.lease_seconds", "from": from, "to": to});
    say(
        "access",
        0,
        at_ns,
        Level::Warn,
        None,
        message,
        json!({"operator": "ines", "action": "setting.change", "change": change, "mark": format!("slot lease {from} s → {to} s")}),
    )
}

/// A release, as the audit has it.
pub fn release(at_ns: i64, what: &str) -> Sent {
    let service = what.rsplit(' ').next().unwrap_or("slots");
    let fields =
        json!({"operator": "deploy", "action": "release", "mark": what, "mark_kind": "release", "of": service});
    say("access", 0, at_ns, Level::Info, None, what.to_owned(), fields)
}

/// What follows at billing when the certificate of the tariff service has ended: two languages, two stacks.
pub fn certificate_ended(rng: &mut ChaCha8Rng, serial: u64, at_ns: i64) -> Vec<Sent> {
    let mut s = Scene::new(rng, serial, at_ns);
    let line = s.rng.random_range(80..99u32);
    s.begin("billing", SpanKind::Server, "fetch tariffs");
    s.pass(3, 20);
    let stack = format!(
        "fennmark.tariff.CertificateEnded: certificate of tariff-1 ended\n\tat fennmark.tariff.Client.open(Client.java:{line})\n\tat fennmark.tariff.Client.fetch(Client.java:41)\n\tat fennmark.billing.Rates.reload(Rates.java:117)"
    );
    s.say(
        "billing",
        Level::Error,
        "certificate of tariff-1 ended, tariffs are old".into(),
        json!({"error": {"type": "fennmark.tariff.CertificateEnded", "stack": stack}, "zone": serial % 6}),
    );
    s.end(true);
    s.pass(5, 30);
    let stack = format!(
        "Traceback (most recent call last):\n  File \"/app/receipts/send.py\", line {line}, in send\n    amount = rates.amount(parcel)\n  File \"/app/receipts/rates.py\", line 12, in amount\n    raise RatesOld(age)\nreceipts.rates.RatesOld: certificate ended, rates are too old"
    );
    s.say(
        "notify",
        Level::Error,
        "receipt not sent, rates are too old".into(),
        json!({"error": {"type": "receipts.rates.RatesOld", "stack": stack}, "channel": "mail"}),
    );
    s.said
}
