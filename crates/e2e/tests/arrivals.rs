//! Arrivals and the probe: what came, what did not and why, as the real client shows it.

use anyhow::Result;
use calvex_e2e::service::{Service, on_disk, wait_for};
use serde_json::{Value, json};
use std::io::Write;
use std::net::{TcpStream, UdpSocket};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

const SECRET: &str = "hush4711hush";

fn rows(output: &std::process::Output) -> Vec<Value> {
    let text = String::from_utf8_lossy(&output.stdout);
    text.lines().filter_map(|line| serde_json::from_str(line).ok()).collect()
}

fn refused(rows: &[Value], sender: &str, reason: &str) -> Option<u64> {
    rows.iter().find(|r| r["reason"] == reason && r["sender"] == sender).and_then(|r| r["refused"].as_u64())
}

#[test]
fn what_became_of_it() -> Result<()> {
    let mut service = Service::start(&[("CALVEX_SYSLOG_TCP_LISTEN", "127.0.0.1:0")])?;
    service.ok(&["lane", "set", "audit", "--days", "400"])?;
    service.ok(&["route", "add", "service=access", "audit"])?;
    let now = jiff::Timestamp::now();
    let event = |name: &str, host: &str, hours: i64| {
        let time = now + jiff::SignedDuration::from_hours(hours);
        json!({ "time": time.to_string(), "service": name, "host": host, "msg": "door 17" }).to_string()
    };
    let lines = [
        event("slots", "slots-1", 0),
        event("slots", "slots-1", 0),
        event("slots", "slots-2", -3),
        event("edge", "edge-1", 1),
        event("access", "access-1", 0),
        format!("{{\"msg\":\"broken\",\"password\":\"{SECRET}\""),
        event("slots", "slots-1", -24 * 300),
    ];
    service.calvex_with(&["send", "--quiet"], (lines.join("\n") + "\n").as_bytes())?;
    let wrong = service.calvex_with(
        &["send", "--quiet", "--key", "calvex-key-wrongAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"],
        lines[0].as_bytes(),
    )?;
    assert_eq!(wrong.status.code(), Some(2));
    let syslog = service.other("syslog", "tcp://")?.trim_start_matches("tcp://").to_owned();
    TcpStream::connect(&syslog)?.write_all(b"POST /v1/events HTTP/1.1\r\n\r\n")?;

    let reported = wait_for("the account", || {
        let reported = rows(&service.calvex(&["arrivals", "--json"])?);
        Ok(Some(reported).filter(|t| refused(t, "syslog port", "wrong-protocol").is_some()))
    })?;
    let of = |name: &str, host: &str| {
        let row = reported.iter().find(|r| r["service"] == name && r["host"] == host).cloned().unwrap_or_default();
        (row["stored"].clone(), row["late"].clone(), row["lane"].clone())
    };
    assert_eq!(of("slots", "slots-1"), (json!(2), json!(0), json!("main")));
    assert_eq!(of("slots", "slots-2"), (json!(1), json!(1), json!("main")));
    assert_eq!(of("access", "access-1"), (json!(1), json!(0), json!("audit")));
    let ahead = reported.iter().find(|r| r["service"] == "edge").map(|r| r["clock_ahead_ms"].as_i64());
    assert!(matches!(ahead, Some(Some(3_590_000..=3_600_000))), "{ahead:?}");
    let sender = reported[0]["sender"].as_str().unwrap_or("").to_owned();
    assert_eq!(refused(&reported, &sender, "not-json"), Some(1));
    assert_eq!(refused(&reported, &sender, "too-old"), Some(1));
    assert_eq!(refused(&reported, "calvex-key-wron", "wrong-key"), Some(1));
    let sample =
        reported.iter().find(|r| r["reason"] == "not-json").map(|r| r["sample"].to_string()).unwrap_or_default();
    assert!(sample.contains("broken") && sample.contains("•••") && !sample.contains(SECRET), "{sample}");

    // For people: one look.
    let table = service.ok(&["arrivals", "slots", "--text"])?;
    assert!(table.contains("slots-2") && !table.contains("edge-1") && table.contains("wrong-key"), "{table}");
    assert_eq!(service.calvex(&["arrivals", "nobody"])?.status.code(), Some(1));
    // A reader of one lane gets no count of another, and no sample.
    let narrow = service.ok(&["token", "new", "narrow", "--lane", "main", "--text"])?.trim().to_owned();
    let reported = rows(&service.calvex(&["arrivals", "--json", "--token", &narrow])?);
    assert!(reported.iter().any(|r| r["service"] == "slots") && !reported.iter().any(|r| r["service"] == "access"));
    assert!(reported.iter().all(|r| r.get("sample").is_none()));
    // The account outlives the service; the secret is nowhere on its disk.
    service.stop()?;
    assert!(!on_disk(&service.dir, SECRET));
    assert!(on_disk(&service.dir, "slots-2"), "the test can find what is there");
    service.restart()?;
    let reported = rows(&service.calvex(&["arrivals", "slots", "--json"])?);
    assert_eq!(reported.iter().filter_map(|r| r["stored"].as_u64()).sum::<u64>(), 3);
    Ok(())
}

#[test]
fn the_probe_goes_every_way() -> Result<()> {
    let service = Service::start(&[
        ("CALVEX_SYSLOG_UDP_LISTEN", "127.0.0.1:0"),
        ("CALVEX_SYSLOG_TCP_LISTEN", "127.0.0.1:0"),
        ("CALVEX_LINES_LISTEN", "127.0.0.1:0"),
    ])?;
    let probe = service.calvex(&["probe", "--json"])?;
    assert!(probe.status.success(), "{}", String::from_utf8_lossy(&probe.stderr));
    let reported = rows(&probe);
    assert_eq!(reported.len(), 6);
    assert!(reported.iter().all(|t| t["found_ms"].is_f64() && t.get("wrong").is_none()), "{reported:?}");
    let wrong = service.calvex(&["probe", "--key", "calvex-key-nobody"])?;
    assert_eq!(wrong.status.code(), Some(2));
    let table = String::from_utf8_lossy(&wrong.stdout).into_owned();
    assert!(table.contains("not good") && table.contains("syslog over UDP"), "{table}");
    Ok(())
}

/// A flood of datagrams is bounded and counted; senders of other ways are served meanwhile.
#[test]
fn a_flood_does_not_stand_in_the_way() -> Result<()> {
    let service = Service::start(&[("CALVEX_SYSLOG_UDP_LISTEN", "127.0.0.1:0")])?;
    let address = service.other("syslog", "udp://")?.trim_start_matches("udp://").to_owned();
    let stop = Arc::new(AtomicBool::new(false));
    let flood = {
        let stop = stop.clone();
        std::thread::spawn(move || {
            let mut sent = 0u64;
            let Ok(socket) = UdpSocket::bind("127.0.0.1:0") else { return sent };
            while !stop.load(Ordering::Relaxed) {
                sent += u64::from(socket.send_to(b"<14>sorter: eye dusty", &address).is_ok());
            }
            sent
        })
    };
    for n in 0..30 {
        let line = format!("{{\"service\":\"codes\",\"msg\":\"beside the flood\",\"n\":{n}}}\n");
        assert!(service.calvex_with(&["send", "--quiet"], line.as_bytes())?.status.success());
    }
    assert_eq!(service.search("\"beside the flood\"", &[])?.len(), 30);
    stop.store(true, Ordering::Relaxed);
    let sent = flood.join().unwrap_or(0);
    let reported = rows(&service.calvex(&["arrivals", "--json"])?);
    let stored: u64 = reported.iter().filter(|r| r["service"] == "sorter").filter_map(|r| r["stored"].as_u64()).sum();
    assert!(stored > 0 && stored <= sent, "{stored} of {sent}");
    Ok(())
}

/// Who begins a request and does not go on is let go, and TLS on the plain port is reported; others are not held up.
#[test]
fn the_slow_and_the_wrong_are_let_go() -> Result<()> {
    let service = Service::start(&[("CALVEX_LIMITS_REQUEST_S", "1")])?;
    let address = service.url.trim_start_matches("http://").to_owned();
    let key = &service.key;
    let begun = [
        String::new(),
        "POST /v1/events HTTP/1.1\r\nHost: x".to_owned(),
        format!(
            "POST /v1/events HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {key}\r\nContent-Length: 100\r\n\r\n{{\"msg\":"
        ),
        "\u{16}\u{3}\u{1}".to_owned(),
    ];
    let mut open = Vec::new();
    for begins in &begun {
        for _ in 0..50 {
            let mut stream = TcpStream::connect(&address)?;
            stream.write_all(begins.as_bytes())?;
            open.push(stream);
        }
    }
    service.calvex_with(&["send", "--quiet"], b"{\"msg\":\"beside the slow\"}\n")?;
    assert_eq!(service.search("\"beside the slow\"", &[])?.len(), 1);
    for mut stream in open {
        stream.set_read_timeout(Some(std::time::Duration::from_secs(30)))?;
        // Reads to the end of what is answered, if anything: the connection is closed.
        std::io::Read::read_to_end(&mut stream, &mut Vec::new()).or_else(|e| match e.kind() {
            std::io::ErrorKind::ConnectionReset => Ok(0),
            _ => Err(e),
        })?;
    }
    let reported = rows(&service.calvex(&["arrivals", "--json"])?);
    assert_eq!(refused(&reported, "HTTP port", "wrong-protocol"), Some(50));
    let slow: u64 = reported.iter().filter(|r| r["reason"] == "slow-body").filter_map(|r| r["refused"].as_u64()).sum();
    assert_eq!(slow, 50);
    Ok(())
}

/// However many names senders write, an answer has so many rows, and the next ones follow.
#[tokio::test(flavor = "multi_thread")]
async fn a_long_account_comes_in_pages() -> Result<()> {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let service = Service::start(&[])?;
    let lines: String = (0..30)
        .map(|n| json!({ "service": "slots", "host": format!("slots-{n:02}"), "msg": "door 17" }).to_string() + "\n")
        .collect();
    service.calvex_with(&["send", "--quiet"], lines.as_bytes())?;
    let client = reqwest::Client::new();
    let page = async |from: usize, limit: usize| -> Result<Value> {
        let url = format!("{}/api/arrivals?hours=1&from={from}&limit={limit}", service.url);
        let answer = client.get(url).bearer_auth(&service.token).send().await?.error_for_status()?;
        Ok(serde_json::from_str(&answer.text().await?)?)
    };
    let mut hosts = Vec::new();
    loop {
        let reported = page(hosts.len(), 7).await?;
        let rows = reported["arrivals"].as_array().cloned().unwrap_or_default();
        assert!(rows.len() <= 7);
        hosts.extend(rows.iter().map(|r| r["host"].as_str().unwrap_or("").to_owned()));
        let more = hosts.len() < 30;
        assert_eq!(reported["more"], json!(more), "{} of 30", hosts.len());
        if !more {
            break;
        }
    }
    hosts.sort();
    hosts.dedup();
    assert_eq!(hosts.len(), 30, "each in one page");
    let whole = page(0, 1_000_000).await?;
    assert_eq!((whole["arrivals"].as_array().map(Vec::len), &whole["more"]), (Some(30), &json!(false)));
    // The client puts the pages together.
    assert_eq!(rows(&service.calvex(&["arrivals", "--json"])?).len(), 30);
    Ok(())
}

/// A key that moves a past in: its old events count as late only once the key is limited otherwise.
#[test]
fn a_past_that_is_moved_in_is_not_late() -> Result<()> {
    let service = Service::start(&[])?;
    let key = service.ok(&["key", "new", "old-slots", "--past", "--text"])?.trim().to_owned();
    let send = |door: u32| -> Result<()> {
        let time = jiff::Timestamp::now() - jiff::SignedDuration::from_hours(30);
        let line = json!({ "time": time.to_string(), "service": "slots", "msg": format!("door {door}") }).to_string();
        let sent = service.calvex_with(&["send", "--quiet", "--key", &key], line.as_bytes())?;
        anyhow::ensure!(sent.status.success(), "{}", String::from_utf8_lossy(&sent.stderr));
        Ok(())
    };
    let account = || -> Result<(Value, Value)> {
        let reported = rows(&service.calvex(&["arrivals", "slots", "--json"])?);
        let row = reported.first().cloned().unwrap_or_default();
        Ok((row["stored"].clone(), row["late"].clone()))
    };
    send(17)?;
    wait_for("the account", || Ok((account()? == (json!(1), json!(0))).then_some(())))?;
    assert!(service.ok(&["key", "list", "--text"])?.contains("a past"));
    service.ok(&["key", "limit", "old-slots"])?;
    send(18)?;
    wait_for("what is late", || Ok((account()? == (json!(2), json!(1))).then_some(())))?;
    Ok(())
}
