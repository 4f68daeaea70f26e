//! Every command's help, word for word in `golden/help.txt`, and one rule for options: what is alike is called alike. A
//! wrong word ends in 2. (Being here, it also has Cargo build the binary that the end-to-end tests start.)
//! `CALVEX_BLESS=1` writes the file anew; read what changed before it is kept.
#![allow(clippy::unwrap_used, reason = "a test may end where it stands")]

use std::process::Command;

const FILE: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/golden/help.txt");

fn calvex(args: &[&str]) -> (Option<i32>, String, String) {
    let mut command = Command::new(env!("CARGO_BIN_EXE_calvex"));
    // What stands in the environment is shown in the help of the options that read it.
    for (name, _) in std::env::vars().filter(|(name, _)| name.starts_with("CALVEX_")) {
        command.env_remove(name);
    }
    let output = command.args(args).env("COLUMNS", "100").output().unwrap();
    let text = |b: Vec<u8>| String::from_utf8(b).unwrap();
    (output.status.code(), text(output.stdout), text(output.stderr))
}

/// The commands below one, by its help.
fn below(help: &str) -> Vec<String> {
    let listed = help.lines().skip_while(|l| *l != "Commands:").skip(1).take_while(|l| !l.trim().is_empty());
    // A description that goes on in the next line stands further in.
    let names = listed.filter(|l| l.starts_with("  ") && !l.starts_with("   "));
    names.filter_map(|l| l.split_whitespace().next()).filter(|c| *c != "help").map(str::to_owned).collect()
}

/// Every command with its help, those below a command behind it.
fn all_help() -> Vec<(Vec<String>, String)> {
    let (mut all, mut waiting) = (Vec::new(), vec![Vec::<String>::new()]);
    while let Some(path) = waiting.pop() {
        let args: Vec<&str> = path.iter().map(String::as_str).chain(["--help"]).collect();
        let (code, help, err) = calvex(&args);
        assert_eq!(code, Some(0), "{path:?}: {err}");
        let children = below(&help).into_iter().rev().map(|name| [&path[..], &[name]].concat());
        waiting.extend(children);
        all.push((path, help));
    }
    all
}

#[test]
fn every_help_is_word_for_word() {
    let all = all_help();
    assert!(all.len() >= 70, "{} commands", all.len());
    let found: String = all
        .iter()
        .map(|(path, help)| {
            let help: String = help.lines().map(|l| format!("{}\n", l.trim_end())).collect();
            format!("$ calvex {}\n{help}\n", [&path[..], &["--help".to_owned()]].concat().join(" "))
        })
        .collect();
    if std::env::var_os("CALVEX_BLESS").is_some() {
        std::fs::write(FILE, &found).unwrap();
    }
    let expected = std::fs::read_to_string(FILE).unwrap();
    let differs = expected.lines().zip(found.lines()).enumerate().find(|(_, (a, b))| a != b);
    if let Some((n, (a, b))) = differs {
        panic!("line {} was\n{a}\nand is\n{b}", n + 1);
    }
    assert_eq!(expected.lines().count(), found.lines().count());
}

#[test]
fn options_are_alike() {
    for (path, help) in all_help() {
        let has = |option: &str| help.split_whitespace().any(|w| w == option);
        assert_eq!(has("--json"), has("--text"), "{path:?}: one form without the other");
        assert_eq!(has("--from <TIME>") || help.contains("--from <TIME>"), help.contains("--to <TIME>"), "{path:?}");
        assert_eq!(has("--utc"), has("--local"), "{path:?}: one zone without the other");
        assert_eq!(has("--url") && has("--token"), has("--profile"), "{path:?}: an address without profiles");
        let unit = help.split_whitespace().find(|w| {
            w.starts_with("--") && ["-s", "-ms", "-seconds", "-hours", "-minutes"].iter().any(|unit| w.ends_with(unit))
        });
        assert_eq!(unit, None, "{path:?}: a duration is written with its unit, as in a query");
    }
}

#[test]
fn a_wrong_word_ends_in_two() {
    for args in [&["serch"][..], &["search", "--frm", "now"], &[], &["demo", "--events", "5"]] {
        let (code, _, err) = calvex(args);
        assert_eq!((code, err.is_empty()), (Some(2), false), "{args:?}");
    }
    for duration in ["90", "5 minutes", "1y", "-5m"] {
        let (code, _, err) = calvex(&["dial", "set", "service=slots", "debug", &format!("--for={duration}")]);
        assert_eq!(code, Some(2));
        assert!(err.contains("write 90s, 5m, 24h or 7d") && err.lines().count() == 1, "{err}");
    }
}

#[test]
fn shells_and_manuals_know_every_command() {
    let (code, script, _) = calvex(&["completions", "bash"]);
    assert!(code == Some(0) && script.contains("CALVEX_COMPLETE"), "{script}");
    // As the script asks; what is proposed for a query comes from a service (crates/e2e/tests/client.rs).
    let asked = Command::new(env!("CARGO_BIN_EXE_calvex"))
        .args(["--", "calvex", ""])
        .envs([("CALVEX_COMPLETE", "bash"), ("_CLAP_COMPLETE_INDEX", "1"), ("_CLAP_IFS", "\n")])
        .output()
        .unwrap();
    let out = String::from_utf8(asked.stdout).unwrap();
    let folder = std::env::temp_dir().join(format!("calvex-manual-{}", std::process::id()));
    let (code, _, err) = calvex(&["manual", folder.to_str().unwrap()]);
    assert_eq!(code, Some(0), "{err}");
    for command in ["search", "tail", "shapes", "breakdown", "transform"] {
        assert!(out.contains(command), "{command}");
        let page = std::fs::read_to_string(folder.join(format!("calvex-{command}.1"))).unwrap();
        assert!(page.contains(".SH SYNOPSIS") || page.contains(".SH NAME"), "{command}: {page}");
    }
    std::fs::remove_dir_all(folder).unwrap();
}
