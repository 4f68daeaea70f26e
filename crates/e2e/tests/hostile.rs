//! Every attack at once beside a steady sender: nothing of the sender's is lost or doubled, the service's memory stays
//! below a GiB, it answers everybody, and goes on when the attacks are over.

use anyhow::{Context, Result};
use calvex_e2e::hostile::{
    Attackers, Target, attack, client, empty_records, grpc_export, packed_message, peak_mib, send_steadily,
};
use calvex_e2e::service::{Service, wait_for};
use std::collections::HashSet;
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;
use tonic::Code;

const MAX_MIB: u64 = 1024;

fn syslog(service: &Service, scheme: &str) -> Result<SocketAddr> {
    Ok(service.other("syslog", scheme)?.trim_start_matches(scheme).parse()?)
}

fn target(service: &Service) -> Result<Target> {
    Ok(Target {
        url: service.url.clone(),
        grpc: service.other("OTLP over gRPC", "http")?.to_owned(),
        syslog: Some((syslog(service, "tcp://")?, syslog(service, "udp://")?)),
        key: service.ok(&["key", "new", "stranger", "--text"])?.trim().to_owned(),
        token: service.ok(&["token", "new", "reader", "--text"])?.trim().to_owned(),
    })
}

#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn all_attacks_at_once_beside_a_steady_sender() -> Result<()> {
    let service = Service::start(&[
        ("CALVEX_SYSLOG_TCP_LISTEN", "127.0.0.1:0"),
        ("CALVEX_SYSLOG_UDP_LISTEN", "127.0.0.1:0"),
        ("CALVEX_LIMITS_REQUEST_S", "5"),
    ])?;
    // An ordinary rule that cuts text: it must not hold a decoder on any line.
    let rule = r#"[{"name":"cut","when":"not service=steady","act":{"cut":{"patterns":["{text a} {text b}!","{text a}: {word b} {text c}?"]}}}]"#;
    let answer = client()?
        .put(format!("{}/api/transforms", service.url))
        .bearer_auth(&service.token)
        .header("content-type", "application/json")
        .body(rule)
        .send()
        .await?;
    assert!(answer.status().is_success(), "{}", answer.text().await?);

    let calm = send_steadily(&service.url, &service.key, 0, 2000, 100, Duration::from_secs(4)).await?;
    let over = Arc::new(AtomicBool::new(false));
    let attacks = attack(target(&service)?, Attackers::Nice, over.clone());
    let first = calm.acknowledged.len() as u64;
    let beside = send_steadily(&service.url, &service.key, first, 2000, 100, Duration::from_secs(15)).await?;
    over.store(true, Ordering::SeqCst);
    let attacks = tokio::task::spawn_blocking(move || attacks.join())
        .await?
        .map_err(|_| anyhow::anyhow!("an attack failed"))??;
    println!(
        "{attacks} attacks; p99 {:?} calm, {:?} beside; peak {} MiB",
        calm.p99(),
        beside.p99(),
        peak_mib(service.pid())?
    );
    assert!(attacks > 100, "only {attacks} attacks were made");
    assert!(peak_mib(service.pid())? < MAX_MIB, "the service took {} MiB", peak_mib(service.pid())?);

    let sent: HashSet<u64> = calm.acknowledged.iter().chain(&beside.acknowledged).copied().collect();
    let found = wait_for("a whole answer", || Ok(service.search("service=steady", &["--from", "now-1h"]).ok()))?;
    let numbers: Vec<u64> = found.iter().filter_map(|e| e["fields"]["n"].as_u64()).collect();
    let distinct: HashSet<u64> = numbers.iter().copied().collect();
    assert_eq!(numbers.len(), distinct.len(), "an event is stored twice");
    assert_eq!(distinct, sent, "an acknowledged event is missing, or one was never sent");

    // The account has a bound, whatever names were written.
    let rows = service.ok(&["arrivals", "--json"])?.lines().count();
    assert!(rows < 12_000, "{rows} rows of arrivals");
    Ok(())
}

/// Each bomb alone, one after the other: what is answered, and what it leaves.
#[tokio::test(flavor = "multi_thread")]
async fn what_grows_is_counted_before_it_grows() -> Result<()> {
    let service = Service::start(&[])?;
    let grpc = service.other("OTLP over gRPC", "http")?.to_owned();
    let calm = peak_mib(service.pid())?;
    // Sixteen KB on the wire, four MB unpacked, half a GiB once decoded as structures.
    for (key, expected) in [(None, Code::Unauthenticated), (Some(service.key.as_str()), Code::InvalidArgument)] {
        for _ in 0..4 {
            assert_eq!(grpc_export(&grpc, key, packed_message(&empty_records(2_000_000))).await?, expected);
        }
    }
    // What is within the limits is taken: an empty record is a record.
    assert_eq!(grpc_export(&grpc, Some(&service.key), packed_message(&empty_records(10))).await?, Code::Ok);
    let http = client()?;
    let bomb = zstd::bulk::compress(&vec![b' '; 60 << 20], 3)?;
    let sends = (0..40).map(|_| {
        let request = http.post(format!("{}/v1/events", service.url)).bearer_auth(&service.key);
        tokio::spawn(request.header("content-encoding", "zstd").body(bomb.clone()).send())
    });
    for send in sends.collect::<Vec<_>>() {
        let status = send.await??.status().as_u16();
        assert!([200, 503].contains(&status), "{status}");
    }
    let peak = peak_mib(service.pid())?;
    assert!(peak < calm + 400, "from {calm} to {peak} MiB");
    assert_eq!(service.search("", &["--from", "now-1h"])?.len(), 10, "what was taken is there");
    Ok(())
}

/// Silent connections never keep out the next client.
#[test]
fn the_next_client_is_always_let_in() -> Result<()> {
    use std::io::Write;
    use std::net::TcpStream;
    let service = Service::start(&[("CALVEX_SYSLOG_TCP_LISTEN", "127.0.0.1:0")])?;
    let address = syslog(&service, "tcp://")?;
    let held: Vec<TcpStream> = (0..600).filter_map(|_| TcpStream::connect(address).ok()).collect();
    assert!(held.len() > 500);
    TcpStream::connect(address)?.write_all(b"<13>1 - - slots - - - let in\n")?;
    wait_for("the message", || Ok((!service.search("\"let in\"", &["--from", "now-1h"])?.is_empty()).then_some(())))?;
    drop(held);
    Ok(())
}

/// A stream whose counted message pauses, and one whose lines pause, are each one message.
#[test]
fn a_pause_within_a_message_cuts_nothing() -> Result<()> {
    use std::io::Write;
    use std::net::TcpStream;
    let service = Service::start(&[("CALVEX_SYSLOG_TCP_LISTEN", "127.0.0.1:0")])?;
    let address = syslog(&service, "tcp://")?;
    let mut counted = TcpStream::connect(address)?;
    let mut lines = TcpStream::connect(address)?;
    let message = "<13>1 - - slots - - - counted first half and second half";
    let (first, second) = message.split_at(40);
    write!(counted, "{} {first}", message.len())?;
    lines.write_all(b"<13>1 - - slots - - - a whole line\n<13>1 - - slots - - - line first half")?;
    // The rest comes once the service has seen, and stored, what stands before the pause, and half a second more.
    wait_for("the whole line", || {
        Ok((!service.search("\"a whole line\"", &["--from", "now-1h"])?.is_empty()).then_some(()))
    })?;
    std::thread::sleep(Duration::from_millis(900));
    counted.write_all(second.as_bytes())?;
    lines.write_all(b" and second half\n")?;
    let found = wait_for("both messages", || {
        let found = service.search("\"first half and second half\"", &["--from", "now-1h"])?;
        Ok((found.len() == 2).then_some(found))
    })?;
    assert_eq!(service.search("\"second half\"", &["--from", "now-1h"])?.len(), 2, "{found:?}");
    Ok(())
}

/// A key that stands for syslog and is revoked closes the way in.
#[test]
fn revoking_the_key_of_syslog_closes_the_door() -> Result<()> {
    use std::io::Write;
    use std::net::TcpStream;
    let service = Service::start(&[("CALVEX_SYSLOG_TCP_LISTEN", "127.0.0.1:0")])?;
    service.ok(&["key", "new", "syslog", "--text"])?;
    let send = |text: &str| -> Result<()> {
        TcpStream::connect(syslog(&service, "tcp://")?)?
            .write_all(format!("<13>1 - - slots - - - {text}\n").as_bytes())?;
        Ok(())
    };
    send("before")?;
    wait_for("the first", || Ok((!service.search("before", &["--from", "now-1h"])?.is_empty()).then_some(())))?;
    service.ok(&["key", "revoke", "syslog"])?;
    send("after")?;
    wait_for("its refusal", || Ok(service.ok(&["arrivals", "--json"])?.contains("not-stored").then_some(())))?;
    assert!(service.search("after", &["--from", "now-1h"])?.is_empty());
    let reported = service.calvex(&["arrivals"])?;
    String::from_utf8(reported.stdout)?.contains("not-stored").then_some(()).context("the refusal is shown")
}

/// While the database is frozen for longer than anybody waits, what was submitted is not submitted again: each of these
/// is stored once, though their senders could not know, or asked again and again.
#[tokio::test(flavor = "multi_thread")]
async fn a_frozen_database_doubles_nothing() -> Result<()> {
    use calvex_e2e::service::signal;
    use std::io::{BufRead, BufReader, Write};
    use std::net::TcpStream;
    let service = Service::start(&[
        ("CALVEX_SYSLOG_TCP_LISTEN", "127.0.0.1:0"),
        ("CALVEX_LINES_LISTEN", "127.0.0.1:0"),
        // Far shorter than the freeze: the mark of a body must outlive it.
        ("CALVEX_INTAKE_REPEAT_WINDOW_S", "2"),
    ])?;
    let mut lines = TcpStream::connect(service.other("JSON lines", "tcp://")?.trim_start_matches("tcp://"))?;
    writeln!(lines, "{{\"key\":\"{}\"}}", service.key)?;
    let mut answers = BufReader::new(lines.try_clone()?).lines();
    assert!(answers.next().context("no greeting")??.contains("ready"));
    let database = service.database_pid().context("no database")?;
    signal(database, "STOP")?;
    let time = jiff::Timestamp::now();
    writeln!(lines, "{{\"time\":\"{time}\",\"msg\":\"frozen by lines\"}}")?;
    let mut syslog = TcpStream::connect(syslog(&service, "tcp://")?)?;
    syslog.write_all(b"<13>1 - - slots - - - frozen by syslog\n")?;
    let patient = client()?;
    let impatient = reqwest::Client::builder().timeout(Duration::from_secs(3)).no_proxy().build()?;
    let url = format!("{}/v1/events", service.url);
    let timed = format!("{{\"time\":\"{time}\",\"msg\":\"frozen by a body\"}}\n");
    // One that goes on asking, and one without a time of its own, which waits.
    let asking = tokio::spawn({
        let (url, key) = (url.clone(), service.key.clone());
        async move {
            loop {
                let request = impatient.post(&url).bearer_auth(&key).body(timed.clone());
                match request.send().await {
                    Ok(answer) if answer.status().is_success() => return,
                    _ => tokio::time::sleep(Duration::from_millis(100)).await,
                }
            }
        }
    });
    let waiting =
        tokio::spawn(patient.post(&url).bearer_auth(&service.key).body("{\"msg\":\"frozen and waiting\"}").send());
    tokio::time::sleep(Duration::from_secs(26)).await;
    signal(database, "CONT")?;
    asking.await?;
    assert!(waiting.await??.status().is_success(), "who waits learns what became of it");
    assert!(answers.next().context("no answer")??.contains("\"stored\":1"));
    for what in ["lines", "syslog", "a body", "frozen and waiting"] {
        let query = format!("frozen \"{what}\"");
        wait_for(&query, || Ok((!service.search(&query, &["--from", "now-1h"])?.is_empty()).then_some(())))?;
    }
    let found = service.search("frozen", &["--from", "now-1h"])?;
    assert_eq!(found.len(), 4, "{found:?}");
    Ok(())
}

/// A batch that can never be stored is refused alone; its neighbours are stored, and the service stays ready.
#[tokio::test(flavor = "multi_thread")]
async fn one_batch_stops_nobody() -> Result<()> {
    let service = Service::start(&[("CALVEX_LIMITS_EVENT_KIB", "8192")])?;
    let http = client()?;
    let url = format!("{}/v1/events", service.url);
    // A hundred refusals with long names under an idempotency key: an answer that used to be too long to be kept.
    let key = service.ok(&["key", "new", "edge-only", "--service", "edge", "--text"]).map(|k| k.trim().to_owned());
    let key = match key {
        Ok(key) => key,
        Err(_) => {
            let key = service.ok(&["key", "new", "edge-only", "--text"])?.trim().to_owned();
            service.ok(&["key", "limit", "edge-only", "--service", "edge"])?;
            key
        }
    };
    let lines: String =
        (0..100).map(|n| format!("{{\"service\":\"{}{n}\",\"msg\":\"x\"}}\n", "s".repeat(2000))).collect();
    for repeated in [false, true] {
        let request = http.post(&url).bearer_auth(&key).header("idempotency-key", "long names");
        let answer: serde_json::Value = request.body(lines.clone()).send().await?.error_for_status()?.json().await?;
        assert_eq!((answer["refused"].as_u64(), answer["repeated"].as_bool().unwrap_or(false)), (Some(100), repeated));
    }
    // A row that the database does not take at once, beside rows that it does.
    service.sql("SET GLOBAL max_allowed_packet = 1048576")?;
    // Connections keep the limit that they began with; those that follow have the new one.
    let others =
        service.sql("SELECT id FROM information_schema.PROCESSLIST WHERE id <> CONNECTION_ID() AND db = 'calvex'")?;
    let kill: String = others.lines().map(|id| format!("KILL {id};")).collect();
    // One may have ended by itself meanwhile.
    let _ = service.sql(&kill);
    // Random hex hardly packs: four bits a digit.
    let mut state = 88_172_645_463_325_252u64;
    let random: String = (0..6_000_000)
        .map(|_| {
            state ^= state << 13;
            state ^= state >> 7;
            state ^= state << 17;
            char::from(b"0123456789abcdef"[(state >> 40) as usize & 15])
        })
        .collect();
    let neighbours = tokio::spawn({
        let (http, url, key) = (http.clone(), url.clone(), service.key.clone());
        async move {
            let mut stored = 0;
            for n in 0..40 {
                let body = format!("{{\"service\":\"neighbour\",\"msg\":\"door {n}\"}}\n");
                let answer = http.post(&url).bearer_auth(&key).body(body).send().await?;
                anyhow::ensure!(answer.status().is_success(), "{}", answer.text().await?);
                stored += 1;
                tokio::time::sleep(Duration::from_millis(20)).await;
            }
            Ok::<_, anyhow::Error>(stored)
        }
    });
    let mut refused = false;
    for n in 0..20 {
        let body = format!("{{\"service\":\"large\",\"msg\":\"{n} {random}\"}}\n");
        let answer = http.post(&url).bearer_auth(&service.key).body(body).send().await?;
        // A connection that was made before the new limit may still take one.
        if answer.status() == 422 {
            let text = answer.text().await?;
            assert!(text.contains("max_allowed_packet") && text.contains("not-storable"), "{text}");
            refused = true;
            break;
        }
    }
    assert!(refused, "a row larger than the database takes is refused");
    let stored = neighbours.await??;
    assert_eq!(service.search("service=neighbour", &["--from", "now-1h"])?.len(), stored);
    wait_for("readiness", || Ok(service.calvex(&["arrivals"])?.status.success().then_some(())))?;
    let ready = http.get(format!("{}/readyz", service.url)).send().await?;
    assert_eq!(ready.status(), 200, "{}", ready.text().await?);
    assert!(service.ok(&["arrivals"])?.contains("not-storable"));
    Ok(())
}

/// Readiness says what is so: while the database takes no writes, it is not ready, and senders get 503 and come back.
#[tokio::test(flavor = "multi_thread")]
async fn readiness_tells_the_truth() -> Result<()> {
    let service = Service::start(&[])?;
    let http = client()?;
    let ready = async || Ok::<_, anyhow::Error>(http.get(format!("{}/readyz", service.url)).send().await?);
    assert_eq!(ready().await?.status(), 200);
    let set = |value: &str| service.sql(&format!("SET GLOBAL read_only = {value}"));
    set("1")?;
    let reported = ready().await?;
    assert_eq!(reported.status(), 503);
    assert!(reported.text().await?.contains("read-only"));
    set("0")?;
    assert_eq!(ready().await?.status(), 200);
    Ok(())
}
