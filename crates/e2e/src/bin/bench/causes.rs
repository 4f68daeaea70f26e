//! From a red bar, or an id, to the cause: two halves of the load compared, the second with a planted cause; a story of 500
//! spans over the whole load in headless Chromium at 1280x800; and a story of an id without a range over a hundred days.

use crate::console::WATCH;
use crate::intake::{Body, Protocol, send};
use crate::{HOUR_NS, SLICE, rfc, slice, start};
use anyhow::{Context, Result};
use bytes::Bytes;
use calvex_e2e::browser::Browser;
use calvex_e2e::load::Load;
use calvex_e2e::service::{PASSWORD, Service};
use serde_json::{Value, json};
use std::sync::Arc;
use std::time::{Duration, Instant};

/// How often each question is asked; the middle is reported.
const RUNS: usize = 7;
/// Spans of the story that is drawn.
const SPANS: usize = 500;
/// Days of chunks that a story without a range looks through.
const DAYS: usize = 100;
/// How long the story is scrolled.
const SCROLL: Duration = Duration::from_secs(5);

/// Compares two halves of `events` events, asks for a story over them, and prints how long both took.
pub async fn causes(events: usize) -> Result<()> {
    let now_ns = i64::try_from(jiff::Timestamp::now().as_nanosecond())?;
    let from_ns = now_ns - HOUR_NS;
    let service = start()?;
    let mut load = Load::new(1, from_ns, HOUR_NS * 9 / 10 / events as i64);
    let mut sent = 0;
    while sent < events {
        let mut bodies = slice(&mut load, SLICE.min(events - sent));
        if sent >= events / 2 {
            bodies = Arc::new(bodies.iter().map(with_cause).collect());
        }
        send(&service, &bodies, 8, Protocol::Ndjson).await?;
        sent += bodies.iter().map(|b| b.events).sum::<usize>();
        println!("  {sent} events");
    }
    let trace = send_spans(&service, now_ns - HOUR_NS / 2).await?;
    service.ok(&["admin", "seal"])?;
    service.ok(&["admin", "merge"])?;

    let middle_ns = from_ns + HOUR_NS * 9 / 20;
    let ask = json!({
        "query": "", "from": rfc(middle_ns), "to": rfc(from_ns + HOUR_NS * 9 / 10),
        "before_from": rfc(from_ns), "before_to": rfc(middle_ns),
    });
    let (mut first, mut whole) = (Vec::new(), Vec::new());
    for run in 0..=RUNS {
        let (first_ms, whole_ms) = compare(&service, &ask).await?;
        if run > 0 {
            first.push(first_ms);
            whole.push(whole_ms);
        }
    }
    println!("{events} events compared: first findings {:.0} ms, all {:.0} ms", middle(first), middle(whole));
    println!("a story of {SPANS} spans over them: {:.1} ms", story(&service, &trace).await?);
    draw(&service, &trace).await?;
    drop(service);
    days(now_ns).await
}

/// A fourth of the events with a short lease: what is to be found.
fn with_cause(body: &Body) -> Body {
    let mut bytes = Vec::with_capacity(body.bytes.len() + body.events * 8);
    for (n, line) in body.bytes.split_inclusive(|b| *b == b'\n').enumerate() {
        match line.split_first() {
            Some((b'{', rest)) if n % 4 == 0 => {
                bytes.extend_from_slice(b"{\"lease\":12,");
                bytes.extend_from_slice(rest);
            }
            _ => bytes.extend_from_slice(line),
        }
    }
    Body { bytes: bytes.into(), events: body.events }
}

/// Milliseconds to the first findings, and to the answer.
async fn compare(service: &Service, ask: &Value) -> Result<(f64, f64)> {
    let client = reqwest::Client::builder().no_proxy().build()?;
    let began = Instant::now();
    let request = client.post(format!("{}/api/compare", service.url)).bearer_auth(&service.token);
    let mut answer = request.header("accept", "application/x-ndjson").json(ask).send().await?.error_for_status()?;
    let (mut first, mut held) = (None, Vec::new());
    while let Some(chunk) = answer.chunk().await? {
        held.extend_from_slice(&chunk);
        if first.is_none() && memchr::memmem::find(&held, b"{\"findings\":").is_some() {
            first = Some(began.elapsed().as_secs_f64() * 1e3);
        }
    }
    let whole = began.elapsed().as_secs_f64() * 1e3;
    let last = held.split(|b| *b == b'\n').rfind(|line| !line.is_empty()).context("no answer")?;
    let last: Value = serde_json::from_slice(last)?;
    anyhow::ensure!(last["answer"]["explain"]["stopped"].is_null(), "{}", last["answer"]["explain"]);
    let found = last["answer"]["findings"].as_array().is_some_and(|all| all.iter().any(|f| f["query"] == "lease=12"));
    anyhow::ensure!(found, "the cause was not found: {}", last["answer"]["headline"]);
    Ok((first.context("no findings before the answer")?, whole))
}

/// Spans of one trace, five deep; its id.
async fn send_spans(service: &Service, at_ns: i64) -> Result<String> {
    let trace = "7f3a00000000000000000000000000c1";
    let spans: Vec<Value> = (1..=SPANS)
        .map(|n| {
            let (depth, start) = (n % 5, at_ns + n as i64 * 2_000_000);
            let parent = if n == 1 { String::new() } else { format!("{:016x}", if depth == 0 { 1 } else { n - 1 }) };
            json!({
                "traceId": trace, "spanId": format!("{n:016x}"), "parentSpanId": parent, "kind": 2,
                "name": format!("step {} of {n}", n % 40),
                "startTimeUnixNano": start.to_string(),
                "endTimeUnixNano": (start + if n == 1 { 1_200_000_000 } else { 1_500_000 }).to_string(),
            })
        })
        .collect();
    let of = |service: usize| {
        let own: Vec<&Value> = spans.iter().enumerate().filter(|(n, _)| n % 6 == service).map(|(_, s)| s).collect();
        let name = ["edge", "parcels", "slots", "codes", "notify", "billing"][service];
        json!({
            "resource": { "attributes": [{ "key": "service.name", "value": { "stringValue": name } }] },
            "scopeSpans": [{ "spans": own }],
        })
    };
    let body = json!({ "resourceSpans": (0..6).map(of).collect::<Vec<_>>() });
    let client = reqwest::Client::builder().no_proxy().build()?;
    let request = client.post(format!("{}/v1/traces", service.url)).bearer_auth(&service.key);
    request.json(&body).send().await?.error_for_status()?;
    Ok(trace.to_owned())
}

/// Milliseconds of a story's answer, the middle of several.
async fn story(service: &Service, id: &str) -> Result<f64> {
    let client = reqwest::Client::builder().no_proxy().build()?;
    let mut times = Vec::new();
    for run in 0..=RUNS {
        let began = Instant::now();
        let request = client.get(format!("{}/api/story/{id}", service.url)).bearer_auth(&service.token);
        let answer: Value = request.send().await?.error_for_status()?.json().await?;
        anyhow::ensure!(answer["events"].as_array().is_some_and(|e| !e.is_empty()), "no story of {id}: {answer}");
        if run > 0 {
            times.push(began.elapsed().as_secs_f64() * 1e3);
        }
    }
    Ok(middle(times))
}

/// Opens a story by its address within the page, and answers when it was painted.
const OPEN: &str = "
    const [address, done] = [arguments[0], arguments[arguments.length - 1]];
    const began = performance.now();
    history.pushState({}, '', address);
    window.dispatchEvent(new PopStateEvent('popstate', { state: {} }));
    const look = () => {
        if (document.querySelector('[data-testid=score]')) window.painted().then((at) => done(at - began));
        else if (performance.now() - began > 60000) done(null);
        else requestAnimationFrame(look);
    };
    requestAnimationFrame(look);";

/// Scrolls whatever holds the story up and down, and answers the tasks over 50 ms.
const SCROLL_STORY: &str = "
    const [ms, done] = [arguments[0], arguments[arguments.length - 1]];
    let box = document.querySelector('[data-testid=score]');
    while (box && box.scrollHeight <= box.clientHeight + 10) box = box.parentElement;
    box = box ?? document.scrollingElement;
    const began = performance.now();
    let [frames, down, far] = [0, true, 0];
    const step = () => {
        box.scrollTop += down ? 120 : -120;
        far = Math.max(far, box.scrollTop);
        if (box.scrollTop + box.clientHeight >= box.scrollHeight - 2 || box.scrollTop <= 0) down = !down;
        frames++;
        if (performance.now() - began < ms) requestAnimationFrame(step);
        else done([frames, far, window.tasks]);
    };
    step();";

async fn draw(service: &Service, trace: &str) -> Result<()> {
    let browser = Browser::open(1280, 800).await?;
    browser.sign_in(&service.url, PASSWORD).await?;
    browser.page.set_script_timeout(Duration::from_secs(120)).await?;
    // The page's own code is there from the first time on.
    browser.page.goto(format!("{}/story/{trace}", service.url)).await?;
    browser.css("[data-testid=score]").await?;
    browser.page.goto(format!("{}/search", service.url)).await?;
    browser.css("[data-testid=query]").await?;
    browser.page.execute(WATCH, vec![]).await?;
    let mut times = Vec::new();
    for run in 0..=RUNS {
        let away = "history.pushState({}, '', '/alerts'); \
            window.dispatchEvent(new PopStateEvent('popstate', { state: {} }));";
        browser.page.execute(away, vec![]).await?;
        browser.saying("h1", "Alerts").await?;
        let address = format!("/story/{trace}");
        let painted: Option<f64> = browser.page.execute_async(OPEN, vec![address.into()]).await?.convert()?;
        if run > 0 {
            times.push(painted.context("the story was not drawn")?);
        }
    }
    println!("drawn in Chromium: {:.0} ms (median of {RUNS})", middle(times));
    browser.page.execute("window.tasks = []", vec![]).await?;
    let scrolled = browser.page.execute_async(SCROLL_STORY, vec![(SCROLL.as_millis() as u64).into()]).await?;
    let (frames, far, tasks): (u64, f64, Vec<u64>) = scrolled.convert()?;
    println!(
        "scrolled {far:.0} px at {:.0} frames/s: {} tasks over 50 ms, longest {} ms",
        frames as f64 / SCROLL.as_secs_f64(),
        tasks.len(),
        tasks.iter().max().copied().unwrap_or(0)
    );
    browser.close().await
}

/// A story of an id that stands in one chunk of a hundred days of them.
async fn days(now_ns: i64) -> Result<()> {
    let service = start()?;
    service.ok(&["lane", "set", "main", "--days", "400"])?;
    let day_ns = 24 * HOUR_NS;
    let mut sample = Bytes::new();
    for day in (1..=DAYS as i64).rev() {
        let mut load = Load::new(day as u64, now_ns - day * day_ns, 1_000_000);
        let bodies = slice(&mut load, 10_000);
        if day == 70 {
            sample = bodies.first().context("no events")?.bytes.clone();
        }
        send(&service, &bodies, 8, Protocol::Ndjson).await?;
    }
    service.ok(&["admin", "seal"])?;
    service.ok(&["admin", "merge"])?;
    let line: Value = serde_json::from_slice(sample.split(|b| *b == b'\n').next().unwrap_or_default())?;
    let id = line["trace_id"].as_str().context("no trace")?;
    println!("a story without a range over {DAYS} days of chunks: {:.1} ms", story(&service, id).await?);
    Ok(())
}

fn middle(mut times: Vec<f64>) -> f64 {
    times.sort_by(f64::total_cmp);
    times.get(times.len() / 2).copied().unwrap_or(0.0)
}
