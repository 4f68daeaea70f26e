//! How much slower a steady sender of 20 thousand events a second gets while every attack of `calvex_e2e::hostile` goes on
//! at once, and how much memory the service takes then.

use crate::start_with;
use anyhow::Result;
use calvex_e2e::hostile::{Target, attack, peak_mib, resident_mib, send_steadily};
use calvex_e2e::service::Service;
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

const RATE: u64 = 20_000;
const BATCH: u64 = 500;
const LONG: Duration = Duration::from_secs(20);
/// After so long, what was freed is back with the system.
const SETTLED: Duration = Duration::from_secs(10);

fn address(service: &Service, scheme: &str) -> Result<SocketAddr> {
    Ok(service.other("syslog", scheme)?.trim_start_matches(scheme).parse()?)
}

/// Measures and prints both.
pub async fn hostile() -> Result<()> {
    let off = "127.0.0.1:0";
    let service = start_with(&[("CALVEX_SYSLOG_TCP_LISTEN", off), ("CALVEX_SYSLOG_UDP_LISTEN", off)])?;
    let target = Target {
        url: service.url.clone(),
        grpc: service.other("OTLP over gRPC", "http")?.to_owned(),
        syslog: Some((address(&service, "tcp://")?, address(&service, "udp://")?)),
        key: service.ok(&["key", "new", "stranger"])?.trim().to_owned(),
        token: service.ok(&["token", "new", "reader"])?.trim().to_owned(),
    };
    let calm = send_steadily(&service.url, &service.key, 0, RATE, BATCH, LONG).await?;
    let before = peak_mib(service.pid())?;
    println!("  calm: p99 {:?}, {before} MiB", calm.p99());
    let over = Arc::new(AtomicBool::new(false));
    let attacks = attack(target, over.clone());
    let first = calm.acknowledged.len() as u64;
    let beside = send_steadily(&service.url, &service.key, first, RATE, BATCH, LONG).await?;
    over.store(true, Ordering::SeqCst);
    let attacks = tokio::task::spawn_blocking(move || attacks.join())
        .await?
        .map_err(|_| anyhow::anyhow!("an attack failed"))??;
    let peak = peak_mib(service.pid())?;
    let ratio = beside.p99().as_secs_f64() / calm.p99().as_secs_f64();
    println!("  beside {attacks} attacks: p99 {:?} ({ratio:.2} times), peak {peak} MiB", beside.p99());
    tokio::time::sleep(SETTLED).await;
    println!("  {} s later it holds {} MiB", SETTLED.as_secs(), resident_mib(service.pid())?);
    let found = service.search("service=steady measure count", &["--from", "now-1h"])?;
    println!("  {} events acknowledged, found: {found:?}", first + beside.acknowledged.len() as u64);
    Ok(())
}
