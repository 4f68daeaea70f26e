//! `calvex ship`: follows files, or standard input, and has each line stored once.
//!
//! Standard input is copied to a bounded spool of files in the state folder, which are followed like any other and
//! removed when they are shipped: so one way serves both, and what was read outlives this process.

mod content;
mod follow;
mod position;
mod records;
mod spool;

use super::send::key_or_env;
use crate::addresses::Addresses;
use crate::asked_to_stop;
use crate::client::{DEFAULT_URL, http_client, root_cause};
use crate::{Ended, options};
use anyhow::{Context, Result, anyhow, bail};
use calvex_language::backoff::Backoff;
use calvex_wire::api::{IDEMPOTENCY_HEADER, SendAnswer};
use clap::Args;
use content::{Followed, Piece};
use follow::{Files, Notice};
use indicatif::{ProgressBar, ProgressStyle};
use position::{Pending, Positions};
use records::{Form, Join, Records, certain, to_ndjson};
use reqwest::{StatusCode, header};
use spool::Spool;
use std::path::{Path, PathBuf};
use std::time::Duration;

/// How often files are looked at.
const LOOK: Duration = Duration::from_millis(250);
/// A file that rests so long has written its last record to the end.
const REST: Duration = Duration::from_secs(1);
/// Pause between tries of one batch, at first and at most.
const PAUSES: (Duration, Duration) = (Duration::from_millis(200), Duration::from_secs(10));
/// Refused lines reported one by one, of a batch.
const MAX_TOLD: usize = 5;

/// Follow files, or standard input, and have each line stored once
#[derive(Args)]
pub struct Ship {
    /// Files, patterns (`/var/log/slots/*.log`) or folders; `-` for standard input
    #[arg(required = true)]
    from: Vec<String>,
    /// Address of the service, or of several nodes, joined by commas: the next is tried where one does not take a batch
    #[arg(long, env = "CALVEX_URL", default_value = DEFAULT_URL)]
    url: String,
    /// Key for sending [env: CALVEX_KEY]
    #[arg(long)]
    key: Option<String>,
    /// Folder for positions and spool [default: ~/.local/state/calvex-ship]
    #[arg(long, env = "CALVEX_SHIP_STATE")]
    state: Option<PathBuf>,
    /// A field for every event, such as service=slots; what the event says itself wins
    #[arg(long = "set", value_name = "FIELD=VALUE")]
    set: Vec<String>,
    /// Cut plain lines into fields by this line pattern (see `calvex pattern`); of several, the first that fits
    #[arg(long = "pattern", value_name = "PATTERN")]
    patterns: Vec<String>,
    /// Plain lines that begin with a blank belong to the line before
    #[arg(long)]
    join_indented: bool,
    /// A record begins with a line that begins with a time, or fits a pattern, or is JSON; all other lines, whatever they
    /// are, belong to it: stacks with their headlines and causes
    #[arg(long, conflicts_with = "join_indented")]
    join_until_time: bool,
    /// Send what is there and end, with progress
    #[arg(long)]
    once: bool,
    /// Bytes of one batch at most, KiB
    #[arg(long, default_value_t = 512, value_parser = clap::value_parser!(u32).range(1..=8192))]
    batch_kib: u32,
    /// Standard input kept on disk while the service is away, MiB; beyond, reading waits
    #[arg(long, default_value_t = 256, value_parser = clap::value_parser!(u32).range(1..=65536))]
    spool_mib: u32,
    #[command(flatten)]
    output: options::Form,
}

/// Counts and the way to the service.
struct Shipper {
    http: reqwest::Client,
    to: Addresses,
    key: String,
    form: Form,
    positions: Positions,
    stored: u64,
    refused: u64,
    /// Plain lines that a pattern fitted, and that none did.
    fitted: u64,
    missed: u64,
    bar: ProgressBar,
}

fn state_folder(given: Option<PathBuf>) -> Result<PathBuf> {
    let home = || std::env::var_os("HOME").map(|home| PathBuf::from(home).join(".local/state"));
    let base = || std::env::var_os("XDG_STATE_HOME").map(PathBuf::from).or_else(home);
    given.or_else(|| Some(base()?.join("calvex-ship"))).context("no home folder; give --state")
}

impl Ship {
    fn join(&self) -> Join {
        match (self.join_indented, self.join_until_time) {
            (_, true) => Join::Untimed,
            (true, false) => Join::Indented,
            (false, false) => Join::None,
        }
    }

    pub async fn run(self) -> Result<Ended> {
        let key = key_or_env(self.key.as_deref())?;
        let state = state_folder(self.state.clone())?;
        let mut set = serde_json::Map::new();
        for pair in &self.set {
            let (name, value) = pair.split_once('=').with_context(|| format!("`{pair}` is no FIELD=VALUE"))?;
            set.insert(name.to_owned(), value.into());
        }
        let mut named: Vec<String> = self.from.iter().filter(|f| *f != "-").cloned().collect();
        let positions = Positions::open(&state)?;
        let mut spool = match self.from.iter().any(|f| f == "-") {
            true => Some(Spool::start(&state.join("spool"), u64::from(self.spool_mib) << 20)?),
            false => None,
        };
        named.extend(spool.as_ref().map(Spool::pattern));
        let mut shipper = Shipper {
            http: http_client(Duration::from_secs(60))?,
            to: Addresses::of(&self.url, rand::random())?,
            key,
            form: Form { set, join: self.join(), patterns: options::patterns_of(&self.patterns)? },
            positions,
            stored: 0,
            refused: 0,
            fitted: 0,
            missed: 0,
            bar: if self.once { ProgressBar::new(0) } else { ProgressBar::hidden() },
        };
        let style = ProgressStyle::with_template("{bar:30} {bytes} of {total_bytes}, {bytes_per_sec} {msg}");
        shipper.bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_bar()));
        let mut files = Files::new(&named);
        for pattern in files.missing().iter().filter(|p| spool.as_ref().is_none_or(|s| s.pattern() != **p)) {
            if self.once {
                bail!("`{pattern}` names no file");
            }
            eprintln!("calvex ship: `{pattern}` names no file yet; waiting for one");
        }
        let stopped = asked_to_stop();
        tokio::pin!(stopped);
        // A bad key is reported now, not when the first line comes.
        tokio::select! {
            checked = shipper.check_key() => checked?,
            asked = &mut stopped => { asked?; return shipper.report(self.output) }
        }
        loop {
            let shipped = tokio::select! {
                shipped = self.turn(&mut shipper, &mut files, spool.as_mut()) => shipped?,
                asked = &mut stopped => { asked?; break }
            };
            let ended = self.once || spool.as_ref().is_some_and(Spool::ended) && self.from.len() == 1;
            if !shipped && ended && files.followed.iter().all(|f| f.waiting() == 0) {
                break;
            }
            if !shipped {
                tokio::select! {
                    () = tokio::time::sleep(LOOK) => {}
                    asked = &mut stopped => { asked?; break }
                }
            }
        }
        shipper.bar.finish_and_clear();
        shipper.report(self.output)
    }

    /// Ships a batch of each file that has one; whether any had.
    async fn turn(&self, shipper: &mut Shipper, files: &mut Files, spool: Option<&mut Spool>) -> Result<bool> {
        let ended = self.once || spool.as_ref().is_some_and(|s| s.ended());
        for notice in files.look(&mut shipper.positions)? {
            match notice {
                Notice::Cut(path, true) => {
                    eprintln!("calvex ship: {} was cut; the rest of it is read from its copy", path.display());
                }
                Notice::Cut(path, false) => {
                    eprintln!("calvex ship: {} was cut; it is read from its start", path.display());
                }
                Notice::Packed(path) => {
                    eprintln!("calvex ship: {} is packed and passed over; unpack it to ship it", path.display());
                }
            }
        }
        shipper.resend(files).await?;
        shipper.bar.set_length(shipper.bar.position() + files.followed.iter().map(|f| f.waiting()).sum::<u64>());
        let mut any = false;
        for file in &mut files.followed {
            let all = ended || file.rests(REST);
            let Some(mut piece) = file.read(u64::from(self.batch_kib) << 10, all)? else { continue };
            let whole = certain(&piece.bytes, &shipper.form);
            let at_end = file.ends_at(piece.to);
            if whole < piece.bytes.len() && !(all && at_end) {
                if whole > 0 {
                    piece.bytes.truncate(whole);
                    piece.to = piece.from + whole as u64;
                } else if at_end {
                    // It may still go on. One that fills a batch by itself is taken as it is.
                    continue;
                }
            }
            any = true;
            let key = format!("{:032x}", rand::random::<u128>());
            shipper.positions.begin(Pending::of(file, &piece, key.clone()), file.position())?;
            shipper.ship(file, piece, &key).await?;
        }
        if let Some(spool) = spool {
            spool.remove_shipped(&mut files.followed, &mut shipper.positions)?;
        }
        Ok(any)
    }
}

impl Shipper {
    async fn check_key(&mut self) -> Result<()> {
        let idempotency = format!("{:032x}", rand::random::<u128>());
        self.post(Vec::new(), &idempotency).await.map(|_| ())
    }

    /// Sends again what was under way when the last process ended.
    async fn resend(&mut self, files: &mut Files) -> Result<()> {
        let Some(pending) = self.positions.pending().cloned() else { return Ok(()) };
        let at = files.under_way(&pending);
        let Some(file) = at.and_then(|at| files.followed.get_mut(at)) else {
            eprintln!("calvex ship: a file went before all of it was shipped; its last lines may be missing");
            return self.positions.give_up();
        };
        match file.again(pending.from, pending.to) {
            Ok(piece) => self.ship(file, piece, &pending.key).await,
            Err(e) => {
                eprintln!("calvex ship: {}: what was under way cannot be read again ({e:#})", file.path.display());
                self.positions.give_up()
            }
        }
    }

    async fn ship(&mut self, file: &mut Followed, piece: Piece, key: &str) -> Result<()> {
        let path = file.path.display().to_string();
        let records = to_ndjson(&piece.bytes, &path, &self.form);
        self.report_misses(&path, &records);
        let Records { ndjson: body, numbers, .. } = records;
        if !body.is_empty() {
            let answer = self.post(body, key).await.with_context(|| format!("{path}, lines from {}", file.line + 1))?;
            self.stored += answer.stored as u64;
            self.refused += answer.refused as u64;
            for refusal in answer.refusals.iter().take(MAX_TOLD) {
                let line = numbers.get(refusal.line.saturating_sub(1)).map_or(file.line, |n| file.line + n);
                self.bar.suspend(|| eprintln!("calvex ship: {path}, line {}: {}", line + 1, refusal.message));
            }
            if answer.refused > MAX_TOLD {
                let more = answer.refused - MAX_TOLD;
                self.bar.suspend(|| eprintln!("calvex ship: {path}: {more} more lines were refused"));
            }
        }
        file.shipped(&piece)?;
        self.bar.inc(piece.to - piece.from);
        self.positions.done(&file.id, file.position())
    }

    /// Says where lines stop fitting the patterns: the first time any does, and when none has fitted so far.
    fn report_misses(&mut self, path: &str, records: &Records) {
        let first = self.missed == 0;
        self.fitted += records.fitted;
        self.missed += records.missed;
        if let Some(miss) = records.first_miss.as_ref().filter(|_| first) {
            let none = if self.fitted == 0 { "no line fits a pattern so far; " } else { "" };
            self.bar.suspend(|| eprintln!("calvex ship: {path}: {none}{miss}; such lines are sent as messages"));
        }
    }

    /// Posts a batch until it is answered. Every try carries the same key; only a fault of ours ends it.
    async fn post(&self, body: Vec<u8>, key: &str) -> Result<SendAnswer> {
        let body = zstd::bulk::compress(&body, 1)?;
        let mut reported = false;
        let mut backoff = Backoff::new(PAUSES.0, PAUSES.1);
        let mut left = 0;
        loop {
            let mut asked_pause = Duration::ZERO;
            let address = self.to.current().to_owned();
            let request = self
                .http
                .post(format!("{address}/v1/events"))
                .header(header::AUTHORIZATION, format!("Bearer {}", self.key))
                .header(header::CONTENT_TYPE, "application/x-ndjson")
                .header(header::CONTENT_ENCODING, "zstd")
                .header(IDEMPOTENCY_HEADER, key)
                .body(body.clone());
            let why = match request.send().await {
                Ok(response) if response.status().is_success() => {
                    if reported {
                        eprintln!("calvex ship: in touch with the service again");
                    }
                    return response.json().await.context("the service's answer is not understood");
                }
                // This key stored a batch before: the same lines, sent with other options when a process ended.
                Ok(response) if response.status() == StatusCode::UNPROCESSABLE_ENTITY => {
                    eprintln!("calvex ship: what was under way is already stored, as it was sent before");
                    return Ok(SendAnswer { repeated: true, ..SendAnswer::default() });
                }
                Ok(response) => {
                    let status = response.status();
                    let asked = response.headers().get(header::RETRY_AFTER).and_then(|v| v.to_str().ok());
                    let asked_s = asked.and_then(|v| v.parse().ok()).unwrap_or(0u64);
                    asked_pause = Duration::from_secs(asked_s);
                    let error = crate::client::good(response).await.err().unwrap_or_else(|| anyhow!("{status}"));
                    if !crate::client::is_passing(status) {
                        return Err(error);
                    }
                    error.to_string()
                }
                Err(e) => root_cause(&e),
            };
            if !reported {
                eprintln!("calvex ship: {address}: {why}; trying until it answers");
                reported = true;
            }
            self.bar.set_message("(trying again)");
            self.to.leave(&address);
            left += 1;
            if left % self.to.len() != 0 {
                // Another node may take it at once; only where none does is there a pause.
                continue;
            }
            tokio::time::sleep(backoff.pause_apart(rand::random(), asked_pause)).await;
        }
    }

    fn report(&self, form: options::Form) -> Result<Ended> {
        form.one(&serde_json::json!({ "stored": self.stored, "refused": self.refused }), |_| {
            let unfit = if self.missed > 0 { format!(", {} fitted no pattern", self.missed) } else { String::new() };
            format!("{} stored, {} refused{unfit}", self.stored, self.refused)
        })
    }
}

/// The folder's files in the order of their names.
fn files_in(folder: &Path) -> Result<Vec<PathBuf>> {
    let entries = std::fs::read_dir(folder).with_context(|| format!("cannot read {}", folder.display()))?;
    let mut files: Vec<PathBuf> = entries.flatten().map(|e| e.path()).collect();
    files.sort();
    Ok(files)
}
