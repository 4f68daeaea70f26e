//! The plain alternatives, measured in the same run: the same events as rows of a MariaDB table with a JSON column and
//! indexes for the questions that are asked (time, trace id, service and level, words of the message); `rg` over the NDJSON file; and an unindexed column store on one thread (`duckdb` from PyPI).

use anyhow::{Context, Result, bail};
use calvex_store::{Server, ServerSettings};
use serde_json::Value;
use sqlx::mysql::{MySqlConnectOptions, MySqlPoolOptions};
use sqlx::{AssertSqlSafe, MySqlPool, Row};
use std::collections::BTreeMap;
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant};

/// Rows of one insert.
const BATCH: usize = 2000;
const RUNS: usize = 7;

/// The plain alternative.
pub struct PlainTable {
    pub server: Server,
    pool: MySqlPool,
}

impl PlainTable {
    pub async fn make(dir: &Path) -> Result<Self> {
        let settings = ServerSettings { data_dir: dir.to_owned(), buffer_pool_mib: 256, redo_log_mib: 256 };
        let server = Server::start(settings).await?;
        let options = MySqlConnectOptions::new().socket(server.socket()).username("root");
        let pool = MySqlPoolOptions::new().max_connections(9).connect_with(options).await?;
        sqlx::query("CREATE DATABASE plain").execute(&pool).await?;
        Ok(PlainTable { server, pool })
    }

    pub async fn empty(&self) -> Result<()> {
        sqlx::query("DROP TABLE IF EXISTS plain.event").execute(&self.pool).await?;
        let create = "CREATE TABLE plain.event (id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY, at DATETIME(6) NOT NULL,
                      message TEXT NOT NULL, trace CHAR(32) NOT NULL, service VARCHAR(64) NOT NULL, level VARCHAR(16) NOT NULL,
                      event JSON NOT NULL, KEY by_time (at), KEY by_trace (trace), KEY by_service (service, level, at),
                      FULLTEXT KEY words (message)) ENGINE=InnoDB";
        sqlx::query(create).execute(&self.pool).await?;
        Ok(())
    }

    pub async fn fill(&self, rows: &Arc<Vec<String>>, writers: usize) -> Result<f64> {
        let began = Instant::now();
        let mut tasks = tokio::task::JoinSet::new();
        for writer in 0..writers {
            let (rows, pool) = (rows.clone(), self.pool.clone());
            tasks.spawn(async move {
                for batch in rows.chunks(BATCH).skip(writer).step_by(writers) {
                    let mut insert = sqlx::QueryBuilder::<sqlx::MySql>::new(
                        "INSERT INTO plain.event (at, message, trace, service, level, event) ",
                    );
                    let parsed: Vec<([String; 5], &String)> = batch
                        .iter()
                        .map(|line| {
                            let event: Value = serde_json::from_str(line).unwrap_or_default();
                            let text = |name: &str| event[name].as_str().unwrap_or("").to_owned();
                            let at = text("time").replace('T', " ").trim_end_matches('Z').to_owned();
                            ([at, text("message"), text("trace_id"), text("service"), text("level")], line)
                        })
                        .collect();
                    insert.push_values(parsed, |mut values, (own, line)| {
                        for text in own {
                            values.push_bind(text);
                        }
                        values.push_bind(line);
                    });
                    insert.build().persistent(false).execute(&pool).await?;
                }
                Ok::<(), anyhow::Error>(())
            });
        }
        while let Some(done) = tasks.join_next().await {
            done??;
        }
        Ok(rows.len() as f64 / began.elapsed().as_secs_f64())
    }

    pub async fn time(&self, condition: &str) -> Result<Duration> {
        let select = format!("SELECT id, event FROM plain.event WHERE {condition} ORDER BY at DESC LIMIT 100");
        let mut times = Vec::new();
        for _ in 0..RUNS {
            let began = Instant::now();
            let rows = sqlx::query(AssertSqlSafe(select.clone())).fetch_all(&self.pool).await?;
            if rows.is_empty() {
                bail!("the table finds nothing for {condition}");
            }
            let _: u64 = rows[0].try_get(0)?;
            times.push(began.elapsed());
        }
        times.sort();
        Ok(times[times.len() / 2])
    }
}

/// Best of three times of `rg` over a file.
pub fn time_rg(file: &Path, pattern: &str) -> Result<Duration> {
    let mut best = Duration::MAX;
    for _ in 0..3 {
        let began = Instant::now();
        let mut command = Command::new("rg");
        command.args(["--no-config", pattern]).arg(file).stdout(Stdio::null());
        let status = command.status().context("rg does not start; ./run bench installs it")?;
        if !status.success() {
            bail!("rg found nothing for `{pattern}`");
        }
        best = best.min(began.elapsed());
    }
    Ok(best)
}

/// Median times of the column store, by the name of the question, and the size of its file; nothing where it is not
/// installed.
pub fn duck(dir: &Path, file: &Path, questions: &[(String, String)]) -> Result<Option<(BTreeMap<String, f64>, u64)>> {
    let python = Path::new("target/duck/bin/python");
    if !python.exists() {
        return Ok(None);
    }
    let script = dir.join("duck.py");
    std::fs::write(&script, include_str!("duck.py"))?;
    let asked: BTreeMap<&String, &String> = questions.iter().map(|(n, q)| (n, q)).collect();
    let output = Command::new(python)
        .arg(&script)
        .arg(dir.join("events.duck"))
        .arg(file)
        .arg(serde_json::to_string(&asked)?)
        .output()?;
    if !output.status.success() {
        bail!("the column store: {}", String::from_utf8_lossy(&output.stderr));
    }
    let reported: Value = serde_json::from_slice(&output.stdout)?;
    let times = serde_json::from_value(reported["times"].clone())?;
    Ok(Some((times, reported["bytes"].as_u64().unwrap_or(0))))
}
