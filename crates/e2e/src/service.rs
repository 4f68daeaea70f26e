//! A real `calvex serve` in a directory of its own, and the real client against it.

use crate::mariadb;
use crate::overdue::Running;
use anyhow::{Context, Result, bail};
use serde_json::Value;
use std::io::{BufRead, BufReader, Write};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::time::{Duration, Instant};

/// The first administrator's password in tests.
pub const PASSWORD: &str = "locker bank seventeen";
/// How long anything is waited for.
pub const PATIENCE: Duration = Duration::from_secs(120);

/// The built binary, beside the test that runs.
pub fn binary() -> PathBuf {
    let mut dir = std::env::current_exe().unwrap_or_default();
    while dir.pop() {
        let candidate = dir.join("calvex");
        if candidate.is_file() {
            return candidate;
        }
    }
    PathBuf::from("calvex")
}

/// A running service.
pub struct Service {
    /// Its data directory.
    pub dir: PathBuf,
    /// Its address.
    pub url: String,
    /// Its other ways in: what each is, and its address.
    others: WaysIn,
    /// A token that reads and administers.
    pub token: String,
    /// A key that sends.
    pub key: String,
    environment: Vec<(String, String)>,
    /// What its command line begins with; nothing on this machine.
    before: Vec<String>,
    child: Child,
    /// Everything it made is removed when this goes; none where the directory is given.
    kept: Option<tempfile::TempDir>,
    _running: Option<Running>,
}

/// What a way in is, and its address.
type WaysIn = Vec<(String, String)>;

fn spawn(dir: &Path, environment: &[(String, String)], before: &[String]) -> Result<(Child, String, WaysIn)> {
    let log = std::fs::File::options().create(true).append(true).open(dir.join("service.log"))?;
    let mut command = match before.split_first() {
        None => Command::new(binary()),
        Some((first, more)) => {
            let mut command = Command::new(first);
            command.args(more).arg(binary());
            command
        }
    };
    let mut child = command
        .args(["serve", "--otlp-listen", "127.0.0.1:0", "--data-dir"])
        .arg(dir)
        .env("CALVEX_ADMIN_PASSWORD", PASSWORD)
        .env("CALVEX_DATABASE_BUFFER_POOL_MIB", "128")
        .env("CALVEX_DATABASE_REDO_LOG_MIB", "64")
        .env("CALVEX_GRPC_LISTEN", "127.0.0.1:0")
        .env("CALVEX_HTTP_LISTEN", "127.0.0.1:0")
        .envs(environment.iter().cloned())
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(log)
        .spawn()
        .with_context(|| format!("{} does not start; build it first", binary().display()))?;
    let mut lines = BufReader::new(child.stdout.take().context("no output")?).lines();
    let (mut url, mut others) = (String::new(), Vec::new());
    while url.is_empty() {
        let Some(line) = lines.next().transpose()? else {
            bail!("calvex serve ended: {}", std::fs::read_to_string(dir.join("service.log")).unwrap_or_default());
        };
        match line.split_once(" at ") {
            Some(("ready", reported)) => url = reported.to_owned(),
            Some((what, reported)) => others.push((what.to_owned(), reported.to_owned())),
            None => {}
        }
    }
    // What it prints later must not fill the pipe.
    std::thread::spawn(move || lines.for_each(drop));
    Ok((child, url, others))
}

impl Service {
    /// Starts one with settings by environment, in a new directory.
    pub fn start(environment: &[(&str, &str)]) -> Result<Self> {
        Self::start_after(Vec::new(), environment)
    }

    /// As [`Service::start`], with a command line that begins with `before`.
    pub fn start_after(before: Vec<String>, environment: &[(&str, &str)]) -> Result<Self> {
        let kept = tempfile::tempdir()?;
        let dir = kept.path().to_owned();
        Self::begin(dir, Some(kept), environment, before)
    }

    /// Starts one in a directory that exists.
    pub fn start_in(dir: PathBuf, kept: Option<tempfile::TempDir>, environment: &[(&str, &str)]) -> Result<Self> {
        Self::begin(dir, kept, environment, Vec::new())
    }

    fn begin(
        dir: PathBuf,
        kept: Option<tempfile::TempDir>,
        environment: &[(&str, &str)],
        before: Vec<String>,
    ) -> Result<Self> {
        let environment: Vec<_> = environment.iter().map(|(k, v)| ((*k).to_owned(), (*v).to_owned())).collect();
        let _running = Running::begin();
        let (child, url, others) = spawn(&dir, &environment, &before)?;
        let (token, key) = (String::new(), String::new());
        let mut service = Service { dir, url, others, token, key, environment, before, child, kept, _running };
        let secret = |made: &[&str]| {
            let until = Instant::now() + PATIENCE;
            loop {
                let made = Command::new(binary())
                    .args(made)
                    .arg("--json")
                    .env("CALVEX_URL", &service.url)
                    .env("CALVEX_ADMIN_PASSWORD", PASSWORD)
                    .envs(service.authority())
                    .output()?;
                let said = String::from_utf8_lossy(&made.stderr).into_owned();
                // A database that comes and goes beside this start may not take it yet.
                if said.contains("nothing was taken, try again") && Instant::now() < until {
                    std::thread::sleep(Duration::from_millis(200));
                    continue;
                }
                let made: Value = serde_json::from_slice(&made.stdout)
                    .with_context(|| format!("{said}\nthe service's log ends with\n{}", service.last_of_log()))?;
                return Ok::<_, anyhow::Error>(made["secret"].as_str().unwrap_or("").to_owned());
            }
        };
        let (token, key) = (secret(&["token", "new", "--for", "administer"])?, secret(&["key", "new"])?);
        service.token = token;
        service.key = key;
        Ok(service)
    }

    /// The authority that its clients trust, where it is encrypted.
    fn authority(&self) -> impl Iterator<Item = (String, String)> {
        self.environment.iter().filter(|(name, _)| name == "CALVEX_CA").cloned().collect::<Vec<_>>().into_iter()
    }

    /// The address of another way in: `OTLP also`, `OTLP over gRPC`, `JSON lines`, `syslog` with its scheme.
    pub fn other(&self, what: &str, scheme: &str) -> Result<&str> {
        let reported = self.others.iter().find(|(name, at)| name == what && at.starts_with(scheme));
        Ok(reported.with_context(|| format!("the service has no {what} at {scheme}"))?.1.as_str())
    }

    /// Runs the real client; its exit code is in the output.
    pub fn calvex(&self, args: &[&str]) -> Result<Output> {
        self.calvex_with(args, b"")
    }

    /// The same with standard input.
    pub fn calvex_with(&self, args: &[&str], input: &[u8]) -> Result<Output> {
        let mut child = Command::new(binary())
            .args(args)
            .env("CALVEX_URL", &self.url)
            .env("CALVEX_TOKEN", &self.token)
            .env("CALVEX_KEY", &self.key)
            .envs(self.authority())
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()?;
        let mut stdin = child.stdin.take().context("no input")?;
        let input = input.to_vec();
        let writer = std::thread::spawn(move || stdin.write_all(&input));
        let output = child.wait_with_output()?;
        // A client that ends before it has read all is known by its exit code.
        let _ = writer.join();
        Ok(output)
    }

    /// Runs the client, expects success, and gives its output.
    pub fn ok(&self, args: &[&str]) -> Result<String> {
        let output = self.calvex(args)?;
        if !output.status.success() {
            let (said, log) = (String::from_utf8_lossy(&output.stderr), self.last_of_log());
            bail!("calvex {}: {} {said}\nthe service's log ends with\n{log}", args.join(" "), output.status);
        }
        Ok(String::from_utf8(output.stdout)?)
    }

    /// The last lines of the service's log.
    fn last_of_log(&self) -> String {
        let log = std::fs::read_to_string(self.dir.join("service.log")).unwrap_or_default();
        let lines: Vec<&str> = log.lines().collect();
        lines.split_at(lines.len().saturating_sub(10)).1.join("\n")
    }

    /// Events found, as JSON.
    pub fn search(&self, query: &str, more: &[&str]) -> Result<Vec<Value>> {
        let output = self.calvex(&[&["search", "--json", "-n", "10000000"], more, &[query]].concat())?;
        if output.status.code() == Some(2) {
            bail!("{}", String::from_utf8_lossy(&output.stderr));
        }
        String::from_utf8(output.stdout)?.lines().map(|l| Ok(serde_json::from_str(l)?)).collect()
    }

    /// Runs a statement in its private database; what the statement returns, as text.
    pub fn sql(&self, statement: &str) -> Result<String> {
        mariadb::sql(&self.dir.join("mariadb/sock"), Some("calvex"), statement)
    }

    /// The process.
    pub fn pid(&self) -> u32 {
        self.child.id()
    }

    /// The database's process.
    pub fn database_pid(&self) -> Option<u32> {
        std::fs::read_to_string(self.dir.join("mariadb/pid")).ok()?.trim().parse().ok()
    }

    /// Kills the service as a power cut would.
    pub fn kill(&mut self) -> Result<()> {
        self.child.kill()?;
        self.child.wait()?;
        Ok(())
    }

    /// Whether the process has ended.
    pub fn has_ended(&mut self) -> Result<bool> {
        Ok(self.child.try_wait()?.is_some())
    }

    /// Starts it again where it was killed or stopped.
    pub fn restart(&mut self) -> Result<()> {
        let (child, url, others) = spawn(&self.dir, &self.environment, &self.before)?;
        (self.child, self.url, self.others) = (child, url, others);
        Ok(())
    }

    /// As [`Service::restart`], listening where it did before.
    pub fn restart_at(&mut self, address: &str) -> Result<()> {
        self.environment.push(("CALVEX_HTTP_LISTEN".to_owned(), address.to_owned()));
        self.restart()
    }

    /// Stops it as an operator would; how long that took.
    pub fn stop(&mut self) -> Result<Duration> {
        let began = Instant::now();
        signal(self.pid(), "TERM")?;
        self.child.wait()?;
        Ok(began.elapsed())
    }
}

/// Sends a signal to a process of ours.
pub fn signal(pid: u32, name: &str) -> Result<()> {
    Command::new("kill").args([&format!("-{name}"), &pid.to_string()]).status()?;
    Ok(())
}

impl Drop for Service {
    fn drop(&mut self) {
        // The database first: while the service lives, it would start it again, so both go at once and hard.
        let database = self.database_pid();
        let _ = self.child.kill();
        let _ = self.child.wait();
        if let Some(pid) = database.filter(|_| self.kept.is_some()) {
            let ours = std::fs::read_to_string(format!("/proc/{pid}/cmdline")).unwrap_or_default();
            if ours.contains(&self.dir.display().to_string()) {
                let _ = signal(pid, "KILL");
            }
        }
    }
}

/// Calls `probe` until it gives something.
pub fn wait_for<T>(what: &str, mut probe: impl FnMut() -> Result<Option<T>>) -> Result<T> {
    let until = Instant::now() + PATIENCE;
    loop {
        if let Some(found) = probe()? {
            return Ok(found);
        }
        if Instant::now() > until {
            bail!("{what} did not come about within {PATIENCE:?}");
        }
        std::thread::sleep(Duration::from_millis(30));
    }
}

/// Whether any file below `dir` holds `text`.
pub fn on_disk(dir: &Path, text: &str) -> bool {
    let mut folders = vec![dir.to_owned()];
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
            let path = entry.path();
            if path.is_dir() {
                folders.push(path);
            } else if memchr::memmem::find(&std::fs::read(&path).unwrap_or_default(), text.as_bytes()).is_some() {
                return true;
            }
        }
    }
    false
}
