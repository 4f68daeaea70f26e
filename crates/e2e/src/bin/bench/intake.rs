//! Sending: as fast as the service takes it, at a given rate, and what the sender sees meanwhile.

use anyhow::{Result, bail};
use calvex_e2e::service::Service;
use serde_json::{Value, json};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::{Duration, Instant};

/// A request body with its number of events.
pub struct Body {
    pub bytes: bytes::Bytes,
    pub events: usize,
}

/// How bodies are sent.
#[derive(Clone, Copy, PartialEq)]
pub enum Protocol {
    Ndjson,
    OtlpProtobuf,
}

/// Sends bodies one after the other from several senders; events a second. Each answer waits for its commit.
pub async fn send(service: &Service, bodies: &Arc<Vec<Body>>, senders: usize, protocol: Protocol) -> Result<f64> {
    let next = Arc::new(AtomicUsize::new(0));
    let began = Instant::now();
    let mut tasks = tokio::task::JoinSet::new();
    for _ in 0..senders {
        let (bodies, next) = (bodies.clone(), next.clone());
        let (path, media) = match protocol {
            Protocol::Ndjson => ("/v1/events", "application/x-ndjson"),
            Protocol::OtlpProtobuf => ("/v1/logs", "application/x-protobuf"),
        };
        let (url, key) = (format!("{}{path}", service.url), service.key.clone());
        tasks.spawn(async move {
            let client = reqwest::Client::builder().no_proxy().build()?;
            loop {
                let n = next.fetch_add(1, Ordering::Relaxed);
                let Some(body) = bodies.get(n) else { return Ok::<(), anyhow::Error>(()) };
                post(&client, &url, &key, media, body).await?;
            }
        });
    }
    while let Some(done) = tasks.join_next().await {
        done??;
    }
    let events: usize = bodies.iter().map(|b| b.events).sum();
    Ok(events as f64 / began.elapsed().as_secs_f64())
}

async fn post(client: &reqwest::Client, url: &str, key: &str, media: &str, body: &Body) -> Result<()> {
    loop {
        let request = client.post(url).bearer_auth(key).header("content-type", media).body(body.bytes.clone());
        let response = request.send().await?;
        if response.status().is_success() {
            return Ok(());
        }
        if response.status().as_u16() != 503 {
            bail!("{}", response.text().await?);
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

/// Sends at `rate` events a second and asks for single marked events meanwhile: milliseconds from sent to found,
/// ascending.
pub async fn freshness(service: &Service, bodies: &Arc<Vec<Body>>, rate: f64) -> Result<Vec<f64>> {
    let stop = Arc::new(AtomicBool::new(false));
    let mut load = tokio::task::JoinSet::new();
    let began = Instant::now();
    let sent = Arc::new(AtomicUsize::new(0));
    for sender in 0..4 {
        let (bodies, stop, sent) = (bodies.clone(), stop.clone(), sent.clone());
        let (url, key) = (format!("{}/v1/events", service.url), service.key.clone());
        load.spawn(async move {
            let client = reqwest::Client::builder().no_proxy().build()?;
            for body in bodies.iter().skip(sender).step_by(4) {
                if stop.load(Ordering::Relaxed) {
                    break;
                }
                let due = began + Duration::from_secs_f64(sent.fetch_add(body.events, Ordering::Relaxed) as f64 / rate);
                tokio::time::sleep_until(due.into()).await;
                post(&client, &url, &key, "application/x-ndjson", body).await?;
            }
            Ok::<(), anyhow::Error>(())
        });
    }
    let client = reqwest::Client::builder().no_proxy().build()?;
    let url = format!("{}/v1/events", service.url);
    let mut times = Vec::new();
    for n in 0..200 {
        if load.is_empty() {
            break;
        }
        let mark = format!("probe{n}x{}", began.elapsed().as_nanos());
        let event = json!({ "message": mark, "service": "edge" }).to_string();
        let body = Body { bytes: event.into(), events: 1 };
        let sent = Instant::now();
        let posting = post(&client, &url, &service.key, "application/x-ndjson", &body);
        let finding = async {
            loop {
                let ask = json!({ "query": mark, "from": "now-1h" });
                let request = client.post(format!("{}/api/search", service.url)).bearer_auth(&service.token).json(&ask);
                let answer: Value = request.send().await?.json().await?;
                if answer["events"].as_array().is_some_and(|e| !e.is_empty()) {
                    return Ok::<_, anyhow::Error>(sent.elapsed().as_secs_f64() * 1000.0);
                }
            }
        };
        let (posted, found) = tokio::join!(posting, finding);
        posted?;
        times.push(found?);
    }
    stop.store(true, Ordering::Relaxed);
    while let Some(done) = load.join_next().await {
        done??;
    }
    times.sort_by(f64::total_cmp);
    Ok(times)
}
