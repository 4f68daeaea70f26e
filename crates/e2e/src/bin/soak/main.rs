//! `calvex-soak [MINUTES] [EVENTS_PER_SECOND]`: three nodes over three database servers for long, with rules, questions,
//! merges, late events and buckets that expire. A row for each minute shows what could grow; at the end everything that was
//! acknowledged is counted.

mod samples;

use anyhow::{Context, Result, ensure};
use calvex_e2e::buckets;
use calvex_e2e::galera::Galera;
use calvex_e2e::hostile::client;
use calvex_e2e::load::Load;
use calvex_e2e::service::{Service, wait_for};
use samples::{Sample, growth};
use serde_json::{Value, json};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

const NODES: usize = 3;
/// A node is sent a body this often by each of its senders.
const EVERY: Duration = Duration::from_millis(100);
const SENDERS: u64 = 2;
/// The earliest bucket is made due this often.
const EXPIRES_EVERY_MIN: u64 = 5;
/// Questions that are asked in turn, one a second.
const QUESTIONS: [&str; 4] =
    ["service=edge severity>=error", "\"ran out\"", "door 4711", "measure count per service every 1m"];

/// What senders share.
#[derive(Default)]
struct Sent {
    stop: AtomicBool,
    /// Events acknowledged, without late ones.
    acknowledged: AtomicU64,
    refused: AtomicU64,
    /// How long each acknowledgement of the minute took, in milliseconds.
    took_ms: Mutex<Vec<f64>>,
}

#[tokio::main]
async fn main() -> Result<()> {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let mut args = std::env::args().skip(1);
    let mut number = |default: u64| args.next().map_or(Ok(default), |text| text.parse()).context("usage: MINUTES RATE");
    let (minutes, rate) = (number(60)?, number(20_000)?);
    let dir = tempfile::tempdir()?;
    let galera = Galera::start(&dir.path().join("servers"), NODES)?;
    let key_file = dir.path().join("secrets.key").display().to_string();
    let nodes: Vec<Service> = (0..NODES).map(|n| start(&galera, n, &key_file)).collect::<Result<_>>()?;
    set_up(nodes.first().context("no node")?)?;
    let sent = Arc::new(Sent::default());
    let key = nodes.first().map(|node| node.key.clone()).unwrap_or_default();
    let mut senders = Vec::new();
    for (n, node) in nodes.iter().enumerate() {
        for sender in 0..SENDERS {
            let each = rate as f64 / (NODES as f64 * SENDERS as f64) * EVERY.as_secs_f64();
            let serial = n as u64 * SENDERS + sender;
            senders.push(tokio::spawn(send(sent.clone(), node.url.clone(), key.clone(), serial, each as usize)));
        }
    }
    println!("{}", Sample::HEAD);
    let mut samples: Vec<Sample> = Vec::new();
    let began = Instant::now();
    let (mut asked_ms, mut late) = (0f64, 0);
    for minute in 1..=minutes {
        while began.elapsed() < Duration::from_secs(minute * 60) {
            let second = began.elapsed().as_secs() as usize;
            let (node, question) = (second % NODES, second % QUESTIONS.len());
            if let (Some(node), Some(question)) = (nodes.get(node), QUESTIONS.get(question)) {
                let asked = Instant::now();
                let answer = node.calvex(&["search", "--json", "-n", "100", "--from", "now-1h", question])?;
                let said = String::from_utf8_lossy(&answer.stderr);
                // A host that is busy with something else makes answers late or incomplete, which say so and are counted.
                let is_late = said.contains("the answer is incomplete");
                ensure!(is_late || answer.status.code() != Some(2), "{said}");
                late += u64::from(is_late);
                asked_ms = asked_ms.max(asked.elapsed().as_secs_f64() * 1000.0);
            }
            tokio::time::sleep(Duration::from_secs(1)).await;
        }
        if minute % EXPIRES_EVERY_MIN == 0 {
            expire_earliest(&galera, &nodes)?;
        }
        let took = std::mem::take(&mut *sent.took_ms.lock().unwrap_or_else(PoisonError::into_inner));
        let (asked_ms, late) = (std::mem::take(&mut asked_ms), std::mem::take(&mut late));
        let acknowledged = sent.acknowledged.load(Ordering::SeqCst);
        let sample = Sample::take(minute, &nodes, &galera, (acknowledged, took), (asked_ms, late)).await?;
        println!("{sample}");
        samples.push(sample);
    }
    sent.stop.store(true, Ordering::SeqCst);
    for sender in senders {
        sender.await??;
    }
    let acknowledged = sent.acknowledged.load(Ordering::SeqCst);
    for node in &nodes {
        wait_for("everything that was acknowledged", || {
            let counted = node.ok(&["search", "--json", "--from", "now-1d", "service!=late-depot measure count"])?;
            let counted: Value = serde_json::from_str(counted.lines().next().unwrap_or("null"))?;
            Ok((counted["count"] == acknowledged).then_some(()))
        })?;
    }
    println!("{acknowledged} events were acknowledged, and every node counts them");
    println!("refused or not answered, and sent again: {}", sent.refused.load(Ordering::SeqCst));
    print!("{}", growth(&samples));
    drop(nodes);
    galera.stop();
    Ok(())
}

fn start(galera: &Galera, n: usize, key_file: &str) -> Result<Service> {
    let (url, name) = (galera.url(n, "lockers"), format!("bank-{}", n + 1));
    Service::start(&[
        ("CALVEX_DATABASE_URL", &url),
        ("CALVEX_NODE_NAME", &name),
        ("CALVEX_SECRETS_KEY_FILE", key_file),
        ("CALVEX_NOTIFY_WEBHOOK_LOCAL", "true"),
    ])
}

/// Rules of several forms, and a term that lets late events expire soon.
fn set_up(node: &Service) -> Result<()> {
    node.ok(&["lane", "set", "main", "--days", "3"])?;
    let path = node.dir.join("rules.toml");
    for (n, form) in [
        "[threshold]\nevents = 'severity>=error'\nper = ['service']\nover = '1m'\nabove = 50\n",
        "[threshold]\nevents = 'service=slots'\nover = '30s'\nabove = 10\n",
        "[share]\nof = 'severity>=error'\nover = '5m'\nabove = 0.5\nleast = 100\n",
        "[silence]\nper = ['service']\ntimes = 5\n",
    ]
    .into_iter()
    .enumerate()
    {
        std::fs::write(&path, format!("name = 'rule {n}'\n{form}"))?;
        node.ok(&["rule", "apply", &path.display().to_string()])?;
    }
    Ok(())
}

/// Sends a body of `each` events every time, the same again until it is acknowledged; one of a hundred bodies is followed by
/// some events of two days ago.
async fn send(sent: Arc<Sent>, url: String, key: String, serial: u64, each: usize) -> Result<()> {
    let client = client()?;
    let now_ns = i64::try_from(jiff::Timestamp::now().as_nanosecond())?;
    let step_ns = i64::try_from(EVERY.as_nanos())? / i64::try_from(each.max(1))?;
    let mut load = Load::new(serial, now_ns, step_ns);
    let mut timer = tokio::time::interval(EVERY);
    timer.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Burst);
    for n in 0u64.. {
        timer.tick().await;
        if sent.stop.load(Ordering::SeqCst) {
            break;
        }
        let mut bodies = vec![(load.lines(each), each as u64)];
        if n % 100 == 0 {
            let time = jiff::Timestamp::from_second(jiff::Timestamp::now().as_second() - 2 * 86_400)?.to_string();
            let late = json!({ "time": time, "service": "late-depot", "msg": format!("door {n} reported late") });
            bodies.push((format!("{late}\n").repeat(20), 0));
        }
        for (part, (body, events)) in bodies.into_iter().enumerate() {
            let began = Instant::now();
            loop {
                let request = client.post(format!("{url}/v1/events")).bearer_auth(&key);
                let request = request.header("Idempotency-Key", format!("{serial}-{n}-{part}")).body(body.clone());
                if request.send().await.is_ok_and(|answer| answer.status().is_success()) {
                    break;
                }
                sent.refused.fetch_add(1, Ordering::SeqCst);
                tokio::time::sleep(Duration::from_millis(200)).await;
            }
            sent.acknowledged.fetch_add(events, Ordering::SeqCst);
            let ms = began.elapsed().as_secs_f64() * 1000.0;
            sent.took_ms.lock().unwrap_or_else(PoisonError::into_inner).push(ms);
        }
    }
    Ok(())
}

/// Makes the bucket of the late events due and has it dropped.
fn expire_earliest(galera: &Galera, nodes: &[Service]) -> Result<()> {
    let member = galera.members.first().context("no server")?;
    let days = buckets::days(member)?;
    if let [earliest, _, ..] = days.as_slice() {
        buckets::make_due(member, *earliest, buckets::day_of_long_ago(40))?;
        for node in nodes {
            node.ok(&["admin", "expire"])?;
        }
    }
    Ok(())
}
