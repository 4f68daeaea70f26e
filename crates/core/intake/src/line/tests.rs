use super::*;
use calvex_language::model::time::{SECOND_NS, format_utc, parse_time};
use proptest::prelude::*;

const ARRIVED: &str = "2026-10-04T02:40:00Z";

fn arrived() -> i64 {
    parse_time(ARRIVED).unwrap()
}

/// What a pattern makes of a line: `name=value` each, or where it misses.
fn cut(pattern: &str, line: &str) -> String {
    match Pattern::parse(pattern).unwrap().cut(line, arrived()) {
        Ok(cuts) => cuts.iter().map(|c| format!("{}={c}", c.name)).collect::<Vec<_>>().join("; "),
        Err(miss) => format!("column {}: {miss}", line[..miss.at].chars().count() + 1),
    }
}

#[test]
fn lines_of_several_teams() {
    for (pattern, line, reported) in [
        (
            "{time} {severity} [{word thread}] {word logger}: {rest message}",
            "2026-10-04 02:38:41,198 WARN  [worker-3] slots.lease: lease LS-90817 ran out",
            "time=2026-10-04T02:38:41.198000000Z; severity=WARN; thread=worker-3; logger=slots.lease; message=lease LS-90817 ran out",
        ),
        (
            "{address peer} - {word user} [{time}] {quoted request} {number status} {number bytes}",
            r#"10.4.0.7 - - [04/Oct/2026:02:38:41 +0200] "GET /parcels/\"1\" HTTP/1.1" 504 -1.5e3"#,
            "peer=10.4.0.7; user=-; time=2026-10-04T00:38:41.000000000Z; request=GET /parcels/\"1\" HTTP/1.1; status=504; bytes=-1500.0",
        ),
        (
            "{either}lease {word lease}{or}no lease{end} at bank {word bank}{either}, took {number took_ms} ms{or}{end}",
            "lease LS-1 at bank BK-017, took 12 ms",
            "lease=LS-1; bank=BK-017; took_ms=12",
        ),
        (
            "{either}lease {word lease}{or}no lease{end} at bank {word bank}{either}, took {number took_ms} ms{or}{end}",
            "no lease at bank BK-002",
            "bank=BK-002",
        ),
        (
            "belt {{{number belt}} {text what} jam",
            "belt {4} after a long day, a jam",
            "belt=4; what=after a long day, a",
        ),
        ("{word a}]{rest b}", "x]y]z", "a=x; b=y]z"),
        ("{text a}: {rest b}", "one: two: three", "a=one; b=two: three"),
        ("door {number n} {rest why}", "door 17 ", "n=17; why="),
        ("{word} {number n}", "door 17", "n=17"),
        ("{address a}: gone", "bank-17.fennmark.example:8443: gone", "a=bank-17.fennmark.example:8443"),
        ("at {rest stack}", "  at line 1\n  at line 2\n", "stack=line 1\n  at line 2"),
    ] {
        assert_eq!(cut(pattern, line), reported, "{pattern}");
    }
}

#[test]
fn a_miss_says_where_and_what_was_expected() {
    for (pattern, line, reported) in [
        ("{time} {severity} {rest m}", "2026-10-04 02:38:41 LOUD x", "column 21: expected a severity"),
        ("door {number n} open", "door seventeen open", "column 6: expected a number"),
        ("door {number n} open", "door 17 opened", "column 13: expected the end of the line"),
        ("[{word t}] ok", "[worker ok", "column 8: expected `]`"),
        ("{text a} - {rest b}", "no dash here", "column 1: expected a blank or `-` somewhere after"),
        ("took {text a}ms", "took forever", "column 6: expected `ms` somewhere after"),
        ("{either}a{or}b{end} {number n}", "c 1", "column 1: expected `a` or `b`"),
        ("{quoted q}", "\"open", "column 1: expected quoted text"),
    ] {
        assert_eq!(cut(pattern, line), reported, "{pattern}");
    }
}

#[test]
fn mistakes_have_a_place_and_a_cure() {
    for (pattern, reported) in [
        ("", "column 1: the pattern is empty; try {time} {severity} {rest message}"),
        ("a {word", "column 3: this hole is not closed; add }, or write {{ for the sign itself"),
        (
            "é{thread}",
            "column 2: `thread` is no kind of hole; the kinds are time, severity, word, number, quoted, address, text, rest; write {word thread} to keep a word under that name",
        ),
        ("{either}a{or}b", "column 1: these alternatives have no {end}"),
        ("a{or}b", "column 6: {or} without {either} before it"),
        ("{word a}{text b}", "column 9: nothing parts text from a word before it; put text or a blank between"),
        ("{number a b}", "column 1: `a b` cannot be a name; use one word, dots between its parts"),
    ] {
        assert_eq!(Pattern::parse(pattern).map_err(|m| m.to_string()).err().as_deref(), Some(reported), "{pattern}");
    }
}

#[test]
fn times_in_many_spellings() {
    for (text, reported, left) in [
        ("2026-10-04T02:38:41.198204331Z x", "2026-10-04T02:38:41.198204331Z", " x"),
        ("2026-10-04 02:38:41,198 x", "2026-10-04T02:38:41.198000000Z", " x"),
        ("2026/10/04 04:38:41+0200", "2026-10-04T02:38:41.000000000Z", ""),
        ("Oct  4 02:38:41 slots-1", "2026-10-04T02:38:41.000000000Z", " slots-1"),
        ("Dec 31 23:59:59 slots-1", "2025-12-31T23:59:59.000000000Z", " slots-1"),
        ("Sun Oct  4 02:38:41 2026", "2026-10-04T02:38:41.000000000Z", ""),
        ("04/Oct/2026:02:38:41 +0000]", "2026-10-04T02:38:41.000000000Z", "]"),
        ("Sun, 04 Oct 2026 02:38:41 GMT", "2026-10-04T02:38:41.000000000Z", ""),
        ("1791081521.198 x", "2026-10-04T02:38:41.198000000Z", " x"),
        ("1791081521198 x", "2026-10-04T02:38:41.198000000Z", " x"),
        ("02:38:41.5 x", "2026-10-04T02:38:41.500000000Z", " x"),
        ("23:10:00 x", "2026-10-03T23:10:00.000000000Z", " x"),
    ] {
        let (ns, length) = leading_time(text, arrived()).unwrap_or_else(|| panic!("{text}"));
        assert_eq!((format_utc(ns, 9).as_str(), &text[length..]), (reported, left), "{text}");
    }
    for text in ["", "door 17", "2026-13-04 02:38:41", "12345678901", "March on", "25:00:00", "monday"] {
        assert_eq!(leading_time(text, arrived()), None, "{text}");
    }
}

#[test]
fn no_line_takes_for_ever() {
    let pattern = Pattern::parse(&"{text a}x".replace("{text a}x", &"{text a}x".repeat(30))).unwrap();
    assert!(pattern.cut(&"y".repeat(20_000), 0).is_err());
}

/// Samples in which little varies, or only the text does: what is a value by its kind is a hole all the same.
#[test]
fn patterns_of_uniform_lines() {
    let forms: [(&str, &[&str], &str); 5] = [
        (
            "2026/11/23 06:25:29 [notice] 28758#28758: {}",
            &[
                "using the \"epoll\" event method",
                "exiting",
                "start worker processes",
                "signal 1 (SIGHUP) received from 1",
            ],
            "{time} [{severity}] {word pid}: {rest message}",
        ),
        (
            "2026-11-23 06:25:29.117 UTC [4711] {}",
            &["connection received", "checkpoint complete: wrote 17 buffers", "lease table vacuumed"],
            "{time} [{number pid}] {rest message}",
        ),
        (
            "2026-11-23T06:25:29Z lease {} from 10.4.0.7:4431 to bank 17",
            &["granted", "renewed"],
            "{time} lease {word word1} from {address peer} to bank {number bank}",
        ),
        (
            "10.4.0.7 - - [23/Nov/2026:06:25:29 +0000] \"GET /parcels/{} HTTP/1.1\" 200 512 \"-\" \"locker-agent/2.{}\"",
            &["PX-1", "PX-2", "PX-3"],
            "{address peer} - - [{time}] {quoted request} {number status} {number bytes} \"-\" {quoted agent}",
        ),
        (
            "2026-11-23T06:25:29Z client: 10.4.0.7, door 17, said \"{}\"",
            &["shut", "open"],
            "{time} client: {address client}, door {number door}, said {quoted said}",
        ),
    ];
    for (form, texts, expected) in forms {
        let lines: Vec<String> = (0..200).map(|n| form.replace("{}", texts[n % texts.len()])).collect();
        let lines: Vec<&str> = lines.iter().map(String::as_str).collect();
        let (learnt, left) = learn(&lines, arrived());
        let reported: Vec<(&str, usize)> = learnt.iter().map(|l| (l.pattern.text(), l.lines)).collect();
        assert_eq!((reported, left), (vec![(expected, 200)], 0), "{form}");
    }
}

#[test]
fn patterns_are_learnt_from_lines() {
    let words = ["ran out", "was given back early", "could not be renewed today", "is still held by a courier"];
    let mut lines: Vec<String> = (0..400)
        .map(|n| {
            let time = format_utc(arrived() + n * SECOND_NS, 3);
            let severity = ["INFO", "WARN", "ERROR"][n as usize % 3];
            format!("{time} {severity} [worker-{}] slots.lease{}: lease LS-{n} {}", n % 4, n % 3, words[n as usize % 4])
        })
        .collect();
    lines.extend(
        (0..100).map(|n| format!("10.4.0.{n} \"GET /parcels/{n} HTTP/1.1\" status={} took_ms={n}.5", 200 + n % 3)),
    );
    let lines: Vec<&str> = lines.iter().map(String::as_str).collect();
    let (learnt, left) = learn(&lines, arrived());
    let reported: Vec<(&str, usize)> = learnt.iter().map(|l| (l.pattern.text(), l.lines)).collect();
    assert_eq!(
        reported,
        [
            ("{time} {severity} [{word thread}] {word logger}: lease {rest message}", 400),
            ("{address peer} {quoted request} status={number status} took_ms={number took_ms}", 100),
        ]
    );
    assert_eq!(left, 0);
}

proptest! {
    #[test]
    fn any_pattern_and_line_end_without_panic(pattern in "[ -~é]{0,40}", line in "\\PC{0,60}") {
        if let Ok(pattern) = Pattern::parse(&pattern) {
            let _ = pattern.cut(&line, 0);
        }
    }

    #[test]
    fn what_is_cut_stands_in_the_line(line in "[a-c0-9 :\\[\\]\"é]{0,30}") {
        let pattern = Pattern::parse("{either}{word a}:{or}[{text b}] {end}{either}{number n}{or}{quoted q}{or}{end}{rest r}").unwrap();
        if let Ok(cuts) = pattern.cut(&line, 0) {
            let mut end = 0;
            for cut in cuts {
                prop_assert!(cut.range.start >= end);
                end = cut.range.end;
                prop_assert!(line.is_char_boundary(cut.range.start) && line.is_char_boundary(end));
            }
        }
    }

    #[test]
    fn learning_from_anything_gives_patterns_that_fit(lines in proptest::collection::vec("\\PC{0,40}", 0..20)) {
        let lines: Vec<&str> = lines.iter().map(String::as_str).collect();
        let (learnt, left) = learn(&lines, 0);
        let samples = lines.iter().filter(|l| !l.trim_end().is_empty()).count();
        prop_assert_eq!(learnt.iter().map(|l| l.lines).sum::<usize>() + left, samples);
        for l in learnt {
            prop_assert!(l.pattern.cut(&l.example, 0).is_ok());
        }
    }
}
