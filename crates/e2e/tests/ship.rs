//! `calvex ship` against the real service: every line once, through kills, rotation, truncation and a service that goes away.

use anyhow::{Context, Result};
use calvex_e2e::service::{Service, binary, signal, wait_for};
use serde_json::{Value, json};
use std::fs::File;
use std::io::{BufRead, BufReader, Write};
use std::path::Path;
use std::process::{Child, Command, Stdio};

fn ship(service: &Service, state: &Path, args: &[&str]) -> Result<Child> {
    let mut command = Command::new(binary());
    command.arg("ship").args(args).arg("--state").arg(state);
    command.env("CALVEX_URL", &service.url).env("CALVEX_KEY", &service.key);
    Ok(command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn()?)
}

fn end(child: Child) -> Result<(Option<i32>, String)> {
    signal(child.id(), "TERM")?;
    let output = child.wait_with_output()?;
    Ok((output.status.code(), String::from_utf8_lossy(&output.stderr).into_owned()))
}

/// How many events a query finds.
fn count(service: &Service, query: &str) -> Result<u64> {
    let reported = service.calvex(&["search", "--json", &format!("{query} measure count")])?;
    let row: serde_json::Value = serde_json::from_slice(&reported.stdout).unwrap_or_default();
    Ok(row["count"].as_u64().unwrap_or(0))
}

fn until(service: &Service, query: &str, wanted: u64) -> Result<()> {
    wait_for(&format!("{wanted} of {query}"), || Ok((count(service, query)? >= wanted).then_some(())))?;
    assert_eq!(count(service, query)?, wanted, "{query}");
    Ok(())
}

#[test]
fn each_line_once_through_kills_rotation_and_a_service_that_goes_away() -> Result<()> {
    let mut service = Service::start(&[])?;
    let folder = tempfile::tempdir()?;
    let (logs, state) = (folder.path().join("logs"), folder.path().join("state"));
    std::fs::create_dir(&logs)?;
    let (path, pattern) = (logs.join("slots.log"), format!("{}/*.log", logs.display()));
    let args = ["--set", "service=slots", "--batch-kib", "8", pattern.as_str()];
    let mut file = File::create(&path)?;
    let mut written = 0u64;
    let mut write = |file: &mut File, lines: u64| -> Result<u64> {
        for _ in 0..lines {
            written += 1;
            writeln!(file, "{{\"msg\":\"shipped line\",\"n\":{written},\"pad\":\"{}\"}}", "x".repeat(80))?;
        }
        Ok(written)
    };
    // Killed again and again while it ships, and started again.
    let mut total = write(&mut file, 2000)?;
    for round in 0..6 {
        let mut child = ship(&service, &state, &args)?;
        wait_for("some progress", || Ok((count(&service, "shipped")? > round * 300).then_some(())))?;
        child.kill()?;
        child.wait()?;
        total = write(&mut file, 400)?;
    }
    let mut child = ship(&service, &state, &args)?;
    until(&service, "shipped", total)?;

    // Rotated while it is followed: the old file is read to its end, the new one from its start.
    std::fs::rename(&path, logs.join("slots.log.1"))?;
    let mut new = File::create(&path)?;
    write(&mut new, 100)?;
    total = write(&mut file, 100)?;
    until(&service, "shipped", total)?;
    // Cut, and written anew.
    let mut file = File::create(&path)?;
    total = write(&mut file, 50)?;
    until(&service, "shipped", total)?;
    // Copied and cut while lines wait, again and again: what was not shipped yet is read from the copy.
    for round in 0..5 {
        let mut file = File::options().append(true).open(&path)?;
        write(&mut file, 200)?;
        std::fs::copy(&path, logs.join(format!("slots.log.copy{round}")))?;
        let mut file = File::create(&path)?;
        total = write(&mut file, 20)?;
        until(&service, "shipped", total)?;
    }

    // The service goes and comes back, elsewhere even: nothing is lost, nothing is twice.
    let address = service.url.trim_start_matches("http://").to_owned();
    let mut reported = BufReader::new(child.stderr.take().context("no output")?);
    let mut hear = |wanted: &str| -> Result<()> {
        let mut line = String::new();
        while !line.contains(wanted) {
            line.clear();
            assert!(reported.read_line(&mut line)? > 0, "it ended without saying `{wanted}`");
        }
        Ok(())
    };
    service.kill()?;
    total = write(&mut file, 500)?;
    hear("trying until it answers")?;
    service.restart_at(&address)?;
    hear("in touch with the service again")?;
    until(&service, "shipped", total)?;
    assert_eq!(end(child)?.0, Some(0));

    // The numbers themselves: each once.
    let reported = service.calvex(&["search", "--json", "shipped measure count, distinct(n), max(n)"])?;
    let row: serde_json::Value = serde_json::from_slice(&reported.stdout)?;
    assert_eq!((row["count"].as_u64(), row["max(n)"].as_u64()), (Some(total), Some(total)), "{row}");
    // Started once more, it has nothing to do.
    let done = ship(&service, &state, &[&args[..], &["--once", "--json"]].concat())?.wait_with_output()?;
    assert_eq!(serde_json::from_slice::<Value>(&done.stdout)?, json!({ "stored": 0, "refused": 0 }));
    Ok(())
}

#[test]
fn standard_input_text_and_backfill() -> Result<()> {
    let service = Service::start(&[])?;
    let folder = tempfile::tempdir()?;
    let state = folder.path().join("state");
    let mut child = ship(&service, &state, &["-", "--join-indented", "--set", "service=codes"])?;
    let mut input = child.stdin.take().context("no input")?;
    input.write_all(
        b"code withheld\n  at keypad\n  at door\nnext record\n{\"msg\":\"an object\",\"service\":\"edge\"}\n",
    )?;
    // What rests is shipped, also while the sender lives.
    until(&service, "service=codes", 2)?;
    drop(input);
    let output = child.wait_with_output()?;
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let stack = service.search("withheld", &[])?.remove(0);
    assert_eq!(stack["message"], "code withheld\n  at keypad\n  at door");
    assert_eq!(service.search("\"an object\" service=edge", &[])?.len(), 1);
    assert_eq!(std::fs::read_dir(state.join("spool"))?.count(), 0, "the spool is empty again");

    // A stack that stands across the end of a batch is one event still.
    let stacks: String = (0..40).map(|n| format!("stack {n} opens\n  at {}\n  at end {n}\n", "x".repeat(90))).collect();
    std::fs::write(folder.path().join("stacks.log"), stacks)?;
    let path = folder.path().join("stacks.log").to_string_lossy().into_owned();
    let args = ["--once", "--json", "--join-indented", "--batch-kib", "1", path.as_str()];
    let done = ship(&service, &folder.path().join("s"), &args)?.wait_with_output()?;
    assert_eq!(serde_json::from_slice::<Value>(&done.stdout)?, json!({ "stored": 40, "refused": 0 }));
    assert!(service.search("stack", &[])?.iter().all(|e| e["message"].as_str().is_some_and(|m| m.contains("at end"))));

    // A folder of old files, once; a broken line is reported with its place and stops nothing.
    let old = folder.path().join("old");
    std::fs::create_dir(&old)?;
    for n in 0..3 {
        let lines: String = (0..500).map(|i| format!("{{\"msg\":\"old line\",\"n\":{}}}\n", n * 500 + i)).collect();
        std::fs::write(old.join(format!("{n}.log")), lines)?;
    }
    std::fs::write(old.join("3.log"), "{\"msg\":\"old line\"}\n{\"msg\":\n{\"msg\":\"old line\"}")?;
    let name = old.to_string_lossy().into_owned();
    let done = ship(&service, &folder.path().join("b"), &["--once", "--json", &name])?.wait_with_output()?;
    assert_eq!(serde_json::from_slice::<Value>(&done.stdout)?, json!({ "stored": 1502, "refused": 1 }));
    assert!(String::from_utf8_lossy(&done.stderr).contains("3.log, line 2: not JSON"), "{done:?}");
    until(&service, "\"old line\"", 1502)?;
    Ok(())
}

#[test]
fn faults_are_told_at_once() -> Result<()> {
    let service = Service::start(&[])?;
    let folder = tempfile::tempdir()?;
    let reported = |state: &str, args: &[&str]| -> Result<(Option<i32>, String)> {
        let output = ship(&service, &folder.path().join(state), args)?.wait_with_output()?;
        Ok((output.status.code(), String::from_utf8_lossy(&output.stderr).into_owned()))
    };
    let (code, text) = reported("a", &["--key", "calvex-key-nobody", "/tmp"])?;
    assert!(code == Some(2) && text.contains("not good"), "{text}");
    let (code, text) = reported("b", &["--once", "/nowhere/*.log"])?;
    assert!(code == Some(2) && text.contains("names no file"), "{text}");
    let (code, text) = reported("c", &["--set", "service", "/tmp"])?;
    assert!(code == Some(2) && text.contains("FIELD=VALUE"), "{text}");
    let first = ship(&service, &folder.path().join("d"), &["-"])?;
    wait_for("the lock", || Ok(folder.path().join("d/spool").exists().then_some(())))?;
    let (code, text) = reported("d", &["/tmp"])?;
    assert!(code == Some(2) && text.contains("another `calvex ship`"), "{text}");
    end(first)?;
    Ok(())
}

#[test]
fn plain_lines_are_cut_by_patterns() -> Result<()> {
    let service = Service::start(&[])?;
    let folder = tempfile::tempdir()?;
    let path = folder.path().join("belt.log");
    let now = jiff::Timestamp::now();
    let mut lines: String = (0..50).map(|n| format!("{now} WARN belt {}: eye dusty, reading 0.{n}\n", n % 5)).collect();
    lines += "not like the others\n";
    std::fs::write(&path, &lines)?;
    let pattern = "{time} {severity} belt {number belt}: {rest message}";
    let args = ["--once", "--text", "--set", "service=sorter", "--pattern", pattern, path.to_str().context("a path")?];
    let output = ship(&service, &folder.path().join("state"), &args)?.wait_with_output()?;
    let reported = String::from_utf8_lossy(&output.stderr).into_owned();
    assert_eq!(output.status.code(), Some(0), "{reported}");
    assert!(reported.contains("`not like the others` up to column 1: expected a time"), "{reported}");
    assert_eq!(String::from_utf8_lossy(&output.stdout).trim(), "51 stored, 0 refused, 1 fitted no pattern");
    until(&service, "severity=warn belt=3 \"eye dusty\"", 10)?;
    until(&service, "\"like the others\"", 1)?;
    // A pattern that is none is reported with its place.
    let output = ship(&service, folder.path(), &["--once", "--pattern", "{word", path.to_str().context("a path")?])?;
    let output = output.wait_with_output()?;
    assert_eq!(output.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&output.stderr).contains("column 1: this hole is not closed"));
    Ok(())
}
