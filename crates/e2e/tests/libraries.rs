//! Logging libraries run from their packages, with the JSON they write by default; and the example that follows dials.
//! `./run test` installs them (`crates/e2e/clients/`).

use anyhow::{Context, Result, bail};
use calvex_e2e::service::{Service, signal, wait_for};
use serde_json::{Value, json};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// What a program writes to standard output.
fn written(command: &mut Command) -> Result<Vec<u8>> {
    let reported = command.stderr(Stdio::inherit()).output().with_context(|| format!("{command:?}; run ./run test"))?;
    if !reported.status.success() {
        bail!("{command:?} ended with {}", reported.status);
    }
    Ok(reported.stdout)
}

fn found(service: &Service, query: &str, count: usize) -> Result<Vec<Value>> {
    wait_for(query, || Ok(Some(service.search(query, &[])?).filter(|f| f.len() == count)))
}

/// Severity, message and one field of the event that a query finds.
fn reported(service: &Service, query: &str, field: &str) -> Result<(Value, Value, Value)> {
    let event = found(service, query, 1)?.remove(0);
    let value = field.split('.').fold(&event["fields"], |at, name| &at[name]).clone();
    Ok((event["severity"].clone(), event["message"].clone(), value))
}

#[test]
fn libraries_of_two_languages() -> Result<()> {
    let listen = ("CALVEX_SYSLOG_UDP_LISTEN", "127.0.0.1:0");
    let service = Service::start(&[listen, ("CALVEX_SYSLOG_TCP_LISTEN", "127.0.0.1:0")])?;
    let clients = root().join("crates/e2e/clients");
    let node = written(Command::new("node").arg("loggers.mjs").current_dir(&clients))?;
    let at =
        |scheme: &str| Ok::<_, anyhow::Error>(service.other("syslog", scheme)?.trim_start_matches(scheme).to_owned());
    let python = root().join("target/clients/python/bin/python");
    let python =
        written(Command::new(python).arg("loggers.py").arg(at("udp://")?).arg(at("tcp://")?).current_dir(&clients))?;
    for lines in [node, python] {
        let sent = service.calvex_with(&["send", "--quiet"], &lines)?;
        assert_eq!(sent.status.code(), Some(0), "{}", String::from_utf8_lossy(&sent.stderr));
    }
    let text = |t: &str| json!(t);
    assert_eq!(
        reported(&service, "\"before door\"", "bank")?,
        (text("warn"), text("lease ran out before door 17 confirmed"), text("BK-017"))
    );
    assert_eq!(
        reported(&service, "\"stays shut\"", "err.message")?,
        (text("error"), text("door stays shut"), text("no answer from the bank"))
    );
    assert_eq!(reported(&service, "queued", "parcelId")?, (text("info"), text("message queued"), text("PX-10001")));
    assert_eq!(reported(&service, "lost", "parcelId")?, (text("error"), text("message lost"), text("PX-10002")));
    assert_eq!(reported(&service, "LS-90817", "bank")?, (text("warn"), text("lease LS-90817 ran out"), text("BK-017")));
    assert_eq!(reported(&service, "refused", "door")?, (text("error"), text("code refused"), json!(17)));
    // Each sent its own time: it lies at most minutes from now, and is not that of arrival alone.
    let minute_ago = jiff::Timestamp::now() - jiff::SignedDuration::from_mins(5);
    for query in ["\"before door\"", "queued", "refused"] {
        let event = found(&service, query, 1)?.remove(0);
        let time: jiff::Timestamp = event["time"].as_str().unwrap_or("").parse()?;
        assert!(time > minute_ago && event["time"] != event["arrived"], "{query}: {}", event["time"]);
    }
    for way in ["datagram", "stream"] {
        let event = found(&service, way, 1)?.remove(0);
        assert_eq!(
            (&event["severity"], &event["message"]),
            (&text("error"), &json!(format!("belt 4 stands, told by {way}")))
        );
        assert_eq!(event["fields"]["syslog"]["facility"], "local0", "{event}");
    }
    Ok(())
}

#[test]
fn the_example_turns_its_level() -> Result<()> {
    let service = Service::start(&[])?;
    let mut example = Command::new("node")
        .arg(root().join("docs/examples/follow-dial.mjs"))
        .envs([("CALVEX_URL", &service.url), ("CALVEX_KEY", &service.key)])
        .env("POLL_MS", "200")
        .stdout(Stdio::piped())
        .spawn()?;
    let some = |query: &str| wait_for(query, || Ok((!service.search(query, &[])?.is_empty()).then_some(())));
    some("service=slots severity=info")?;
    assert!(service.search("severity=debug", &[])?.is_empty(), "its own level");
    service.ok(&["dial", "set", "service=slots host=slots-1", "trace", "--for", "10s"])?;
    some("severity=trace")?;
    // It falls back by itself.
    let out = example.stdout.take().context("no output")?;
    let lines = std::io::BufRead::lines(std::io::BufReader::new(out));
    let turns: Vec<String> = lines.map_while(Result::ok).take(2).collect();
    assert_eq!(turns, ["level info -> trace", "level trace -> info"]);
    signal(example.id(), "TERM")?;
    example.wait()?;
    Ok(())
}
