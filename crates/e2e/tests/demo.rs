//! The demo as a newcomer meets it: it starts, says where to look, every command of the README's tour works on it, it
//! stops when asked, and a second start keeps what it had.

use anyhow::{Context, Result, bail};
use calvex_e2e::overdue::Running;
use calvex_e2e::service::{binary, signal, wait_for};
use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Child, Command, Output, Stdio};

struct Demo {
    child: Child,
    /// What it printed, by the words before the text.
    reported: Vec<String>,
    _running: Option<Running>,
}

impl Demo {
    /// Starts it and waits until it says how to stop it.
    fn start(dir: &Path) -> Result<Demo> {
        let free = || Ok::<_, anyhow::Error>(std::net::TcpListener::bind("127.0.0.1:0")?.local_addr()?.to_string());
        let _running = Running::begin();
        let log = std::fs::File::options().create(true).append(true).open(dir.join("demo.log"))?;
        let mut child = Command::new(binary())
            .args(["demo", "--events", "10000", "--otlp-listen", "127.0.0.1:0", "--listen", &free()?])
            .args(["--receiver-http", &free()?, "--receiver-smtp", &free()?, "--provider", &free()?, "--data-dir"])
            .arg(dir.join("data"))
            .env("CALVEX_GRPC_LISTEN", "127.0.0.1:0")
            .env("CALVEX_DATABASE_BUFFER_POOL_MIB", "128")
            .env("CALVEX_DATABASE_REDO_LOG_MIB", "64")
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(log)
            .spawn()?;
        let mut lines = BufReader::new(child.stdout.take().context("no output")?).lines();
        let mut reported = Vec::new();
        while !reported.iter().any(|l: &String| l.starts_with("stop")) {
            match lines.next().transpose()? {
                Some(line) => reported.push(line),
                None => bail!("the demo ended: {}", std::fs::read_to_string(dir.join("demo.log"))?),
            }
        }
        // What it prints later must not fill the pipe.
        std::thread::spawn(move || lines.for_each(drop));
        Ok(Demo { child, reported, _running })
    }

    fn shows(&self, what: &str) -> Result<&str> {
        let line = self.reported.iter().find_map(|l| l.strip_prefix(what));
        Ok(line.with_context(|| format!("it says no `{what}`: {:?}", self.reported))?.trim())
    }

    /// Runs a line as a shell would, after the `export` that the demo prints.
    fn shell(&self, folder: &Path, line: &str) -> Result<Output> {
        let path = format!("{}:{}", binary().parent().context("no folder")?.display(), std::env::var("PATH")?);
        let password = self.shows("sign in    admin / ")?;
        let script =
            format!("set -o pipefail; {}; export CALVEX_ADMIN_PASSWORD={password}; {line}", self.shows("in a shell")?);
        // A command that hangs is a command that fails.
        let shell = Command::new("timeout")
            .args(["120", "bash", "-c", &script])
            .current_dir(folder)
            .env("PATH", path)
            .env("HOME", folder)
            .output()?;
        Ok(shell)
    }

    /// Asks it to stop, as Ctrl-C does.
    fn stop(mut self) -> Result<()> {
        anyhow::ensure!(self.child.try_wait()?.is_none(), "it is gone already");
        signal(self.child.id(), "INT")?;
        wait_for("the end of the demo", || Ok(self.child.try_wait()?))?;
        anyhow::ensure!(self.child.wait()?.success(), "it did not end well");
        Ok(())
    }
}

impl Drop for Demo {
    fn drop(&mut self) {
        // Its id may be another's once it has ended.
        if !matches!(self.child.try_wait(), Ok(None)) {
            return;
        }
        let _ = signal(self.child.id(), "INT");
        if wait_for("its end", || Ok(self.child.try_wait()?)).is_err() {
            let _ = self.child.kill();
            let _ = self.child.wait();
        }
    }
}

/// The README's lines that are commands of a shell, but those that follow for ever and those that need a network.
fn commands() -> Vec<String> {
    let readme = include_str!("../../../README.md");
    let lines = readme.lines().filter_map(|l| l.strip_prefix("    "));
    let ours = lines.filter(|l| l.starts_with("calvex ") || l.contains("| calvex ") || l.starts_with("export "));
    let runs = ours.filter(|l| !l.starts_with("calvex tail") && !l.contains("CALVEX_URL=http"));
    // Shortly before the next night is over, the last one began more than a day ago.
    runs.map(|line| line.replace("now-1d", "now-2d")).collect()
}

#[test]
fn the_readmes_tour() -> Result<()> {
    let home = tempfile::tempdir()?;
    let demo = Demo::start(home.path())?;
    anyhow::ensure!(demo.shows("console")?.starts_with("http://127.0.0.1:"), "{:?}", demo.reported);
    anyhow::ensure!(demo.shows("sign in")?.starts_with("admin / "), "{:?}", demo.reported);
    let folder = home.path().join("folder");
    std::fs::create_dir(&folder)?;
    std::fs::write(
        folder.join("events.ndjson"),
        "{\"service\":\"slots\",\"message\":\"door 4 opened by PX-10023\"}\n",
    )?;
    std::fs::write(folder.join("slots.log"), "02:38 lease 17 ran out\n02:39 lease 18 ran out\n".repeat(20))?;

    let commands = commands();
    assert!(commands.len() > 20, "{commands:?}");
    for line in &commands {
        // A key once exported is there for the lines after it.
        let key = if line.starts_with("export ") { String::new() } else { exported(&commands) };
        // Alerts are raised, and senders accounted for, a moment after the night has come.
        wait_for(line, || {
            let ran = demo.shell(&folder, &format!("{key}{line}"))?;
            let reported = String::from_utf8_lossy(&ran.stderr).into_owned();
            anyhow::ensure!(
                matches!(ran.status.code(), Some(0 | 1)) && !reported.contains("panicked"),
                "{line}: {reported}"
            );
            Ok((ran.status.code() == Some(0)).then_some(()))
        })?;
    }

    // A fresh failure begins by command, raises its alert, and ends by command.
    let incident = |what: &str| {
        let dir = home.path().join("data");
        demo.shell(&folder, &format!("calvex demo incident {what} --data-dir {} --json", dir.display()))
    };
    let raised = || -> Result<bool> {
        let alerts = demo.shell(&folder, "calvex alerts --json")?;
        Ok(String::from_utf8_lossy(&alerts.stdout).contains("billing fails"))
    };
    assert!(!raised()?, "billing was calm");
    assert_eq!(incident("--end")?.status.code(), Some(2), "there is nothing to end");
    let begun = incident("certificate")?;
    anyhow::ensure!(begun.status.success(), "{}", String::from_utf8_lossy(&begun.stderr));
    assert_eq!(incident("leases")?.status.code(), Some(2), "one at a time");
    wait_for("the alert of the incident", || Ok(raised()?.then_some(())))?;
    let ended = incident("--end")?;
    anyhow::ensure!(ended.status.success(), "{}", String::from_utf8_lossy(&ended.stderr));
    wait_for("the mark of its end", || {
        let marks = demo.shell(&folder, "calvex search 'has mark \"new certificate\"' --from now-10m --json")?;
        Ok(marks.status.success().then_some(()))
    })?;

    // Stopped and started again, it has what it had, and does not load it twice.
    // Up to one moment: the night may go on until now, so a range that moves would count more each time.
    let until = jiff::Timestamp::now() - jiff::SignedDuration::from_hours(1);
    let counted =
        format!("calvex search 'env.none=1 or service=slots measure count' --from now-2d --to {until} --json");
    let count = |demo: &Demo| -> Result<u64> {
        let ran = demo.shell(&folder, &counted)?;
        let reported: serde_json::Value = serde_json::from_slice(&ran.stdout)?;
        Ok(reported["count"].as_u64().unwrap_or(0))
    };
    let before = count(&demo)?;
    let night = demo.shows("the night")?.to_owned();
    demo.stop()?;
    let again = Demo::start(home.path())?;
    assert_eq!(again.shows("the night")?, night);
    wait_for("the night", || Ok((count(&again)? == before).then_some(())))?;
    anyhow::ensure!(before > 500, "only {before} events of slots");
    again.stop()
}

/// What the tour exports, once for all lines.
fn exported(commands: &[String]) -> String {
    commands
        .iter()
        .filter(|l| l.starts_with("export "))
        .map(|l| format!("{} >/dev/null; ", l.replace("my-service", "tour-$RANDOM$RANDOM")))
        .collect()
}
