//! Three nodes over three database servers that are one cluster: starts at once, a server and a node that die, and every
//! acknowledged event exactly once from every node.

use anyhow::{Context, Result, ensure};
use calvex_e2e::galera::Galera;
use calvex_e2e::hostile::client;
use calvex_e2e::service::{Service, wait_for};
use serde_json::{Value, json};
use std::collections::BTreeSet;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

/// A node whose first database server is this one.
fn node(galera: &Galera, n: usize, key_file: &str) -> Result<Service> {
    let (url, name) = (galera.url(n, "lockers"), format!("bank-{}", n + 1));
    Service::start(&[("CALVEX_DATABASE_URL", &url), ("CALVEX_NODE_NAME", &name), ("CALVEX_SECRETS_KEY_FILE", key_file)])
}

/// Sends events to several nodes in turn until stopped; the doors that were acknowledged.
async fn send(nodes: Vec<(String, String)>, name: usize, stop: Arc<AtomicBool>) -> Result<BTreeSet<u64>> {
    let (client, mut acknowledged) = (client()?, BTreeSet::new());
    let (mut n, mut at) = (0u64, name);
    while !stop.load(Ordering::SeqCst) {
        let doors: Vec<u64> = (0..5).map(|k| name as u64 * 1_000_000 + n * 5 + k).collect();
        let body: String = doors.iter().map(|door| format!("{}\n", json!({"msg": "door", "door": door}))).collect();
        // The same batch until it is acknowledged, by whichever node takes it.
        loop {
            let (url, key) = nodes.get(at % nodes.len()).context("no node")?;
            let request = client.post(format!("{url}/v1/events")).bearer_auth(key).timeout(Duration::from_secs(20));
            let request = request.header("Idempotency-Key", format!("{name}-{n}")).body(body.clone());
            match request.send().await {
                Ok(answer) if answer.status().is_success() => {
                    acknowledged.extend(&doors);
                    break;
                }
                _ if stop.load(Ordering::SeqCst) => return Ok(acknowledged),
                _ => {
                    at += 1;
                    tokio::time::sleep(Duration::from_millis(50)).await;
                }
            }
        }
        n += 1;
    }
    Ok(acknowledged)
}

fn doors(service: &Service) -> Result<Vec<u64>> {
    let mut doors: Vec<u64> =
        service.search("door", &[])?.iter().filter_map(|e| e["fields"]["door"].as_u64()).collect();
    doors.sort_unstable();
    Ok(doors)
}

/// Waits until a node answers with exactly what was acknowledged; batches under way at the end may be there as well.
fn exact(service: &Service, acknowledged: &BTreeSet<u64>) -> Result<()> {
    let mut last = Vec::new();
    let found = wait_for("what was acknowledged", || {
        last = doors(service).unwrap_or_default();
        let each: BTreeSet<u64> = last.iter().copied().collect();
        ensure!(each.len() == last.len(), "{} events stand twice", last.len() - each.len());
        Ok(acknowledged.is_subset(&each).then_some(()))
    });
    let missing = acknowledged.difference(&last.iter().copied().collect()).count();
    found.with_context(|| format!("{missing} of {} are missing", acknowledged.len()))
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
    let ways: Vec<(String, String)> = nodes.iter().map(|s| (s.url.clone(), s.key.trim().to_owned())).collect();
    let stop = Arc::new(AtomicBool::new(false));
    let senders: Vec<_> = (0..3).map(|name| tokio::spawn(send(ways.clone(), name, stop.clone()))).collect();
    let progress = |service: &Service, more: usize| {
        let before = doors(service).map(|d| d.len()).unwrap_or(0);
        wait_for("more events", || Ok((doors(service).map(|d| d.len()).unwrap_or(0) >= before + more).then_some(())))
    };
    progress(&nodes[1], 200)?;
    nodes[0].ok(&["admin", "seal"])?;
    // The server of the first node dies; the node moves on to another one.
    galera.kill(0);
    progress(&nodes[0], 200)?;
    let listed: Vec<Value> = nodes[0]
        .ok(&["admin", "nodes", "--json"])?
        .lines()
        .map(|l| Ok(serde_json::from_str(l)?))
        .collect::<Result<_>>()?;
    ensure!(listed.iter().all(|n| n["alive"] == true), "{listed:?}");
    // It comes back, and a node dies together with another server.
    galera.restart(0)?;
    galera.kill(1);
    let mut second = nodes.remove(1);
    second.kill()?;
    progress(&nodes[1], 100)?;
    wait_for("the dead node's adoption", || {
        let listed = nodes[0].ok(&["admin", "nodes", "--json"])?;
        let dead = |line: &str| line.contains("\"bank-2\"") && line.contains("\"alive\":false");
        Ok(listed.lines().any(dead).then_some(()))
    })?;
    galera.restart(1)?;
    let second = node(&galera, 1, &key_file)?;
    progress(&second, 50)?;
    stop.store(true, Ordering::SeqCst);
    let mut acknowledged = BTreeSet::new();
    for sender in senders {
        acknowledged.append(&mut sender.await??);
    }
    ensure!(acknowledged.len() > 500, "{}", acknowledged.len());
    nodes.push(second);
    for service in &nodes {
        exact(service, &acknowledged)?;
    }
    for service in &nodes {
        service.ok(&["admin", "seal"])?;
    }
    nodes[0].ok(&["admin", "merge"])?;
    for service in &nodes {
        exact(service, &acknowledged)?;
    }
    drop(nodes);
    Ok(())
}
