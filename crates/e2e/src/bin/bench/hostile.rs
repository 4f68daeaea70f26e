//! How much slower a steady sender of 20 thousand events a second gets while every attack of `calvex_e2e::hostile` goes on
//! at once, and how much memory the service takes then.

use crate::start_with;
use anyhow::{Context, Result};
use calvex_e2e::hostile::{Attackers, Target, attack, client, peak_mib, resident_mib, send_steadily, spin};
use calvex_e2e::service::Service;
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

const RATE: u64 = 20_000;
const BATCH: u64 = 500;
/// The first seconds of a new database are not measured: its files grow, and its caches are empty.
const WARM: Duration = Duration::from_secs(10);
/// Calm, busy and attacks take turns, since one stall of the machine's disk decides the p99 of a phase: the medians of the
/// phases are compared, of which each has met the same machine. A host that shares its cores takes more of them from a
/// machine that uses all: that is what the busy phase shows, in which nobody attacks.
const ROUNDS: usize = 5;
const PHASE: Duration = Duration::from_secs(15);
/// Between two looks at what the memory is made of.
const LOOKS: Duration = Duration::from_millis(200);
/// After so long, what was freed is back with the system.
const SETTLED: Duration = Duration::from_secs(10);

fn address(service: &Service, scheme: &str) -> Result<SocketAddr> {
    Ok(service.other("syslog", scheme)?.trim_start_matches(scheme).parse()?)
}

/// Metrics of the service, by their names.
async fn metrics<const N: usize>(url: &str, token: &str, names: [&str; N]) -> Result<[f64; N]> {
    let metrics = client()?.get(format!("{url}/metrics")).bearer_auth(token).send().await?;
    let metrics = metrics.error_for_status()?.text().await?;
    let mut values = [0.0; N];
    for (value, name) in values.iter_mut().zip(names) {
        let of = |line: &str| line.strip_prefix("calvex_")?.strip_prefix(name)?.trim().parse::<f64>().ok();
        *value = metrics.lines().find_map(of).with_context(|| format!("no `{name}` in the service's metrics"))?;
    }
    Ok(values)
}

/// How many group commits there were, and the seconds they took together.
async fn commits(service: &Service) -> Result<(f64, f64)> {
    let [count, seconds] =
        metrics(&service.url, &service.token, ["commit_seconds_count ", "commit_seconds_sum "]).await?;
    Ok((count, seconds))
}

/// What the service's memory is made of, MiB: all of it, and what heads, requests, questions and what is kept for
/// questions have of it by its own account.
type Memory = [u64; 5];

/// Looks at the memory until `over`; returns the look at which the service had most of it.
async fn watch_memory(service: (String, String, u32), over: Arc<AtomicBool>) -> Result<Memory> {
    let (url, token, pid) = service;
    let mut most = Memory::default();
    while !over.load(Ordering::SeqCst) {
        let names = ["head_bytes ", "request_bytes ", "question_bytes ", "kept_bytes "];
        let [heads, requests, questions, kept] =
            metrics(&url, &token, names).await?.map(|bytes| (bytes / 1048576.0) as u64);
        most = most.max([resident_mib(pid)?, heads, requests, questions, kept]);
        tokio::time::sleep(LOOKS).await;
    }
    Ok(most)
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
    let mut sent = 0;
    let mut phase = async |long| -> Result<Phase> {
        let before = commits(&service).await?;
        let steady = send_steadily(&service.url, &service.key, sent, RATE, BATCH, long).await?;
        let after = commits(&service).await?;
        sent += steady.acknowledged.len() as u64;
        let commit_ms = (after.1 - before.1) * 1e3 / (after.0 - before.0).max(1.0);
        Ok(Phase { p99_ms: steady.p99().as_secs_f64() * 1e3, commit_ms })
    };
    phase(WARM).await?;
    println!("  {} MiB before any attack", peak_mib(service.pid())?);
    let (mut calm, mut busy, mut beside, mut attacks) = (Vec::new(), Vec::new(), Vec::new(), 0);
    let mut most = Memory::default();
    for _ in 0..ROUNDS {
        calm.push(phase(PHASE).await?);
        let over = Arc::new(AtomicBool::new(false));
        let spinners = spin(&over);
        busy.push(phase(PHASE).await?);
        over.store(true, Ordering::SeqCst);
        for spinner in spinners {
            spinner.join().map_err(|_| anyhow::anyhow!("a core was not kept busy"))??;
        }
        let over = Arc::new(AtomicBool::new(false));
        let attackers = attack(target.clone(), Attackers::Idle, over.clone());
        let watched = (service.url.clone(), service.token.clone(), service.pid());
        let watching = tokio::spawn(watch_memory(watched, over.clone()));
        beside.push(phase(PHASE).await?);
        over.store(true, Ordering::SeqCst);
        attacks += tokio::task::spawn_blocking(move || attackers.join())
            .await?
            .map_err(|_| anyhow::anyhow!("an attack failed"))??;
        most = most.max(watching.await??);
    }
    let calm_p99 = show("calm", &calm);
    let busy_p99 = show("beside cores kept busy with nothing", &busy);
    let beside_p99 = show(&format!("beside {attacks} attacks"), &beside);
    let (of_calm, of_busy) = (beside_p99 / calm_p99, beside_p99 / busy_p99);
    println!(
        "  {of_calm:.2} times the calm p99, {of_busy:.2} times the busy one, peak {} MiB",
        peak_mib(service.pid())?
    );
    let [all, heads, requests, questions, kept] = most;
    println!(
        "  of {all} MiB, by the service's own account: heads {heads}, requests {requests}, questions {questions}, kept for questions {kept}"
    );
    tokio::time::sleep(SETTLED).await;
    println!("  {} s later it holds {} MiB", SETTLED.as_secs(), resident_mib(service.pid())?);
    let found = service.search("service=steady measure count", &["--from", "now-1h"])?;
    println!("  {sent} events acknowledged, found: {found:?}");
    Ok(())
}

/// What one phase came to.
struct Phase {
    p99_ms: f64,
    /// How long a group commit took on average.
    commit_ms: f64,
}

/// Prints the phases of one kind; returns the median of their p99.
fn show(name: &str, phases: &[Phase]) -> f64 {
    let sorted = |of: fn(&Phase) -> f64| {
        let mut values: Vec<f64> = phases.iter().map(of).collect();
        values.sort_by(f64::total_cmp);
        values
    };
    let (p99, commit) = (sorted(|p| p.p99_ms), sorted(|p| p.commit_ms));
    let middle = phases.len() / 2;
    println!("  {name}: median p99 {:.1} ms of {p99:.1?}, a commit {:.1} ms on average", p99[middle], commit[middle]);
    p99[middle]
}
