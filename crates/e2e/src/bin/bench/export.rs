//! Export of everything by the real client, into a file: over large chunks, and over a thousand small ones.

use crate::intake::{Protocol, send};
use crate::{HOUR_NS, SLICE, slice, start_with};
use anyhow::{Result, ensure};
use calvex_e2e::hostile::peak_mib;
use calvex_e2e::load::Load;
use calvex_e2e::service::Service;
use std::time::Instant;

/// Chunks of the second measurement.
const SMALL_CHUNKS: usize = 1000;

/// Measures both with `events` events.
pub async fn export(events: usize) -> Result<()> {
    let now_ns = i64::try_from(jiff::Timestamp::now().as_nanosecond())?;
    let (from_ns, step_ns) = (now_ns - HOUR_NS, HOUR_NS * 9 / 10 / events as i64);
    for (name, pieces, more) in [
        ("large chunks", events.div_ceil(SLICE), vec![]),
        // Each piece is sealed by itself, and no merge makes its chunks larger.
        ("small chunks", SMALL_CHUNKS, vec![("CALVEX_MERGE_ROWS", "1")]),
    ] {
        let service = start_with(&more)?;
        let mut load = Load::new(1, from_ns, step_ns);
        for piece in 0..pieces {
            let bodies = slice(&mut load, events * (piece + 1) / pieces - events * piece / pieces);
            send(&service, &bodies, 8, Protocol::Ndjson).await?;
            if pieces == SMALL_CHUNKS {
                service.ok(&["admin", "seal"])?;
            }
        }
        service.ok(&["admin", "seal"])?;
        let chunks = service.ok(&["admin", "chunk", "--json"])?.lines().count();
        let before = peak_mib(service.pid())?;
        let rate = timed(&service, events)?;
        println!("  {name} ({chunks}): {rate:.0} events/s, peak {} MiB ({before} before)", peak_mib(service.pid())?);
    }
    Ok(())
}

/// The best of three.
fn timed(service: &Service, events: usize) -> Result<f64> {
    let file = service.dir.join("export.ndjson");
    let mut best = 0f64;
    for _ in 0..3 {
        let began = Instant::now();
        service.ok(&["export", "--from", "now-1d", "-o", &file.display().to_string()])?;
        best = best.max(events as f64 / began.elapsed().as_secs_f64());
        let lines = memchr::memchr_iter(b'\n', &std::fs::read(&file)?).count();
        ensure!(lines == events, "{lines} of {events} were exported");
    }
    Ok(best)
}
