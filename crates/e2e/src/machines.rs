//! Machines with a network of their own each: network namespaces on one bridge, so that a cable can be pulled and put in
//! again. The bridge is in a namespace of its own too; nothing outside of it is touched. Needs root and `ip`.

use anyhow::{Context, Result, ensure};
use std::os::unix::process::CommandExt;
use std::process::Command;

/// Set where this program runs in a namespace of its own.
const INSIDE: &str = "CALVEX_OWN_NETWORK";
/// The bridge's own address, where the harness is.
pub const HARNESS: &str = "10.77.0.254";

/// Namespaces that go with this.
pub struct Machines {
    names: Vec<String>,
}

/// Begins this program again in a network namespace of its own, where that is allowed; whether it runs in one.
pub fn enter() -> Result<bool> {
    if std::env::var_os(INSIDE).is_some() {
        return Ok(true);
    }
    let allowed = Command::new("unshare").args(["--net", "ip", "link", "add", "calvex0", "type", "bridge"]).output();
    if !rustix::process::geteuid().is_root() || !allowed.is_ok_and(|done| done.status.success()) {
        return Ok(false);
    }
    let mut again = Command::new("unshare");
    again.arg("--net").arg(std::env::current_exe()?).args(std::env::args_os().skip(1)).env(INSIDE, "1");
    Err(again.exec()).context("unshare does not start")
}

fn ip(args: &[&str]) -> Result<()> {
    let done = Command::new("ip").args(args).output().context("ip does not start; install iproute2")?;
    ensure!(done.status.success(), "ip {}: {}", args.join(" "), String::from_utf8_lossy(&done.stderr));
    Ok(())
}

impl Machines {
    /// So many machines on one bridge.
    ///
    /// # Errors
    /// Where the kernel or `ip` refuses.
    pub fn build(count: usize) -> Result<Self> {
        ip(&["link", "set", "lo", "up"])?;
        ip(&["link", "add", "calvex0", "type", "bridge"])?;
        ip(&["link", "set", "calvex0", "up"])?;
        ip(&["addr", "add", &format!("{HARNESS}/24"), "dev", "calvex0"])?;
        let mut machines = Machines { names: Vec::new() };
        for n in 0..count {
            // Names of namespaces are seen from everywhere.
            let (name, port) = (format!("calvex-{}-{n}", std::process::id()), port(n));
            ip(&["netns", "add", &name])?;
            machines.names.push(name.clone());
            ip(&["link", "add", "name", &port, "type", "veth", "peer", "name", "cable", "netns", &name])?;
            ip(&["link", "set", &port, "master", "calvex0"])?;
            ip(&["link", "set", &port, "up"])?;
            ip(&["-n", &name, "link", "set", "lo", "up"])?;
            ip(&["-n", &name, "link", "set", "cable", "up"])?;
            ip(&["-n", &name, "addr", "add", &format!("{}/24", machines.address(n)), "dev", "cable"])?;
        }
        Ok(machines)
    }

    /// A machine's address.
    pub fn address(&self, n: usize) -> String {
        format!("10.77.0.{}", n + 1)
    }

    /// What a command line begins with that runs on a machine.
    pub fn begin(&self, n: usize) -> Vec<String> {
        let name = self.names.get(n).cloned().unwrap_or_default();
        ["ip", "netns", "exec", &name].map(str::to_owned).to_vec()
    }

    /// Pulls a machine's cable: what it sends and what it is sent is lost without a word.
    ///
    /// # Errors
    /// Where `ip` refuses.
    pub fn cut(&self, n: usize) -> Result<()> {
        ip(&["link", "set", &port(n), "down"])
    }

    /// Puts it in again.
    ///
    /// # Errors
    /// Where `ip` refuses.
    pub fn join(&self, n: usize) -> Result<()> {
        ip(&["link", "set", &port(n), "up"])
    }

    /// Two machines hear each other no more, or again; every other one hears both.
    ///
    /// # Errors
    /// Where `bridge` refuses.
    pub fn part(&self, pair: [usize; 2], parted: bool) -> Result<()> {
        for n in pair {
            // Ports that are isolated reach those that are not, and not each other.
            let state = if parted { "on" } else { "off" };
            let done = Command::new("bridge").args(["link", "set", "dev", &port(n), "isolated", state]).output()?;
            ensure!(done.status.success(), "bridge: {}", String::from_utf8_lossy(&done.stderr));
        }
        Ok(())
    }
}

/// The bridge's end of a machine's cable.
fn port(n: usize) -> String {
    format!("port{n}")
}

impl Drop for Machines {
    fn drop(&mut self) {
        for name in &self.names {
            let _ = ip(&["netns", "del", name]);
        }
    }
}
