//! `calvex admin`: backup and restore of a private database, people, and upkeep on demand.

use crate::serve::Sources;
use anyhow::{Context, Result, bail};
use calvex_client::client::{Connection, segment};
use calvex_client::options::Form;
use calvex_client::shown::{Zone, ZoneArgs};
use calvex_client::{Ended, Work, output};
use calvex_storage::chunk::{ChunkDescription, ColumnDescription};
use calvex_store::{Server, ServerSettings};
use calvex_wire::api::{ChunkSummary, NodeChange, NodeListed};
use clap::{Args, Subcommand};
use serde_json::Value;
use std::fs::File;
use std::io::{self, BufReader, BufWriter, Write};
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

/// Backup, restore and upkeep.
#[derive(Args)]
pub struct Admin {
    #[command(subcommand)]
    act: Act,
    #[command(flatten)]
    connection: Connection,
}

#[derive(Subcommand)]
enum Act {
    /// Write everything to one file, also while the service runs
    Backup {
        /// Data directory of the service
        #[arg(long, value_name = "DIR")]
        data_dir: PathBuf,
        /// The file to make
        #[arg(long, value_name = "FILE")]
        to: PathBuf,
    },
    /// Fill an empty data directory from a backup
    Restore {
        /// Data directory to make; must hold no database
        #[arg(long, value_name = "DIR")]
        data_dir: PathBuf,
        /// A file that `backup` made
        #[arg(long, value_name = "FILE")]
        from: PathBuf,
    },
    /// Drop expired buckets now, however many days they are
    Expire {
        #[command(flatten)]
        form: Form,
    },
    /// List the nodes of the database: whether they live, what they do for all, how old their last look at the others is
    Nodes {
        #[command(flatten)]
        form: Form,
    },
    /// Look after one node
    Node {
        #[command(subcommand)]
        act: NodeAct,
    },
    /// Seal the secrets that are given back, as those of webhooks, by a new key, and forget the old one
    RotateSecrets {
        #[command(flatten)]
        form: Form,
    },
    /// Seal every head now
    Seal {
        #[command(flatten)]
        form: Form,
    },
    /// Merge every chunk that can be merged now
    Merge {
        #[command(flatten)]
        form: Form,
    },
    /// Forget chunk parts kept in memory and on the node's disk, and columns kept decoded
    Forget,
    #[command(name = "certificate")]
    Certificate(crate::certificate::Certificate),
    /// Look after the audit trail
    Audit {
        #[command(subcommand)]
        act: AuditAct,
    },
    /// Show a chunk's parts, columns, sizes and encodings; without an id, list the chunks
    Chunk {
        /// The chunk's id
        id: Option<String>,
        #[command(flatten)]
        form: Form,
        #[command(flatten)]
        zone: ZoneArgs,
    },
}

#[derive(Subcommand)]
enum AuditAct {
    /// Check every link of the trail; ends with the first that does not hold
    Verify {
        #[command(flatten)]
        form: Form,
    },
}

#[derive(Subcommand)]
enum NodeAct {
    /// Have a node take no events and no duties, and keep nothing in memory, before it is stopped for long
    Drain {
        name: String,
        /// Have it take events and duties again
        #[arg(long)]
        end: bool,
    },
    /// Free the name of a node that does not live
    Retire { name: String },
}

impl Admin {
    /// Does what the subcommand names.
    ///
    /// # Errors
    /// Where the service or the database refuses it, or a file cannot be read or written.
    pub fn run(self) -> Work {
        Box::pin(self.work())
    }

    async fn work(self) -> Result<Ended> {
        match self.act {
            Act::Backup { data_dir, to } => backup(&data_dir, &to).await?,
            Act::Restore { data_dir, from } => restore(&data_dir, &from).await?,
            Act::Expire { form } => return upkeep(&self.connection, "/api/expire", form).await,
            Act::Nodes { form } => {
                let nodes: Vec<NodeListed> = self.connection.open().await?.get("/api/nodes").await?;
                return list_nodes(&nodes, form);
            }
            Act::Node { act: NodeAct::Drain { name, end } } => {
                let change = NodeChange { draining: !end };
                self.connection.open().await?.put(&format!("/api/nodes/{}", segment(&name)), &change).await?;
            }
            Act::Node { act: NodeAct::Retire { name } } => {
                self.connection.open().await?.delete(&format!("/api/nodes/{}", segment(&name))).await?;
            }
            Act::RotateSecrets { form } => return upkeep(&self.connection, "/api/secrets/rotate", form).await,
            Act::Seal { form } => return upkeep(&self.connection, "/api/seal", form).await,
            Act::Merge { form } => return upkeep(&self.connection, "/api/merge", form).await,
            Act::Audit { act: AuditAct::Verify { form } } => {
                return calvex_keeping::verify_trail(&self.connection, form).await;
            }
            Act::Certificate(c) => return c.run(),
            Act::Forget => self.connection.open().await?.delete("/api/cache").await?,
            Act::Chunk { id: None, form, zone } => {
                let chunks: Vec<ChunkSummary> = self.connection.open().await?.get("/api/chunks").await?;
                return list_chunks(&chunks, form, &zone.zone());
            }
            Act::Chunk { id: Some(id), form, .. } => {
                let chunk: ChunkDescription = self.connection.open().await?.get(&format!("/api/chunks/{id}")).await?;
                if form.is_json() {
                    output::json_line(&serde_json::to_string(&chunk)?)?;
                } else {
                    show_chunk(&chunk)?;
                }
            }
        }
        Ok(Ended::Well)
    }
}

/// Has the service do its upkeep now, and prints its figures.
async fn upkeep(connection: &Connection, path: &str, form: Form) -> Result<Ended> {
    let answer: Value = connection.open().await?.post(path, &()).await?;
    form.one(&answer, |answer| {
        let figures = answer.as_object().into_iter().flatten().map(|(name, value)| format!("{name} {value}"));
        figures.collect::<Vec<_>>().join(", ")
    })
}

fn list_nodes(nodes: &[NodeListed], form: Form) -> Result<Ended> {
    let row = |n: &NodeListed| {
        let state = match (n.alive, n.still_s) {
            (false, _) => "stopped".to_owned(),
            (true, Some(s)) => format!("no beat for {s} s"),
            (true, None) if n.draining => "drained".to_owned(),
            (true, None) => "lives".to_owned(),
        };
        let looked = if n.alive { format!("{} ms ago", n.looked_ms) } else { String::new() };
        vec![
            n.name.clone(),
            state,
            n.duties.join(", "),
            looked,
            n.server.clone(),
            n.slot.to_string(),
            n.epoch.to_string(),
            n.version.clone(),
        ]
    };
    form.list(nodes, &["node", "", "does for all", "looked", "database", "slot", "epoch", "calvex"], row)
}

fn list_chunks(chunks: &[ChunkSummary], form: Form, zone: &Zone) -> Result<Ended> {
    let row = |c: &ChunkSummary| {
        let each = c.bytes as f64 / f64::from(c.rows.max(1));
        let late = if c.late { "late" } else { "" };
        vec![
            c.id.clone(),
            c.lane.clone(),
            zone.clock(&c.from),
            zone.clock(&c.to),
            c.rows.to_string(),
            c.bytes.to_string(),
            format!("{each:.1}"),
            late.to_owned(),
        ]
    };
    form.list(chunks, &["chunk", "lane", "from", "to", "events", "bytes", "bytes/event", ""], row)
}

fn show_chunk(chunk: &ChunkDescription) -> Result<()> {
    let bytes: usize = chunk.segments_bytes.iter().sum();
    let each = |n: usize| format!("{:.2}", n as f64 / chunk.rows.max(1) as f64);
    output::line(&format!(
        "chunk {}  format {}  {} events in {} pages",
        chunk.id, chunk.version, chunk.rows, chunk.pages
    ))?;
    output::line(&format!("{} to {}", chunk.from, chunk.to))?;
    output::line(&format!(
        "{bytes} bytes in {} parts, {} an event: directory {}, filter {}",
        chunk.segments_bytes.len(),
        each(bytes),
        chunk.directory_bytes,
        chunk.bloom_bytes
    ))?;
    output::line("")?;
    let number = |n: Option<f64>| n.map_or_else(String::new, |n| format!("{n}"));
    let row = |c: &ColumnDescription| {
        let distinct: usize = c.blocks.iter().filter_map(|b| b.distinct).sum();
        let coded = c.shared > 0 || c.blocks.iter().any(|b| b.distinct.is_some());
        vec![
            c.name.clone(),
            c.kind.clone(),
            c.values.to_string(),
            c.bytes.to_string(),
            each(c.bytes),
            if coded { format!("{} + {distinct}", c.shared) } else { String::new() },
            number(c.least),
            number(c.largest),
        ]
    };
    let head = ["column", "type", "values", "bytes", "bytes/event", "distinct: shared + by page", "least", "largest"];
    output::table(&head, chunk.columns.iter().map(row).collect())
}

/// The socket of the directory's database, which is started for as long as the server value lives where none runs.
async fn database(data_dir: &Path) -> Result<(PathBuf, Option<Server>)> {
    let socket = Server::socket_of(data_dir);
    if tokio::net::UnixStream::connect(&socket).await.is_ok() {
        return Ok((socket, None));
    }
    let sources = Sources {
        settings: None,
        data_dir: Some(data_dir.to_owned()),
        listen: None,
        otlp_listen: None,
        database_url: None,
    };
    let settings = sources.read()?;
    let server = Server::start(ServerSettings {
        data_dir: data_dir.to_owned(),
        buffer_pool_mib: settings.number("database.buffer_pool_mib") as u32,
        redo_log_mib: settings.number("database.redo_log_mib") as u32,
    })
    .await?;
    Ok((server.socket().to_owned(), Some(server)))
}

fn tool(name: &str, socket: &Path) -> Command {
    let mut command = Command::new(name);
    command.arg("--no-defaults").arg(format!("--socket={}", socket.display())).arg("--user=root");
    command
}

/// Runs `work` with the database of `data_dir`, and stops it after where it was started for this.
async fn with_database(data_dir: &Path, work: impl FnOnce(&Path) -> Result<()> + Send + 'static) -> Result<()> {
    let (socket, server) = database(data_dir).await?;
    let done = tokio::task::spawn_blocking(move || work(&socket)).await;
    if let Some(server) = server {
        server.stop().await;
    }
    done?
}

async fn backup(data_dir: &Path, to: &Path) -> Result<()> {
    if !data_dir.join("mariadb/data").is_dir() {
        bail!("{} holds no database; name the service's data directory", data_dir.display());
    }
    let to = to.to_owned();
    with_database(data_dir, move |socket| {
        // Under another name until whole, so that a broken backup is never taken for a good one.
        let partial = to.with_extension("partial");
        // It holds every event and every hash of a secret: for its owner alone.
        let file = File::options().write(true).create(true).truncate(true).mode(0o600).open(&partial);
        let file = file.with_context(|| format!("cannot write {}", partial.display()))?;
        file.set_permissions(std::fs::Permissions::from_mode(0o600))?;
        let mut out = zstd::Encoder::new(BufWriter::new(file), 3)?;
        // One consistent snapshot; every row a statement, so that one with a large blob never exceeds a packet.
        let mut dump = tool("mariadb-dump", socket)
            .args([
                "--single-transaction",
                "--quick",
                "--hex-blob",
                "--skip-extended-insert",
                "--max-allowed-packet=256M",
                "calvex",
            ])
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .context("mariadb-dump did not start; install mariadb-client")?;
        let mut from = dump.stdout.take().context("mariadb-dump gave no output")?;
        io::copy(&mut from, &mut out)?;
        let ended = dump.wait_with_output()?;
        if !ended.status.success() {
            bail!("mariadb-dump failed: {}; run the backup again", String::from_utf8_lossy(&ended.stderr).trim());
        }
        out.finish()?.flush()?;
        std::fs::rename(&partial, &to)?;
        Ok(())
    })
    .await
}

async fn restore(data_dir: &Path, from: &Path) -> Result<()> {
    if data_dir.join("mariadb/data").exists() {
        bail!("{} holds a database already; restore into an empty directory", data_dir.display());
    }
    let file = File::open(from).with_context(|| format!("cannot read {}", from.display()))?;
    with_database(data_dir, move |socket| {
        let run = |sql: Stdio, args: &[&str]| {
            tool("mariadb", socket)
                .args(args)
                .stdin(sql)
                .stderr(Stdio::piped())
                .spawn()
                .context("mariadb did not start; install mariadb-client")
        };
        let made = run(Stdio::null(), &["-e", "CREATE DATABASE calvex CHARACTER SET utf8mb4"])?.wait_with_output()?;
        if !made.status.success() {
            bail!("the database could not be made: {}", String::from_utf8_lossy(&made.stderr).trim());
        }
        let mut load = run(Stdio::piped(), &["--max-allowed-packet=256M", "calvex"])?;
        let mut sql = zstd::Decoder::new(BufReader::new(file)).context("this is no backup")?;
        let copied = match load.stdin.take() {
            Some(mut stdin) => io::copy(&mut sql, &mut stdin),
            None => Ok(0),
        };
        let ended = load.wait_with_output()?;
        if !ended.status.success() {
            bail!(
                "the restore failed: {}; remove the directory and try again",
                String::from_utf8_lossy(&ended.stderr).trim()
            );
        }
        copied.context("the backup is damaged; the directory holds only part of it, remove it")?;
        // It is another installation from now on: what was cached of the one it was made of must not answer for it. A
        // backup from before there were installations has no such table, and gets an id when it is started.
        let _ = run(Stdio::null(), &["calvex", "-e", "DELETE FROM installation"])?.wait_with_output()?;
        Ok(())
    })
    .await
}
