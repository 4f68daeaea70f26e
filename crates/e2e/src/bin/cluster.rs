//! `calvex-cluster [DIR]`: the demo on three database servers that are one cluster and three nodes, until Ctrl-C. What is
//! in the directory goes on.

use anyhow::{Context, Result, bail};
use calvex_e2e::galera::Galera;
use calvex_e2e::service::{binary, signal};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// Where the nodes listen; the first is the demo.
const LISTEN: [&str; 3] = ["127.0.0.1:8437", "127.0.0.1:8457", "127.0.0.1:8467"];
/// The stand-in receiver of mail, which the demo starts; whichever node delivers sends there.
const MAIL: &str = "127.0.0.1:8425";
/// How long a node may take to its start.
const STARTS: Duration = Duration::from_secs(300);

fn node(galera: &Galera, n: usize, dir: &Path) -> Result<Child> {
    let name = format!("bank-{}", n + 1);
    let home = dir.join(&name);
    std::fs::create_dir_all(&home)?;
    let listen = LISTEN.get(n).context("no address")?;
    let mut command = Command::new(binary());
    command.arg(if n == 0 { "demo" } else { "serve" }).args(["--listen", listen, "--otlp-listen", "off"]);
    command.args(["--database-url", &galera.url(n, "calvex"), "--data-dir"]).arg(&home);
    command.envs([("CALVEX_NODE_NAME", name.as_str()), ("CALVEX_NOTIFY_MAIL_SERVER", MAIL)]);
    command.envs([("CALVEX_NOTIFY_WEBHOOK_LOCAL", "true"), ("CALVEX_NOTIFY_MAIL_FROM", "calvex@fennmark.test")]);
    command.env("CALVEX_NOTIFY_CONSOLE_URL", format!("http://{}", LISTEN[0]));
    command.env("CALVEX_SECRETS_KEY_FILE", dir.join("secrets.key"));
    command.env("CALVEX_NODE_URL", format!("http://{listen}"));
    if n > 0 {
        let log = std::fs::File::options().create(true).append(true).open(home.join("log"))?;
        command.env("CALVEX_GRPC_LISTEN", "off").stdout(Stdio::null()).stderr(log);
    }
    command.spawn().with_context(|| format!("{} does not start; build it first", binary().display()))
}

async fn answers(child: &mut Child, n: usize) -> Result<()> {
    let address = LISTEN.get(n).context("no address")?;
    let (url, until) = (format!("http://{address}/readyz"), Instant::now() + STARTS);
    while !reqwest::get(&url).await.is_ok_and(|answer| answer.status().is_success()) {
        if let Some(status) = child.try_wait()? {
            bail!("the node at {address} ended, {status}; its log stands in its directory");
        }
        if Instant::now() > until {
            bail!("the node at {address} is not ready");
        }
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    Ok(())
}

#[tokio::main]
async fn main() -> Result<()> {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let dir = std::env::args().nth(1).map_or_else(|| PathBuf::from(".cluster"), PathBuf::from);
    std::fs::create_dir_all(&dir)?;
    let dir = dir.canonicalize()?;
    let galera = Galera::start(&dir.join("servers"), 3)?;
    for member in &galera.members {
        println!("database   {}", member.address());
    }
    let mut nodes = Vec::new();
    for n in 0..LISTEN.len() {
        let mut child = node(&galera, n, &dir)?;
        let ready = answers(&mut child, n).await;
        nodes.push(child);
        if let Err(e) = ready {
            stop(&mut nodes);
            return Err(e);
        }
    }
    println!("nodes      http://{}", LISTEN.join(", http://"));
    println!("in a shell export CALVEX_URL=http://{}", LISTEN.join(",http://"));
    tokio::signal::ctrl_c().await?;
    println!("stopping");
    stop(&mut nodes);
    galera.stop();
    Ok(())
}

/// Stops nodes in order, the last first.
fn stop(nodes: &mut [Child]) {
    for child in nodes.iter_mut().rev() {
        let _ = signal(child.id(), "TERM");
        let _ = child.wait();
    }
}
