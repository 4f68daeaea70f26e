//! What was measured, as `docs/benchmarks.md`.

use anyhow::Result;
use std::fmt::Write as _;

/// One question's times, milliseconds.
#[derive(Debug, Default, Clone)]
pub struct Asked {
    pub name: &'static str,
    pub goal_ms: f64,
    pub median: f64,
    pub p99: f64,
    pub cold: f64,
    pub table: Option<f64>,
    pub rg: Option<f64>,
    pub duck: Option<f64>,
}

/// Everything measured.
#[derive(Debug, Default)]
pub struct Report {
    pub events: usize,
    pub raw_bytes: f64,
    pub zstd_bytes: f64,
    pub rate_one: f64,
    pub rate_eight: f64,
    pub rate_otlp: f64,
    pub rate_alone: f64,
    pub rate_beside: f64,
    pub fresh_p99: f64,
    pub disk_bytes: f64,
    pub chunk_bytes: f64,
    /// What a large chunk spends on each event, by column.
    pub columns: Vec<(String, f64)>,
    pub table_rates: Vec<f64>,
    pub table_bytes: f64,
    pub duck_bytes: Option<f64>,
    pub memory_mib: Vec<u64>,
    pub asked: Vec<Asked>,
    /// At an earlier size: how many events, and the same questions.
    pub growth: Vec<(usize, Vec<Asked>)>,
}

/// Text behind this line is written by people and kept.
const BY_HAND: &str = "<!-- below: written by hand -->";
const PATH: &str = "docs/benchmarks.md";

fn machine() -> String {
    let info = std::fs::read_to_string("/proc/cpuinfo").unwrap_or_default();
    let model = info.lines().find_map(|l| l.strip_prefix("model name"));
    let model = model.map_or("an unknown processor", |m| m.trim_start_matches(['\t', ':', ' ']));
    format!("{} cores of {model}", std::thread::available_parallelism().map_or(0, usize::from))
}

fn beside(ours: f64, other: Option<f64>) -> String {
    other.map_or_else(|| "–".to_owned(), |o| format!("{o:.1} ms ({:.1}x)", o / ours))
}

impl Report {
    /// Writes the report, keeping what people wrote behind it.
    pub fn write(&self) -> Result<()> {
        let before = std::fs::read_to_string(PATH).unwrap_or_default();
        let kept = before.split_once(BY_HAND).map_or("", |(_, kept)| kept);
        std::fs::write(PATH, format!("{}{BY_HAND}{kept}", self.text()?))?;
        Ok(())
    }

    fn text(&self) -> Result<String> {
        let mut t = String::new();
        writeln!(
            t,
            "# Benchmarks\n\nWritten by `./run bench {}` on {}. Timings hold for that machine; the ratios beside them were\nmeasured in the same run. Load generator, service and MariaDB share the cores. Events: {:.0} bytes of JSON each on\naverage, about forty requests interleaved, nearly two thousand message forms, free text, one event in a thousand hours\nlate. Requests carry 2000 events; each is answered after its commit.\n",
            self.events,
            machine(),
            self.raw_bytes
        )?;
        let table = |n: usize| self.table_rates.get(n).copied().unwrap_or(f64::NAN);
        writeln!(
            t,
            "## Durable, searchable intake over HTTP\n\n| | events/s | MariaDB rows, indexed for the same questions | ratio |\n| --- | --- | --- | --- |"
        )?;
        for (name, rate, rows) in [
            ("NDJSON, 1 sender", self.rate_one, table(0)),
            ("NDJSON, 8 senders, the whole load", self.rate_eight, table(1)),
            ("OTLP protobuf, 8 senders", self.rate_otlp, table(1)),
        ] {
            writeln!(t, "| {name} | {rate:.0} | {rows:.0} | {:.1}x |", rate / rows)?;
        }
        writeln!(
            t,
            "\nFrom sent to found by search, at half of that load: p99 {:.0} ms.\n\nWhile 4 heavy queries run: {:.0} events/s, {:.0} % of the {:.0} alone.\n",
            self.fresh_p99,
            self.rate_beside,
            self.rate_beside / self.rate_alone * 100.0,
            self.rate_alone
        )?;
        writeln!(
            t,
            "## Bytes on disk per event, once all is sealed\n\n| what | bytes/event | of `zstd -3` |\n| --- | --- | --- |"
        )?;
        let mut size = |name: &str, bytes: f64| writeln!(t, "| {name} | {bytes:.1} | {:.2} |", bytes / self.zstd_bytes);
        size("Calvex, every file of its database", self.disk_bytes)?;
        size("of these the chunks: data, index, filters", self.chunk_bytes)?;
        size("`zstd -3` of the raw text", self.zstd_bytes)?;
        size("the MariaDB table", self.table_bytes)?;
        if let Some(bytes) = self.duck_bytes {
            size("the unindexed column store", bytes)?;
        }
        let columns = self.columns.iter().take(12).map(|(name, bytes)| format!("{name} {bytes:.2}"));
        writeln!(
            t,
            "\nThe largest chunk, bytes for each of its events (`calvex admin chunk ID`): {}.",
            columns.collect::<Vec<_>>().join(", ")
        )?;
        writeln!(
            t,
            "\n## Questions over the {} events, through HTTP\n\nWarm: median and p99. Cold: no part of any chunk in memory or on the node's disk. In brackets how many times as long\nthe other took: the table holds half a million events, the file of `rg` and the column store (one thread) up to ten\nmillion.\n\n| question | median | p99 | goal at 10 million | cold | MariaDB table | `rg` | column store |\n| --- | --- | --- | --- | --- | --- | --- | --- |",
            self.events
        )?;
        for a in &self.asked {
            writeln!(
                t,
                "| {} | {:.2} ms | {:.2} ms | {:.0} ms | {:.1} ms | {} | {} | {} |",
                a.name,
                a.median,
                a.p99,
                a.goal_ms,
                a.cold,
                beside(a.median, a.table),
                beside(a.median, a.rg),
                beside(a.median, a.duck)
            )?;
        }
        if !self.growth.is_empty() {
            writeln!(
                t,
                "\n## Growth, median\n\n| question |{} {} |",
                self.growth.iter().map(|(n, _)| format!(" {n} |")).collect::<String>(),
                self.events
            )?;
            writeln!(t, "| --- |{} --- |", " --- |".repeat(self.growth.len()))?;
            for (n, last) in self.asked.iter().enumerate() {
                let earlier = self
                    .growth
                    .iter()
                    .map(|(_, asked)| format!(" {:.2} ms |", asked.get(n).map_or(f64::NAN, |a| a.median)));
                writeln!(t, "| {} |{} {:.2} ms |", last.name, earlier.collect::<String>(), last.median)?;
            }
        }
        let most = self.memory_mib.iter().max().copied().unwrap_or(0);
        let step = self.memory_mib.len().div_ceil(24).max(1);
        let curve: Vec<String> =
            self.memory_mib.chunks(step).map(|c| c.iter().max().copied().unwrap_or(0).to_string()).collect();
        writeln!(
            t,
            "\n## Memory of the service\n\nWhile it took the whole load, besides MariaDB: at most {most} MiB. The curve, the largest of each {step} s, and then idle:\n\n    {}\n",
            curve.join(" ")
        )?;
        Ok(t)
    }
}
