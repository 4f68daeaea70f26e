//! Stories as text files: what is in them, the score, and what a terminal and a ticket show of it. `CALVEX_BLESS=1` writes
//! the answers anew; read them before they are kept.
//!
//! A line of a story is `@TIME SERVICE span ID PARENT "OPERATION" DURATION [failed] [host=H] [kind=K] [link=ID]` or
//! `@TIME SERVICE SEVERITY "MESSAGE" [in=ID] [host=H]`; `*N+STEP` behind the time repeats it.

use super::*;
use calvex_language::model::{EventId, Path, Severity, SpanId, Status, Value};
use proptest::prelude::*;

const FOLDER: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/src/story/golden");

fn time(text: &str) -> i64 {
    calvex_language::query::parse_duration_ns(text).unwrap_or_else(|| panic!("`{text}` is no time")) as i64
}

fn span_id(name: &str) -> SpanId {
    let mut id: SpanId = [0; 8];
    name.bytes().take(8).enumerate().for_each(|(n, byte)| id[n] = byte);
    id
}

/// Words of a line; what stands in quotes is one.
fn words(line: &str) -> Vec<String> {
    let (mut words, mut quoted) = (vec![String::new()], false);
    for c in line.chars() {
        match c {
            '"' => quoted = !quoted,
            ' ' if !quoted => words.push(String::new()),
            c => words.last_mut().unwrap().push(c),
        }
    }
    words.retain(|word| !word.is_empty());
    words
}

fn read(line: &str, nth: i64) -> Event {
    let words = words(line);
    let (at, step) = match words[0].trim_start_matches('@').split_once('*') {
        Some((at, repeat)) => (time(at), time(repeat.split_once('+').unwrap().1)),
        None => (time(words[0].trim_start_matches('@')), 0),
    };
    let option = |name: &str| words.iter().find_map(|word| word.strip_prefix(name)?.strip_prefix('='));
    let named = |name: &str| span_id(&if step > 0 { format!("{name}{nth}") } else { name.to_owned() });
    let mut event = Event {
        time_ns: 1_791_079_800_000_000_000 + at + nth * step,
        service: words[1].replace('~', &nth.to_string()),
        host: option("host").unwrap_or_default().to_owned(),
        trace: Some([7; 16]),
        ..Event::default()
    };
    if words[2] == "span" {
        event.kind = calvex_language::model::Kind::Span;
        event.span = Some(named(&words[3]));
        event.parent = (words[4] != "-").then(|| span_id(&words[4]));
        event.message = words[5].clone();
        event.took_ns = (words[6] != "open").then(|| time(&words[6]));
        event.status = Some(if words.iter().any(|w| w == "failed") { Status::Error } else { Status::Unset });
        event
            .fields
            .extend(option("kind").map(|kind| (Path::root("span").child("kind"), Value::Text(kind.to_owned()))));
        event.fields.extend(option("link").map(|link| {
            let id = calvex_language::model::to_hex(&span_id(link));
            let link = Value::Object(vec![("span".to_owned(), Value::Text(id))]);
            (Path::root("span").child("links"), Value::List(vec![link]))
        }));
    } else {
        event.severity = Severity::from_name(&words[2]).unwrap_or_else(|| panic!("{line}"));
        event.message = words[3].clone();
        event.span = option("in").map(span_id);
    }
    event
}

/// The events of a story, in time order.
fn story(text: &str) -> Vec<Event> {
    let mut events: Vec<Event> = Vec::new();
    for line in text.lines().filter(|line| line.starts_with('@')) {
        let repeat = line.split(' ').next().unwrap().split_once('*').map_or("1", |(_, n)| n.split('+').next().unwrap());
        (0..repeat.parse().unwrap()).for_each(|nth| events.push(read(line, nth)));
    }
    events.sort_by_key(|event| event.time_ns);
    for (n, event) in events.iter_mut().enumerate() {
        event.id = EventId { node: 1, epoch: 1, seq: 1, ordinal: n as u32 };
    }
    events
}

fn answer(text: &str) -> String {
    let events = story(text);
    let events: Vec<&Event> = events.iter().collect();
    let options = ScoreOptions::default();
    let score = Score::of(&events, &options);
    check(&score, &events);
    let lines = score.lines(&events, 120);
    let shown = lines.iter().take(40).map(|line| format!("| {line}\n"));
    let more = if lines.len() > 40 { format!("| … {} lines\n", lines.len()) } else { String::new() };
    let narrow = score.lines(&events, 44).into_iter().take(8).map(|line| format!("> {line}\n"));
    let json = serde_json::to_string(&score).unwrap();
    let score = if json.len() < 6000 { format!("= {json}\n") } else { format!("= {} bytes of JSON\n", json.len()) };
    shown.chain([more]).chain(narrow).chain([score]).collect()
}

/// What holds of every score.
fn check(score: &Score, events: &[&Event]) {
    let (rows, columns, bars) = (score.rows.len(), score.columns.len(), score.bars.len());
    for bar in &score.bars {
        assert!(bar.from_row <= bar.to_row && bar.to_row < rows && bar.column < columns && bar.event < events.len());
        assert!(bar.slot < score.columns[bar.column].slots && bar.self_ns >= 0);
        if let Some(parent) = bar.parent {
            assert!(score.bars[parent].from_row < bar.from_row, "a call begins behind its caller");
        }
    }
    for row in &score.rows {
        assert!(row.column < columns && row.event < events.len() && row.bar.is_none_or(|bar| bar < bars));
    }
    let logs = events.iter().take(MAX_DRAWN).filter(|e| e.kind == calvex_language::model::Kind::Log).count();
    assert_eq!(score.rows.iter().filter(|row| row.kind == RowKind::Event).count(), logs, "every event has one row");
    let spans: usize = score.bars.iter().filter(|bar| bar.bundle.is_none()).count();
    assert!(score.rows.iter().filter(|row| row.kind == RowKind::Start).count() >= spans);
    for arrow in &score.arrows {
        assert!(arrow.from != arrow.to && arrow.from < columns && arrow.to < columns && arrow.row < rows);
    }
    let shares: f64 = score.critical_path.iter().map(|part| part.share).sum();
    assert!(score.critical_path.is_empty() || (shares - 1.0).abs() < 1e-9, "{shares}");
    // Bars of one column and slot never lie on one another.
    let mut taken: Vec<(usize, usize, usize, usize)> =
        score.bars.iter().map(|bar| (bar.column, bar.slot, bar.from_row, bar.to_row)).collect();
    taken.sort_unstable();
    for pair in taken.windows(2) {
        assert!((pair[0].0, pair[0].1) != (pair[1].0, pair[1].1) || pair[0].3 < pair[1].2, "{pair:?}");
    }
}

#[test]
fn stories_and_their_scores() {
    let mut files: Vec<_> = std::fs::read_dir(FOLDER).unwrap().map(|entry| entry.unwrap().path()).collect();
    files.sort();
    assert!(files.len() >= 16, "{}", files.len());
    for file in files {
        let text = std::fs::read_to_string(&file).unwrap();
        let given: String =
            text.lines().take_while(|line| !line.starts_with(['|', '='])).map(|line| format!("{line}\n")).collect();
        let answered = format!("{given}{}", answer(&given));
        if std::env::var_os("CALVEX_BLESS").is_some() {
            std::fs::write(&file, &answered).unwrap();
        }
        let kept = std::fs::read_to_string(&file).unwrap();
        let differs = kept.lines().zip(answered.lines()).enumerate().find(|(_, (a, b))| a != b);
        if let Some((n, (a, b))) = differs {
            panic!("{}, line {} was\n{a}\nand is\n{b}", file.display(), n + 1);
        }
        assert_eq!(kept.lines().count(), answered.lines().count(), "{}", file.display());
    }
}

/// Any spans in any relation, circles included, make a score that holds together.
fn any_story() -> impl Strategy<Value = Vec<Event>> {
    let event =
        (0i64..2000, 0u8..6, 0u8..12, prop::option::of(0u8..14), prop::option::of(-5i64..900), any::<[bool; 3]>());
    prop::collection::vec(event, 0..60).prop_map(|parts| {
        let mut events: Vec<Event> = parts
            .into_iter()
            .map(|(at, service, span, parent, took, [is_span, failed, named])| Event {
                time_ns: at * 1_000_000,
                service: format!("s{service}"),
                host: if named { format!("h{}", service / 2) } else { String::new() },
                kind: if is_span { calvex_language::model::Kind::Span } else { calvex_language::model::Kind::Log },
                span: Some(span_id(&format!("n{span}"))),
                parent: parent.map(|parent| span_id(&format!("n{parent}"))),
                took_ns: took.map(|took| took * 1_000_000),
                status: failed.then_some(Status::Error),
                severity: if failed { Severity(17) } else { Severity(9) },
                message: format!("op {}", span % 3),
                ..Event::default()
            })
            .collect();
        events.sort_by_key(|event| event.time_ns);
        events
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]
    #[test]
    fn any_spans_make_a_score(events in any_story(), width in 20usize..200) {
        let events: Vec<&Event> = events.iter().collect();
        let score = Score::of(&events, &ScoreOptions::default());
        check(&score, &events);
        // Headline, facts, remarks and the names of the columns are text, which a terminal wraps.
        let text = 3 + score.remarks().len();
        prop_assert!(score.lines(&events, width).iter().skip(text).all(|line| line.chars().count() <= width.max(60)));
        prop_assert!(score.markdown(&events, "x").starts_with("**"));
    }

    /// Clocks that are off by any amounts are found, where the spans leave no room: the corrected drawing contains each
    /// child in its parent.
    #[test]
    fn clocks_are_corrected(off in prop::collection::vec(-500i64..500, 1..6)) {
        let host = |n: usize| format!("h{n}");
        let mut events = Vec::new();
        for (n, _) in off.iter().enumerate() {
            let by = if n == 0 { 0 } else { off[n] };
            events.push(Event {
                time_ns: (10_000 + n as i64 * 10 + by) * 1_000_000,
                took_ns: Some((1000 - n as i64 * 20) * 1_000_000),
                kind: calvex_language::model::Kind::Span,
                span: Some(span_id(&format!("n{n}"))),
                parent: n.checked_sub(1).map(|n| span_id(&format!("n{n}"))),
                service: format!("s{n}"),
                host: host(n),
                message: "op".into(),
                ..Event::default()
            });
        }
        events.sort_by_key(|event| event.time_ns);
        let refs: Vec<&Event> = events.iter().collect();
        let mut forest = Forest::of(&refs);
        let offsets = clocks::correct(&mut forest);
        prop_assert!(offsets.iter().all(|offset| !offset.contradicts));
        for node in &forest.nodes {
            if let Some(parent) = node.parent {
                let parent = &forest.nodes[parent];
                prop_assert!(parent.start_ns <= node.start_ns && node.end_ns <= parent.end_ns);
            }
        }
    }
}

#[test]
fn bundles_open_and_columns_unfold() {
    let events = story(&std::fs::read_to_string(format!("{FOLDER}/fan-out.txt")).unwrap());
    let events: Vec<&Event> = events.iter().collect();
    let folded = Score::of(&events, &ScoreOptions::default());
    let bundle = folded.bars.iter().find_map(|bar| bar.bundle.clone()).unwrap();
    assert_eq!(bundle.count, 500);
    let open = ScoreOptions { open: [bundle.key].into(), every_column: true };
    let opened = Score::of(&events, &open);
    check(&opened, &events);
    assert_eq!(opened.bars.len(), folded.bars.len() + 499);
}

#[test]
fn what_is_too_much_is_counted() {
    let text: String = "@0s*6000+1ms edge info \"door opened\"\n".into();
    let events = story(&text);
    let events: Vec<&Event> = events.iter().collect();
    let score = Score::of(&events, &ScoreOptions::default());
    assert_eq!((score.rows.len(), score.not_drawn), (MAX_DRAWN, 1000));
}
