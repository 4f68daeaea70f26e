//! A private MariaDB: made, started, watched, restarted and stopped by the service. It listens on a socket in a
//! directory that only its owner may enter, and on no network at all.

use crate::{Result, StoreError};
use calvex_language::backoff::Backoff;
use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use std::fs::{self, File};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicI32, Ordering};
use std::time::Duration;
use tokio::process::{Child, Command};

/// A socket path may have 107 bytes (`sun_path`).
const MAX_SOCKET_PATH: usize = 100;
/// How long an orphan may take to stop cleanly.
const ORPHAN_WAIT: Duration = Duration::from_secs(60);
/// How long one that is asked to stop may take. What it did not write by then its next start takes from its redo log.
const STOP_WAIT: Duration = Duration::from_secs(30);

/// How the private server is run.
#[derive(Debug, Clone)]
pub struct ServerSettings {
    /// The service's data directory; the server's own lies below it.
    pub data_dir: PathBuf,
    /// InnoDB's buffer pool.
    pub buffer_pool_mib: u32,
    /// InnoDB's redo log.
    pub redo_log_mib: u32,
}

/// A running private server. Dropping it leaves it running unwatched, as a killed service would; [`Server::stop`] ends it.
pub struct Server {
    socket: PathBuf,
    pid: Arc<AtomicI32>,
    stopping: Arc<AtomicBool>,
    watcher: Option<tokio::task::JoinHandle<()>>,
    _lock: File,
}

impl Server {
    /// Starts it: makes the database where there is none, and stops an orphan of an earlier run first.
    ///
    /// # Errors
    /// Where the directory is in use by another calvex, or MariaDB is missing or does not start.
    pub async fn start(settings: ServerSettings) -> Result<Self> {
        let home = settings.data_dir.join("mariadb");
        let reported =
            |what: &str, e: &dyn std::fmt::Display| StoreError::Server(format!("{what} {}: {e}", home.display()));
        fs::create_dir_all(&home).map_err(|e| reported("cannot make the directory", &e))?;
        fs::set_permissions(&home, fs::Permissions::from_mode(0o700))
            .map_err(|e| reported("cannot close to others", &e))?;
        let home = home.canonicalize().map_err(|e| reported("cannot find", &e))?;
        let lock = File::create(home.join("lock")).map_err(|e| reported("cannot write below", &e))?;
        lock.try_lock().map_err(|_| {
            StoreError::Server(format!(
                "{} is in use by another calvex; stop that one, or choose another --data-dir",
                settings.data_dir.display()
            ))
        })?;
        stop_orphan(&home).await?;
        // Of its own: a server that starts clears the temporary tables it finds, also those of another one.
        fs::create_dir_all(home.join("tmp")).map_err(|e| reported("cannot make a directory below", &e))?;
        let data = home.join("data");
        if !data.join("mysql").is_dir() {
            install(&home, &data).await?;
        }
        let socket = socket_path(&home);
        let _ = fs::remove_file(&socket);
        let pid = Arc::new(AtomicI32::new(0));
        let stopping = Arc::new(AtomicBool::new(false));
        let mut child = spawn(&settings, &home, &socket)?;
        pid.store(child.id().map_or(0, |p| p as i32), Ordering::SeqCst);
        wait_ready(&mut child, &home, &socket).await?;
        let watcher = tokio::spawn(watch(child, settings, home, socket.clone(), pid.clone(), stopping.clone()));
        Ok(Server { socket, pid, stopping, watcher: Some(watcher), _lock: lock })
    }

    /// Where it listens.
    pub fn socket(&self) -> &Path {
        &self.socket
    }

    /// The socket of a data directory, whether or not a server runs there.
    pub fn socket_of(data_dir: &Path) -> PathBuf {
        let home = data_dir.join("mariadb");
        socket_path(&home.canonicalize().unwrap_or(home))
    }

    /// Stops it cleanly and waits for its end; one that does not end is killed.
    pub async fn stop(mut self) {
        self.stopping.store(true, Ordering::SeqCst);
        signal(self.pid.load(Ordering::SeqCst), Signal::SIGTERM);
        let Some(mut watcher) = self.watcher.take() else { return };
        if tokio::time::timeout(STOP_WAIT, &mut watcher).await.is_err() {
            tracing::warn!("the database does not stop and is killed; its next start repairs it from its log");
            signal(self.pid.load(Ordering::SeqCst), Signal::SIGKILL);
            let _ = watcher.await;
        }
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        if let Some(watcher) = &self.watcher {
            watcher.abort();
        }
    }
}

fn signal(pid: i32, signal: Signal) {
    if pid > 0 {
        let _ = kill(Pid::from_raw(pid), signal);
    }
}

fn socket_path(home: &Path) -> PathBuf {
    let near = home.join("sock");
    if near.as_os_str().len() <= MAX_SOCKET_PATH {
        return near;
    }
    // Too long for the kernel: the same name every time, in a directory of the same closedness.
    use sha2::Digest;
    let hash = sha2::Sha256::digest(home.as_os_str().as_encoded_bytes());
    let short = std::env::temp_dir().join(format!("calvex-{}", calvex_language::model::to_hex(&hash[..8])));
    let _ = fs::create_dir_all(&short);
    let _ = fs::set_permissions(&short, fs::Permissions::from_mode(0o700));
    short.join("sock")
}

fn binary(name: &str) -> Result<PathBuf> {
    let path = std::env::var_os("PATH").unwrap_or_default();
    let places = std::env::split_paths(&path).chain(["/usr/sbin", "/usr/bin", "/usr/local/bin"].map(PathBuf::from));
    places.map(|dir| dir.join(name)).find(|p| p.is_file()).ok_or_else(|| {
        StoreError::Server(format!(
            "{name} is not installed; run `apt-get install mariadb-server`, or use --database-url"
        ))
    })
}

fn current_user() -> String {
    nix::unistd::User::from_uid(nix::unistd::geteuid()).ok().flatten().map_or_else(|| "root".into(), |u| u.name)
}

async fn install(home: &Path, data: &Path) -> Result<()> {
    // Into a directory beside, renamed at the end, so that a half-made one is never taken for a whole one.
    let making = home.join("data.making");
    let _ = fs::remove_dir_all(&making);
    let output = Command::new(binary("mariadb-install-db")?)
        .arg("--no-defaults")
        .arg(format!("--datadir={}", making.display()))
        .arg(format!("--user={}", current_user()))
        .arg(format!("--tmpdir={}", home.join("tmp").display()))
        .args(["--auth-root-authentication-method=normal", "--skip-test-db", "--skip-name-resolve"])
        .stdin(Stdio::null())
        .output()
        .await
        .map_err(|e| StoreError::Server(format!("mariadb-install-db did not start: {e}")))?;
    if !output.status.success() {
        let reported = String::from_utf8_lossy(&output.stderr);
        let why = reported.lines().find(|l| l.to_uppercase().contains("ERROR")).unwrap_or("no reason given");
        return Err(StoreError::Server(format!("mariadb-install-db failed in {}: {why}", home.display())));
    }
    fs::rename(&making, data).map_err(|e| StoreError::Server(format!("cannot make {}: {e}", data.display())))
}

fn spawn(settings: &ServerSettings, home: &Path, socket: &Path) -> Result<Child> {
    let log = File::options().create(true).append(true).open(home.join("server.log"));
    let log = log.map_err(|e| StoreError::Server(format!("cannot write {}/server.log: {e}", home.display())))?;
    let err = log.try_clone().map_err(|e| StoreError::Server(format!("cannot write the server's log: {e}")))?;
    Command::new(binary("mariadbd")?)
        .arg("--no-defaults")
        .arg(format!("--datadir={}", home.join("data").display()))
        .arg(format!("--socket={}", socket.display()))
        .arg(format!("--pid-file={}", home.join("pid").display()))
        .arg(format!("--tmpdir={}", home.join("tmp").display()))
        .arg(format!("--user={}", current_user()))
        .args(["--skip-networking", "--skip-name-resolve", "--skip-log-bin", "--character-set-server=utf8mb4"])
        .args(["--innodb-flush-log-at-trx-commit=1", "--innodb-file-per-table=1", "--max-allowed-packet=64M"])
        .args(["--max-connections=200", "--innodb-flush-method=O_DIRECT", "--performance-schema=OFF"])
        .arg(format!("--innodb-buffer-pool-size={}M", settings.buffer_pool_mib))
        .arg(format!("--innodb-log-file-size={}M", settings.redo_log_mib))
        .stdin(Stdio::null())
        .stdout(log)
        .stderr(err)
        // Ctrl-C in a terminal reaches the whole foreground group; the database must outlive the service's last commit.
        .process_group(0)
        .spawn()
        .map_err(|e| StoreError::Server(format!("mariadbd did not start: {e}")))
}

async fn wait_ready(child: &mut Child, home: &Path, socket: &Path) -> Result<()> {
    loop {
        if tokio::net::UnixStream::connect(socket).await.is_ok() {
            return Ok(());
        }
        tokio::select! {
            status = child.wait() => {
                let log = fs::read_to_string(home.join("server.log")).unwrap_or_default();
                let why = log.lines().rev().find(|l| l.contains("[ERROR]")).unwrap_or("it gave no reason");
                let status = status.map_or_else(|e| e.to_string(), |s| s.to_string());
                return Err(StoreError::Server(format!("mariadbd ended at start ({status}): {why}; see {}/server.log", home.display())));
            }
            () = tokio::time::sleep(Duration::from_millis(20)) => {}
        }
    }
}

/// Waits for the server's end and starts it again, unless it was meant.
async fn watch(
    mut child: Child,
    settings: ServerSettings,
    home: PathBuf,
    socket: PathBuf,
    pid: Arc<AtomicI32>,
    stopping: Arc<AtomicBool>,
) {
    let mut backoff = Backoff::new(Duration::from_millis(100), Duration::from_secs(10));
    loop {
        let status = child.wait().await;
        if stopping.load(Ordering::SeqCst) {
            return;
        }
        tracing::warn!(?status, "the database ended unasked and is started again");
        loop {
            tokio::time::sleep(backoff.pause()).await;
            if stopping.load(Ordering::SeqCst) {
                return;
            }
            match spawn(&settings, &home, &socket) {
                Ok(started) => {
                    child = started;
                    pid.store(child.id().map_or(0, |p| p as i32), Ordering::SeqCst);
                    match wait_ready(&mut child, &home, &socket).await {
                        Ok(()) => {
                            backoff.reset();
                            break;
                        }
                        Err(e) => tracing::error!("{e}"),
                    }
                }
                Err(e) => tracing::error!("{e}"),
            }
        }
    }
}

/// A server that an earlier service left running is stopped cleanly; its process is known by its own command line.
async fn stop_orphan(home: &Path) -> Result<()> {
    let Some(pid) = fs::read_to_string(home.join("pid")).ok().and_then(|t| t.trim().parse::<i32>().ok()) else {
        return Ok(());
    };
    let datadir = format!("--datadir={}", home.join("data").display());
    let ours = || {
        fs::read(format!("/proc/{pid}/cmdline")).is_ok_and(|c| c.split(|b| *b == 0).any(|a| a == datadir.as_bytes()))
    };
    if !ours() {
        return Ok(());
    }
    tracing::info!(pid, "stopping the database that an earlier run left");
    signal(pid, Signal::SIGTERM);
    let until = tokio::time::Instant::now() + ORPHAN_WAIT;
    while ours() {
        if tokio::time::Instant::now() > until {
            signal(pid, Signal::SIGKILL);
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    Ok(())
}
