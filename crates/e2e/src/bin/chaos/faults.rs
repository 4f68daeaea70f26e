//! What is done to the cluster, drawn by the seed.

use crate::{Chaos, NODES, again};
use anyhow::{Context, Result, bail};
use calvex_e2e::service::signal;
use rand::RngExt;
use rand_chacha::ChaCha8Rng;
use std::time::{Duration, Instant};

/// One fault.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Fault {
    KillNode(usize),
    /// A node dies and starts again after so many milliseconds, when the others are about to adopt it.
    ReturnAtAdoption(usize, u64),
    /// All but this node die together, and start at once after so many milliseconds.
    LeaveOne(usize, u64),
    /// For so many seconds.
    FreezeNode(usize, u64),
    KillServer(usize),
    FreezeServer(usize, u64),
    /// A server loses its disk, and takes everything from another one.
    EmptyServer(usize),
    /// A node and the server it began with, together.
    KillBoth(usize),
    /// Every node dies, and all start at once.
    RestartAllNodes,
    /// A node and its server, with the cable pulled for so many seconds.
    CutMachine(usize, u64),
    /// Two machines hear each other no more for so many seconds; the third hears both.
    PartMachines([usize; 2], u64),
    SealAndMerge(usize),
}

/// Draws a fault; cables are pulled only where the machines have some.
pub fn draw(random: &mut ChaCha8Rng, with_cables: bool) -> Fault {
    let n = random.random_range(0..NODES);
    match random.random_range(0..if with_cables { 22 } else { 17 }) {
        0..3 => Fault::KillNode(n),
        3 => Fault::ReturnAtAdoption(n, random.random_range(9_000..11_500)),
        4 => Fault::LeaveOne(n, random.random_range(9_000..11_500)),
        5..8 => Fault::FreezeNode(n, random.random_range(2..16)),
        8..11 => Fault::KillServer(n),
        11..13 => Fault::FreezeServer(n, random.random_range(1..12)),
        13 => Fault::EmptyServer(n),
        14 => Fault::KillBoth(n),
        15 => Fault::RestartAllNodes,
        16 => Fault::SealAndMerge(n),
        17..20 => Fault::CutMachine(n, random.random_range(2..18)),
        _ => Fault::PartMachines([n, (n + 1) % NODES], random.random_range(2..18)),
    }
}

impl Chaos {
    fn server_pid(&self, n: usize) -> Result<Option<u32>> {
        Ok(self.galera.members.get(n).context("no such server")?.pid())
    }

    /// Does it to the cluster; returns when what was taken away is back, but for nodes that [`Chaos::heal`] starts.
    pub async fn strike(&mut self, fault: Fault) -> Result<()> {
        let seconds = Duration::from_secs;
        match fault {
            Fault::KillNode(n) => {
                self.node(n)?.kill()?;
                self.watch_adoption(n).await
            }
            Fault::ReturnAtAdoption(n, ms) => {
                self.node(n)?.kill()?;
                tokio::time::sleep(Duration::from_millis(ms)).await;
                again(self.node(n)?)
            }
            Fault::LeaveOne(n, ms) => {
                let others = || (0..NODES).filter(move |other| *other != n);
                for other in others() {
                    self.node(other)?.kill()?;
                }
                tokio::time::sleep(Duration::from_millis(ms)).await;
                self.start_at_once(|other| other != n)
            }
            Fault::FreezeNode(n, s) => {
                let pid = self.node(n)?.pid();
                signal(pid, "STOP")?;
                tokio::time::sleep(seconds(s)).await;
                signal(pid, "CONT")
            }
            Fault::KillServer(n) => {
                self.galera.kill(n);
                tokio::time::sleep(seconds(2)).await;
                self.galera.restart(n)
            }
            Fault::FreezeServer(n, s) => {
                let Some(pid) = self.server_pid(n)? else { return Ok(()) };
                signal(pid, "STOP")?;
                tokio::time::sleep(seconds(s)).await;
                signal(pid, "CONT")
            }
            Fault::EmptyServer(n) => {
                self.galera.kill(n);
                self.galera.empty(n)?;
                tokio::time::sleep(seconds(1)).await;
                self.galera.restart(n)
            }
            Fault::KillBoth(n) => {
                self.galera.kill(n);
                self.node(n)?.kill()?;
                tokio::time::sleep(seconds(1)).await;
                again(self.node(n)?)?;
                self.galera.restart(n)
            }
            Fault::RestartAllNodes => {
                for node in &mut self.nodes {
                    node.kill()?;
                }
                self.start_at_once(|_| true)
            }
            Fault::CutMachine(n, s) => {
                let Some(machines) = &self.machines else { return Ok(()) };
                machines.cut(n)?;
                tokio::time::sleep(seconds(s)).await;
                machines.join(n)
            }
            Fault::PartMachines(pair, s) => {
                let Some(machines) = &self.machines else { return Ok(()) };
                machines.part(pair, true)?;
                tokio::time::sleep(seconds(s)).await;
                machines.part(pair, false)
            }
            Fault::SealAndMerge(n) => {
                let node = self.node(n)?;
                node.calvex(&["admin", "seal"])?;
                node.calvex(&["admin", "merge"])?;
                Ok(())
            }
        }
    }

    /// Starts nodes that were killed, all at once.
    fn start_at_once(&mut self, which: impl Fn(usize) -> bool) -> Result<()> {
        std::thread::scope(|scope| {
            let nodes = self.nodes.iter_mut().enumerate().filter(|(n, _)| which(*n));
            let starts: Vec<_> = nodes.map(|(_, node)| scope.spawn(|| again(node))).collect();
            starts.into_iter().try_for_each(|start| start.join().unwrap_or_else(|_| bail!("a start panicked")))
        })
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
}
