//! `calvex send`: NDJSON from files or standard input, in batches that are stored once however often they are sent.

use crate::Ended;
use crate::addresses::Addresses;
use crate::client::{DEFAULT_URL, http_client, root_cause};
use crate::options::{Form, duration_s};
use anyhow::{Context, Result, anyhow, bail};
use calvex_language::backoff::Backoff;
use calvex_wire::api::{IDEMPOTENCY_HEADER, RefusedEvent, SendAnswer};
use clap::Args;
use indicatif::{ProgressBar, ProgressStyle};
use reqwest::header;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;
use tokio::io::{AsyncBufReadExt, AsyncRead, BufReader};
use tokio::sync::{Mutex, mpsc};

/// A batch is sent when it has this many bytes,
const BATCH_BYTES: usize = 2 << 20;
/// or waits this long for more.
const BATCH_AGE: Duration = Duration::from_millis(500);
/// The longest pause between two tries.
const MAX_PAUSE: Duration = Duration::from_secs(15);
/// Refused events reported one by one.
const MAX_TOLD: usize = 20;

/// Send newline-delimited JSON.
#[derive(Args)]
pub struct Send {
    /// Files to send; standard input if none, or for `-`
    files: Vec<PathBuf>,
    /// Address of the service, or of several nodes, joined by commas: the next is tried where one does not take a batch
    #[arg(long, env = "CALVEX_URL", default_value = DEFAULT_URL)]
    url: String,
    /// Key for sending [env: CALVEX_KEY]
    #[arg(long)]
    key: Option<String>,
    /// Batches under way at once
    #[arg(long, default_value_t = 2, value_parser = clap::value_parser!(u8).range(1..=16))]
    parallel: u8,
    /// Events of a batch at most
    #[arg(long, default_value_t = 5000, value_parser = clap::value_parser!(u32).range(1..=100_000))]
    batch: u32,
    /// How long one batch is tried
    #[arg(long, value_name = "DURATION", default_value = "5m", value_parser = duration_s)]
    give_up: u64,
    /// No progress, and no account of what was stored unless its form is named
    #[arg(long, short)]
    quiet: bool,
    #[command(flatten)]
    form: Form,
}

struct Batch {
    source: Arc<str>,
    first_line: usize,
    body: Vec<u8>,
}

struct Totals {
    stored: AtomicU64,
    refused: AtomicU64,
    reported: Mutex<Vec<(Arc<str>, RefusedEvent)>>,
    bar: ProgressBar,
}

/// The key given, or that of the environment.
pub fn key_or_env(given: Option<&str>) -> Result<String> {
    let key = given.map(str::to_owned).or_else(|| std::env::var("CALVEX_KEY").ok()).filter(|k| !k.is_empty());
    key.context("no key; set CALVEX_KEY, or make one with `calvex key new`")
}

impl Send {
    pub async fn run(self) -> Result<Ended> {
        let key = key_or_env(self.key.as_deref())?;
        let bar = if self.quiet { ProgressBar::hidden() } else { ProgressBar::new_spinner() };
        bar.set_style(
            ProgressStyle::with_template("{spinner} {pos} events stored, {per_sec} {msg}")
                .unwrap_or_else(|_| ProgressStyle::default_spinner()),
        );
        bar.enable_steady_tick(Duration::from_millis(200));
        let totals =
            Arc::new(Totals { stored: AtomicU64::new(0), refused: AtomicU64::new(0), reported: Mutex::default(), bar });
        let (queue, batches) = mpsc::channel::<Batch>(usize::from(self.parallel));
        let batches = Arc::new(Mutex::new(batches));
        let http = http_client(Duration::from_secs(60))?;
        let to = Arc::new(Addresses::of(&self.url, rand::random())?);
        let mut workers = tokio::task::JoinSet::new();
        for _ in 0..self.parallel {
            let (batches, totals, http, to, key) =
                (batches.clone(), totals.clone(), http.clone(), to.clone(), key.clone());
            let patience = Duration::from_secs(self.give_up);
            workers.spawn(async move {
                loop {
                    let Some(batch) = batches.lock().await.recv().await else { return Ok::<(), anyhow::Error>(()) };
                    deliver(&http, &to, &key, batch, &totals, patience).await?;
                }
            });
        }
        let read = async {
            let files = if self.files.is_empty() { vec![PathBuf::from("-")] } else { self.files.clone() };
            for file in files {
                if file.as_os_str() == "-" {
                    batch_lines(tokio::io::stdin(), "standard input".into(), self.batch as usize, &queue).await?;
                } else {
                    let name = file.display().to_string();
                    let open = tokio::fs::File::open(&file).await.with_context(|| format!("cannot read {name}"))?;
                    batch_lines(open, name.into(), self.batch as usize, &queue).await?;
                }
            }
            drop(queue);
            Ok::<(), anyhow::Error>(())
        };
        let deliver = async {
            while let Some(done) = workers.join_next().await {
                done??;
            }
            Ok::<(), anyhow::Error>(())
        };
        // A failed delivery ends the reading too, even where standard input goes on for ever.
        tokio::try_join!(read, deliver)?;
        totals.bar.finish_and_clear();
        self.report(&totals).await
    }

    async fn report(&self, totals: &Totals) -> Result<Ended> {
        let (stored, refused) = (totals.stored.load(Ordering::SeqCst), totals.refused.load(Ordering::SeqCst));
        let reported = totals.reported.lock().await;
        for (source, r) in reported.iter() {
            eprintln!("{source}, line {}: {}", r.line, r.message);
        }
        if !self.quiet || self.form.is_named() {
            self.form.one(&serde_json::json!({ "stored": stored, "refused": refused }), |_| {
                let more = if refused as usize > reported.len() { ", the first of these reported above" } else { "" };
                format!("{stored} stored, {refused} refused{more}")
            })?;
        }
        if refused > 0 {
            bail!("{refused} of {} events were refused", stored + refused);
        }
        Ok(Ended::Well)
    }
}

async fn batch_lines(
    from: impl AsyncRead + Unpin,
    source: Arc<str>,
    most: usize,
    queue: &mpsc::Sender<Batch>,
) -> Result<()> {
    let mut lines = BufReader::with_capacity(1 << 20, from);
    let mut number = 0;
    let mut batch = Batch { source: source.clone(), first_line: 1, body: Vec::new() };
    let mut count = 0;
    // A line that is only half read when a batch's time is up stays here and is read on.
    let mut line = Vec::new();
    loop {
        let read = if batch.body.is_empty() {
            Some(lines.read_until(b'\n', &mut line).await?)
        } else {
            tokio::time::timeout(BATCH_AGE, lines.read_until(b'\n', &mut line)).await.ok().transpose()?
        };
        if read.is_some() && !line.is_empty() {
            number += 1;
            count += 1;
            batch.body.append(&mut line);
            if batch.body.last() != Some(&b'\n') {
                batch.body.push(b'\n');
            }
        }
        let ended = read == Some(0);
        if !batch.body.is_empty() && (ended || read.is_none() || count >= most || batch.body.len() >= BATCH_BYTES) {
            let full = std::mem::replace(
                &mut batch,
                Batch { source: source.clone(), first_line: number + 1, body: Vec::new() },
            );
            count = 0;
            // The workers are gone only where one failed, and that one says why.
            if queue.send(full).await.is_err() {
                return Ok(());
            }
        }
        if ended {
            return Ok(());
        }
    }
}

/// Sends one batch until it is stored, refused for good, or patience ends. Every try carries the same idempotency key.
async fn deliver(
    http: &reqwest::Client,
    to: &Addresses,
    key: &str,
    batch: Batch,
    totals: &Totals,
    patience: Duration,
) -> Result<()> {
    let idempotency = format!("{:032x}", rand::random::<u128>());
    let body = zstd::bulk::compress(&batch.body, 1)?;
    let until = tokio::time::Instant::now() + patience;
    let mut backoff = Backoff::new(Duration::from_millis(200), MAX_PAUSE);
    let mut left = 0;
    loop {
        let address = to.current().to_owned();
        let request = http
            .post(format!("{address}/v1/events"))
            .header(header::AUTHORIZATION, format!("Bearer {key}"))
            .header(header::CONTENT_TYPE, "application/x-ndjson")
            .header(header::CONTENT_ENCODING, "zstd")
            .header(IDEMPOTENCY_HEADER, &idempotency)
            .body(body.clone());
        let (why, wait) = match request.send().await {
            Ok(response) if response.status().is_success() => {
                let answer: SendAnswer = response.json().await.context("the service's answer is not understood")?;
                note(totals, &batch, answer).await;
                return Ok(());
            }
            Ok(response) => {
                let status = response.status();
                let after = response.headers().get(header::RETRY_AFTER).and_then(|v| v.to_str().ok()?.parse().ok());
                let error = crate::client::good(response).await.err().unwrap_or_else(|| anyhow!("{status}"));
                let again = crate::client::is_passing(status);
                if !again {
                    return Err(error.context(format!("{}, lines from {}", batch.source, batch.first_line)));
                }
                (error.to_string(), after.map(Duration::from_secs))
            }
            Err(e) => (root_cause(&e), None),
        };
        if tokio::time::Instant::now() > until {
            bail!("gave up on lines from {} of {}: {why}", batch.first_line, batch.source);
        }
        totals.bar.set_message(format!("(trying again: {why})"));
        to.leave(&address);
        left += 1;
        if left % to.len() != 0 {
            // Another node may take it at once; only where none does is there a pause.
            continue;
        }
        tokio::time::sleep(backoff.pause_apart(rand::random(), wait.unwrap_or_default())).await;
    }
}

async fn note(totals: &Totals, batch: &Batch, answer: SendAnswer) {
    totals.stored.fetch_add(answer.stored as u64, Ordering::SeqCst);
    totals.refused.fetch_add(answer.refused as u64, Ordering::SeqCst);
    totals.bar.inc(answer.stored as u64);
    totals.bar.set_message("");
    let mut reported = totals.reported.lock().await;
    for mut refused in answer.refusals {
        if reported.len() < MAX_TOLD {
            refused.line += batch.first_line - 1;
            reported.push((batch.source.clone(), refused));
        }
    }
}
