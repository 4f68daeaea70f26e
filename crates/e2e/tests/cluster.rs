//! Three nodes over three database servers that are one cluster: starts at once, a server and a node that die, and every
//! acknowledged event exactly once from every node.

use anyhow::{Context, Result, ensure};
use calvex_e2e::galera::Galera;
use calvex_e2e::pump::{Pump, doors};
use calvex_e2e::service::{Service, wait_for};
use serde_json::Value;
use std::collections::BTreeSet;
use std::sync::Mutex;
use std::time::Duration;

/// A node whose first database server is this one. On a busy machine a server that has just come back may stand still for
/// so long that another node takes the new one's place; it is started again then, as its supervisor would.
fn node(galera: &Galera, n: usize, key_file: &str) -> Result<Service> {
    let (url, name) = (galera.url(n, "lockers"), format!("bank-{}", n + 1));
    let settings =
        [("CALVEX_DATABASE_URL", url.as_str()), ("CALVEX_NODE_NAME", &name), ("CALVEX_SECRETS_KEY_FILE", key_file)];
    let mut last = Service::start(&settings);
    for _ in 0..3 {
        match &last {
            Err(e) if ["took the place of node", "taken over"].iter().any(|said| format!("{e:#}").contains(said)) => {
                last = Service::start(&settings);
            }
            _ => break,
        }
    }
    last
}

/// Runs a command, again where the database was away for a moment and the answer asks for that.
fn run(service: &Service, command: &[&str]) -> Result<String> {
    wait_for("an answer", || match service.ok(command) {
        Err(e) if format!("{e:#}").contains("try again") => Ok(None),
        done => done.map(Some),
    })
}

/// Waits until a node finds everything that was acknowledged, each event once.
fn exact(service: &Service, acknowledged: &BTreeSet<u64>) -> Result<()> {
    let mut last = String::new();
    let found = wait_for("what was acknowledged", || match doors(service, None) {
        Ok(found) => {
            last = format!("{} of {} are missing", acknowledged.difference(&found).count(), acknowledged.len());
            Ok(acknowledged.is_subset(&found).then_some(()))
        }
        Err(e) => {
            last = e.to_string();
            Ok(None)
        }
    });
    found.context(last)
}

#[tokio::test(flavor = "multi_thread")]
async fn servers_and_nodes_come_and_go_and_every_event_stands_once() -> Result<()> {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let dir = tempfile::tempdir()?;
    let mut galera = Galera::start(&dir.path().join("servers"), 3)?;
    // Three first starts at once, on an empty database.
    let key_file = dir.path().join("secrets.key").display().to_string();
    let started: Mutex<Vec<(usize, Result<Service>)>> = Mutex::default();
    std::thread::scope(|scope| {
        for n in 0..3 {
            let (galera, started, key_file) = (&galera, &started, &key_file);
            scope.spawn(move || {
                let service = node(galera, n, key_file);
                started.lock().unwrap_or_else(std::sync::PoisonError::into_inner).push((n, service));
            });
        }
    });
    let mut nodes: Vec<(usize, Service)> = Vec::new();
    for (n, service) in started.into_inner().unwrap_or_default() {
        nodes.push((n, service.with_context(|| format!("node {n}"))?));
    }
    nodes.sort_by_key(|(n, _)| *n);
    let mut nodes: Vec<Service> = nodes.into_iter().map(|(_, service)| service).collect();
    let pump = Pump::start(&nodes, 3, Duration::from_millis(10));
    let progress = |service: &Service, more: usize| {
        let before = doors(service, None).map(|d| d.len()).unwrap_or(0);
        wait_for("more events", || {
            Ok((doors(service, None).map(|d| d.len()).unwrap_or(0) >= before + more).then_some(()))
        })
    };
    progress(&nodes[1], 200)?;
    run(&nodes[0], &["admin", "seal"])?;
    // The server of the first node dies; the node moves on to another one.
    galera.kill(0);
    progress(&nodes[0], 200)?;
    let listed: Vec<Value> = run(&nodes[0], &["admin", "nodes", "--json"])?
        .lines()
        .map(|l| Ok(serde_json::from_str(l)?))
        .collect::<Result<_>>()?;
    ensure!(listed.iter().all(|n| n["alive"] == true), "{listed:?}");
    // The node's next server holds its writes, as while it hands its state over: the node moves on again.
    let server_of_first = || -> Result<String> {
        let listed = run(&nodes[0], &["admin", "nodes", "--json"])?;
        let own = listed.lines().find(|line| line.contains("\"answers\":true")).context("no node answers")?;
        Ok(serde_json::from_str::<Value>(own)?["server"].as_str().unwrap_or_default().to_owned())
    };
    let used = server_of_first()?;
    let member = galera.members.iter().find(|member| member.address() == used).context("no such server")?;
    let mut held = member.hold_writes()?;
    wait_for("the node to leave its server", || Ok((server_of_first()? != used).then_some(())))?;
    held.kill()?;
    held.wait()?;
    progress(&nodes[0], 100)?;
    // It comes back, and a node dies together with another server.
    galera.restart(0)?;
    galera.kill(1);
    let mut second = nodes.remove(1);
    second.kill()?;
    progress(&nodes[1], 100)?;
    wait_for("the dead node's adoption", || {
        let listed = run(&nodes[0], &["admin", "nodes", "--json"])?;
        let dead = |line: &str| line.contains("\"bank-2\"") && line.contains("\"alive\":false");
        Ok(listed.lines().any(dead).then_some(()))
    })?;
    // The server's disk is lost: it takes everything from another one.
    galera.empty(1)?;
    galera.restart(1)?;
    let second = node(&galera, 1, &key_file)?;
    progress(&second, 50)?;
    let acknowledged: BTreeSet<u64> = pump.end().await?.acknowledged.into_values().flatten().collect();
    ensure!(acknowledged.len() > 500, "{}", acknowledged.len());
    nodes.push(second);
    for service in &nodes {
        exact(service, &acknowledged)?;
    }
    for service in &nodes {
        run(service, &["admin", "seal"])?;
    }
    run(&nodes[0], &["admin", "merge"])?;
    for service in &nodes {
        exact(service, &acknowledged)?;
    }
    drop(nodes);
    crate::passing::each_on(&mut galera).await
}
