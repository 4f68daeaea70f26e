//! A MariaDB server of its own with a binary log, on loopback: one that others can follow, or that can be read up to a
//! moment.

use crate::mariadb;
use crate::service::PATIENCE;
use anyhow::{Context, Result, ensure};
use std::net::TcpListener;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// A server that ends when this goes.
pub struct Lone {
    dir: PathBuf,
    /// Its TCP port.
    pub port: u16,
    child: Child,
}

impl Lone {
    /// Starts an empty one in a directory; servers that follow each other have different ids.
    ///
    /// # Errors
    /// Where it does not start.
    pub fn start(dir: &Path, id: u32) -> Result<Self> {
        let data = dir.join("data");
        std::fs::create_dir_all(&data)?;
        let owner = if rustix::process::geteuid().is_root() { &["--user=root"][..] } else { &[] };
        mariadb::install(dir, |install| {
            install.args(owner);
            Ok(())
        })?;
        let port = TcpListener::bind("127.0.0.1:0")?.local_addr()?.port();
        let log = std::fs::File::create(dir.join("log"))?;
        let child = mariadb::server()
            .arg("--no-defaults")
            .args(owner)
            .args([
                format!("--datadir={}", data.display()),
                format!("--socket={}", dir.join("sock").display()),
                format!("--tmpdir={}", dir.display()),
                format!("--port={port}"),
                "--bind-address=127.0.0.1".into(),
                "--skip-name-resolve".into(),
                format!("--server-id={id}"),
                format!("--log-bin={}", data.join("binlog").display()),
                "--binlog-format=ROW".into(),
                "--binlog-row-image=MINIMAL".into(),
                "--sync-binlog=1".into(),
                "--innodb-flush-log-at-trx-commit=1".into(),
                "--innodb-buffer-pool-size=64M".into(),
                "--innodb-log-file-size=32M".into(),
                "--max-allowed-packet=64M".into(),
            ])
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(log)
            .spawn()
            .context("mariadbd does not start; install mariadb-server")?;
        let server = Lone { dir: dir.to_owned(), port, child };
        let until = Instant::now() + PATIENCE;
        while server.sql("SELECT 1").is_err() {
            let log = || std::fs::read_to_string(dir.join("log")).unwrap_or_default();
            ensure!(Instant::now() < until, "the server does not answer: {}", log());
            std::thread::sleep(Duration::from_millis(50));
        }
        Ok(server)
    }

    /// The URL of a database in it.
    pub fn url(&self, name: &str) -> String {
        format!("mysql://root@127.0.0.1:{}/{name}", self.port)
    }

    /// What one statement returns, as text.
    ///
    /// # Errors
    /// Where the server refuses it.
    pub fn sql(&self, statement: &str) -> Result<String> {
        mariadb::sql(&self.dir.join("sock"), None, statement)
    }

    /// The options that bring a client of MariaDB to this server.
    pub fn options(&self) -> String {
        format!("--no-defaults --user=root --socket={}", self.dir.join("sock").display())
    }

    /// Where its data and its binary log are.
    pub fn data(&self) -> PathBuf {
        self.dir.join("data")
    }

    /// Runs a line of shell, as an operator types it.
    ///
    /// # Errors
    /// Where it fails.
    pub fn shell(&self, line: &str) -> Result<String> {
        let done = Command::new("bash").args(["-o", "pipefail", "-c", line]).current_dir(&self.dir).output()?;
        ensure!(done.status.success(), "{line}: {}", String::from_utf8_lossy(&done.stderr));
        Ok(String::from_utf8(done.stdout)?.trim().to_owned())
    }

    /// Ends it as a power cut does.
    pub fn kill(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Drop for Lone {
    fn drop(&mut self) {
        self.kill();
    }
}
