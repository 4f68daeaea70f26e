//! `calvex-chaos SEED ROUNDS`: three nodes over three database servers, eight senders, and faults at moments that the seed
//! decides: nodes and servers that are killed or stand still, starts at once. After each round every node must find exactly
//! what was acknowledged in it, and at the end everything.

use anyhow::{Context, Result, bail, ensure};
use calvex_e2e::galera::Galera;
use calvex_e2e::pump::{Pump, doors};
use calvex_e2e::service::{Service, signal};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use std::collections::BTreeSet;
use std::time::{Duration, Instant};

const NODES: usize = 3;
const SENDERS: u64 = 8;
const PAUSE: Duration = Duration::from_millis(100);
/// Within this time after a round's last fault every node must find everything.
const SETTLES: Duration = Duration::from_secs(90);

/// What is done to the cluster.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Fault {
    KillNode(usize),
    /// For so many seconds.
    FreezeNode(usize, u64),
    KillServer(usize),
    FreezeServer(usize, u64),
    /// A node and the server it began with, together.
    KillBoth(usize),
    /// Every node dies, and all start at once.
    RestartAllNodes,
    SealAndMerge(usize),
}

fn fault(random: &mut ChaCha8Rng) -> Fault {
    let n = random.random_range(0..NODES);
    match random.random_range(0..12) {
        0..3 => Fault::KillNode(n),
        3..5 => Fault::FreezeNode(n, random.random_range(2..16)),
        5..7 => Fault::KillServer(n),
        7..9 => Fault::FreezeServer(n, random.random_range(1..12)),
        9 => Fault::KillBoth(n),
        10 => Fault::RestartAllNodes,
        _ => Fault::SealAndMerge(n),
    }
}

struct Chaos {
    galera: Galera,
    nodes: Vec<Service>,
    /// How long it took from a node's death to its adoption, or to its own return.
    adoptions: Vec<Duration>,
}

#[tokio::main]
async fn main() -> Result<()> {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let mut args = std::env::args().skip(1);
    let mut number = |default: u64| args.next().map_or(Ok(default), |text| text.parse()).context("usage: SEED ROUNDS");
    let (seed, rounds) = (number(1)?, number(3)?);
    let mut random = ChaCha8Rng::seed_from_u64(seed);
    let dir = tempfile::tempdir()?;
    let galera = Galera::start(&dir.path().join("servers"), NODES)?;
    let key_file = dir.path().join("secrets.key").display().to_string();
    let mut nodes = Vec::new();
    for n in 0..NODES {
        nodes.push(start(&galera, n, &key_file).with_context(|| format!("node {n}"))?);
    }
    let mut chaos = Chaos { galera, nodes, adoptions: Vec::new() };
    let pump = Pump::start(&chaos.nodes, SENDERS, PAUSE);
    for round in 1..=rounds {
        pump.begin_round(round);
        let before = pump.acknowledged();
        let faults: Vec<Fault> = (0..random.random_range(1..=3)).map(|_| fault(&mut random)).collect();
        let began = Instant::now();
        for fault in &faults {
            tokio::time::sleep(Duration::from_millis(random.random_range(200..3000))).await;
            chaos.strike(*fault).await.with_context(|| format!("round {round}, {fault:?}"))?;
        }
        chaos.heal().await.with_context(|| format!("round {round}, healing after {faults:?}"))?;
        // What was under way in the round is acknowledged in it.
        pump.begin_round(round + 1_000_000);
        let took = chaos.check(&pump, round).await.with_context(|| format!("round {round}, after {faults:?}"))?;
        println!(
            "round {round}: {faults:?} in {:.1} s; {} events acknowledged, exact from every node {:.1} s later",
            began.elapsed().as_secs_f64() - took.as_secs_f64(),
            pump.acknowledged() - before,
            took.as_secs_f64(),
        );
    }
    let account = pump.end().await?;
    for node in &chaos.nodes {
        node.ok(&["admin", "seal"])?;
    }
    chaos.nodes.first().context("no node")?.ok(&["admin", "merge"])?;
    let all: BTreeSet<u64> = account.acknowledged.values().flatten().copied().collect();
    exact(&chaos.nodes, None, &all).await?;
    let left = chaos.galera.members.first().context("no server")?.sql(
        "SELECT COUNT(*) FROM information_schema.TABLES t WHERE t.TABLE_SCHEMA = 'lockers' AND t.TABLE_NAME LIKE 'journal\\_%\\_%' \
         AND NOT EXISTS (SELECT 1 FROM lockers.journal_table j WHERE t.TABLE_NAME = CONCAT('journal_', j.slot, '_', j.no))",
    )?;
    ensure!(left == "0", "{left} journal tables belong to nobody");
    chaos.adoptions.sort_unstable();
    println!("seed {seed}, {rounds} rounds: {} events, each exactly once from every node", all.len());
    println!("retries of senders by status: {:?}", account.retries);
    println!("longest wait of a sender for an acknowledgement: {:.1} s", account.longest_wait.as_secs_f64());
    if let (Some(least), Some(most)) = (chaos.adoptions.first(), chaos.adoptions.last()) {
        let (least, most) = (least.as_secs_f64(), most.as_secs_f64());
        println!("adoptions: {}, {least:.1} to {most:.1} s after the death", chaos.adoptions.len());
    }
    let Chaos { galera, nodes, .. } = chaos;
    drop(nodes);
    galera.stop();
    Ok(())
}

fn start(galera: &Galera, n: usize, key_file: &str) -> Result<Service> {
    let (url, name) = (galera.url(n, "lockers"), format!("bank-{}", n + 1));
    Service::start(&[
        ("CALVEX_DATABASE_URL", &url),
        ("CALVEX_NODE_NAME", &name),
        ("CALVEX_SECRETS_KEY_FILE", key_file),
        ("CALVEX_HEAD_SEAL_AGE_S", "15"),
    ])
}

/// Starts a node again where it was.
fn again(node: &mut Service) -> Result<()> {
    let address = node.url.replace("http://", "");
    let until = Instant::now() + SETTLES;
    loop {
        match node.restart_at(&address) {
            // A start that meets a cluster without a quorum ends, and a supervisor begins it again.
            Err(e) if Instant::now() > until => return Err(e),
            Err(_) => std::thread::sleep(Duration::from_millis(500)),
            Ok(()) => return Ok(()),
        }
    }
}

impl Chaos {
    fn node(&mut self, n: usize) -> Result<&mut Service> {
        self.nodes.get_mut(n).context("no such node")
    }

    fn server_pid(&self, n: usize) -> Result<Option<u32>> {
        Ok(self.galera.members.get(n).context("no such server")?.pid())
    }

    async fn strike(&mut self, fault: Fault) -> Result<()> {
        match fault {
            Fault::KillNode(n) => {
                self.node(n)?.kill()?;
                self.watch_adoption(n).await
            }
            Fault::FreezeNode(n, s) => {
                let pid = self.node(n)?.pid();
                signal(pid, "STOP")?;
                tokio::time::sleep(Duration::from_secs(s)).await;
                signal(pid, "CONT")
            }
            Fault::KillServer(n) => {
                self.galera.kill(n);
                tokio::time::sleep(Duration::from_secs(2)).await;
                self.galera.restart(n)
            }
            Fault::FreezeServer(n, s) => {
                let Some(pid) = self.server_pid(n)? else { return Ok(()) };
                signal(pid, "STOP")?;
                tokio::time::sleep(Duration::from_secs(s)).await;
                signal(pid, "CONT")
            }
            Fault::KillBoth(n) => {
                self.galera.kill(n);
                self.node(n)?.kill()?;
                tokio::time::sleep(Duration::from_secs(1)).await;
                again(self.node(n)?)?;
                self.galera.restart(n)
            }
            Fault::RestartAllNodes => {
                for node in &mut self.nodes {
                    node.kill()?;
                }
                std::thread::scope(|scope| {
                    let starts: Vec<_> = self.nodes.iter_mut().map(|node| scope.spawn(|| again(node))).collect();
                    starts.into_iter().try_for_each(|start| start.join().unwrap_or_else(|_| bail!("a start panicked")))
                })
            }
            Fault::SealAndMerge(n) => {
                let node = self.node(n)?;
                node.calvex(&["admin", "seal"])?;
                node.calvex(&["admin", "merge"])?;
                Ok(())
            }
        }
    }

    /// Waits until another node has adopted one that died, where one lives.
    async fn watch_adoption(&mut self, n: usize) -> Result<()> {
        let (died, name) = (Instant::now(), format!("\"bank-{}\"", n + 1));
        while died.elapsed() < Duration::from_secs(40) {
            for other in (0..NODES).filter(|other| *other != n) {
                let Some(other) = self.nodes.get(other) else { continue };
                let listed = other.calvex(&["admin", "nodes", "--json"])?;
                let listed = String::from_utf8_lossy(&listed.stdout).into_owned();
                if listed.lines().any(|line| line.contains(&name) && line.contains("\"alive\":false")) {
                    self.adoptions.push(died.elapsed());
                    return Ok(());
                }
            }
            tokio::time::sleep(Duration::from_millis(200)).await;
        }
        bail!("{name} was not adopted within 40 s")
    }

    /// Starts every node again that ended: that was killed, or found that its place was taken.
    async fn heal(&mut self) -> Result<()> {
        tokio::time::sleep(Duration::from_secs(3)).await;
        for node in &mut self.nodes {
            if node.has_ended()? {
                again(node)?;
            }
        }
        Ok(())
    }

    /// Waits until every node finds exactly what was acknowledged in a round; how long that took.
    async fn check(&mut self, pump: &Pump, round: u64) -> Result<Duration> {
        let began = Instant::now();
        // Batches of the round that were under way are acknowledged within a request's time.
        tokio::time::sleep(Duration::from_secs(1)).await;
        loop {
            let acknowledged = pump.account().acknowledged.get(&round).cloned().unwrap_or_default();
            match exact(&self.nodes, Some(round), &acknowledged).await {
                Ok(()) => return Ok(began.elapsed()),
                // A node that finds that its place was taken ends late.
                Err(e) if began.elapsed() > SETTLES => return Err(e),
                Err(_) => self.heal().await?,
            }
        }
    }
}

/// Whether every node finds what was acknowledged, each event once.
async fn exact(nodes: &[Service], round: Option<u64>, acknowledged: &BTreeSet<u64>) -> Result<()> {
    for (n, node) in nodes.iter().enumerate() {
        let found = doors(node, round).with_context(|| format!("node {}", n + 1))?;
        let missing: Vec<u64> = acknowledged.difference(&found).copied().collect();
        let some: Vec<&u64> = missing.iter().take(5).collect();
        ensure!(
            missing.is_empty(),
            "node {}: {} of {} are missing: {some:?}",
            n + 1,
            missing.len(),
            acknowledged.len()
        );
    }
    Ok(())
}
