//! Causes that were planted are found, and nothing is found where nothing was.

use super::*;
use crate::testing::{Shelf, numbered, scope};
use calvex_language::model::{Event, Path, Severity, Status, Value};
use calvex_language::query::parse_filter;

/// A generator of its own, so that the same seed plants the same for ever (Steele, Lea, Flood: "SplitMix", 2014).
struct Chance(u64);

impl Chance {
    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    fn below(&mut self, n: u64) -> u64 {
        self.next() % n
    }

    fn happens(&mut self, share: f64) -> bool {
        (self.next() >> 11) as f64 / (1u64 << 53) as f64 <= share
    }
}

const FIELDS: usize = 40;
const REQUESTS: u64 = 1500;
const EACH: u64 = 5;
const MINUTE_NS: i64 = 60_000_000_000;
/// How many values the fields have: few in most, many in some.
const KINDS: [u64; 5] = [2, 4, 8, 20, 60];

/// A planted case: requests of five correlated events over an hour before and an hour after. Of the failures after, a
/// share has one value of one field more often than chance gives; fields beside it follow it loosely; noise rises
/// everywhere.
struct Case {
    events: Vec<Event>,
    /// `field=value` of each cause.
    causes: Vec<String>,
}

/// The values that a request has of each field: few for most fields, many for some.
fn values(chance: &mut Chance, causes: &[(usize, u64)], by_cause: bool) -> Vec<u64> {
    let mut values: Vec<u64> = (0..FIELDS)
        .map(|field| {
            let kinds = KINDS[field % 5];
            // Some values are frequent, most are rare.
            chance.below(kinds).min(chance.below(kinds))
        })
        .collect();
    if by_cause {
        for (field, value) in causes {
            values[*field] = *value;
            // A decoy that goes along with the cause more often than not.
            let decoy = (field + 7) % FIELDS;
            if chance.happens(0.5) {
                values[decoy] = 1;
            }
        }
    }
    values
}

/// The share of requests that have a value without a cause: the lower of two draws.
fn share_without(field: usize, value: u64) -> f64 {
    let kinds = KINDS[field % 5];
    let (above, from) = (kinds - value - 1, kinds - value);
    (from * from - above * above) as f64 / (kinds * kinds) as f64
}

/// `explained` is what the causes add to the shares of their values, as a part of all failures; two causes share it.
fn case(seed: u64, explained: f64) -> Case {
    let mut chance = Chance(seed.wrapping_mul(0x51_7c_c1_b7) ^ 0xfe11);
    let planted = explained > 0.0;
    let causes: Vec<(usize, u64)> = (0..if planted { 1 + seed % 2 } else { 0 })
        .map(|n| {
            let field = (chance.below(FIELDS as u64) as usize + n as usize * 13) % FIELDS;
            (field, 1 + chance.below([1, 3, 6, 12, 40][field % 5]))
        })
        .collect();
    let mut events = Vec::new();
    for set in 0..2i64 {
        for request in 0..REQUESTS {
            let which =
                if causes.is_empty() { Vec::new() } else { vec![causes[(request % causes.len() as u64) as usize]] };
            // Some of those to which it happens have the value already, so more of them must be chosen.
            let chosen = which.first().map_or(0.0, |(field, value)| explained / (1.0 - share_without(*field, *value)));
            let cause = set == 1 && planted && chance.happens(chosen);
            let values = values(&mut chance, &which, cause);
            // Noise that rises everywhere: more requests come late in the hour.
            let at = set * 60 * MINUTE_NS + chance.below(60).max(chance.below(60)) as i64 * MINUTE_NS;
            let trace = u128::from(seed) << 80 | (set as u128) << 64 | u128::from(request) | 1 << 127;
            for n in 0..EACH {
                let fields = values
                    .iter()
                    .enumerate()
                    .map(|(field, value)| (Path::root(&format!("f{field}")), Value::Text(format!("v{value}"))))
                    .collect();
                events.push(Event {
                    time_ns: at + n as i64 * 40_000_000 + chance.below(1_000_000_000) as i64,
                    service: "edge".into(),
                    severity: Severity(17),
                    message: format!("drop-off refused for parcel PX-{request}"),
                    trace: Some(trace.to_be_bytes()),
                    fields,
                    ..Event::default()
                });
            }
        }
    }
    events.sort_by_key(|event| event.time_ns);
    let causes = causes.iter().map(|(field, value)| format!("f{field}=v{value}")).collect();
    Case { events: numbered(events), causes }
}

fn compared(case: &Case) -> Comparison {
    compared_following(case, None)
}

fn compared_following(case: &Case, progress: Option<&(dyn Fn(Progress) + Sync)>) -> Comparison {
    let mut shelf = Shelf::default();
    let view = shelf.seal(&case.events, 4096);
    let filter = parse_filter("severity>=error").unwrap();
    let side = |set: i64| Side {
        filter: &filter,
        range: TimeRange { from_ns: set * 60 * MINUTE_NS, to_ns: (set + 1) * 60 * MINUTE_NS },
        whole: false,
    };
    compare(&Scope { progress, ..scope(&view, &shelf) }, &side(0), &side(1))
}

/// The queries of the first findings that are values, with their other names.
fn first(comparison: &Comparison, most: usize) -> Vec<String> {
    let values = comparison.findings.iter().filter(|f| f.kind == FindingKind::Value);
    values.take(most).flat_map(|f| f.also.iter().cloned().chain([f.query.clone()])).collect()
}

/// How many cases there are: all of them where `CALVEX_CASES` says so, a share in the usual run.
fn cases() -> u64 {
    std::env::var("CALVEX_CASES").ok().and_then(|n| n.parse().ok()).unwrap_or(12)
}

#[test]
fn planted_causes_come_first() {
    let mut missed = Vec::new();
    for seed in 0..cases() {
        let explained = 0.2 + (seed % 4) as f64 * 0.1;
        let case = case(seed, explained * if seed % 2 == 1 { 2.0 } else { 1.0 });
        let comparison = compared(&case);
        let found = first(&comparison, 3);
        if !case.causes.iter().all(|cause| found.contains(cause)) {
            missed.push(format!("{seed}: {:?} not in {found:?}", case.causes));
        }
    }
    assert!(missed.len() as u64 * 20 <= cases(), "{} of {}: {missed:#?}", missed.len(), cases());
}

#[test]
fn nothing_planted_gives_nothing() {
    let mut found = Vec::new();
    for seed in 1000..1000 + cases() {
        let comparison = compared(&case(seed, 0.0));
        let values: Vec<&Finding> = comparison.findings.iter().collect();
        if !values.is_empty() {
            found.push(format!("{seed}: {:?}", values.iter().map(|f| &f.query).collect::<Vec<_>>()));
        }
    }
    assert!(found.len() as u64 * 20 <= cases(), "{} of {}: {found:#?}", found.len(), cases());
}

#[test]
fn shapes_numbers_services_and_silence() {
    let mut events = Vec::new();
    let mut say = |at: i64, service: &str, sender: &str, message: String, took: i64| {
        events.push(Event {
            time_ns: at,
            service: service.into(),
            host: format!("{service}-1"),
            sender: sender.into(),
            message,
            fields: vec![(Path::root("took_ms"), Value::Int(took))],
            ..Event::default()
        })
    };
    for n in 0..2000i64 {
        let at = n * 3_000_000_000;
        let after = at >= 50 * MINUTE_NS;
        say(
            at,
            "edge",
            "edge-prod",
            format!("parcel PX-{n} asked for"),
            if after { 300 + n % 90 } else { 20 + n % 50 },
        );
        if n % 4 == 0 {
            say(at + 1, "codes", "codes-prod", format!("code for PX-{n} made"), 5);
        }
        if after && n % 3 == 0 {
            say(at + 2, "slots", "slots-prod", format!("lease LS-{n} ran out"), 9);
        }
        if !after && n % 2 == 0 {
            say(at + 3, "billing", "billing-prod", format!("zone {} rated", n % 7), 7);
        }
    }
    events.push(Event {
        time_ns: 49 * MINUTE_NS,
        service: "access".into(),
        message: "slot lease changed".into(),
        fields: vec![(Path::root("mark"), Value::Text("slot lease 120 s → 12 s".into()))],
        ..Event::default()
    });
    events.sort_by_key(|event| event.time_ns);
    let events = numbered(events);
    let mut shelf = Shelf::default();
    let (sealed, head) = events.split_at(events.len() / 2);
    let mut view = shelf.seal(sealed, 700);
    view.extend(shelf.seal(head, 900));
    let side = |from: i64, to: i64| Side {
        filter: &Filter::All,
        range: TimeRange { from_ns: from * MINUTE_NS, to_ns: to * MINUTE_NS },
        whole: false,
    };
    let comparison = compare(&scope(&view, &shelf), &side(0, 50), &side(50, 100));
    let has = |kind: FindingKind, change: Change, what: &str| {
        let found = comparison.findings.iter().find(|f| {
            f.kind == kind
                && f.change == change
                && (f.value == what || f.field == what || f.template.as_deref().is_some_and(|t| t.starts_with(what)))
        });
        assert!(found.is_some(), "{kind:?} {change:?} {what}: {:#?}", comparison.findings);
        found.unwrap().clone()
    };
    let ran_out = has(FindingKind::Shape, Change::New, "lease LS-");
    assert!(ran_out.baseline == 0.0 && ran_out.current > 0.1 && ran_out.explained > 0.2);
    has(FindingKind::Shape, Change::Gone, "zone");
    has(FindingKind::Service, Change::New, "slots");
    has(FindingKind::Sender, Change::Gone, "billing-prod");
    let took = has(FindingKind::Number, Change::Higher, "took_ms");
    assert!(took.explained > 0.5 && took.current > 4.0 * took.baseline, "{took:?}");
    let mark = has(FindingKind::Mark, Change::Made, "slot lease 120 s → 12 s");
    assert!(mark.at.is_some());
    assert!(!comparison.findings.iter().any(|f| f.template.as_deref().is_some_and(|t| t.starts_with("code for"))));
    // The same of two halves that are alike.
    let alike = compare(&scope(&view, &shelf), &side(0, 25), &side(25, 50));
    assert!(alike.findings.iter().all(|f| f.kind == FindingKind::Mark), "{:#?}", alike.findings);
}

/// The cause stands in another event than the one that failed.
#[test]
fn healthy_and_failing_traces_are_compared_whole() {
    let mut events = Vec::new();
    for n in 0..700i64 {
        let failed = n % 4 == 0;
        let trace = Some(u128::try_from(n + 1).unwrap().to_be_bytes());
        events.push(Event {
            time_ns: n * MINUTE_NS / 10,
            kind: calvex_language::model::Kind::Span,
            status: Some(if failed { Status::Error } else { Status::Ok }),
            service: "edge".into(),
            message: "POST /drop-offs".into(),
            trace,
            ..Event::default()
        });
        // Of the failures most have the short lease; of the others few.
        let short = if failed { n % 20 != 0 } else { n % 50 == 1 };
        events.push(Event {
            time_ns: n * MINUTE_NS / 10 + 1000,
            service: "slots".into(),
            message: format!("lease LS-{n} taken"),
            fields: vec![(Path::root("lease_s"), Value::Int(if short { 12 } else { 120 }))],
            trace,
            ..Event::default()
        });
    }
    let events = numbered(events);
    let mut shelf = Shelf::default();
    // Each service sends by itself, so that a trace stands in several pages.
    let (spans, logs): (Vec<Event>, Vec<Event>) = events.into_iter().partition(|event| event.service == "edge");
    let mut view = shelf.seal(&spans, 500);
    view.extend(shelf.seal(&logs, 500));
    let scope = scope(&view, &shelf);
    let range = TimeRange { from_ns: 0, to_ns: 70 * MINUTE_NS };
    let [healthy, failing] = ["kind=span status=ok", "kind=span status=error"].map(|text| parse_filter(text).unwrap());
    let mut explain = Explanation::default();
    let sets =
        [&healthy, &failing].map(|filter| whole_traces(&scope, &Side { filter, range, whole: false }, &mut explain));
    assert!(explain.pages_scanned > 0);
    let [baseline, current] = [0, 1].map(|n| Side { filter: &sets[n].0, range: sets[n].1, whole: true });
    let comparison = compare(&scope, &baseline, &current);
    // The newest five hundred of 525 and all 175, with both of their events.
    assert_eq!((comparison.baseline.units, comparison.current.units), (MAX_TRACES as u64, 175));
    assert_eq!(comparison.current.events, 350);
    let place = comparison.findings.iter().position(|f| f.field == "lease_s" && f.value == "12");
    let lease = comparison.findings.get(place.unwrap_or(0)).unwrap();
    assert!(lease.current > 0.79 && lease.baseline < 0.1, "{lease:?}");
    assert!(place.is_some_and(|place| place < 3), "{:#?}", comparison.findings);
    assert!(comparison.headline.starts_with("175 requests against 500"), "{}", comparison.headline);
}

/// A few numbers, which are kept exactly, beside many, which are estimated: that alone is no difference.
#[test]
fn few_numbers_and_many_of_one_kind_are_alike() {
    let event = |n: i64, at: i64| Event {
        time_ns: at,
        host: format!("h{n}"),
        fields: vec![(Path::root("place"), Value::Float(10.0 + (n % 40) as f64 / 1000.0))],
        ..Event::default()
    };
    let few = (0..300).map(|n| event(n, n * 10_000_000_000));
    let many = (0..4000).map(|n| event(n, 50 * MINUTE_NS + n * 700_000_000));
    let mut events: Vec<Event> = few.chain(many).collect();
    events.sort_by_key(|event| event.time_ns);
    let events = numbered(events);
    let mut shelf = Shelf::default();
    let view = shelf.seal(&events, 4096);
    let side = |from: i64, to: i64| Side {
        filter: &Filter::All,
        range: TimeRange { from_ns: from * MINUTE_NS, to_ns: to * MINUTE_NS },
        whole: false,
    };
    let comparison = compare(&scope(&view, &shelf), &side(0, 50), &side(50, 100));
    assert!(!comparison.findings.iter().any(|f| f.kind == FindingKind::Number), "{:#?}", comparison.findings);
}

#[test]
fn of_nothing_nothing_is_found() {
    let shelf = Shelf::default();
    let side = Side { filter: &Filter::All, range: TimeRange { from_ns: 0, to_ns: 1 }, whole: false };
    let comparison = compare(&scope(&[], &shelf), &side, &side);
    assert!(comparison.findings.is_empty() && comparison.current == SideCount::default());
}

#[test]
fn tails_of_the_normal_distribution() {
    for (z, chance) in [(0.0, 0.5), (1.0, 0.158_655), (2.326, 0.010_01), (3.09, 0.001), (6.0, 1e-9)] {
        assert!((values::upper_tail(z) - chance).abs() < 2e-6, "{z}");
    }
    assert_eq!((values::upper_tail(f64::NAN), values::upper_tail(f64::INFINITY)), (1.0, 0.0));
    assert_eq!(values::benjamini_hochberg(vec![0.001, 0.5, 0.012, 0.9], 0.05), 0.012);
    assert_eq!(values::benjamini_hochberg(vec![0.9], 0.05), -1.0);
}

/// Before the scan ends, what was found so far is reported, and it is of use: the cause is in it already.
#[test]
fn findings_come_before_the_end() {
    let case = case(7, 0.5);
    let reported = parking_lot::Mutex::new(Vec::new());
    let done = compared_following(
        &case,
        Some(&|progress| {
            if let Progress::Differs(findings) = progress {
                reported.lock().push(findings);
            }
        }),
    );
    let reported = reported.into_inner();
    assert!(!reported.is_empty(), "nothing was reported before the end");
    let last = reported.last().unwrap();
    assert!(last.iter().any(|f| case.causes.contains(&f.query)), "{:?} is not in {last:?}", case.causes);
    let ranges: Vec<f64> = last.iter().map(|f| f.score).collect();
    assert!(ranges.is_sorted_by(|a, b| a >= b) && ranges.len() <= 12);
    // The trend of a finding goes along both sets, and is what its figures are the mean of.
    let best = done.findings.iter().find(|f| f.kind == FindingKind::Value).unwrap();
    let trend = best.trend.as_ref().unwrap();
    assert_eq!((trend.baseline.len(), trend.current.len()), (BLOCKS, BLOCKS));
    let within = |along: &[f64], mean: f64| {
        let (least, most) = along.iter().fold((1.0f64, 0.0f64), |(a, b), n| (a.min(*n), b.max(*n)));
        least <= mean && mean <= most
    };
    assert!(within(&trend.baseline, best.baseline) && within(&trend.current, best.current));
}

/// A trace counts once, in however many pages it stands.
#[test]
fn a_trace_of_many_pages_is_one_request() {
    let case = case(3, 0.0);
    // Pages by service: each request's events stand in five pages.
    let mut events = case.events;
    events.iter_mut().enumerate().for_each(|(n, event)| event.service = format!("s{}", n % 5));
    events.sort_by(|a, b| (&a.service, a.time_ns).cmp(&(&b.service, b.time_ns)));
    let compared = compared(&Case { events: numbered(events), causes: Vec::new() });
    let (requests, events) = (compared.current.units, compared.current.events);
    assert!((requests as f64 / REQUESTS as f64 - 1.0).abs() < 0.03, "{requests} requests of {REQUESTS}");
    assert_eq!(events, REQUESTS * EACH);
}

/// A request that stands in many pages does not stand for as many requests.
#[test]
fn one_request_of_many_pages_is_no_finding() {
    let event = |n: i64, at: i64, status: Status| Event {
        time_ns: at,
        kind: calvex_language::model::Kind::Span,
        status: Some(status),
        trace: Some([u8::try_from(n).unwrap() + 1; 16]),
        ..Event::default()
    };
    let before = (0..40).map(|n| event(n % 2, n * MINUTE_NS, Status::Ok));
    let after = (0..40).map(|n| event(2, 60 * MINUTE_NS + n * MINUTE_NS, Status::Error));
    let mut shelf = Shelf::default();
    let found = |events: Vec<Event>, shelf: &mut Shelf| {
        let view = shelf.seal(&numbered(events), 2);
        let side = |set: i64| Side {
            filter: &Filter::All,
            range: TimeRange { from_ns: set * 60 * MINUTE_NS, to_ns: (set + 1) * 60 * MINUTE_NS },
            whole: false,
        };
        compare(&scope(&view, shelf), &side(0), &side(1))
    };
    let one = found(before.chain(after).collect(), &mut shelf);
    assert_eq!((one.baseline.units, one.current.units, one.current.events), (2, 1, 40));
    assert!(one.findings.is_empty(), "{:#?}", one.findings);
    // As many events of as many requests are one.
    let before = (0..40).map(|n| event(n, n * MINUTE_NS, Status::Ok));
    let after = (0..40).map(|n| event(n + 40, 60 * MINUTE_NS + n * MINUTE_NS, Status::Error));
    let many = found(before.chain(after).collect(), &mut shelf);
    assert!(many.findings.iter().any(|f| f.query == "status=error"), "{:#?}", many.findings);
}

/// What began a moment ago stands out: the blocks before it are no noise.
#[test]
fn what_began_within_the_current_set_is_found() {
    let case = case(11, 0.0);
    let mut events = case.events;
    let onset = 105 * MINUTE_NS;
    for event in events.iter_mut().filter(|event| event.time_ns >= onset) {
        event.fields.push((Path::root("lease"), Value::Int(12)));
    }
    let began = compared(&Case { events: numbered(events), causes: Vec::new() });
    assert!(first(&began, 1).contains(&"lease=12".to_owned()), "{:?}", first(&began, 3));
}
