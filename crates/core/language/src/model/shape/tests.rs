//! What varies in messages, and how well shapes follow the lines of code that wrote them (`../golden/sources.txt`).

use super::*;
use crate::model::template::shown;
use proptest::prelude::*;
use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write;

fn shape(message: &str) -> String {
    shown(&of_message(message, |_| {}))
}

#[test]
fn what_varies_is_left_out() {
    for (message, expected) in [
        ("lease LS-90817 ran out 14.2 s before door 17", "lease LS-‹› ran out ‹› s before door ‹›"),
        ("signed in user=anna store=north", "signed in user=‹› store=‹›"),
        ("relation \"orders\" is not there", "relation \"‹›\" is not there"),
        ("can't open 'north gate', drivers' list is empty", "can't open '‹›', drivers' list is empty"),
        ("kept file=spool/164/26 twice", "kept file=‹› twice"),
        ("wrote /srv/lockers/north/state.db.", "wrote ‹›."),
        ("GET https://edge.test/a?b=c&d=e answered", "‹› ‹› answered"),
        ("sent body: {\"user\": {\"name\": \"anna\"}} twice", "sent body: ‹› twice"),
        ("mail to anna@fennmark.test bounced", "mail to ‹› bounced"),
        ("read/write of and/or over TCP/IP", "read/write of and/or over TCP/IP"),
        ("took Lease(id=17, bank=BK-3) back", "took Lease(‹›) back"),
        ("doors [4, 5, 6] of [main] are [] open", "doors [‹›] of [‹›] are [‹›] open"),
        ("[all of it]", "[all of it]"),
        ("closed (reset by peer) in close()", "closed (‹›) in close()"),
        ("DELETE /parcels/7 refused, DELETE everything", "‹› ‹› refused, DELETE everything"),
        ("slots-3 asked edge.fennmark.test:8443, e.g. LS-4.", "‹› asked ‹›, e.g. LS-‹›."),
        ("receipts.rates.RatesOld: too old", "receipts.rates.RatesOld: too old"),
        ("door moved from OPEN to HELD.", "door moved from ‹› to ‹›."),
        ("from the door to the bank", "from the door to the bank"),
        ("session opened for user anna(uid=1004)", "session opened for user ‹›(‹›)"),
        ("Invalid user anna from 10.0.0.7", "Invalid user ‹› from ‹›"),
        (
            "user agent from the door, user input (raw) of group north",
            "user agent from the door, user input (‹›) of group north",
        ),
        ("no file \"a.b\": not there", "no file \"‹›\": not there"),
        ("amqp://worker@db-3/station", "‹›"),
        ("doors 4, 5, 6 open", "doors ‹› open"),
        ("from 10.0.3.4:8080 at 02:38:11.5", "from ‹› at ‹›"),
        ("moved by -5 to 7-9", "moved by ‹› to ‹›"),
        ("{\"user\":\"anna\",\"n\":3,\"ok\":true}", "{\"user\":\"‹›\",\"n\":‹›,\"ok\":‹›}"),
        ("msg=\"lease ran out\" bank=north", "msg=\"lease ran out\" bank=‹›"),
        ("event=door_opened door=north", "event=door_opened door=‹›"),
        ("a = b, c == d, e => f, g >= h", "a = ‹›, c == d, e => f, g >= h"),
        ("user= left", "user=‹› left"),
        ("cached: true, valid: null, state: open", "cached: ‹›, valid: ‹›, state: open"),
        ("Schließfach „Nord“ öffnet nicht", "Schließfach „‹›“ öffnet nicht"),
        ("", ""),
        ("=", "="),
        ("(", "("),
        ("x(\"", "x(\""),
    ] {
        assert_eq!(shape(message), expected, "{message}");
    }
}

#[test]
fn what_stands_in_the_holes_is_reported() {
    let mut found = Vec::new();
    of_message("lease LS-9 of user=anna at 10.0.0.7 in [a, 4]", |v| found.push(v.to_owned()));
    assert_eq!(found, ["9", "anna", "10.0.0.7", "a, 4"]);
}

/// Shapes are for ever: these ids must never change.
#[test]
fn ids_are_stable() {
    assert_eq!(id_of("lease LS-90817 ran out"), id_of("lease LS-4 ran out"));
    assert_eq!(id_of("lease LS-90817 ran out"), "8fb8f6f3c59d0486");
    assert_eq!(id_of_version_1("lease LS-\u{1a} ran out"), "8cb8f6f3c59d0486");
}

/// How well shapes follow the lines of code that wrote the messages, over twelve kinds of logs: a message counts where
/// its shape holds all messages of its line and no other's.
#[test]
fn shapes_follow_their_sources() {
    let mut report = String::new();
    let (mut right, mut all) = (0, 0);
    for kind in include_str!("../golden/sources.txt").split("# ").skip(1) {
        let (name, lines) = kind.split_once('\n').unwrap();
        let lines: Vec<(&str, &str)> = lines.lines().filter_map(|l| l.split_once('\t')).collect();
        let mut sources: BTreeMap<&str, BTreeSet<String>> = BTreeMap::new();
        let mut shapes: BTreeMap<String, BTreeSet<&str>> = BTreeMap::new();
        for (source, message) in &lines {
            sources.entry(source).or_default().insert(shape(message));
            shapes.entry(shape(message)).or_default().insert(source);
        }
        let is_right = |source: &str, message: &str| sources[source].len() == 1 && shapes[&shape(message)].len() == 1;
        let of_kind = lines.iter().filter(|(source, message)| is_right(source, message)).count();
        writeln!(report, "{name}: {of_kind} of {}", lines.len()).unwrap();
        for (source, shapes) in sources.iter().filter(|(_, shapes)| shapes.len() > 1) {
            writeln!(report, "  {source}: {shapes:?}").unwrap();
        }
        let merged: Vec<_> = shapes.iter().filter(|(_, sources)| sources.len() > 1).collect();
        assert!(merged.is_empty(), "{name}: lines of code of one shape: {merged:?}");
        (right, all) = (right + of_kind, all + lines.len());
    }
    assert!(right * 100 >= all * 90, "{right} of {all}\n{report}");
}

proptest! {
    #[test]
    fn any_text_is_cut_and_comes_together_again(message in "[a-c0-9=\"'()\\[\\]{},:/.@ \\-\u{1a}é“”]{0,80}|.{0,200}") {
        let mut variables = Vec::new();
        let shape = of_message(&message, |v| variables.push(v.to_owned()));
        prop_assert_eq!(crate::model::template::holes(&shape), variables.len());
        let mut back = String::new();
        join(&shape, variables.iter().map(String::as_str), &mut back);
        prop_assert_eq!(back, message);
    }
}
