//! The console over the whole load, warm, in headless Chromium at 1280x800: from pressing Enter to the first rows painted,
//! the longest task while the list is scrolled, and while a tail of a thousand events a second is followed.

use crate::intake::{Body, Protocol, send};
use crate::{HOUR_NS, SLICE, slice, start};
use anyhow::{Context, Result};
use calvex_e2e::browser::Browser;
use calvex_e2e::load::Load;
use calvex_e2e::service::PASSWORD;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// How often each question is asked; the middle is reported.
const RUNS: usize = 7;
/// How long the list is scrolled, and the tail followed.
const SCROLL: Duration = Duration::from_secs(10);
/// Events a second of the tail.
const TAIL_RATE: usize = 1000;

/// Notes when rows of another key are painted, when progress is shown, and every task over 50 ms.
pub const WATCH: &str = "
    window.tasks = [];
    new PerformanceObserver((l) => l.getEntries().forEach((e) => window.tasks.push(Math.round(e.duration))))
        .observe({ type: 'longtask' });
    window.painted = () => new Promise((r) => requestAnimationFrame(() => setTimeout(() => r(performance.now()), 0)));";

/// Asks a question by its address, within the page, and answers when first rows and first progress were painted.
const ASK: &str = "
    const [address, done] = [arguments[0], arguments[arguments.length - 1]];
    const rows = () => document.querySelector('[data-index=\"0\"]')?.textContent ?? '';
    const was = document.querySelector('[data-index=\"0\"]');
    const began = performance.now();
    let progress = null;
    history.pushState({}, '', address);
    window.dispatchEvent(new PopStateEvent('popstate', { state: {} }));
    const look = () => {
        const now = document.querySelector('[data-index=\"0\"]');
        if (progress === null && document.querySelector('[data-testid=progress]')) progress = performance.now() - began;
        if (now && now !== was && rows()) window.painted().then((at) => done([at - began, progress]));
        else if (performance.now() - began > 60000) done([null, progress]);
        else requestAnimationFrame(look);
    };
    requestAnimationFrame(look);";

/// Measures the console over `events` events and prints what it found.
pub async fn console(events: usize) -> Result<()> {
    let now_ns = i64::try_from(jiff::Timestamp::now().as_nanosecond())?;
    let (from_ns, step_ns) = (now_ns - HOUR_NS, HOUR_NS * 9 / 10 / events as i64);
    let service = start()?;
    let mut load = Load::new(1, from_ns, step_ns);
    let mut sent = 0;
    while sent < events {
        let bodies = slice(&mut load, SLICE.min(events - sent));
        send(&service, &bodies, 8, Protocol::Ndjson).await?;
        sent += bodies.iter().map(|b| b.events).sum::<usize>();
        println!("  {sent} events");
    }
    service.ok(&["admin", "seal"])?;
    service.ok(&["admin", "merge"])?;

    let browser = Browser::open(1280, 800).await?;
    browser.sign_in(&service.url, PASSWORD).await?;
    let time = |ns: i64| jiff::Timestamp::from_nanosecond(i128::from(ns)).map(|t| t.to_string());
    let range = format!("from={}&to={}", time(from_ns)?, time(now_ns)?);
    let address = |query: &str| {
        let q: String = query.bytes().map(|b| format!("%{b:02X}")).collect();
        format!("/search?q={q}&{range}")
    };
    browser.page.goto(format!("{}{}", service.url, address(""))).await?;
    browser.css("[data-index]").await?;
    let bytes = "return performance.getEntries().filter((e) => e.encodedBodySize && !/woff|\\/api\\//.test(e.name) \
        && e.startTime < performance.getEntriesByName('first-contentful-paint')[0].startTime + 300) \
        .reduce((sum, e) => sum + e.encodedBodySize, 0)";
    let bytes: f64 = browser.page.execute(bytes, vec![]).await?.convert()?;
    println!("first load, compressed, without faces: {:.0} kB", bytes / 1000.0);
    browser.css("[data-testid=query]").await?;
    browser.page.execute(WATCH, vec![]).await?;
    browser.page.set_script_timeout(Duration::from_secs(120)).await?;

    let asked = [
        ("a rare word", "rare3".to_owned()),
        ("severity and service", "severity>=error service=slots".to_owned()),
        ("every event", String::new()),
        ("an expression", r"message ~ /torn (again|quiet) \w+ dim/".to_owned()),
    ];
    for (what, query) in asked {
        let (mut rows, mut progress) = (Vec::new(), Vec::new());
        for run in 0..=RUNS {
            // The other question between makes the list another one each time.
            browser.page.execute_async(ASK, vec![address("severity>=fatal or severity>=info").into()]).await?;
            let reported = browser.page.execute_async(ASK, vec![address(&query).into()]).await?;
            let (painted, shown): (Option<f64>, Option<f64>) = reported.convert()?;
            if run > 0 {
                rows.push(painted.context("no rows")?);
                progress.extend(shown);
            }
        }
        rows.sort_by(f64::total_cmp);
        progress.sort_by(f64::total_cmp);
        let shown = progress.get(progress.len() / 2).map_or("not needed".to_owned(), |ms| format!("{ms:.0} ms"));
        println!("{what}: first rows {:.0} ms (most {:.0}), progress {shown}", rows[RUNS / 2], rows[RUNS - 1]);
    }

    browser.page.execute_async(ASK, vec![address("").into()]).await?;
    browser.page.execute("window.tasks = []", vec![]).await?;
    let scroll = "
        const [ms, done] = [arguments[0], arguments[arguments.length - 1]];
        const list = document.querySelector('[data-testid=events]');
        const began = performance.now();
        let frames = 0;
        const step = () => {
            list.scrollTop += 120;
            frames++;
            if (performance.now() - began < ms) requestAnimationFrame(step);
            else done([frames, list.scrollTop, window.tasks]);
        };
        step();";
    let reported = browser.page.execute_async(scroll, vec![(SCROLL.as_millis() as u64).into()]).await?;
    let (frames, top, tasks): (u64, f64, Vec<u64>) = reported.convert()?;
    let longest = tasks.iter().max().copied().unwrap_or(0);
    let each = frames as f64 / SCROLL.as_secs_f64();
    println!(
        "scrolled {:.0} rows at {each:.0} frames/s: {} tasks over 50 ms, longest {longest} ms",
        top / 28.0,
        tasks.len()
    );

    browser.page.goto(format!("{}/tail", service.url)).await?;
    browser.saying("[role=status]", "following").await?;
    browser.page.execute(WATCH, vec![]).await?;
    let mut load = Load::new(9, now_ns, 1_000_000);
    let until = Instant::now() + SCROLL;
    let mut sent = 0;
    let mut every = tokio::time::interval(Duration::from_millis(100));
    while Instant::now() < until {
        every.tick().await;
        let events = TAIL_RATE / 10;
        let bodies = Arc::new(vec![Body { bytes: load.lines(events).into(), events }]);
        send(&service, &bodies, 1, Protocol::Ndjson).await?;
        sent += events;
    }
    browser.css("[data-index]").await?;
    let tasks: Vec<u64> = browser.page.execute("return window.tasks", vec![]).await?.convert()?;
    let missed = browser.css("[role=status]").await?.text().await?;
    let longest = tasks.iter().max().copied().unwrap_or(0);
    let rate = sent as f64 / SCROLL.as_secs_f64();
    println!("tail at {rate:.0} events/s: {} tasks over 50 ms, longest {longest} ms ({missed})", tasks.len());
    browser.close().await
}
