//! What could grow, minute by minute.

use anyhow::{Context, Result};
use calvex_e2e::buckets;
use calvex_e2e::galera::Galera;
use calvex_e2e::service::Service;
use std::fmt;
use std::path::Path;

/// One minute.
pub struct Sample {
    minute: u64,
    acknowledged: u64,
    ack_p99_ms: f64,
    /// The longest question, and how many answers were incomplete.
    asked_ms: f64,
    late: u64,
    /// The most of any node.
    node_mib: f64,
    node_files: f64,
    head_events: f64,
    look_ms: f64,
    /// The most of any server.
    server_mib: f64,
    server_files: f64,
    journal_tables: f64,
    journal_mib: f64,
    /// Files that belong to no table.
    system_mib: f64,
    bucket_tables: f64,
}

/// Memory of a process, in MiB, and its open files.
fn process(pid: u32) -> Result<(f64, f64)> {
    let status = std::fs::read_to_string(format!("/proc/{pid}/status"))?;
    let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:")).context("no VmRSS")?;
    let kib: f64 = line.trim().trim_end_matches("kB").trim().parse()?;
    Ok((kib / 1024.0, std::fs::read_dir(format!("/proc/{pid}/fd"))?.count() as f64))
}

/// MiB of the files below a directory of which the names begin so.
fn files_mib(dir: &Path, prefixes: &[&str]) -> Result<f64> {
    let mut bytes = 0;
    for entry in std::fs::read_dir(dir)? {
        let entry = entry?;
        let name = entry.file_name().to_string_lossy().into_owned();
        if prefixes.iter().any(|prefix| name.starts_with(prefix)) {
            bytes += entry.metadata()?.len();
        }
    }
    Ok(bytes as f64 / 1_048_576.0)
}

impl Sample {
    /// The table's head.
    pub const HEAD: &str = "| minute | events, million | ack p99 ms | question ms | incomplete | node MiB | node files | head events | look ms | server MiB | server files | journal tables | journal MiB | system files MiB | buckets |\n| --- | --- | --- | --- | --- | --- | --- | --- | --- | --- | --- | --- | --- | --- | --- |";

    /// Looks at every node and every server.
    ///
    /// # Errors
    /// Where one of them is gone.
    pub async fn take(
        minute: u64,
        nodes: &[Service],
        galera: &Galera,
        (acknowledged, mut took_ms): (u64, Vec<f64>),
        (asked_ms, late): (f64, u64),
    ) -> Result<Self> {
        took_ms.sort_by(f64::total_cmp);
        let ack_p99_ms = took_ms.get(took_ms.len() * 99 / 100).copied().unwrap_or(0.0);
        let most = |of: Vec<f64>| of.into_iter().fold(0.0, f64::max);
        let of_nodes: Vec<(f64, f64)> = nodes.iter().map(|node| process(node.pid())).collect::<Result<_>>()?;
        let pids = galera.members.iter().filter_map(|member| member.pid());
        let of_servers: Vec<(f64, f64)> = pids.map(process).collect::<Result<_>>()?;
        let mut heads = Vec::new();
        for node in nodes {
            let shown = reqwest::Client::new().get(format!("{}/metrics", node.url)).bearer_auth(&node.token);
            let text = shown.send().await?.text().await?;
            let line = text.lines().find_map(|line| line.strip_prefix("calvex_head_events "));
            heads.push(line.and_then(|n| n.trim().parse().ok()).unwrap_or(0.0));
        }
        let listed = nodes.first().context("no node")?.ok(&["admin", "nodes", "--json"])?;
        let looks = listed.lines().filter_map(|line| serde_json::from_str::<serde_json::Value>(line).ok());
        let look_ms = most(looks.filter_map(|node| node["looked_ms"].as_f64()).collect());
        let member = galera.members.first().context("no server")?;
        let journal = "SELECT COUNT(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA = 'lockers' AND TABLE_NAME LIKE 'journal\\_%\\_%'";
        let data = member.data();
        Ok(Sample {
            minute,
            acknowledged,
            ack_p99_ms,
            asked_ms,
            late,
            node_mib: most(of_nodes.iter().map(|(mib, _)| *mib).collect()),
            node_files: most(of_nodes.iter().map(|(_, files)| *files).collect()),
            head_events: most(heads),
            look_ms,
            server_mib: most(of_servers.iter().map(|(mib, _)| *mib).collect()),
            server_files: most(of_servers.iter().map(|(_, files)| *files).collect()),
            journal_tables: member.sql(journal)?.parse()?,
            journal_mib: files_mib(&data.join("lockers"), &["journal_"])?,
            system_mib: files_mib(&data, &["ibdata", "undo", "ib_logfile", "ibtmp", "galera.cache"])?,
            bucket_tables: buckets::tables(member)? as f64,
        })
    }
}

impl fmt::Display for Sample {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(
            f,
            "| {} | {:.1} | {:.0} | {:.0} | {} | {:.0} | {:.0} | {:.0} | {:.0} | {:.0} | {:.0} | {:.0} | {:.0} | {:.0} | {:.0} |",
            self.minute,
            self.acknowledged as f64 / 1e6,
            self.ack_p99_ms,
            self.asked_ms,
            self.late,
            self.node_mib,
            self.node_files,
            self.head_events,
            self.look_ms,
            self.server_mib,
            self.server_files,
            self.journal_tables,
            self.journal_mib,
            self.system_mib,
            self.bucket_tables
        )
    }
}

type Figure<'a> = &'a dyn Fn(&Sample) -> f64;

/// The last quarter beside the second, as ratios: what is flat has 1.
pub fn growth(samples: &[Sample]) -> String {
    let quarter = samples.len() / 4;
    let mean = |of: Figure<'_>, from: usize| {
        let some = samples.iter().skip(from).take(quarter.max(1));
        some.map(of).sum::<f64>() / quarter.max(1) as f64
    };
    let last = samples.len() - quarter.max(1);
    let of: [(&str, Figure<'_>); 8] = [
        ("a node's memory", &|s| s.node_mib),
        ("a node's open files", &|s| s.node_files),
        ("a server's memory", &|s| s.server_mib),
        ("a server's open files", &|s| s.server_files),
        ("journal tables", &|s| s.journal_tables),
        ("files of journal tables", &|s| s.journal_mib),
        ("files of no table", &|s| s.system_mib),
        ("p99 of an acknowledgement", &|s| s.ack_p99_ms),
    ];
    let line = |(name, of): (&str, Figure<'_>)| {
        let (second, last) = (mean(of, quarter), mean(of, last));
        format!(
            "{name}: {second:.1} in the second quarter, {last:.1} in the last, {:.2} times\n",
            last / second.max(1e-9)
        )
    };
    of.into_iter().map(line).collect()
}
