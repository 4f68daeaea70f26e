//! `calvex-chaos SEED ROUNDS`: three machines with a node and a database server each, eight senders, a rule that notifies,
//! and faults at moments that the seed decides. After each round every node must find exactly what was acknowledged in it;
//! at the end everything, with every alert and its messages, and nothing left over in the database.

mod checks;
mod faults;

use anyhow::{Context, Result, ensure};
use calvex_e2e::galera::Galera;
use calvex_e2e::hostile::client;
use calvex_e2e::machines::{HARNESS, Machines, enter};
use calvex_e2e::pump::{PAUSES, Pump};
use calvex_e2e::receiver::Receiver;
use calvex_e2e::service::Service;
use checks::{alerts, exact};
use faults::{Fault, draw};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use std::collections::{BTreeMap, BTreeSet};
use std::time::{Duration, Instant};

const NODES: usize = 3;
const SENDERS: u64 = 8;
const PAUSE: Duration = Duration::from_millis(100);
/// Within this time after a round's last fault every node must find everything.
const SETTLES: Duration = Duration::from_secs(90);
/// Raised by the first batch of every round.
const RULE: &str = "name = 'refused'\nnotify = ['desk']\ndelay = '0s'\nlate = '2h'\n[threshold]\nevents = 'refused'\n\
    over = '5s'\nabove = 2\n";

struct Chaos {
    machines: Option<Machines>,
    galera: Galera,
    nodes: Vec<Service>,
    client: reqwest::Client,
    /// How long it took from a node's death to its adoption.
    adoptions: Vec<Duration>,
    /// What each node counted of its database's errors when it was asked last, by work and code; and all of them.
    counted: Vec<BTreeMap<String, u64>>,
    retries: BTreeMap<String, u64>,
}

fn main() -> Result<()> {
    // Before there are threads, which would stay in the network of before.
    let with_cables = enter()?;
    tokio::runtime::Runtime::new()?.block_on(run(with_cables))
}

async fn run(with_cables: bool) -> Result<()> {
    let mut args = std::env::args().skip(1);
    let mut number = |default: u64| args.next().map_or(Ok(default), |text| text.parse()).context("usage: SEED ROUNDS");
    let (seed, rounds) = (number(1)?, number(3)?);
    let mut random = ChaCha8Rng::seed_from_u64(seed);
    let dir = tempfile::tempdir()?;
    let machines = with_cables.then(|| Machines::build(NODES)).transpose()?;
    if machines.is_none() {
        println!("no network of its own can be made here, so no cable is pulled");
    }
    let host = if with_cables { HARNESS } else { "127.0.0.1" };
    let receiver = Receiver::start_at(&format!("{host}:0"), "127.0.0.1:0")?;
    let galera = Galera::start_on(&dir.path().join("servers"), NODES, machines.as_ref())?;
    let key_file = dir.path().join("secrets.key").display().to_string();
    let mut nodes = Vec::new();
    for n in 0..NODES {
        nodes.push(start(machines.as_ref(), &galera, n, &key_file).with_context(|| format!("node {n}"))?);
    }
    let counted = vec![BTreeMap::new(); NODES];
    let (adoptions, retries, client) = (Vec::new(), BTreeMap::new(), client()?);
    let mut chaos = Chaos { machines, galera, nodes, client, adoptions, counted, retries };
    chaos.set_rule(&receiver, &dir.path().join("rule.toml"))?;
    let pump = Pump::start(&chaos.nodes, SENDERS, PAUSE);
    for round in 1..=rounds {
        pump.begin_round(round);
        let before = pump.acknowledged();
        let faults: Vec<Fault> = (0..random.random_range(1..=3)).map(|_| draw(&mut random, with_cables)).collect();
        let began = Instant::now();
        for fault in &faults {
            tokio::time::sleep(Duration::from_millis(random.random_range(200..3000))).await;
            chaos.strike(*fault).await.with_context(|| format!("round {round}, {fault:?}"))?;
        }
        chaos.heal().await.with_context(|| format!("round {round}, healing after {faults:?}"))?;
        // What was under way in the round is acknowledged in it.
        pump.begin_round(round + PAUSES);
        let took = chaos.check(&pump, round).await.with_context(|| format!("round {round}, after {faults:?}"))?;
        chaos.note_retries().await?;
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
    chaos.node(0)?.ok(&["admin", "merge"])?;
    let all: BTreeSet<u64> = account.acknowledged.values().flatten().copied().collect();
    exact(&chaos.nodes, None, &all).await?;
    let (raised, messages) = alerts(chaos.node(0)?, &account, &receiver).await?;
    chaos.nothing_left_over()?;
    chaos.adoptions.sort_unstable();
    println!("seed {seed}, {rounds} rounds: {} events, each exactly once from every node", all.len());
    println!("alerts: {raised}; {messages} messages, each move under one id");
    println!("retries of senders by status: {:?}", account.retries);
    println!("retries within nodes by work and code: {:?}", chaos.retries);
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

fn start(machines: Option<&Machines>, galera: &Galera, n: usize, key_file: &str) -> Result<Service> {
    let (url, name) = (galera.url(n, "lockers"), format!("bank-{}", n + 1));
    let host = machines.map_or_else(|| "127.0.0.1".to_owned(), |machines| machines.address(n));
    let before = machines.map(|machines| machines.begin(n)).unwrap_or_default();
    Service::start_after(
        before,
        &[
            ("CALVEX_DATABASE_URL", &url),
            ("CALVEX_NODE_NAME", &name),
            ("CALVEX_SECRETS_KEY_FILE", key_file),
            ("CALVEX_HEAD_SEAL_AGE_S", "15"),
            ("CALVEX_HTTP_LISTEN", &format!("{host}:0")),
            ("CALVEX_TLS_ALLOW_PLAIN", "true"),
            ("CALVEX_NOTIFY_WEBHOOK_LOCAL", "true"),
        ],
    )
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

    /// A rule that a contact is notified of.
    fn set_rule(&mut self, receiver: &Receiver, path: &std::path::Path) -> Result<()> {
        std::fs::write(path, RULE)?;
        let node = self.node(0)?;
        node.ok(&["contact", "set", "desk", "--webhook", &receiver.hook, "--hourly", "1000"])?;
        let applied = node.ok(&["rule", "apply", &path.display().to_string(), "--json"])?;
        ensure!(applied.contains("\"what\":\"made\""), "{applied}");
        Ok(())
    }
}
