use super::*;
use calvex_language::model::time::{SECOND_NS, parse_time};
use calvex_language::model::{Path, Severity, Value};
use calvex_storage::columns::build_page;
use calvex_storage::testing::any_event;
use proptest::prelude::*;

fn rules(json: &str) -> Vec<Rule> {
    serde_json::from_str(json).unwrap()
}

fn transforms(json: &str) -> Transforms {
    Transforms::new(&rules(json), |name| (name == "audit").then_some(7), [3; 32]).unwrap()
}

fn text(t: &str) -> Value {
    Value::Text(t.into())
}

fn event() -> Event {
    Event {
        time_ns: 5 * SECOND_NS,
        arrived_ns: parse_time("2026-10-04T02:40:00Z").unwrap(),
        service: "sorter".into(),
        host: "sorter-2".into(),
        message: "2026-10-04 02:38:41,198 WARN belt 4: paid with 4111 1111 1111 1111 by tore@fennmark.example".into(),
        fields: vec![
            (Path::root("env"), text("dev")),
            (Path::new(["user", "mail"]), text("tore@fennmark.example")),
            (Path::new(["user", "id"]), Value::Int(17)),
            (Path::root("card"), Value::Int(4_111_111_111_111_111)),
            (Path::root("list"), Value::List(vec![Value::Object(vec![("code".into(), text("8812"))]), text("x")])),
        ],
        ..Event::default()
    }
}

/// What the rules make of the event: a few of its parts, the fields as JSON, its fate.
fn reported(json: &str) -> (String, Fate) {
    let mut e = event();
    let transforms = transforms(json);
    let mut held = vec![0; transforms.len()];
    let fate = transforms.apply(&mut e, &mut held);
    let fields = calvex_language::model::sent_json(&Event { layout: String::new(), ..e.clone() });
    (
        format!(
            "{} {}/{} `{}` {} [{}] {held:?}",
            e.severity.name(),
            e.service,
            e.host,
            e.message,
            serde_json::to_string(&fields).unwrap(),
            e.transformed
        ),
        fate,
    )
}

const FIELDS: &str = r#""env":"dev","user":{"mail":"tore@fennmark.example","id":17},"card":4111111111111111,"list":[{"code":"8812"},"x"]"#;
const MESSAGE: &str = "2026-10-04 02:38:41,198 WARN belt 4: paid with 4111 1111 1111 1111 by tore@fennmark.example";

#[test]
fn each_act() {
    let kept = Fate::Kept(None);
    for (act, expected, fate) in [
        (
            r#"{"stamp":{"env":"night","site.row":3}}"#,
            format!(
                r#"info sorter/sorter-2 `{MESSAGE}` {{{},"displaced":{{"env":"dev"}},"site":{{"row":3}}}} [r] [1]"#,
                FIELDS.replace("\"dev\"", "\"night\"")
            ),
            kept,
        ),
        (
            r#"{"rename":{"from":"user","to":"who.is"}}"#,
            format!(
                r#"info sorter/sorter-2 `{MESSAGE}` {{"env":"dev","card":4111111111111111,"list":[{{"code":"8812"}},"x"],"who":{{"is":{{"mail":"tore@fennmark.example","id":17}}}}}} [r] [1]"#
            ),
            kept,
        ),
        (
            r#"{"rename":{"from":"env","to":"host"}}"#,
            format!(r#"info sorter/dev `{MESSAGE}` {{{}}} [r] [1]"#, FIELDS.replace("\"env\":\"dev\",", "")),
            kept,
        ),
        (
            r#"{"rename":{"from":"nothing","to":"host"}}"#,
            format!("info sorter/sorter-2 `{MESSAGE}` {{{FIELDS}}} [] [0]"),
            kept,
        ),
        (
            r#"{"drop":["user","card","list"]}"#,
            format!(r#"info sorter/sorter-2 `{MESSAGE}` {{"env":"dev"}} [r] [1]"#),
            kept,
        ),
        (
            r#"{"cut":{"patterns":["{number x}","{time} {severity} belt {number belt}: {rest message}"]}}"#,
            format!(
                r#"warn sorter/sorter-2 `paid with 4111 1111 1111 1111 by tore@fennmark.example` {{{FIELDS},"belt":4}} [r] [1]"#
            ),
            kept,
        ),
        (
            r#"{"cut":{"patterns":["{severity} {rest}"]}}"#,
            format!("info sorter/sorter-2 `{MESSAGE}` {{{FIELDS}}} [] [0]"),
            kept,
        ),
        (
            r#"{"mask":{"detectors":["cards","mail"]}}"#,
            format!(
                r#"info sorter/sorter-2 `{}` {{{}}} [r] [1]"#,
                MESSAGE.replace("4111 1111 1111 1111", "•••").replace("tore@fennmark.example", "•••"),
                FIELDS.replace("tore@fennmark.example", "•••").replace("4111111111111111", "\"•••\"")
            ),
            kept,
        ),
        (
            r#"{"mask":{"fields":["user.id","list.code"],"with":"-"}}"#,
            format!(
                r#"info sorter/sorter-2 `{MESSAGE}` {{{}}} [r] [1]"#,
                FIELDS.replace("17}", "\"-\"}").replace("\"8812\"", "\"-\"")
            ),
            kept,
        ),
        (
            r##"{"mask":{"expressions":["belt (\\d+)"],"with":"#"}}"##,
            format!(r#"info sorter/sorter-2 `{}` {{{FIELDS}}} [r] [1]"#, MESSAGE.replace("belt 4", "belt #")),
            kept,
        ),
        (r#"{"move":"audit"}"#, format!("info sorter/sorter-2 `{MESSAGE}` {{{FIELDS}}} [] [1]"), Fate::Kept(Some(7))),
        (r#""set-aside""#, format!("info sorter/sorter-2 `{MESSAGE}` {{{FIELDS}}} [] [1]"), Fate::SetAside(0)),
    ] {
        let json = format!(r#"[{{"name":"r","when":"service=sorter","act":{act}}}]"#);
        assert_eq!(reported(&json), (expected, fate), "{act}");
        let other = json.replace("service=sorter", "service=slots");
        assert_eq!(reported(&other).0, format!("info sorter/sorter-2 `{MESSAGE}` {{{FIELDS}}} [] [0]"), "{act}");
    }
}

#[test]
fn rules_follow_one_another() {
    let (after, fate) = reported(
        r#"[{"name":"lines","when":"service=sorter","act":{"cut":{"patterns":["{time} {severity} belt {number belt}: {rest message}"]}}},
            {"name":"belts","when":"belt=4 severity=warn","act":{"stamp":{"hall":"north"}}},
            {"name":"never","when":"belt=5","act":"set-aside"},
            {"name":"away","when":"hall=north","act":{"move":"audit"}}]"#,
    );
    assert!(after.contains(r#""belt":4,"hall":"north""#) && after.ends_with("[lines,belts] [1, 1, 0, 1]"), "{after}");
    assert_eq!(fate, Fate::Kept(Some(7)));
}

#[test]
fn equal_secrets_have_equal_hashes() {
    let mut e = event();
    let rules = transforms(r#"[{"name":"m","act":{"mask":{"detectors":["mail"],"hash":true}}}]"#);
    rules.apply(&mut e, &mut [0]);
    let hash = e.message.rsplit(' ').next().unwrap().to_owned();
    assert!(hash.starts_with("masked_") && hash.len() == 23, "{hash}");
    assert_eq!(e.fields[1].1, text(&hash));
    let before = e.clone();
    rules.apply(&mut e, &mut [0]);
    assert_eq!((e.message, e.fields), (before.message, before.fields), "what is covered stays");
}

#[test]
fn what_is_cut_out_is_no_longer_given_back_as_sent() {
    let mut e = event();
    e.layout = "t=\u{1d}ts\u{1e}m=\u{1d}msg".into();
    transforms(r#"[{"name":"c","act":{"cut":{"patterns":["{time} {rest}"]}}}]"#).apply(&mut e, &mut [0]);
    assert_eq!(e.layout, "m=\u{1d}msg");
    assert_eq!(e.time_ns, parse_time("2026-10-04T02:38:41.198Z").unwrap());
}

#[test]
fn mistakes_name_rule_and_place() {
    let json = r#"[{"name":"a","when":"severity>=","act":"set-aside"},{"name":"b","act":{"move":"nowhere"}},
        {"name":"c","act":{"cut":{"patterns":["{thing}"]}}},{"name":"d","act":{"mask":{"expressions":["("]}}},
        {"name":"e","act":{"mask":{}}},{"name":"f","act":{"rename":{"from":"x","to":"lane"}}},
        {"name":"g","act":{"mask":{"expressions":["x*"]}}},{"name":"h","when":"lane=main","act":"set-aside"}]"#;
    let mistakes = Transforms::new(&rules(json), |_| None, [0; 32]).unwrap_err();
    let reported: Vec<String> = mistakes.iter().map(|m| m.to_string()).collect();
    assert_eq!(reported.len(), 8, "{reported:#?}");
    assert!(reported[0].starts_with("rule `a`, when: column 11"), "{}", reported[0]);
    assert!(reported[1].contains("there is no lane `nowhere`"), "{}", reported[1]);
    assert!(reported[2].starts_with("rule `c`, pattern 1: column 1: `thing` is no kind of hole"), "{}", reported[2]);
    assert!(reported[3].contains("unclosed group"), "{}", reported[3]);
    assert!(reported[4].contains("at least one"), "{}", reported[4]);
    assert!(reported[5].contains("`lane` cannot be set"), "{}", reported[5]);
    assert!(reported[6].contains("matches empty text"), "{}", reported[6]);
    assert!(reported[7].contains("no lane is known yet"), "{}", reported[7]);
}

#[test]
fn a_try_tells_each_step() {
    let json = r#"[{"name":"lines","when":"service=sorter","act":{"cut":{"patterns":["{time} {severity} belt {word belt} {rest message}"]}}},
        {"name":"door","act":{"cut":{"patterns":["door {number door}"]}}},
        {"name":"codes","when":"service=codes","act":{"drop":["card"]}},
        {"name":"env","act":{"stamp":{"env":"night"}}},
        {"name":"away","act":{"move":"audit"}}]"#;
    let (tried, _, fate) = transforms(json).try_on(event(), |_| "audit".into());
    let reported: Vec<(bool, bool, &str)> =
        tried.steps.iter().map(|s| (s.held, s.after.is_some(), s.note.as_str())).collect();
    assert_eq!(
        reported,
        [
            (true, true, ""),
            (true, false, "pattern 1 fits up to column 1: expected `door`"),
            (false, false, "its filter does not hold"),
            (true, true, ""),
            (true, false, "goes to lane audit"),
        ]
    );
    assert_eq!(fate, Fate::Kept(Some(7)));
}

#[test]
fn samples_of_what_was_refused_are_covered() {
    let rules = transforms(
        r#"[{"name":"a","act":{"mask":{"fields":["user.pin"]}}},{"name":"b","act":{"mask":{"expressions":["LS-(\\d+)"]}}}]"#,
    );
    assert_eq!(
        rules.cover(r#"{"user":{"pin":"8812","x":1},"m":"lease LS-77"#),
        r#"{"user":{"pin":•••,"x":1},"m":"lease LS-•••"#
    );
}

#[test]
fn an_event_is_set_aside_only_once_it_holds() {
    assert_eq!(Severity::INFO.name(), "info");
    let (_, fate) = reported(r#"[{"name":"x","when":"severity>=warn","act":"set-aside"}]"#);
    assert_eq!(fate, Fate::Kept(None));
}

proptest! {
    /// Rows that are not touched by the columns' account are left as they are by the rules themselves.
    #[test]
    fn untouched_rows_are_unchanged(events in proptest::collection::vec(any_event(), 1..40)) {
        let transforms = transforms(r#"[{"name":"a","when":"n=17","act":{"stamp":{"q":1}}},
            {"name":"b","act":{"mask":{"expressions":["BK-\\d+|17"]}}},
            {"name":"c","when":"has slot","act":{"mask":{"fields":["slot"]}}},
            {"name":"d","when":"severity>=error","act":"set-aside"}]"#);
        let touched = transforms.touched(&build_page(&events).unwrap()).unwrap();
        for (row, event) in events.iter().enumerate() {
            let mut after = event.clone();
            let fate = transforms.apply(&mut after, &mut [0; 4]);
            if !touched.has(row) {
                prop_assert_eq!(&after, event);
                prop_assert_eq!(fate, Fate::Kept(None));
            }
        }
    }
}

#[test]
fn rules_of_a_team_hold_for_what_its_keys_send_and_move_nothing_that_the_service_moved() {
    let lane = |name: &str| ["audit", "slots"].iter().position(|known| *known == name).map(|n| n as u32);
    let read = |json: &str| Transforms::new(&rules(json), lane, [3; 32]).unwrap();
    let of_service = || read(r#"[{"name":"audited","when":"service=access","act":{"move":"audit"}}]"#);
    let own = r#"[{"name":"own","when":"","act":{"move":"slots"}},{"name":"mine","when":"","act":{"stamp":{"region":"north"}}}]"#;
    let all = of_service().followed_by(read(own).of_team(&["slots-key".into(), "edge-key".into()]));
    let made = |sender: &str, service: &str| {
        let mut event = Event { sender: sender.into(), service: service.into(), ..Event::default() };
        let (_, tried, fate_of_try) = all.try_on(event.clone(), |lane| lane.to_string());
        let fate = all.apply(&mut event, &mut [0; 3]);
        assert_eq!((fate, &event.fields), (fate_of_try, &tried.fields), "trying does what applying does");
        (fate, event.fields.len())
    };
    assert_eq!(made("slots-key", "slots"), (Fate::Kept(Some(1)), 1));
    assert_eq!(made("edge-key", "access"), (Fate::Kept(Some(0)), 1), "the service's move stays");
    assert_eq!(made("billing", "slots"), (Fate::Kept(None), 0), "it is another's event");
    let keyless = read(own).of_team(&[]);
    let page = build_page(&[Event { sender: "slots-key".into(), ..Event::default() }]).unwrap();
    assert!(keyless.touched(&page).unwrap().is_empty());
    assert!(all.touched(&page).unwrap().is_full());
}
