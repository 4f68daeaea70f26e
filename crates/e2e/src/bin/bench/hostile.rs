//! How much slower a steady sender of 20 thousand events a second gets while every attack of `calvex_e2e::hostile` goes on
//! at once, and how much memory the service takes then.

use crate::start_with;
use anyhow::{Context, Result};
use calvex_e2e::hostile::{Target, attack, client, peak_mib, resident_mib, send_steadily};
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

/// How many group commits there were, and the seconds they took together.
async fn commits(service: &Service) -> Result<(f64, f64)> {
    let metrics = client()?.get(format!("{}/metrics", service.url)).bearer_auth(&service.token).send().await?;
    let metrics = metrics.error_for_status()?.text().await?;
    let value = |name: &str| {
        let line = metrics.lines().find_map(|line| line.strip_prefix(name)?.trim().parse::<f64>().ok());
        line.with_context(|| format!("no `{name}` in the service's metrics"))
    };
    Ok((value("calvex_commit_seconds_count ")?, value("calvex_commit_seconds_sum ")?))
}

/// Measures and prints both.
pub async fn hostile() -> Result<()> {
    let off = "127.0.0.1:0";
    let service = start_with(&[("CALVEX_SYSLOG_TCP_LISTEN", off), ("CALVEX_SYSLOG_UDP_LISTEN", off)])?;
    let target = Target {
        url: service.url.clone(),
        grpc: service.other("OTLP over gRPC", "http")?.to_owned(),
        syslog: Some((address(&service, "tcp://")?, address(&service, "udp://")?)),
        key: service.ok(&["key", "new", "stranger", "--text"])?.trim().to_owned(),
        token: service.ok(&["token", "new", "reader", "--text"])?.trim().to_owned(),
    };
    let calm = send_steadily(&service.url, &service.key, 0, RATE, BATCH, LONG).await?;
    let before = peak_mib(service.pid())?;
    let calm_commits = commits(&service).await?;
    let mean_ms = |(count, seconds): (f64, f64)| seconds * 1e3 / count.max(1.0);
    println!("  calm: p99 {:?}, {before} MiB, a commit {:.1} ms on average", calm.p99(), mean_ms(calm_commits));
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
    let all_commits = commits(&service).await?;
    let beside_ms = mean_ms((all_commits.0 - calm_commits.0, all_commits.1 - calm_commits.1));
    println!(
        "  beside {attacks} attacks: p99 {:?} ({ratio:.2} times), peak {peak} MiB, a commit {beside_ms:.1} ms on average",
        beside.p99()
    );
    tokio::time::sleep(SETTLED).await;
    println!("  {} s later it holds {} MiB", SETTLED.as_secs(), resident_mib(service.pid())?);
    let found = service.search("service=steady measure count", &["--from", "now-1h"])?;
    println!("  {} events acknowledged, found: {found:?}", first + beside.acknowledged.len() as u64);
    Ok(())
}
