//! Every command says what it does, and a wrong word ends in 2. (Being here, it also has Cargo build the binary that the
//! end-to-end tests start.)
#![allow(clippy::unwrap_used, reason = "a test may end where it stands")]

use std::process::Command;

fn calvex(args: &[&str]) -> (Option<i32>, String, String) {
    let output = Command::new(env!("CARGO_BIN_EXE_calvex")).args(args).output().unwrap();
    let text = |b: Vec<u8>| String::from_utf8(b).unwrap();
    (output.status.code(), text(output.stdout), text(output.stderr))
}

#[test]
fn every_command_has_help() {
    let (code, out, _) = calvex(&["--help"]);
    assert_eq!(code, Some(0));
    let commands: Vec<&str> = out
        .lines()
        .skip_while(|l| !l.starts_with("Commands:"))
        .skip(1)
        .take_while(|l| !l.trim().is_empty())
        .filter_map(|l| l.split_whitespace().next())
        .filter(|c| *c != "help")
        .collect();
    assert!(commands.len() >= 14, "{commands:?}");
    for command in commands {
        let (code, out, err) = calvex(&[command, "--help"]);
        assert_eq!(code, Some(0), "{command}: {err}");
        assert!(out.contains("Usage: calvex"), "{command}: {out}");
    }
}

#[test]
fn a_wrong_word_ends_in_two() {
    for args in [&["serch"][..], &["search", "--frm", "now"], &[], &["demo", "--events", "5"]] {
        let (code, _, err) = calvex(args);
        assert_eq!((code, err.is_empty()), (Some(2), false), "{args:?}");
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
