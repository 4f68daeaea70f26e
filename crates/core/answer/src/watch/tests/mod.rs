//! Each form at its edges of time; documents with mistakes; judging by and by is judging at once.

pub(super) mod by_turns;
mod edges;
mod rhythm;

use super::*;
use crate::testing::{Shelf, numbered, scope};
use calvex_language::model::{Event, Path, Severity, Value};
use calvex_language::query::Ties;

const SECOND: i64 = 1_000_000_000;
const MINUTE: i64 = 60 * SECOND;
const HOUR: i64 = 60 * MINUTE;
const DAY: i64 = 24 * HOUR;

fn event(time_ns: i64, service: &str, message: &str, fields: &[(&str, &str)]) -> Event {
    let fields = fields.iter().map(|(name, value)| (Path::root(name), Value::Text((*value).into()))).collect();
    Event {
        time_ns,
        service: service.into(),
        severity: Severity(9),
        message: message.into(),
        fields,
        ..Event::default()
    }
}

fn rule(text: &str) -> Rule {
    RuleDocument::read(text, &Ties::default()).unwrap_or_else(|mistakes| panic!("{text}\n{mistakes:?}"))
}

/// The strips of a rule over events.
fn read(rule: &Rule, events: &[Event], moments: Moments, known: &Known) -> Strips {
    let mut shelf = Shelf::default();
    let mut events = events.to_vec();
    events.sort_by_key(|event| event.time_ns);
    let view = shelf.seal(&numbered(events), 512);
    strips(&scope(&view, &shelf), rule, moments, known, &mut Rings::default())
}

/// The alerts over events: when each was raised and ended, in steps of the rule, and of which groups.
fn alerts(rule: &Rule, events: &[Event], (from_ns, until_ns): (i64, i64)) -> Vec<(i64, Option<i64>, Vec<String>)> {
    let moments = Moments::between(from_ns, until_ns, rule.step_ns);
    let strips = read(rule, events, moments, &Known::default());
    assert_eq!(strips.incomplete, None);
    let alerts = replay(&strips, &moments, &rule.bound, rule.hold_ns);
    alerts.into_iter().map(|a| (a.raised_ns, a.ended_ns, a.groups)).collect()
}

#[test]
fn a_threshold_is_judged_at_every_step_and_group() {
    let rule = rule("name='leases'\nfor='1m'\n[threshold]\nevents='\"ran out\"'\nper=['service']\nover='5m'\nabove=10");
    assert_eq!((rule.step_ns, rule.hold_ns, rule.delay_ns), (30 * SECOND, MINUTE, 30 * SECOND));
    // Twelve at once, of slots alone; edge has ten, which is not above.
    let mut events: Vec<Event> = (0..12).map(|n| event(HOUR + n, "slots", "lease ran out", &[])).collect();
    events.extend((0..10).map(|n| event(HOUR + n, "edge", "lease ran out", &[])));
    events.extend((0..50).map(|n| event(HOUR + n, "slots", "lease held", &[])));
    let found = alerts(&rule, &events, (0, 2 * HOUR));
    // They stand in the windows that end 30 s to 5 min after the full hour; so for a minute at the third of these.
    let first = HOUR + 30 * SECOND;
    assert_eq!(found, [(first + MINUTE, Some(HOUR + 5 * MINUTE + 30 * SECOND), vec!["slots".to_owned()])]);
    // A window that ends at the events' own time does not hold them: ranges end before their end.
    let exact = [event(HOUR, "slots", "ran out", &[])];
    let moments = Moments::between(HOUR - MINUTE, HOUR + MINUTE, rule.step_ns);
    let strips = read(&rule, &exact, moments, &Known::default());
    assert_eq!(strips.strips[0].values, [0.0, 0.0, 1.0, 1.0]);
}

#[test]
fn a_measure_without_events_is_neither_above_nor_below() {
    let below = rule("name='slow'\n[threshold]\nmeasure='mean(n)'\nover='1m'\nbelow=5");
    let mut fast = event(HOUR, "slots", "x", &[]);
    fast.fields = vec![(Path::root("n"), Value::Int(3))];
    assert_eq!(alerts(&below, &[fast], (0, 2 * HOUR)).len(), 1);
    assert_eq!(alerts(&below, &[event(HOUR, "slots", "x", &[])], (0, 2 * HOUR)), []);
    // A count is a number where nothing comes, too.
    let few = rule("name='few'\n[threshold]\nover='10m'\nbelow=1");
    assert_eq!(alerts(&few, &[event(HOUR, "slots", "x", &[])], (HOUR - MINUTE, HOUR + 20 * MINUTE)).len(), 2);
}

#[test]
fn a_share_needs_events() {
    let rule = rule("name='s'\n[share]\nof='failed'\nover='10m'\nabove=0.5\nleast=4");
    let all = |n: i64, message: &str| (0..n).map(|k| event(HOUR + k, "edge", message, &[])).collect::<Vec<_>>();
    assert_eq!(alerts(&rule, &all(3, "failed"), (0, 2 * HOUR)), []);
    assert_eq!(alerts(&rule, &all(4, "failed"), (0, 2 * HOUR)).len(), 1);
    assert_eq!(alerts(&rule, &[all(4, "failed"), all(4, "fine")].concat(), (0, 2 * HOUR)), []);
}

#[test]
fn silence_is_counted_in_usual_gaps() {
    let rule = rule("name='silent'\n[silence]\nper=['service']\ntimes=3");
    // Both send every two minutes; sorter stops at the third hour and comes back at the fifth.
    let mut events: Vec<Event> = (0..240).map(|n| event(n * 2 * MINUTE, "edge", "x", &[])).collect();
    let sorter = (0..240).map(|n| n * 2 * MINUTE).filter(|at| !(3 * HOUR..5 * HOUR).contains(at));
    events.extend(sorter.map(|at| event(at, "sorter", "x", &[])));
    let found = alerts(&rule, &events, (0, 8 * HOUR));
    let (raised, ended, groups) = &found[0];
    assert_eq!((found.len(), groups.as_slice()), (1, ["sorter".to_owned()].as_slice()), "{found:?}");
    // Last seen two minutes before the third hour; three gaps later it is silent.
    assert!((3 * HOUR + 4 * MINUTE..3 * HOUR + 5 * MINUTE + MINUTE).contains(raised), "{raised}");
    assert!((5 * HOUR..5 * HOUR + MINUTE).contains(&ended.unwrap()), "{ended:?}");
    // Few gaps are no usual.
    let few: Vec<Event> = (0..10).map(|n| event(n * MINUTE, "edge", "x", &[])).collect();
    let moments = Moments::between(0, 8 * HOUR, rule.step_ns);
    assert!(read(&rule, &few, moments, &Known::default()).learning);
}

#[test]
fn first_seen_is_what_was_not_there_for_long() {
    let rule = rule("name='new'\n[first-seen]\nwhat='zone'\nunseen='2d'\nover='1h'");
    let hourly = |zone: &'static str| (0..24 * 6).map(move |n| event(n * HOUR, "edge", "x", &[("zone", zone)]));
    let mut events: Vec<Event> = hourly("north").collect();
    // South comes on the fourth day, twice, and again after more than two days; west after less.
    events.extend([3 * DAY, 3 * DAY + HOUR, 5 * DAY + 3 * HOUR].map(|at| event(at, "edge", "x", &[("zone", "south")])));
    events.extend([4 * DAY, 5 * DAY].map(|at| event(at, "edge", "x", &[("zone", "west")])));
    let found = alerts(&rule, &events, (0, 6 * DAY));
    let seen: Vec<(i64, &str)> = found.iter().map(|(at, _, groups)| (at / HOUR, groups[0].as_str())).collect();
    assert_eq!(seen, [(72, "south"), (96, "west"), (123, "south")]);
    assert_eq!(found[0].1.unwrap() - found[0].0, HOUR);
    // What begins a lane is not new: there was nothing for as long.
    let moments = Moments::between(0, DAY, rule.step_ns);
    let strips = read(&rule, &events, moments, &Known::default());
    assert!(strips.learning && strips.strips.is_empty());
}

#[test]
fn a_deviation_is_from_the_same_time_of_earlier_days() {
    let text = "name='rate'\n[deviation]\nover='5m'\nabove=5\nleast=20\nlike='day'";
    // Busy at noon, quiet at night, every day; on the sixth day the night is as busy as noon.
    let busy = |at: i64| if (10..14).contains(&(at / HOUR % 24)) { 12 } else { 2 };
    let mut events = Vec::new();
    for minute in 0..6 * 24 * 60 {
        let at = minute * MINUTE;
        let many = if (5 * DAY + 3 * HOUR..5 * DAY + 3 * HOUR + 30 * MINUTE).contains(&at) { 12 } else { busy(at) };
        events.extend((0..many + minute % 3 % 2).map(|n| event(at + n * SECOND, "edge", "x", &[])));
    }
    let rule_of_day = rule(text);
    let found = alerts(&rule_of_day, &events, (4 * DAY, 6 * DAY));
    assert_eq!(found.len(), 1, "{found:?}");
    assert_eq!(found[0].0 / HOUR, 5 * 24 + 3);
    assert!(found[0].1.unwrap() <= 5 * DAY + 3 * HOUR + 40 * MINUTE);
    // It knows what it expected.
    let moments =
        Moments::between(5 * DAY + 3 * HOUR + 10 * MINUTE, 5 * DAY + 3 * HOUR + 12 * MINUTE, rule_of_day.step_ns);
    let strips = read(&rule_of_day, &events, moments, &Known::default());
    let (was, usual) = strips.strips[0].usual[0];
    assert!(was >= 60.0 && (9.0..14.0).contains(&usual), "{was} where {usual} is usual");
    // A week has not passed six times: it learns.
    let weekly = rule(&text.replace("'day'", "'week'"));
    let moments = Moments::between(5 * DAY, 6 * DAY, weekly.step_ns);
    let strips = read(&weekly, &events, moments, &Known::default());
    assert!(strips.learning && replay(&strips, &moments, &weekly.bound, 0).is_empty());
}

/// The events of the first weeks are gone: what was measured then is kept, and the rule judges as before.
#[test]
fn a_deviation_knows_its_own_past_beyond_the_events() {
    let rule = rule("name='rate'\n[deviation]\nover='5m'\nabove=5\nleast=20\nlike='week'");
    let mut events = Vec::new();
    for minute in 0..5 * 7 * 24 * 12 {
        let at = minute * 5 * MINUTE;
        let is_odd = (32 * DAY + 3 * HOUR..32 * DAY + 4 * HOUR).contains(&at);
        events.extend((0..if is_odd { 60 } else { 9 + minute % 3 }).map(|n| event(at + n * SECOND, "edge", "x", &[])));
    }
    let moments = Moments::between(32 * DAY, 33 * DAY, rule.step_ns);
    let whole = read(&rule, &events, moments, &Known::default());
    let shelf_of = |events: &[Event]| {
        let mut shelf = Shelf::default();
        let view = shelf.seal(&numbered(events.to_vec()), 512);
        (view, shelf)
    };
    let (view, shelf) = shelf_of(&events);
    let mut usual = Usual::default();
    for day in 0..30 {
        let figures = usual_day(&scope(&view, &shelf), &rule, day).unwrap();
        let bytes = encode_usual_day(&figures).unwrap();
        usual.add(day, rule.step_ns, decode_usual_day(&bytes).unwrap());
    }
    let left: Vec<Event> = events.iter().filter(|event| event.time_ns >= 31 * DAY).cloned().collect();
    let alone = read(&rule, &left, moments, &Known::default());
    assert!(alone.learning && !whole.learning);
    let known = Known { usual: std::sync::Arc::new(usual), ..Known::default() };
    let kept = read(&rule, &left, moments, &known);
    assert!(!kept.learning);
    let raised = |strips: &Strips| replay(strips, &moments, &rule.bound, 0).len();
    assert_eq!((raised(&whole), raised(&kept)), (1, 1));
    // Of days that are kept every figure is the same.
    let far = whole.strips[0].values.iter().zip(&kept.strips[0].values).filter(|(a, b)| (**a - **b).abs() > 1e-9);
    assert_eq!(far.count(), 0);
}

#[test]
fn an_objective_burns_by_two_windows() {
    let rule = rule("name='o'\n[objective]\nall='service=edge'\ngood='ok'\npercent=99\nperiod='30d'");
    // Ten a minute; in the 30th hour a third of them fail for an hour: 33 times the rate that the budget allows.
    let failing = 30 * HOUR..31 * HOUR;
    let events: Vec<Event> = (0..40 * 60 * 10)
        .map(|n| {
            let at = n * 6 * SECOND;
            let message = if failing.contains(&at) && n % 3 == 0 { "failed" } else { "ok" };
            event(at, "edge", message, &[])
        })
        .collect();
    let moments = Moments::between(25 * HOUR, 40 * HOUR, rule.step_ns);
    let strips = read(&rule, &events, moments, &Known::default());
    let names: Vec<String> = strips.strips.iter().map(|s| s.group[0].to_string()).collect();
    assert_eq!(names, ["page", "ticket"]);
    let page = Strips { strips: vec![strips.strips[0].clone()], ..Strips::default() };
    let found = replay(&page, &moments, &rule.bound, 0);
    assert_eq!(found.len(), 1, "{found:?}");
    // 14.4 times the rate over an hour is reached when 0.432 of its 0.333 failing have gone by; it ends minutes after.
    let (raised, ended) = (found[0].raised_ns - failing.start, found[0].ended_ns.unwrap() - failing.end);
    assert!((20 * MINUTE..30 * MINUTE).contains(&raised), "{raised}");
    assert!((MINUTE..6 * MINUTE).contains(&ended), "{ended}");
}

#[test]
fn unfinished_counts_those_that_take_too_long() {
    let rule = rule("name='u'\n[unfinished]\nbegins='opened'\nends='closed'\ntie='door'\nwithin='10m'");
    let door = |at: i64, what: &str, door: &str| event(at, "locker-agent", what, &[("door", door)]);
    let events = [
        door(HOUR, "opened", "4"),
        door(HOUR + 9 * MINUTE, "closed", "4"),
        door(HOUR, "opened", "5"),
        door(HOUR + 30 * MINUTE, "closed", "5"),
        door(HOUR + 20 * MINUTE, "opened", "6"),
        event(HOUR, "locker-agent", "opened", &[]),
    ];
    let found = alerts(&rule, &events, (0, HOUR + 40 * MINUTE));
    assert_eq!(found.len(), 1, "door 5 is followed by door 6: {found:?}");
    assert!((HOUR + 10 * MINUTE..=HOUR + 12 * MINUTE).contains(&found[0].0));
    assert_eq!(found[0].1, None);
    let moments = Moments::between(0, HOUR + 40 * MINUTE, rule.step_ns);
    assert_eq!(read(&rule, &events, moments, &Known::default()).open, ["6"]);
    let two = rule.bound;
    assert!(two.is_passed(1.0) && !two.is_passed(0.0));
}

#[test]
fn error_groups_are_new_or_return() {
    let failed = |at: i64, message: &str| Event { severity: Severity(17), ..event(at, "slots", message, &[]) };
    let mut events: Vec<Event> = (0..24 * 9).map(|n| failed(n * HOUR, "belt 4 stands still")).collect();
    events.push(failed(8 * DAY + HOUR, "printer is out of paper"));
    let new = rule("name='n'\n[error-group]\nwhich='new'");
    let found = alerts(&new, &events, (0, 9 * DAY));
    assert_eq!(found.len(), 1, "{found:?}");
    assert_eq!(found[0].0 / HOUR, 8 * 24 + 1);
    // The first one is known; it was resolved on the eighth day and came again an hour later.
    let returned = rule("name='r'\n[error-group]\nwhich='returned'");
    let moments = Moments::between(7 * DAY, 9 * DAY, returned.step_ns);
    let strips_of = |resolved| read(&returned, &events, moments, &Known { resolved, ..Known::default() });
    let everything = read(
        &rule("name='t'\n[threshold]\nover='1h'\nper=['error_group']\nabove=0"),
        &events,
        moments,
        &Known::default(),
    );
    let id = everything.strips.iter().map(|s| s.group[0].to_string()).find(|id| id != "(missing)").unwrap();
    let resolved = Resolved { at_ns: 8 * DAY + 10 * MINUTE, returned_ns: None };
    let resolved = [(id, resolved)].into_iter().collect();
    let found = replay(&strips_of(resolved), &moments, &returned.bound, 0);
    assert_eq!(found.iter().map(|a| a.raised_ns / HOUR).collect::<Vec<_>>(), [8 * 24 + 1]);
    assert!(replay(&strips_of(Default::default()), &moments, &returned.bound, 0).is_empty());
}

const OF_EVERY_FORM: [&str; 8] = [
    "name='a'\n[threshold]\nmeasure='p90(n)'\nper=['service']\nover='5m'\nabove=3",
    "name='b'\n[share]\nof='two'\nover='5m'\nabove=0.3\nleast=2",
    "name='c'\n[silence]\nper=['service']",
    "name='d'\n[first-seen]\nwhat='zone'\nunseen='1h'\nover='10m'",
    "name='e'\n[deviation]\nover='5m'\nabove=2\nlike='day'",
    "name='f'\n[objective]\nall=''\ngood='two'\npercent=90\nperiod='1d'",
    "name='g'\n[unfinished]\nbegins='one'\nends='two'\ntie='zone'\nwithin='10m'",
    "name='h'\n[error-group]",
];

/// What is read by and by, with late events on the way, gives the values that reading all at once gives.
#[test]
fn judging_by_and_by_is_judging_at_once() {
    let mut events: Vec<Event> = (0..1800i64)
        .map(|n| {
            let message = ["one", "two", "three"][n as usize % 3];
            let zone = format!("z{}", n * n % 7);
            let mut event =
                event(n * 53 * SECOND, ["edge", "slots"][(n / 11 % 2) as usize], message, &[("zone", &zone)]);
            event.fields.push((Path::root("n"), Value::Int(n % 9)));
            event.severity = Severity(if n % 5 == 0 { 17 } else { 9 });
            event
        })
        .collect();
    let late = events.split_off(1700);
    // They come an hour behind the others, from a zone that was not heard of.
    let moved = |e: Event| event(25 * HOUR + e.time_ns % HOUR, &e.service, &e.message, &[("zone", "z9")]);
    let late: Vec<Event> = late.into_iter().map(moved).collect();
    for text in OF_EVERY_FORM {
        let rule = rule(text);
        let whole = Moments::between(24 * HOUR, 26 * HOUR, rule.step_ns);
        let all = read(&rule, &[events.clone(), late.clone()].concat(), whole, &Known::default());
        let mut rings = Rings::default();
        let mut shelf = Shelf::default();
        let before = shelf.seal(&numbered(events.clone()), 200);
        let mut values: Vec<Vec<f64>> = Vec::new();
        for (n, cut) in
            [(24 * HOUR, 25 * HOUR), (25 * HOUR, 25 * HOUR + 20 * MINUTE), (24 * HOUR, 26 * HOUR)].iter().enumerate()
        {
            let mut view = before.clone();
            if n == 2 {
                // The last turn goes back, as events came late.
                let mut sorted = late.clone();
                sorted.sort_by_key(|e| e.time_ns);
                view.extend(shelf.seal(&numbered(sorted), 200));
                rings.forget_from(25 * HOUR, rule.step_ns);
            }
            let moments = Moments::between(cut.0, cut.1, rule.step_ns);
            let found = strips(&scope(&view, &shelf), &rule, moments, &Known::default(), &mut rings);
            values = found.strips.into_iter().map(|s| s.values).collect();
        }
        let expected: Vec<Vec<f64>> = all.strips.iter().map(|s| s.values.clone()).collect();
        assert_eq!(format!("{values:?}"), format!("{expected:?}"), "{text}");
        // A kind of failure is new after a week without it, which has not passed.
        assert!(!expected.is_empty() || all.learning, "{text}");
    }
}

#[test]
fn a_rehearsal_counts_what_would_have_been() {
    let rule = rule("name='noisy'\nnotify=['on call']\n[threshold]\nover='1m'\nabove=2");
    let mut events = Vec::new();
    for n in 0..9i64 {
        // Bursts of a moment, and one that lasts.
        let long = if n == 4 { 20 } else { 1 };
        for minute in 0..long {
            events.extend((0..3).map(|k| event(n * 2 * HOUR + minute * MINUTE + k, "edge", "x", &[])));
        }
    }
    let moments = Moments::between(-HOUR, 47 * HOUR, rule.step_ns);
    let strips = read(&rule, &events, moments, &Known::default());
    let shown = rehearse(&strips, &moments, &rule);
    assert_eq!(shown.alerts.len(), 9);
    assert_eq!(shown.messages, 18);
    assert_eq!(shown.summary, "Raised 9 times in 2 days, 8 of them under 3 minutes; *for 1 minute* leaves 1.");
    assert!(shown.bins.len() <= 480 && shown.bins.iter().any(|bin| bin.most == Some(3.0)));
    // A bound that is dragged replays the same strips.
    let higher = Bound { number: 5.0, ..rule.bound };
    assert!(replay(&strips, &moments, &higher, 0).is_empty());
}

/// Documents with mistakes, and what is said of them: the documents stand between lines of dashes, the mistakes follow.
#[test]
fn golden_mistakes() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/src/watch/golden/mistakes.txt");
    let golden = std::fs::read_to_string(path).unwrap();
    let mut out = String::new();
    for case in golden.split("----\n").filter(|case| !case.trim().is_empty()) {
        let document = case.split("\n=>").next().unwrap().trim_end();
        let found = match RuleDocument::read(document, &Ties::default()) {
            Ok(rule) => format!("=> {}\n", rule.document.sentence()),
            Err(mistakes) => mistakes.iter().map(|m| format!("=> {m}\n")).collect(),
        };
        out += &format!("----\n{document}\n{found}");
    }
    if std::env::var_os("CALVEX_BLESS").is_some() {
        std::fs::write(path, &out).unwrap();
    }
    assert_eq!(out, golden);
}

#[test]
fn a_document_is_the_same_in_both_forms() {
    for text in OF_EVERY_FORM {
        let rule = rule(text);
        let json = serde_json::to_string_pretty(&rule.document).unwrap();
        let toml = toml::to_string(&rule.document).unwrap();
        for written in [json, toml] {
            let again = RuleDocument::read(&written, &Ties::default()).unwrap();
            assert_eq!(again, rule, "{written}");
        }
        assert!(rule.document.sentence().starts_with("when "), "{}", rule.document.sentence());
    }
    let long = format!("name = '{}'", "x".repeat(MAX_DOCUMENT_BYTES));
    assert!(RuleDocument::parse(&long).is_err());
}
