//! What failures are one group: the stacks of seven languages (`golden/stacks.txt`, with what is read from them in
//! `golden/groups.txt`), and failures without a stack.

use super::*;
use crate::model::Kind;
use proptest::prelude::*;
use std::collections::BTreeMap;
use std::fmt::Write;

fn of_log(error: Option<&str>, stack: Option<&str>, message: &str) -> ErrorGroup {
    group_of(Kind::Log, "slots", error, stack, message).unwrap()
}

fn fixtures() -> Vec<(&'static str, &'static str)> {
    let text = include_str!("golden/stacks.txt");
    text.split("### ").skip(1).map(|case| case.split_once('\n').unwrap()).collect()
}

/// `CALVEX_BLESS=1` writes what is read anew, to be read before it is committed.
#[test]
fn stacks_of_seven_languages_are_read() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/src/failure/golden/groups.txt");
    let mut read = String::new();
    for (name, stack) in fixtures() {
        let group = of_log(None, Some(stack), "failed");
        let language = group.language.map_or("-", stack::Language::name);
        let (error, cause) = (group.error.as_deref().unwrap_or("-"), group.cause.as_deref().unwrap_or("-"));
        writeln!(read, "{name}: {language} {error} cause {cause} {}", group.id).unwrap();
        group.frames.iter().for_each(|frame| writeln!(read, "  {frame}").unwrap());
    }
    if std::env::var_os("CALVEX_BLESS").is_some() {
        std::fs::write(path, &read).unwrap();
    }
    assert_eq!(read, std::fs::read_to_string(path).unwrap());
}

#[test]
fn one_failure_of_other_lines_is_one_group_and_two_of_one_type_are_two() {
    let mut ids: BTreeMap<&str, Vec<String>> = BTreeMap::new();
    for (name, stack) in fixtures() {
        ids.entry(name).or_default().push(of_log(None, Some(stack), "failed").id);
    }
    assert!(ids.values().all(|same| same.iter().all(|id| *id == same[0])), "{ids:?}");
    let mut different: Vec<&String> = ids.values().map(|same| &same[0]).collect();
    different.sort();
    different.dedup();
    assert_eq!(different.len(), ids.len(), "{ids:?}");
}

#[test]
fn a_stack_in_the_message_counts_as_one_in_a_field() {
    for (name, stack) in fixtures().into_iter().filter(|(name, _)| *name != "names") {
        let message = format!("claim failed\n{stack}");
        let group = of_log(Some("Failed"), None, &message);
        assert_eq!(group.frames, of_log(Some("Failed"), Some(stack), "x").frames, "{name}");
        assert_eq!(group.shape, "claim failed", "{name}");
    }
}

#[test]
fn without_a_stack_type_and_shape_decide() {
    let one = of_log(Some("lease_gone"), None, "lease LS-9 of user=anna ran out");
    assert_eq!(one, of_log(Some("lease_gone"), None, "lease LS-17 of user=mira ran out"));
    assert!((one.error.as_deref(), one.frames.len(), one.language) == (Some("lease_gone"), 0, None));
    assert_ne!(one.id, of_log(Some("lease_lost"), None, "lease LS-9 of user=anna ran out").id);
    assert_ne!(one.id, of_log(Some("lease_gone"), None, "door 4 stayed shut").id);
    assert_ne!(one.id, of_log(None, None, "lease LS-9 of user=anna ran out").id);
    let elsewhere = group_of(Kind::Log, "kiosk", Some("lease_gone"), None, "lease LS-9 of user=anna ran out");
    assert_ne!(Some(one.id), elsewhere.map(|g| g.id));
    // A field of that name may hold anything.
    assert_eq!(of_log(None, Some("north"), "door 4 stayed shut").id, of_log(None, None, "door 9 stayed shut").id);
    assert_eq!(of_log(None, Some("no stack\nwas taken"), "door 4 stayed shut").frames.len(), 0);
    // Several lines without a frame are a message like any other.
    assert_eq!(of_log(None, None, "doors:\n1: north\n2: south").language, None);
}

#[test]
fn a_failed_span_is_a_failure_where_it_says_what_failed() {
    assert_eq!(group_of(Kind::Span, "slots", None, None, "claim"), None);
    assert_eq!(group_of(Kind::Span, "slots", Some(" "), Some("\n"), "claim"), None);
    let span = group_of(Kind::Span, "slots", Some("LeaseGone"), None, "claim");
    assert_eq!(span, group_of(Kind::Log, "slots", Some("LeaseGone"), None, "claim"));
}

/// Groups are for ever: this id must never change.
#[test]
fn ids_are_stable() {
    assert_eq!(of_log(Some("lease_gone"), None, "lease LS-9 ran out").id, "71bae3eea4d53487");
}

#[test]
fn long_texts_are_cut() {
    let deep = "\tat fennmark.Deep.down(Deep.java:1)\n".repeat(100_000);
    let group = of_log(Some(&"é".repeat(9000)), Some(&deep), "deep");
    assert_eq!(group.frames, ["fennmark.Deep.down"]);
    assert!(group.error.unwrap().len() <= 200);
    let name = format!("\tat {}.x(A.java:1)", "é".repeat(9000));
    assert!(of_log(None, Some(&name), "long").frames[0].len() <= 301);
}

proptest! {
    #[test]
    fn any_text_is_read(
        stack in "((\tat |  File \"|from |goroutine 1|panic: |Caused by: | ---> |Traceback \\(|[0-9]: )?[a-c.:/()<>$`' é]{0,30}(\\.java:1\\)|:1:in `|\\.go:7|:3:4\\))?\n){0,12}",
        message in ".{0,60}",
    ) {
        let group = of_log(None, Some(&stack), &message);
        prop_assert!(group.frames.len() <= FRAMES && group.id.len() == 16);
        of_log(None, None, &format!("{message}\n{stack}"));
    }
}
