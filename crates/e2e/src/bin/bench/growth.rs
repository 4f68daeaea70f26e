//! How answers grow with the events: the same questions at one, ten and a hundred million. Events are made while others
//! are sent, so no rate is reported here.

use crate::intake::{Protocol, send};
use crate::questions::questions;
use crate::{HOUR_NS, SLICE, asked, chunk_bytes, folder_bytes, memory_kib, rfc, slice, start, wait_for_files};
use anyhow::{Context, Result};
use calvex_e2e::load::Load;
use std::sync::Arc;

/// Sends `events` events and asks at each tenfold size on the way.
pub async fn grow(events: usize) -> Result<()> {
    let now_ns = i64::try_from(jiff::Timestamp::now().as_nanosecond())?;
    let from_ns = now_ns - HOUR_NS;
    let service = start()?;
    let load = Load::new(1, from_ns, HOUR_NS * 9 / 10 / events as i64);
    let mut making = tokio::task::spawn_blocking(move || made(load));
    let (mut sent, mut checkpoint, mut sample) = (0, SLICE, String::new());
    while sent < events {
        let (load, bodies) = making.await?;
        making = tokio::task::spawn_blocking(move || made(load));
        if sample.is_empty() {
            let lines: Vec<&str> = std::str::from_utf8(&bodies[bodies.len() / 3].bytes)?.lines().collect();
            sample = lines.get(lines.len() / 2).context("an empty body")?.to_string();
        }
        send(&service, &bodies, 8, Protocol::Ndjson).await?;
        sent += bodies.iter().map(|b| b.events).sum::<usize>();
        if sent < checkpoint && sent < events {
            continue;
        }
        checkpoint *= 10;
        service.ok(&["admin", "seal"])?;
        // What is made meanwhile would stand in the way of the questions.
        let made = making.await?;
        making = tokio::task::spawn_blocking(move || made);
        let data = service.dir.join("mariadb/data/calvex");
        wait_for_files(&data)?;
        println!(
            "{sent} events: {:.1} bytes/event on disk, {:.1} of them chunks; the service has {} MiB",
            folder_bytes(&data) as f64 / sent as f64,
            chunk_bytes(&service)? as f64 / sent as f64,
            memory_kib(service.pid()).unwrap_or(0) / 1024
        );
        for question in
            questions(&serde_json::from_str(&sample)?, &rfc(from_ns - 10 * HOUR_NS), &rfc(now_ns + HOUR_NS))?
        {
            // Grows as a scan does, and would be most of the run.
            if question.name.starts_with("words that begin") && sent > 10 * SLICE {
                continue;
            }
            match asked(&service, &question, false).await {
                Ok(asked) => println!("  {}: {:.2} ms, p99 {:.2} ms", asked.name, asked.median, asked.p99),
                Err(e) => println!("  {}: {e}", question.name),
            }
        }
    }
    Ok(())
}

fn made(mut load: Load) -> (Load, Arc<Vec<crate::intake::Body>>) {
    let bodies = slice(&mut load, SLICE);
    (load, bodies)
}
