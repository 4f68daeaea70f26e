//! What reading a part costs: the same questions asked by somebody who reads everything, without a field, about half of the
//! rows, and both; each time in turn, so that what else the machine does meets all of them.

use crate::intake::{Protocol, send};
use crate::questions::{ask, percentile, questions};
use crate::{HOUR_NS, SLICE, rfc, slice, start};
use anyhow::{Context, Result};
use calvex_e2e::load::Load;
use calvex_e2e::service::Service;
use serde_json::Value;

/// Rounds of asking; the middle of all runs is reported.
const ROUNDS: usize = 5;
/// Runs of a round: a needle is short.
const NEEDLE_RUNS: usize = 10;
/// Services of which about half of the events are.
const ROWS: &str = "service in (slots, edge, parcels, codes)";
const HIDDEN: &str = "took_ms";

/// Asks of `events` events, and prints a row for each question.
pub async fn parts(events: usize) -> Result<()> {
    let now_ns = i64::try_from(jiff::Timestamp::now().as_nanosecond())?;
    let from_ns = now_ns - HOUR_NS;
    let mut service = start()?;
    let mut load = Load::new(1, from_ns, HOUR_NS * 9 / 10 / events as i64);
    let (mut sent, mut sample) = (0, String::new());
    while sent < events {
        let bodies = slice(&mut load, SLICE.min(events - sent));
        if sample.is_empty() {
            let text = std::str::from_utf8(&bodies.first().context("no events")?.bytes)?;
            sample = text.lines().nth(5).context("no events")?.to_owned();
        }
        send(&service, &bodies, 8, Protocol::Ndjson).await?;
        sent += bodies.iter().map(|b| b.events).sum::<usize>();
        println!("  {sent} events");
    }
    service.ok(&["admin", "seal"])?;
    service.ok(&["admin", "merge"])?;
    let readers = [
        ("everything", service.token.clone()),
        ("without a field", reader(&service, "hidden", &["--hide", HIDDEN])?),
        ("half of the rows", reader(&service, "rows", &["--rows", ROWS])?),
        ("both", reader(&service, "both", &["--rows", ROWS, "--hide", HIDDEN])?),
    ];
    let sample: Value = serde_json::from_str(&sample)?;
    println!("| question | {} |", readers.each_ref().map(|(name, _)| *name).join(" | "));
    println!("| --- | --- | --- | --- | --- |");
    for question in questions(&sample, &rfc(from_ns - HOUR_NS), &rfc(now_ns + HOUR_NS))? {
        let runs = if question.needle { NEEDLE_RUNS } else { 2 };
        let mut times: Vec<Vec<f64>> = vec![Vec::new(); readers.len()];
        for _ in 0..ROUNDS {
            for ((_, token), times) in readers.iter().zip(&mut times) {
                service.token.clone_from(token);
                times.extend(ask(&service, &question, runs).await?);
            }
        }
        let middle = |times: &mut Vec<f64>| {
            times.sort_by(f64::total_cmp);
            percentile(times, 50.0)
        };
        let middles: Vec<f64> = times.iter_mut().map(middle).collect();
        let whole = middles.first().copied().unwrap_or(f64::NAN);
        let cells: Vec<String> = middles.iter().map(|ms| format!("{ms:.1} ms, {:.1}×", ms / whole)).collect();
        println!("| {} | {} |", question.name, cells.join(" | "));
    }
    Ok(())
}

/// A token of a new person who reads a part of the lane.
fn reader(service: &Service, name: &str, part: &[&str]) -> Result<String> {
    service.ok(&["person", "add", name])?;
    service.ok(&[&["grant", "give", "main", "--person", name], part].concat())?;
    let dir = service.dir.to_string_lossy().into_owned();
    let made = service.ok(&["token", "new", name, "--data-dir", &dir, "--user", name, "--text"])?;
    Ok(made.trim().to_owned())
}
