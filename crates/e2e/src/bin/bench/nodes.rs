//! What nodes cost: intake and the time until an event is found elsewhere, of one node and of three, over one database
//! server and over three that are one cluster, in one run. And what a commit of the journal takes on each.

use crate::intake::{Body, Protocol, send};
use crate::{HOUR_NS, slice};
use anyhow::{Context, Result};
use calvex_e2e::galera::Galera;
use calvex_e2e::load::Load;
use calvex_e2e::service::Service;
use calvex_store::{Server, ServerSettings};
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// Probes of how soon an event is found on another node.
const PROBES: usize = 40;
/// Single commits that are timed.
const COMMITS: usize = 300;

/// Where the databases are.
enum Database {
    /// One server that is in no cluster, by its socket.
    Single(Server),
    Cluster(Galera),
}

impl Database {
    async fn start(dir: &Path, servers: usize) -> Result<Self> {
        if servers > 1 {
            return Ok(Database::Cluster(Galera::start(&dir.join("servers"), servers)?));
        }
        let settings = ServerSettings { data_dir: dir.to_owned(), buffer_pool_mib: 64, redo_log_mib: 48 };
        Ok(Database::Single(Server::start(settings).await?))
    }

    fn url(&self, n: usize, name: &str) -> String {
        match self {
            Database::Single(server) => format!("mysql://root@localhost/{name}?socket={}", server.socket().display()),
            Database::Cluster(galera) => galera.url(n % galera.members.len(), name),
        }
    }
}

fn node(url: &str, n: usize, key_file: &str) -> Result<Service> {
    let name = format!("bank-{}", n + 1);
    Service::start(&[
        ("CALVEX_DATABASE_URL", url),
        ("CALVEX_NODE_NAME", &name),
        ("CALVEX_SECRETS_KEY_FILE", key_file),
        ("CALVEX_HEAD_SEAL_ROWS", "100000"),
    ])
}

/// Measures with so many events, and prints a row for each arrangement.
pub async fn nodes(events: usize) -> Result<()> {
    println!(
        "| servers | nodes | events/s, all nodes | a single event, median ms | p99 | found on another node, median ms | p99 |"
    );
    println!("| --- | --- | --- | --- | --- | --- | --- |");
    for servers in [1, 3] {
        let dir = tempfile::tempdir()?;
        let servers_of = Database::start(dir.path(), servers).await?;
        let key_file = dir.path().join("secrets.key").display().to_string();
        for count in [1, 3] {
            let database = format!("of_{count}");
            let services: Vec<Service> =
                (0..count).map(|n| node(&servers_of.url(n, &database), n, &key_file)).collect::<Result<_>>()?;
            let rate = all_at_once(&services, events).await?;
            let (commit, commit_p99) = single(&services).await?;
            let (found, found_p99) = match services.as_slice() {
                [first, .., other] => elsewhere(first, other).await?,
                _ => (f64::NAN, f64::NAN),
            };
            let cell = |ms: f64| if ms.is_nan() { "–".to_owned() } else { format!("{ms:.1}") };
            println!(
                "| {servers} | {count} | {rate:.0} | {} | {} | {} | {} |",
                cell(commit),
                cell(commit_p99),
                cell(found),
                cell(found_p99)
            );
        }
        match servers_of {
            Database::Single(server) => server.stop().await,
            Database::Cluster(galera) => galera.stop(),
        }
    }
    Ok(())
}

/// Sends everything, an equal part to each node at once; events a second of all.
async fn all_at_once(services: &[Service], events: usize) -> Result<f64> {
    let now_ns = i64::try_from(jiff::Timestamp::now().as_nanosecond())?;
    let each = events / services.len();
    let bodies: Vec<Arc<Vec<Body>>> = (0..services.len() as u64)
        .map(|seed| slice(&mut Load::new(seed, now_ns - HOUR_NS, HOUR_NS / (each.max(1) as i64)), each))
        .collect();
    let began = Instant::now();
    let sends = services.iter().zip(&bodies).map(|(service, bodies)| send(service, bodies, 8, Protocol::Ndjson));
    for rate in futures_of(sends).await {
        rate?;
    }
    let sent: usize = bodies.iter().flat_map(|bodies| bodies.iter()).map(|body| body.events).sum();
    Ok(sent as f64 / began.elapsed().as_secs_f64())
}

/// Runs futures side by side.
async fn futures_of<T>(futures: impl Iterator<Item = impl Future<Output = T>>) -> Vec<T> {
    let mut pinned: Vec<_> = futures.map(|future| (Box::pin(future), None)).collect();
    std::future::poll_fn(|context| {
        for (future, done) in pinned.iter_mut().filter(|(_, done)| done.is_none()) {
            if let std::task::Poll::Ready(value) = future.as_mut().poll(context) {
                *done = Some(value);
            }
        }
        let all = pinned.iter().all(|(_, done)| done.is_some());
        if all { std::task::Poll::Ready(()) } else { std::task::Poll::Pending }
    })
    .await;
    pinned.into_iter().filter_map(|(_, done)| done).collect()
}

/// Milliseconds from sending one event to its acknowledgement, one after the other: median and p99.
async fn single(services: &[Service]) -> Result<(f64, f64)> {
    let service = services.first().context("no node")?;
    let client = reqwest::Client::builder().no_proxy().build()?;
    let mut times = Vec::new();
    for n in 0..COMMITS {
        let began = Instant::now();
        let request = client.post(format!("{}/v1/events", service.url)).bearer_auth(&service.key);
        request.body(format!("{{\"msg\":\"door {n}\"}}\n")).send().await?.error_for_status()?;
        times.push(began.elapsed().as_secs_f64() * 1000.0);
    }
    Ok(middle_and_last(times))
}

/// Milliseconds from an acknowledgement by one node until another one finds the event: median and p99.
async fn elsewhere(first: &Service, other: &Service) -> Result<(f64, f64)> {
    let client = reqwest::Client::builder().no_proxy().build()?;
    let mut times = Vec::new();
    for n in 0..PROBES {
        // Looks are four a second; probes lie anywhere between two.
        tokio::time::sleep(Duration::from_millis(37 * (n as u64 % 11))).await;
        let word = format!("probe{n}");
        let request = client.post(format!("{}/v1/events", first.url)).bearer_auth(&first.key);
        request.body(format!("{{\"msg\":\"{word}\"}}\n")).send().await?.error_for_status()?;
        let acknowledged = Instant::now();
        loop {
            let ask = serde_json::json!({ "query": word });
            let request = client.post(format!("{}/api/search", other.url)).bearer_auth(&other.token).json(&ask);
            let answer: serde_json::Value = request.send().await?.error_for_status()?.json().await?;
            if answer["events"].as_array().is_some_and(|events| !events.is_empty()) {
                break;
            }
            anyhow::ensure!(acknowledged.elapsed() < Duration::from_secs(30), "{word} is not found");
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
        times.push(acknowledged.elapsed().as_secs_f64() * 1000.0);
    }
    Ok(middle_and_last(times))
}

fn middle_and_last(mut times: Vec<f64>) -> (f64, f64) {
    times.sort_by(f64::total_cmp);
    (crate::questions::percentile(&times, 50.0), crate::questions::percentile(&times, 99.0))
}
