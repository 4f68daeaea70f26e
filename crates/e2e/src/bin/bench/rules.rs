//! Alert rules: thirty days rehearsed and a threshold dragged; a thousand rules beside a sender at 20 thousand events a second,
//! what they cost and how late they are judged; and how soon a message leaves after the event that tipped its rule.

use crate::intake::{Body, Protocol, send};
use crate::{SLICE, slice, start_with};
use anyhow::{Context, Result};
use calvex_e2e::load::Load;
use calvex_e2e::service::Service;
use serde_json::{Value, json};
use std::io::{Read, Write};
use std::net::TcpListener;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

const DAY_NS: i64 = 86_400_000_000_000;
/// Days that are rehearsed.
const DAYS: i64 = 30;
/// How often a threshold is dragged, and a rule tipped; the middle is reported, and the worst.
const RUNS: usize = 9;
/// Rules beside the load, events a second, and for how long each stretch is measured.
const RULES: usize = 1_000;
const RATE: usize = 20_000;
const STRETCH: Duration = Duration::from_secs(60);
/// The rule whose message is waited for is judged so often, at once after its window.
const STEP_S: f64 = 5.0;

/// Loads `events` events over thirty days, and prints what rules take.
pub async fn rules(events: usize) -> Result<()> {
    let service = start_with(&[("CALVEX_NOTIFY_WEBHOOK_LOCAL", "true")])?;
    let now_ns = i64::try_from(jiff::Timestamp::now().as_nanosecond())?;
    let mut load = Load::new(1, now_ns - DAYS * DAY_NS, DAYS * DAY_NS / events as i64);
    let mut sent = 0;
    while sent < events {
        let bodies = slice(&mut load, SLICE.min(events - sent));
        send(&service, &bodies, 8, Protocol::Ndjson).await?;
        sent += bodies.iter().map(|b| b.events).sum::<usize>();
        println!("  {sent} events");
    }
    service.ok(&["admin", "seal"])?;
    service.ok(&["admin", "merge"])?;
    rehearse(&service, events).await?;
    tipped(&service).await?;
    beside_load(&service).await
}

/// A rule over all of it, then the same with other thresholds.
async fn rehearse(service: &Service, events: usize) -> Result<()> {
    let client = reqwest::Client::builder().no_proxy().build()?;
    let ask = |above: usize, until: &Value| {
        let document = format!(
            "name = 'x'\n[threshold]\nevents = 'severity>=error'\nper = ['service']\nover = '5m'\nabove = {above}\n"
        );
        let body = json!({ "document": document, "days": DAYS, "until": until });
        client.post(format!("{}/api/rules/rehearse", service.url)).bearer_auth(&service.token).json(&body)
    };
    let began = Instant::now();
    let first: Value = ask(1000, &Value::Null).send().await?.error_for_status()?.json().await?;
    let first_ms = began.elapsed().as_secs_f64() * 1e3;
    anyhow::ensure!(first["incomplete"].is_null(), "{}", first["incomplete"]);
    let mut dragged = Vec::new();
    for run in 0..RUNS {
        let began = Instant::now();
        let answer: Value = ask(10 + run * 7, &first["range"]["to"]).send().await?.error_for_status()?.json().await?;
        dragged.push(began.elapsed().as_secs_f64() * 1e3);
        anyhow::ensure!(answer["at_hand"] == true, "the values were not at hand");
    }
    let (middle, worst) = middle_and_worst(dragged);
    println!(
        "{DAYS} days of {events} events rehearsed per service: {first_ms:.0} ms; a dragged threshold {middle:.0} ms, at worst {worst:.0}"
    );
    Ok(())
}

/// Seconds from the event that tips a rule to its message.
async fn tipped(service: &Service) -> Result<()> {
    let hook = TcpListener::bind("127.0.0.1:0")?;
    let url = format!("http://{}/hook", hook.local_addr()?);
    service.ok(&["contact", "set", "bench", "--webhook", &url, "--hourly", "1000"])?;
    let mut waits = Vec::new();
    for run in 0..RUNS {
        let document = format!(
            "name = 'tip{run}'\nnotify = ['bench']\ndelay = '0s'\n[threshold]\nevents = 'tipping{run}'\nover = '50s'\nabove = 4\n"
        );
        let path = service.dir.join("rule.toml");
        std::fs::write(&path, document)?;
        service.ok(&["rule", "apply", &path.display().to_string()])?;
        let lines = format!("{}\n", json!({ "service": "slots", "msg": format!("tipping{run} of a lease") })).repeat(5);
        let body = Body { bytes: lines.into(), events: 5 };
        let began = Instant::now();
        send(service, &Arc::new(vec![body]), 1, Protocol::Ndjson).await?;
        tokio::task::spawn_blocking({
            let hook = hook.try_clone()?;
            move || take(&hook, "alert.raised")
        })
        .await??;
        waits.push(began.elapsed().as_secs_f64());
        let listed = service.ok(&["rule", "list", "--json"])?;
        let id = listed.lines().find_map(|line| serde_json::from_str::<Value>(line).ok()?["id"].as_u64());
        service.ok(&["rule", "remove", &id.context("no rule")?.to_string()])?;
    }
    let (middle, worst) = middle_and_worst(waits);
    println!(
        "from the event that tips a rule to its message, judged every {STEP_S} s: {middle:.1} s, at worst {worst:.1} s"
    );
    Ok(())
}

/// Takes messages until one is of a type.
fn take(hook: &TcpListener, kind: &str) -> Result<()> {
    loop {
        let (mut stream, _) = hook.accept()?;
        let (mut held, mut buffer) = (Vec::new(), [0u8; 8192]);
        let event = loop {
            let read = stream.read(&mut buffer)?;
            held.extend_from_slice(buffer.get(..read).unwrap_or_default());
            let text = String::from_utf8_lossy(&held);
            let body = text.split_once("\r\n\r\n").and_then(|(_, body)| serde_json::from_str::<Value>(body).ok());
            if let Some(event) = body {
                break event;
            }
            anyhow::ensure!(read > 0, "the message broke off: {text}");
        };
        stream.write_all(b"HTTP/1.1 204 No Content\r\ncontent-length: 0\r\nconnection: close\r\n\r\n")?;
        if event["type"] == kind {
            return Ok(());
        }
    }
}

/// What a thousand rules cost beside a steady sender, and how late they are judged.
async fn beside_load(service: &Service) -> Result<()> {
    let stop = Arc::new(AtomicBool::new(false));
    let sender = tokio::spawn(steady(service.url.clone(), service.key.clone(), stop.clone()));
    let alone = cores(service, STRETCH).await?;
    let services = ["edge", "parcels", "slots", "codes", "notify", "billing", "sorter", "locker-agent"];
    let client = reqwest::Client::builder().no_proxy().build()?;
    for n in 0..RULES {
        let (of, over) = (services[n % services.len()], [1, 5, 15][n % 3]);
        let events = match n % 4 {
            0 => format!("service={of} severity>=error"),
            1 => format!("service={of} severity>=warn"),
            2 => format!("service={of} \"word{n}\""),
            _ => format!("service={of}"),
        };
        let document =
            format!("name = 'rule {n}'\n[threshold]\nevents = '{events}'\nover = '{over}m'\nabove = 10000000\n");
        let request = client.post(format!("{}/api/rules/apply", service.url)).bearer_auth(&service.token);
        request.json(&json!({ "document": document })).send().await?.error_for_status()?;
    }
    // The first judgements read each rule's window; what follows is what is measured.
    tokio::time::sleep(STRETCH).await;
    let ended = Arc::new(AtomicBool::new(false));
    let lags = tokio::spawn(lags(service.url.clone(), service.token.clone(), ended.clone()));
    let beside = cores(service, STRETCH).await?;
    ended.store(true, Ordering::Relaxed);
    let lags = lags.await??;
    stop.store(true, Ordering::Relaxed);
    let sent = sender.await??;
    let (middle, worst) = middle_and_worst(lags);
    println!("{RATE} events a second ({sent} sent): {alone:.2} cores alone, {beside:.2} beside {RULES} rules");
    println!("a rule is judged {middle:.1} s after it is due, at worst {worst:.1} s");
    Ok(())
}

/// Sends at the rate until stopped; how many.
async fn steady(url: String, key: String, stop: Arc<AtomicBool>) -> Result<usize> {
    let client = reqwest::Client::builder().no_proxy().build()?;
    let (began, mut sent) = (Instant::now(), 0);
    let mut seed = 7;
    while !stop.load(Ordering::Relaxed) {
        let due = (began.elapsed().as_secs_f64() * RATE as f64) as usize;
        let many = (due.saturating_sub(sent)).min(5_000);
        if many < 1_000 {
            tokio::time::sleep(Duration::from_millis(20)).await;
            continue;
        }
        let now_ns = i64::try_from(jiff::Timestamp::now().as_nanosecond())?;
        seed += 1;
        let lines = Load::new(seed, now_ns, 50_000).lines(many);
        let request = client.post(format!("{url}/v1/events")).bearer_auth(&key);
        request.header("content-type", "application/x-ndjson").body(lines).send().await?.error_for_status()?;
        sent += many;
    }
    Ok(sent)
}

/// Cores that the service takes over a stretch; those of its database are not counted.
async fn cores(service: &Service, stretch: Duration) -> Result<f64> {
    let ticks = || -> Result<f64> {
        let stat = std::fs::read_to_string(format!("/proc/{}/stat", service.pid()))?;
        let fields: Vec<&str> = stat.rsplit(')').next().context("no fields")?.split_whitespace().collect();
        let field = |n: usize| fields.get(n).and_then(|f| f.parse::<f64>().ok()).context("no field");
        Ok(field(11)? + field(12)?)
    };
    let (began, before) = (Instant::now(), ticks()?);
    tokio::time::sleep(stretch).await;
    // The kernel counts a hundred ticks a second.
    Ok((ticks()? - before) / 100.0 / began.elapsed().as_secs_f64())
}

/// How long after it was due each rule is judged, at the worst of all rules, every two seconds; in seconds.
async fn lags(url: String, token: String, ended: Arc<AtomicBool>) -> Result<Vec<f64>> {
    let client = reqwest::Client::builder().no_proxy().build()?;
    let mut lags = Vec::new();
    while !ended.load(Ordering::Relaxed) {
        let rules: Vec<Value> =
            client.get(format!("{url}/api/rules")).bearer_auth(&token).send().await?.error_for_status()?.json().await?;
        let now_s = jiff::Timestamp::now().as_millisecond() as f64 / 1e3;
        let lag = |rule: &Value| -> Option<f64> {
            let judged: jiff::Timestamp = rule["judged"].as_str()?.parse().ok()?;
            let window_s = rule["window_s"].as_f64()?;
            let step_s = (window_s / 10.0).clamp(5.0, 60.0);
            // The next moment is due a step and the delay after the last one.
            Some((now_s - judged.as_millisecond() as f64 / 1e3 - step_s - 30.0).max(0.0))
        };
        let of_load = rules.iter().filter(|rule| rule["name"].as_str().is_some_and(|name| name.starts_with("rule ")));
        lags.extend(of_load.filter_map(lag).reduce(f64::max));
        tokio::time::sleep(Duration::from_secs(2)).await;
    }
    anyhow::ensure!(!lags.is_empty(), "no rule was judged");
    Ok(lags)
}

fn middle_and_worst(mut figures: Vec<f64>) -> (f64, f64) {
    figures.sort_by(f64::total_cmp);
    let at = |n: usize| figures.get(n).copied().unwrap_or(f64::NAN);
    (at(figures.len() / 2), at(figures.len().saturating_sub(1)))
}
