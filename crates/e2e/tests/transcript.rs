//! What is read in a terminal, word for word: `golden/terminal.txt` has commands and what they print on the demo's night.
//! `CALVEX_BLESS=1` writes the file anew; read what changed before it is kept.
//!
//! A command stands behind `$ `; its output follows, standard error behind `! `, an exit code other than 0 behind `? `.
//! The night's day is written as that of the demo's story.

use anyhow::{Context, Result};
use calvex_demo::Night;
use calvex_e2e::service::{Service, binary, wait_for};
use std::process::Command;

/// The day that stands in the file for yesterday.
const DAY: &str = "2026-10-04";
const FILE: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/golden/terminal.txt");

fn run(service: &Service, line: &str, day: &str) -> Result<String> {
    let path = format!("{}:{}", binary().parent().context("no folder")?.display(), std::env::var("PATH")?);
    let range = format!("--from {day}T01:40Z --to {day}T03:10Z");
    let ran = Command::new("bash")
        .args(["-c", &line.replace("NIGHT", &range).replace(DAY, day)])
        .envs([("PATH", path.as_str()), ("CALVEX_URL", &service.url), ("CALVEX_TOKEN", &service.token)])
        .envs([("TZ", "UTC"), ("COLUMNS", "120"), ("NO_COLOR", "1")])
        .output()?;
    // Empty lines stand between the file's builtins.
    let printed = String::from_utf8(ran.stdout)?;
    let mut reported: String = printed.lines().filter(|l| !l.trim().is_empty()).map(|l| format!("{l}\n")).collect();
    String::from_utf8(ran.stderr)?.lines().for_each(|l| reported.push_str(&format!("! {l}\n")));
    if let Some(code) = ran.status.code().filter(|code| *code != 0) {
        reported.push_str(&format!("? {code}\n"));
    }
    Ok(reported.replace(day, DAY))
}

#[test]
fn word_for_word() -> Result<()> {
    let service = Service::start(&[])?;
    let day = (jiff::Timestamp::now() - jiff::SignedDuration::from_hours(24)).to_string()[..10].to_owned();
    let change: jiff::Timestamp = format!("{day}T02:10:00Z").parse()?;
    let night: Vec<_> = Night::new(1, i64::try_from(change.as_nanosecond())?, 10_000).collect();
    let body: String = night.iter().map(|e| e.json.clone() + "\n").collect();
    anyhow::ensure!(service.calvex_with(&["send", "--quiet"], body.as_bytes())?.status.success());
    wait_for("the night", || {
        let reported = service.ok(&["search", "measure count", "--from", "now-3d", "--json"])?;
        Ok((serde_json::from_str::<serde_json::Value>(&reported)?["count"] == night.len()).then_some(()))
    })?;
    let expected = std::fs::read_to_string(FILE)?;
    let mut found = String::new();
    for line in expected.lines() {
        if let Some(command) = line.strip_prefix("$ ") {
            found.push_str(&format!("$ {command}\n{}", run(&service, command, &day)?));
        } else if line.starts_with('#') || line.is_empty() {
            found.push_str(&format!("{line}\n"));
        }
    }
    if std::env::var_os("CALVEX_BLESS").is_some() {
        std::fs::write(FILE, &found)?;
    }
    let expected = std::fs::read_to_string(FILE)?;
    let differs = expected.lines().zip(found.lines()).enumerate().find(|(_, (a, b))| a != b);
    if let Some((n, (a, b))) = differs {
        anyhow::bail!("line {} was\n{a}\nand is\n{b}", n + 1);
    }
    assert_eq!(expected.lines().count(), found.lines().count(), "{found}");
    Ok(())
}
