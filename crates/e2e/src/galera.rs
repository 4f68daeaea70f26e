//! Three MariaDB servers that are one cluster, on loopback. They do not run as root: their state transfer refuses that, so
//! that root starts them as the user of Debian's package.

use crate::machines::Machines;
use crate::mariadb;
use crate::service::signal;
use anyhow::{Context, Result, ensure};
use std::net::TcpListener;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// Where Debian's package `galera-4` has its library, which `mariadb-server` brings.
const PROVIDER: &str = "/usr/lib/galera/libgalera_smm.so";
/// The user as whom root starts the servers.
const USER: &str = "mysql";

/// How long a server may take to come into its cluster; everything may have to be handed to it first.
const JOINS: Duration = Duration::from_secs(240);

/// A server of a cluster.
pub struct Member {
    name: String,
    dir: PathBuf,
    /// Its address, and what its command line begins with; nothing on this machine.
    host: String,
    before: Vec<String>,
    /// Of the database, of the cluster, of incremental and of full state transfers.
    ports: [u16; 4],
    child: Option<Child>,
}

/// A cluster that ends when this goes.
pub struct Galera {
    /// Its servers.
    pub members: Vec<Member>,
}

/// Ids of user and group to run as; none where this process is not root.
fn user() -> Result<Option<(u32, u32)>> {
    if !rustix::process::geteuid().is_root() {
        return Ok(None);
    }
    let id = |what: &str| -> Result<u32> {
        let output = Command::new("id").args([what, USER]).output()?;
        let text = String::from_utf8_lossy(&output.stdout).trim().to_owned();
        text.parse().with_context(|| format!("there is no user {USER}; install mariadb-server"))
    };
    Ok(Some((id("-u")?, id("-g")?)))
}

fn as_user(command: &mut Command) -> Result<&mut Command> {
    if let Some((uid, gid)) = user()? {
        command.uid(uid).gid(gid);
    }
    Ok(command)
}

/// Ports that are free now.
fn free_ports() -> Result<[u16; 4]> {
    let held: Vec<TcpListener> = (0..4).map(|_| TcpListener::bind("127.0.0.1:0")).collect::<std::io::Result<_>>()?;
    let mut ports = [0; 4];
    for (port, listener) in ports.iter_mut().zip(&held) {
        *port = listener.local_addr()?.port();
    }
    Ok(ports)
}

impl Member {
    /// `host:port` of the database.
    pub fn address(&self) -> String {
        format!("{}:{}", self.host, self.ports[0])
    }

    /// Where its files are.
    pub fn data(&self) -> PathBuf {
        self.dir.join("data")
    }

    /// Its process, while it runs.
    pub fn pid(&self) -> Option<u32> {
        self.child.as_ref().map(Child::id)
    }

    fn make(&self) -> Result<()> {
        let data = self.dir.join("data");
        std::fs::create_dir_all(&data)?;
        if let Some((uid, gid)) = user()? {
            for folder in [&self.dir, &data] {
                std::os::unix::fs::chown(folder, Some(uid), Some(gid))?;
            }
        }
        mariadb::install(&self.dir, |install| as_user(install).map(|_| ()))
    }

    fn start(&mut self, group: &str, more: &[&str]) -> Result<()> {
        let [port, cluster, incremental, full] = self.ports;
        let at = |name: &str| self.dir.join(name).display().to_string();
        let log = std::fs::File::options().create(true).append(true).open(self.dir.join("log"))?;
        let host = &self.host;
        let mut server = match (self.before.split_first(), user()?) {
            (Some((first, more)), Some((uid, gid))) => {
                let mut server = Command::new(first);
                server.args(more).arg("setpriv");
                server.args([&format!("--reuid={uid}"), &format!("--regid={gid}"), "--clear-groups"]);
                server.arg(mariadb::server().get_program()).env("PATH", mariadb::search_path());
                server
            }
            _ => mariadb::server(),
        };
        if self.before.is_empty() {
            as_user(&mut server)?;
        }
        server.current_dir(&self.dir).arg("--no-defaults").args([
            format!("--datadir={}", at("data")),
            format!("--socket={}", at("sock")),
            format!("--pid-file={}", at("pid")),
            format!("--tmpdir={}", at("")),
            format!("--port={port}"),
            format!("--bind-address={host}"),
            "--skip-name-resolve".into(),
            "--innodb-buffer-pool-size=64M".into(),
            "--innodb-log-file-size=48M".into(),
            "--innodb-flush-log-at-trx-commit=1".into(),
            "--innodb-autoinc-lock-mode=2".into(),
            "--max-allowed-packet=64M".into(),
            // Where it is 0 at the start, it cannot be set later.
            "--max-user-connections=10000".into(),
            "--binlog-format=ROW".into(),
            "--binlog-row-image=MINIMAL".into(),
            "--wsrep-on=ON".into(),
            format!("--wsrep-provider={PROVIDER}"),
            "--wsrep-cluster-name=lockers".into(),
            format!("--wsrep-cluster-address=gcomm://{group}"),
            format!("--wsrep-node-name={}", self.name),
            format!("--wsrep-node-address={host}:{cluster}"),
            "--wsrep-sst-method=rsync".into(),
            format!("--wsrep-sst-receive-address={host}:{full}"),
            format!(
                "--wsrep-provider-options=base_port={cluster};gmcast.listen_addr=tcp://{host}:{cluster};\
                 ist.recv_addr={host}:{incremental};gcache.size=128M"
            ),
        ]);
        server.args(more).stdin(Stdio::null()).stdout(Stdio::null()).stderr(log);
        self.child = Some(server.spawn().context("mariadbd does not start; install mariadb-server")?);
        Ok(())
    }

    /// Where a server that was killed stands, as `UUID:SEQNO`; so it is sent what it missed alone, not everything.
    fn recovered(&self) -> Result<Option<String>> {
        if !self.dir.join("data/ibdata1").exists() {
            return Ok(None);
        }
        let mut recover = mariadb::server();
        recover.current_dir(&self.dir).args(["--no-defaults", "--wsrep-recover", "--wsrep-on=ON"]);
        recover.args([
            format!("--wsrep-provider={PROVIDER}"),
            format!("--datadir={}", self.dir.join("data").display()),
            format!("--tmpdir={}", self.dir.display()),
            "--innodb-log-file-size=48M".into(),
        ]);
        let output = as_user(&mut recover)?.output()?;
        let log = String::from_utf8_lossy(&output.stderr).into_owned();
        let position = log.lines().find_map(|line| line.split_once("Recovered position: "));
        Ok(position.map(|(_, position)| position.trim().to_owned()))
    }

    /// What one statement returns, as text.
    ///
    /// # Errors
    /// Where the server does not answer, or refuses it.
    pub fn sql(&self, statement: &str) -> Result<String> {
        mariadb::sql(&self.dir.join("sock"), None, statement)
    }

    /// Holds every write on it until what is returned is killed, as while it hands its state over; questions are answered.
    ///
    /// # Errors
    /// Where the client does not start.
    pub fn hold_writes(&self) -> Result<Child> {
        let held = "FLUSH TABLES WITH READ LOCK; SELECT SLEEP(600)";
        let mut client = mariadb::client(&self.dir.join("sock"), held);
        Ok(client.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).spawn()?)
    }

    /// Whether it takes part in a cluster of at least so many.
    pub fn is_ready(&self, size: usize) -> bool {
        let status = "SELECT GROUP_CONCAT(VARIABLE_VALUE ORDER BY VARIABLE_NAME) FROM information_schema.GLOBAL_STATUS \
                      WHERE VARIABLE_NAME IN ('wsrep_cluster_size', 'wsrep_cluster_status', 'wsrep_ready')";
        let Ok(status) = self.sql(status) else { return false };
        let mut parts = status.split(',');
        let at_least = parts.next().and_then(|n| n.parse().ok()).is_some_and(|n: usize| n >= size);
        at_least && parts.eq(["Primary", "ON"])
    }

    fn wait_until_ready(&mut self, size: usize) -> Result<()> {
        let until = Instant::now() + JOINS;
        while !self.is_ready(size) {
            let ended = self.child.as_mut().map(Child::try_wait).transpose()?.flatten();
            let log = || std::fs::read_to_string(self.dir.join("log")).unwrap_or_default();
            let last = || log().lines().rev().take(12).collect::<Vec<_>>().join("\n");
            ensure!(ended.is_none() && Instant::now() < until, "{} does not take part: {}", self.name, last());
            std::thread::sleep(Duration::from_millis(100));
        }
        Ok(())
    }

    fn end(&mut self) {
        if let Some(mut child) = self.child.take() {
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}

impl Galera {
    /// Starts a cluster of so many servers in a directory; one that was stopped there goes on.
    ///
    /// # Errors
    /// Where a server does not start.
    pub fn start(dir: &Path, servers: usize) -> Result<Self> {
        Self::start_on(dir, servers, None)
    }

    /// As [`Galera::start`], each server on a machine of its own.
    ///
    /// # Errors
    /// Where a server does not start.
    pub fn start_on(dir: &Path, servers: usize, machines: Option<&Machines>) -> Result<Self> {
        std::fs::create_dir_all(dir)?;
        // The servers' user must get through to their directories.
        let mode = <std::fs::Permissions as std::os::unix::fs::PermissionsExt>::from_mode(0o755);
        std::fs::set_permissions(dir, mode)?;
        let mut members = Vec::new();
        for n in 1..=servers {
            let name = format!("db-{n}");
            let dir = dir.join(&name);
            let is_new = !dir.join("data").exists();
            let host = machines.map_or_else(|| "127.0.0.1".to_owned(), |m| m.address(n - 1));
            let before = machines.map(|m| m.begin(n - 1)).unwrap_or_default();
            let member = Member { name, dir, host, before, ports: free_ports()?, child: None };
            if is_new {
                member.make()?;
            }
            members.push(member);
        }
        let mut galera = Galera { members };
        // One whose state is newest begins; after a stop in order any is, and otherwise the first was in use.
        let first = galera.members.iter().position(Member::ended_last).unwrap_or(0);
        let group = galera.group();
        for n in std::iter::once(first).chain((0..servers).filter(|n| *n != first)) {
            let Some(member) = galera.members.get_mut(n) else { continue };
            if n == first {
                member.allow_to_begin()?;
                member.start(&group, &["--wsrep-new-cluster"])?;
            } else {
                member.start(&group, &[])?;
            }
            member.wait_until_ready(1)?;
        }
        if let (Some(_), Some(member)) = (machines, galera.members.get(first)) {
            // From a socket root may do everything; here nodes come from other machines.
            member.sql("CREATE USER root@'%'; GRANT ALL ON *.* TO root@'%' WITH GRANT OPTION")?;
        }
        Ok(galera)
    }

    fn group(&self) -> String {
        self.members.iter().map(|m| format!("{}:{}", m.host, m.ports[1])).collect::<Vec<_>>().join(",")
    }

    /// The URL of a database, with the servers in turn from this one on.
    pub fn url(&self, from: usize, name: &str) -> String {
        let count = self.members.len();
        let hosts = (0..count).filter_map(|n| self.members.get((from + n) % count)).map(Member::address);
        format!("mysql://root@{}/{name}", hosts.collect::<Vec<_>>().join(","))
    }

    /// Kills a server, as a power cut does.
    pub fn kill(&mut self, n: usize) {
        if let Some(member) = self.members.get_mut(n) {
            member.end();
        }
    }

    /// Takes a killed server's data away, as a disk that is lost does.
    ///
    /// # Errors
    /// Where the directory cannot be emptied.
    pub fn empty(&mut self, n: usize) -> Result<()> {
        let data = self.members.get(n).context("no such server")?.dir.join("data");
        std::fs::remove_dir_all(&data)?;
        std::fs::create_dir(&data)?;
        if let Some((uid, gid)) = user()? {
            std::os::unix::fs::chown(&data, Some(uid), Some(gid))?;
        }
        Ok(())
    }

    /// Starts a server again that was killed.
    ///
    /// # Errors
    /// Where it does not start or come into the cluster.
    pub fn restart(&mut self, n: usize) -> Result<()> {
        let group = self.group();
        let member = self.members.get_mut(n).context("no such server")?;
        let position = member.recovered()?.map(|position| format!("--wsrep-start-position={position}"));
        let more: Vec<&str> = position.iter().map(String::as_str).collect();
        member.start(&group, &more)?;
        member.wait_until_ready(2)
    }

    /// Stops every server in order, the first last, so that the cluster can go on.
    pub fn stop(mut self) {
        for member in self.members.iter_mut().rev() {
            let Some(child) = member.child.as_mut() else { continue };
            let _ = signal(child.id(), "TERM");
            let _ = child.wait();
            member.child = None;
        }
    }
}

impl Member {
    fn state(&self) -> String {
        std::fs::read_to_string(self.dir.join("data/grastate.dat")).unwrap_or_default()
    }

    /// Whether it was the last to stop in order.
    fn ended_last(&self) -> bool {
        self.state().contains("safe_to_bootstrap: 1")
    }

    fn allow_to_begin(&self) -> Result<()> {
        let state = self.state();
        if state.contains("safe_to_bootstrap: 0") {
            let path = self.dir.join("data/grastate.dat");
            std::fs::write(path, state.replace("safe_to_bootstrap: 0", "safe_to_bootstrap: 1"))?;
        }
        Ok(())
    }
}

impl Drop for Member {
    fn drop(&mut self) {
        self.end();
    }
}
