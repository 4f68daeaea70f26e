//! `kill -9` of the service and of its database at random moments, twenty times and more, under load from eight senders
//! into three lanes with late events and retries. After each restart the acknowledged events are found exactly: ids
//! unique, contents as sent, none missing, none twice.

#![allow(clippy::unwrap_used, reason = "a test may end where it stands; its tables are read once")]

use anyhow::{Context, Result};
use calvex_e2e::service::{Service, signal, wait_for};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde_json::{Value, json};
use std::collections::{HashMap, HashSet};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tokio::sync::Semaphore;

const SENDERS: u64 = 8;
const KILLS: usize = 22;
/// Events a round; the kill comes somewhere within them.
const ROUND: usize = 1500;

/// What senders and judge share.
struct Shared {
    url: Mutex<String>,
    key: String,
    /// Every event that may have been stored, by its number.
    sent: Mutex<HashMap<u64, Value>>,
    /// Numbers whose storing was acknowledged.
    acknowledged: Mutex<HashSet<u64>>,
    serial: AtomicU64,
    /// Events that may still be sent this round: the load goes on through the kill, but does not outgrow the test.
    load: Semaphore,
    over: AtomicBool,
}

fn event(rng: &mut ChaCha8Rng, n: u64, sender: u64) -> Value {
    let late_s = if rng.random_range(0..20) == 0 { rng.random_range(700..90_000) } else { 0 };
    let time = jiff::Timestamp::now() - jiff::SignedDuration::from_secs(late_s);
    let service = ["edge", "locker-agent", "access"][rng.random_range(0..3usize)];
    let level = ["info", "warn", "error"][rng.random_range(0..3usize)];
    json!({
        "time": format!("{time:.9}"),
        "level": level,
        "service": service,
        "msg": format!("door {} ÄÖ \u{1F4E6} event {n}", rng.random_range(1..40)),
        "n": n,
        "sender_no": sender,
        "list": [n, "a", {"deep": rng.random_range(0.0..1.0f64)}],
        "nested": {"big": u64::MAX - n, "none": null, "flag": n.is_multiple_of(2)},
    })
}

/// Sends batches until it has to end; each batch is retried under its idempotency key until it is acknowledged.
async fn sender(shared: Arc<Shared>, number: u64) -> Result<()> {
    let mut rng = ChaCha8Rng::seed_from_u64(1000 + number);
    let client = reqwest::Client::builder().timeout(Duration::from_secs(4)).no_proxy().build()?;
    while !shared.over.load(Ordering::SeqCst) {
        let size = rng.random_range(1..60);
        shared.load.acquire_many(size as u32).await?.forget();
        let first = shared.serial.fetch_add(size, Ordering::SeqCst);
        let mut body = String::new();
        for n in first..first + size {
            let event = event(&mut rng, n, number);
            body.push_str(&event.to_string());
            body.push('\n');
            shared.sent.lock().unwrap().insert(n, event);
        }
        let key = format!("{number}-{first}");
        loop {
            let url = format!("{}/v1/events", shared.url.lock().unwrap());
            let request = client.post(url).bearer_auth(&shared.key).header("idempotency-key", &key).body(body.clone());
            let answered = async { request.send().await?.error_for_status()?.json::<Value>().await }.await;
            match answered {
                Ok(answer) => {
                    assert_eq!(answer["stored"].as_u64(), Some(size), "{answer}");
                    shared.acknowledged.lock().unwrap().extend(first..first + size);
                    // Some are sent again although they were acknowledged, as a client does that lost the answer.
                    if rng.random_range(0..6) == 0 {
                        continue;
                    }
                    break;
                }
                Err(_) if shared.over.load(Ordering::SeqCst) => return Ok(()),
                Err(_) => tokio::time::sleep(Duration::from_millis(20)).await,
            }
        }
    }
    Ok(())
}

/// What was sent, rebuilt from the answer form of a found event.
fn as_sent(found: &Value) -> Value {
    let mut sent = found["fields"].clone();
    let same = |from: &str| found[from].clone();
    // The times were sent in UTC with nine digits, and are answered so.
    sent["time"] = same("time");
    sent["level"] = same("severity");
    sent["service"] = same("service");
    sent["msg"] = same("message");
    sent
}

/// Compares what is found with what was sent, event by event.
fn judge(service: &Service, shared: &Shared) -> Result<usize> {
    // What is acknowledged before the search begins must be in it.
    let acknowledged = shared.acknowledged.lock().unwrap().clone();
    // A search may end as incomplete while the database is away, and says so; then it is asked again.
    let all = || Ok(service.search("has sender_no", &["--from", "now-3d", "--to", "now+1d"]).ok());
    let found = wait_for("a whole answer", all)?;
    let sent = shared.sent.lock().unwrap();
    let mut ids = HashSet::new();
    let mut numbers = HashSet::new();
    for event in &found {
        assert!(ids.insert(event["id"].as_str().unwrap_or("").to_owned()), "id twice: {event}");
        let n = event["fields"]["n"].as_u64().context("no number")?;
        assert!(numbers.insert(n), "event {n} is stored twice");
        assert_eq!(as_sent(event), sent[&n], "event {n} is not what was sent");
        let lane = match event["service"].as_str() {
            Some("access") => "audit",
            Some("locker-agent") => "devices",
            _ => "main",
        };
        assert_eq!(event["lane"], lane);
    }
    let missing: Vec<&u64> = acknowledged.difference(&numbers).collect();
    let first = missing.first().map(|n| &sent[n]);
    assert!(
        missing.is_empty(),
        "{} of {} acknowledged events are missing, such as {first:?}",
        missing.len(),
        acknowledged.len()
    );
    Ok(found.len())
}

#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn nothing_acknowledged_is_lost_and_nothing_retried_is_stored_twice() -> Result<()> {
    // reqwest wants a TLS provider chosen, also for plain HTTP.
    let _ = rustls::crypto::ring::default_provider().install_default();
    // Small heads, so that seals happen all the time and are hit by the kills too.
    let mut service = Service::start(&[("CALVEX_HEAD_SEAL_ROWS", "400"), ("CALVEX_HEAD_SEAL_AGE_S", "2")])?;
    for (lane, filter) in [("devices", "service=locker-agent"), ("audit", "service=access")] {
        service.ok(&["lane", "set", lane, "--days", "30"])?;
        service.ok(&["route", "add", filter, lane])?;
    }
    let shared = Arc::new(Shared {
        url: Mutex::new(service.url.clone()),
        key: service.key.clone(),
        sent: Mutex::default(),
        acknowledged: Mutex::default(),
        serial: AtomicU64::new(0),
        load: Semaphore::new(0),
        over: AtomicBool::new(false),
    });
    let senders: Vec<_> = (0..SENDERS).map(|n| tokio::spawn(sender(shared.clone(), n))).collect();
    let mut rng = ChaCha8Rng::seed_from_u64(7);
    for round in 0..KILLS {
        let before = shared.acknowledged.lock().unwrap().len();
        shared.load.add_permits(ROUND);
        // A random amount of progress, then the kill wherever that happens to be.
        let enough = before + rng.random_range(0..ROUND / 2);
        wait_for("progress", || Ok((shared.acknowledged.lock().unwrap().len() > enough).then_some(())))?;
        if round % 3 == 2 {
            let pid = service.database_pid().context("no database")?;
            signal(pid, "KILL")?;
            wait_for("the database to come back", || Ok(service.database_pid().filter(|p| *p != pid)))?;
        } else {
            service.kill()?;
            service.restart()?;
            *shared.url.lock().unwrap() = service.url.clone();
        }
        println!("round {round}: {} found", judge(&service, &shared)?);
    }
    shared.over.store(true, Ordering::SeqCst);
    shared.load.add_permits(1000);
    for sender in senders {
        sender.await??;
    }
    let found = judge(&service, &shared)?;
    service.ok(&["admin", "seal"])?;
    assert_eq!(judge(&service, &shared)?, found, "sealing changes no answer");
    assert!(found > 3000, "only {found} events were stored");
    println!("{found} events through {KILLS} kills");
    Ok(())
}
