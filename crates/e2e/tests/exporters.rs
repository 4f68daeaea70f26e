//! The exporters of two SDKs, from their packages, by every way: logs, spans and metrics; also where the first answer is
//! swallowed on its way back. `./run test` installs them (`crates/e2e/clients/`).

#![allow(clippy::indexing_slicing, reason = "JSON is asked by place; what is missing is null and fails its assertion")]

use anyhow::{Context, Result};
use calvex_e2e::service::{Service, wait_for};
use serde_json::{Value, json};
use std::io::{Read, Write};
use std::net::{Shutdown, TcpListener, TcpStream};
use std::path::Path;
use std::process::Command;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

/// What passes one way through a relay.
type Pass = fn(&mut TcpStream, &mut TcpStream, bool) -> std::io::Result<()>;

/// Relays connections to `to`; what is answered on the first of them that has an answer is swallowed. Returns its address,
/// and counts what was swallowed.
fn swallowing(to: String, answers: Pass) -> Result<(String, Arc<AtomicUsize>)> {
    let listener = TcpListener::bind("127.0.0.1:0")?;
    let address = listener.local_addr()?.to_string();
    let swallowed = Arc::new(AtomicUsize::new(0));
    let count = swallowed.clone();
    std::thread::spawn(move || {
        for near in listener.incoming().map_while(Result::ok) {
            let Ok(far) = TcpStream::connect(&to) else { return };
            let (Ok(mut near2), Ok(mut far2)) = (near.try_clone(), far.try_clone()) else { return };
            let (mut near, mut far) = (near, far);
            std::thread::spawn(move || {
                let _ = std::io::copy(&mut near2, &mut far2);
                let _ = far2.shutdown(Shutdown::Write);
            });
            let count = count.clone();
            std::thread::spawn(move || {
                let swallow = count.load(Ordering::SeqCst) == 0;
                if answers(&mut far, &mut near, swallow).is_err() && swallow {
                    count.fetch_add(1, Ordering::SeqCst);
                }
                let _ = near.shutdown(Shutdown::Both);
            });
        }
    });
    Ok((address, swallowed))
}

fn gone() -> std::io::Error {
    std::io::Error::other("swallowed")
}

/// HTTP/1: the first bytes of an answer are its status.
fn http_answers(from: &mut TcpStream, to: &mut TcpStream, swallow: bool) -> std::io::Result<()> {
    let mut buffer = [0; 4096];
    loop {
        match from.read(&mut buffer)? {
            0 => return Ok(()),
            _ if swallow => return Err(gone()),
            n => to.write_all(buffer.get(..n).unwrap_or_default())?,
        }
    }
}

/// HTTP/2: frames of nine bytes and so many more (RFC 9113, 4.1); an answer begins with HEADERS, type 1.
fn grpc_answers(from: &mut TcpStream, to: &mut TcpStream, swallow: bool) -> std::io::Result<()> {
    loop {
        let mut head = [0; 9];
        if from.read_exact(&mut head).is_err() {
            return Ok(());
        }
        let [a, b, c, kind, ..] = head;
        if swallow && kind == 1 {
            return Err(gone());
        }
        let mut frame = vec![0; usize::from(a) << 16 | usize::from(b) << 8 | usize::from(c)];
        from.read_exact(&mut frame)?;
        to.write_all(&head)?;
        to.write_all(&frame)?;
    }
}

fn export(language: &str, way: &str, address: &str, key: &str, service: &str) -> Result<()> {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let mut command = match language {
        "python" => Command::new(root.join("target/clients/python/bin/python")),
        _ => Command::new("node"),
    };
    let script = if language == "python" { "exporters.py" } else { "exporters.mjs" };
    command.arg(script).args([way, address, key, service]).current_dir(root.join("crates/e2e/clients"));
    let done = command.output().with_context(|| format!("{command:?}; run ./run test"))?;
    anyhow::ensure!(done.status.success(), "{service}: {}", String::from_utf8_lossy(&done.stderr));
    Ok(())
}

const WAYS: [(&str, &str); 5] =
    [("python", "protobuf"), ("python", "grpc"), ("node", "json"), ("node", "protobuf"), ("node", "grpc")];

/// What each exporter must have stored, once.
fn check(service: &Service, name: &str) -> Result<()> {
    let all = |query: &str| service.search(&format!("service={name} {query}"), &["--from", "now-1h"]);
    wait_for(&format!("four events of {name}"), || Ok((all("")?.len() >= 4).then_some(())))?;
    let (logs, spans) = (all("kind=log")?, all("kind=span")?);
    assert_eq!((logs.len(), spans.len()), (2, 2), "{name}: {logs:?} {spans:?}");
    let of = |events: &[Value], message: &str| -> Result<Value> {
        let found = events.iter().find(|e| e["message"] == message);
        Ok(found.with_context(|| format!("{name} has no `{message}`"))?.clone())
    };
    let own = of(&logs, "lease ran out")?;
    assert_eq!((&own["severity"], &own["host"]), (&json!("warn"), &json!("bk-017")), "{own}");
    let fields = &own["fields"];
    assert_eq!(fields["door"], 17, "{own}");
    assert_eq!(fields["severity_text"], "WARN", "the protocol's own: {own}");
    assert_eq!(fields["scope"]["name"], "leases", "{own}");
    assert_eq!(fields["resource"]["attributes"]["schema_url"], "mine", "{own}");
    for part in ["resource", "scope", "severity_text", "event_name", "body"] {
        assert_eq!(fields["attributes"][part], "mine", "{name}: {part}: {own}");
    }
    let (outer, inner) = (of(&spans, "lease a slot")?, of(&spans, "open a door")?);
    assert_eq!((&inner["parent"], &inner["trace"]), (&outer["span"], &outer["trace"]), "{inner} {outer}");
    assert_eq!(outer["fields"]["attributes"]["span"], "mine", "{outer}");
    let event = &outer["fields"]["span"]["events"][0];
    assert_eq!((&event["name"], &event["attributes"]["name"]), (&json!("door opened"), &json!("mine")), "{outer}");
    assert!(event["time"].as_str().is_some_and(|t| t.starts_with("20")), "{outer}");
    Ok(())
}

/// How often a sender was refused for each reason.
fn refused(service: &Service, sender: &str) -> Result<Vec<(String, u64)>> {
    let reported = service.calvex(&["arrivals", "--json"])?;
    let rows = reported.stdout.split(|b| *b == b'\n').filter_map(|line| serde_json::from_slice::<Value>(line).ok());
    let mut rows: Vec<(String, u64)> = rows
        .filter(|r| r["sender"] == sender && r["reason"].is_string())
        .map(|r| (r["reason"].as_str().unwrap_or("").to_owned(), r["refused"].as_u64().unwrap_or(0)))
        .collect();
    rows.sort();
    Ok(rows)
}

#[test]
fn exporters_of_two_sdks_by_every_way() -> Result<()> {
    let service = Service::start(&[])?;
    let grpc = service.other("OTLP over gRPC", "http")?.to_owned();
    for (language, way) in WAYS {
        let name = format!("{language}-{way}");
        let key = service.ok(&["key", "new", &name, "--text"])?.trim().to_owned();
        let address = if way == "grpc" { grpc.as_str() } else { service.url.as_str() };
        export(language, way, address, &key, &name)?;
        check(&service, &name)?;
        let counted = wait_for("the refusals", || Ok(Some(refused(&service, &name)?).filter(|r| r.len() == 2)))?;
        let [(metrics, times), (large, records)] = counted.as_slice() else { panic!("{counted:?}") };
        assert_eq!((metrics.as_str(), large.as_str(), *records), ("not-taken", "too-large", 1), "{name}");
        assert!((1..=2).contains(times), "an exporter of metrics asks again and again: {times} times");
    }
    Ok(())
}

#[test]
fn a_swallowed_answer_doubles_nothing() -> Result<()> {
    let service = Service::start(&[])?;
    let grpc = service.other("OTLP over gRPC", "http")?.trim_start_matches("http://").to_owned();
    let http = service.url.trim_start_matches("http://").to_owned();
    for (language, way) in WAYS {
        let (to, answers): (&String, Pass) = if way == "grpc" { (&grpc, grpc_answers) } else { (&http, http_answers) };
        let (relay, swallowed) = swallowing(to.clone(), answers)?;
        let name = format!("{language}-{way}-again");
        export(language, way, &format!("http://{relay}"), &service.key, &name)?;
        assert_eq!(swallowed.load(Ordering::SeqCst), 1, "{name}");
        check(&service, &name)?;
    }
    Ok(())
}
