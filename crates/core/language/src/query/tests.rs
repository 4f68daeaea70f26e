//! Golden cases (`golden/*.txt`), the examples of the language's document, and properties of the parser.

use super::*;
use crate::model::time::parse_time;
use crate::model::{Event, Path, Severity, Value, parse_trace};
use proptest::prelude::*;

fn context() -> Context {
    Context::utc(parse_time("2026-10-04T02:40:00Z").unwrap())
}

/// Holds the answers of a file's cases against what they are now. A case is a query line and its answer; blank lines part
/// cases. `CALVEX_BLESS=1` writes the answers anew, to be read before they are committed.
fn golden(file: &str, least: usize, answer: impl Fn(&str) -> String) {
    let path = format!("{}/src/query/golden/{file}", env!("CARGO_MANIFEST_DIR"));
    let text = std::fs::read_to_string(&path).unwrap();
    let (mut reported, mut seen) = (String::new(), 0);
    for case in text.split("\n\n").filter(|c| !c.trim().is_empty()) {
        let query = case.trim_start_matches('\n').lines().next().unwrap_or("");
        reported.push_str(&format!("{query}{}\n\n", answer(query)));
        seen += 1;
    }
    if std::env::var_os("CALVEX_BLESS").is_some() {
        std::fs::write(path, &reported).unwrap();
    } else {
        assert_eq!(reported, text);
    }
    assert!(seen >= least, "only {seen} cases were read");
}

/// `=` has the canonical form and `?` warnings, or `!` each mistake.
#[test]
fn golden_cases() {
    golden("parse.txt", 40, |query| {
        let parsed = parse(query, &context());
        if !parsed.mistakes.is_empty() {
            return parsed.mistakes.iter().map(|m| format!("\n! {m}")).collect();
        }
        let warnings: String = parsed.warnings.iter().map(|w| format!("\n? {w}")).collect();
        format!("\n= {}{warnings}", parsed.query.canonical())
    });
}

/// What people type wrongly: each is understood, or answered with a warning or mistake.
#[test]
fn golden_slips() {
    let meant = ["= ", "? ", "! "];
    golden("slips.txt", 60, |query| {
        let parsed = parse(query, &context());
        let found: Vec<String> = parsed.mistakes.iter().map(|m| format!("\n! {m}")).collect();
        let warned = parsed.warnings.iter().map(|w| format!("\n? {w}"));
        let answer = match found.is_empty() {
            true => format!("\n= {}{}", parsed.query.canonical(), warned.collect::<String>()),
            false => found.concat(),
        };
        assert!(meant.iter().any(|m| answer.contains(m)));
        answer
    });
}

/// A node a line, set in by its depth; a token with its text.
fn drawn(node: &Syntax, query: &str, depth: usize, out: &mut String) {
    let kind = serde_json::to_value(node.kind).unwrap();
    out.push_str(&format!("\n{:>2$}{}", "", kind.as_str().unwrap(), depth * 2));
    if node.parts.is_empty() {
        let text: String = query.chars().skip(node.from).take(node.to - node.from).collect();
        out.push_str(&format!(" `{text}`"));
    }
    node.parts.iter().for_each(|part| drawn(part, query, depth + 1, out));
}

/// The trees that editors work on, whole and broken.
#[test]
fn golden_trees() {
    golden("trees.txt", 25, |query| {
        let mut out = String::new();
        drawn(&parse(query, &context()).syntax, query, 1, &mut out);
        out
    });
}

fn sample() -> Event {
    let text = |t: &str| Value::Text(t.into());
    let item = |a: i64| Value::Object(vec![("weight_g".into(), Value::Int(a))]);
    Event {
        time_ns: parse_time("2026-10-04T02:38:41.198204331Z").unwrap(),
        severity: Severity(13),
        service: "slots".into(),
        host: "slots-2".into(),
        message: "lease LS-90817 ran out 14.2 s before door 17 confirmed".into(),
        trace: parse_trace("5b8aa5a2d2c872e8321cf37308d69df2"),
        fields: vec![
            (Path::new(["slot", "bank"]), text("BK-017")),
            (Path::new(["slot.door"]), Value::Int(17)),
            (Path::root("late_by_ms"), Value::Int(14204)),
            (Path::root("http.status"), text("409")),
            (Path::root("tags"), Value::List(vec![text("night"), Value::Int(3)])),
            (Path::root("items"), Value::List(vec![item(2140), item(80)])),
            (Path::root("weight"), Value::Float(2.5)),
            (Path::root("ok"), Value::Bool(false)),
            (Path::root("gone"), Value::Null),
            (Path::root("status"), text("refused")),
            (Path::root("http.route"), text("/parcels/")),
        ],
        ..Event::default()
    }
}

#[test]
fn what_holds_for_one_event() {
    let yes = [
        "",
        "lease",
        "LEASE ls-90817",
        "leas*",
        "\"ran out\"",
        "BK-017",
        "slots",
        "17",
        "409",
        "14204",
        "night",
        "2140",
        "slot.bank=BK-017",
        "slot.door=17",
        "slot.door>=17",
        "slot.door<18",
        "slot.door!=18",
        "http.status=409",
        "late_by_ms>14s",
        "late_by_ms between 14s and 15s",
        "tags=night",
        "tags=3",
        "tags!=day",
        "items.weight_g=80",
        "items.weight_g>2000",
        "weight=2.5",
        "weight>2",
        "ok=false",
        "ok!=true",
        "has gone",
        "has slot",
        "has slot.bank",
        "severity=warn",
        "severity>=warn",
        "severity>info",
        "severity!=error",
        "severity in (warn, error)",
        "severity=13",
        "service ^= slo",
        "service $= ots",
        "message *= \"out 14.2\"",
        "message ~ /LS-\\d+/",
        "message ~ /lease/i",
        "trace=5b8aa5a2d2c872e8321cf37308d69df2",
        "5b8aa5a2d2c872e8321cf37308d69df2",
        "5b8aa5*",
        ".status=refused",
        "not has parcel",
        "lease or nothing",
        "(nothing or door) slots",
        "http.route=/parcels/",
        "host=slots-2",
        "time>=2026-10-04T02:38:41Z",
        "time>now-5m",
        "lane=main",
        "kind=log",
        "slot.bank in (BK-001, \"BK-017\")",
    ];
    let no = [
        "leases",
        "lea",
        "\"out ran\"",
        "slot.bank=bk-017",
        "slot.door=\"17\"",
        "slot.door!=17",
        "http.status>=400",
        "http.status!=409",
        "tags!=night",
        "missing=1",
        "missing!=1",
        "not has slot",
        "severity>warn",
        "severity=error",
        "status=refused",
        "ok=\"false\"",
        "gone=null",
        "has sl",
        "time<2026-10-04T02:38:41Z",
        "lane=audit",
        "late_by_ms>15s",
        "lease not door",
        "message ~ /LEASE/",
        "trace=ffffffffffffffffffffffffffffffff",
        "weight=\"2.5\"",
    ];
    for (queries, expected) in [(&yes[..], true), (&no[..], false)] {
        for text in queries {
            let parsed = parse(text, &context());
            assert_eq!(parsed.mistakes, vec![], "{text}");
            assert_eq!(matches(&parsed.query.filter, &sample(), "main"), expected, "{text}");
        }
    }
}

/// Every fenced example in the document must parse; one marked `mistake` must not.
#[test]
fn examples_of_the_document() {
    let text = include_str!("../../../../../docs/query-language.md");
    let (mut seen, mut kind) = (0, "");
    for line in text.lines() {
        if let Some(fence) = line.strip_prefix("```") {
            kind = if kind.is_empty() { fence } else { "" };
            continue;
        }
        if kind == "calvex" || kind == "mistake" {
            seen += 1;
            let parsed = parse(line, &context());
            assert_eq!(parsed.mistakes.is_empty(), kind == "calvex", "{line}: {:?}", parsed.mistakes);
        }
    }
    assert!(seen > 20, "only {seen} examples were read");
}

fn any_filter() -> impl Strategy<Value = String> {
    let word = prop_oneof![
        Just("lease".to_owned()),
        Just("BK-017".into()),
        Just("over".into()),
        Just("in".into()),
        Just("has".into()),
        Just("\"ran \\\"out\\\"\"".into()),
        Just("409".into()),
        Just("doo*".into()),
        Just("Änderung".into()),
    ];
    let field = prop_oneof![
        Just("service".to_owned()),
        Just("slot.bank".into()),
        Just(".status".into()),
        Just("`odd name`".into()),
        Just("took_ms".into()),
        Just("in".into()),
    ];
    let test = prop_oneof![
        Just("=BK-017".to_owned()),
        Just("!=\"a b\"".into()),
        Just(" >= 12".into()),
        Just("<1.5".into()),
        Just(" in (a, \"b c\", 3)".into()),
        Just(" between 1 and 2".into()),
        Just("~/a\\/b/i".into()),
        Just("^=x".into()),
        Just(" $= \"y\"".into()),
        Just("*=z".into()),
    ];
    let leaf =
        prop_oneof![word, (field.clone(), test).prop_map(|(f, t)| f + &t), field.prop_map(|f| format!("has {f}"))];
    leaf.prop_recursive(4, 20, 3, |inner| {
        prop_oneof![
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("{a} {b}")),
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a} or {b})")),
            inner.clone().prop_map(|a| format!("not ({a})")),
        ]
    })
}

#[test]
fn what_a_regular_expression_needs() {
    let words = |pattern: &str| {
        let parsed = parse(&format!("message ~ /{pattern}/"), &context());
        match parsed.query.filter {
            Filter::Compare(_, Test::Regex(regex)) => regex.words,
            other => panic!("{other}"),
        }
    };
    let some = |lists: &[&[&str]]| Some(lists.iter().map(|l| l.iter().map(|w| (*w).to_owned()).collect()).collect());
    assert_eq!(words("torn (again|quiet) \\w+ dim"), some(&[&["again"], &["quiet"]]));
    assert_eq!(words("lease LS-\\d+ ran out"), some(&[&["ls"]]));
    for none in ["lease", "ran out", "(a|b c d)", ".* of the door", "x*"] {
        assert_eq!(words(none), None, "{none}");
    }
}

fn any_measure() -> impl Strategy<Value = String> {
    let aggregate = prop::sample::select(vec![
        "count",
        "count(severity>=error) as bad",
        "share(lease or has x)",
        "rate",
        "distinct(trace)",
        "sum(n) as `my sum`",
        "p99.9(took_ms)",
        "first(.status)",
    ]);
    let tail = prop::sample::select(vec![
        "",
        " per service",
        " per `odd name`, .status every 5m",
        " having count > 10",
        " top 3",
        " top 3 by count",
        " per a every 1d having count<=2 top 10 by count over last 6h",
    ]);
    (prop::collection::vec(aggregate, 0..3), tail)
        .prop_map(|(more, tail)| format!("measure {}{tail}", [vec!["count"], more].concat().join(", ")))
}

proptest! {
    #[test]
    fn canonical_is_stable(text in any_filter()) {
        let first = parse(&text, &context());
        prop_assume!(first.mistakes.is_empty());
        let canonical = first.query.canonical();
        let second = parse(&canonical, &context());
        prop_assert_eq!(&second.mistakes, &vec![], "{} -> {}", text, canonical);
        prop_assert_eq!(&second.query, &first.query, "{} -> {}", text, canonical);
        prop_assert_eq!(second.query.canonical(), canonical);
    }

    /// The tree of the text: tokens in order, each within its node, and nothing but blanks between them.
    #[test]
    fn the_text_is_taken_apart_whole(text in prop_oneof![any_filter(), any_measure(), ".{0,60}", "[a-c()\"`=<>!~^$*/, -]{0,40}"]) {
        let parsed = parse(&text, &context());
        let chars: Vec<char> = text.chars().collect();
        prop_assert_eq!((parsed.syntax.from, parsed.syntax.to), (0, chars.len()));
        let mut end = 0;
        for token in parsed.syntax.tokens() {
            prop_assert!(end <= token.from && token.from < token.to && token.to <= chars.len(), "{:?}", token);
            if parsed.mistakes.is_empty() {
                prop_assert!(chars[end..token.from].iter().all(|c| c.is_whitespace()), "{} before {:?}", text, token);
            }
            prop_assert!(parsed.syntax.path_to(token.from).contains(&token));
            end = token.to;
        }
        if parsed.mistakes.is_empty() {
            prop_assert!(chars[end..].iter().all(|c| c.is_whitespace()), "{} after its end", text);
        }
    }

    #[test]
    fn canonical_measures_are_stable(filter in any_filter(), clause in any_measure()) {
        let first = parse(&format!("{filter} {clause}"), &context());
        prop_assume!(first.mistakes.is_empty());
        let second = parse(&first.query.canonical(), &context());
        prop_assert_eq!(&second.mistakes, &vec![]);
        prop_assert_eq!(second.query, first.query);
    }

    #[test]
    fn any_text_is_answered(text in ".{0,80}") {
        let parsed = parse(&text, &context());
        for m in parsed.mistakes {
            prop_assert!(m.column >= 1 && !m.message.is_empty() && !m.cure.is_empty());
        }
    }

    #[test]
    fn any_signs_are_answered(text in "[a-c()\"`=<>!~^$*/, -]{0,40}") {
        let _ = parse(&text, &context()).query.canonical();
    }
}

#[test]
fn a_value_that_begins_with_a_sign_stays_apart() {
    let first = parse("n > =x", &Context::utc(0));
    assert!(first.mistakes.is_empty());
    let again = parse(&first.query.canonical(), &Context::utc(0));
    assert_eq!(again.query, first.query, "{}", first.query.canonical());
}

/// What could not be read never widens a query: it passes no event, whatever stands beside it, and a mistake names it.
#[test]
fn a_mistake_is_never_every_event() {
    let event = Event { message: "door opens".into(), ..Event::default() };
    for query in [
        "severity>=loud",
        "door severity>=loud",
        "door or severity>=loud",
        "not severity>=loud",
        "door not (took>=soon)",
        "service in ()",
        "service in (edge, \"",
        "message ~ /(/",
        "n between 1 and",
        "door (opens",
        "\"door",
        "door , opens",
        "took>",
    ] {
        let parsed = parse(query, &context());
        assert!(!parsed.mistakes.is_empty(), "{query}");
        // An unclosed bracket is a mistake beside a filter that was read whole.
        let read = query == "door (opens";
        assert_eq!(matches(&parsed.query.filter, &event, ""), read, "{query}: {}", parsed.query.canonical());
    }
}
