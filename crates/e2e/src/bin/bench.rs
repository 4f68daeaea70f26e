//! `./run bench [EVENTS]`: first figures, each beside a plain alternative measured in the same run: the same events as
//! rows of a MariaDB table with a JSON column and a full-text index, and `rg` over the NDJSON file.

use anyhow::{Context, Result, bail};
use calvex_e2e::load::Load;
use calvex_e2e::service::{Service, wait_for};
use calvex_store::{Server, ServerSettings};
use serde_json::{Value, json};
use sqlx::mysql::{MySqlConnectOptions, MySqlPoolOptions};
use sqlx::{AssertSqlSafe, MySqlPool, Row};
use std::fmt::Write as _;
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant};

const BATCH: usize = 2000;
/// Rows of the plain table: enough to be fair, few enough to wait for.
const TABLE_ROWS: usize = 100_000;
const RUNS: usize = 25;

#[tokio::main]
async fn main() -> Result<()> {
    // reqwest wants a TLS provider chosen, also for plain HTTP.
    let _ = rustls::crypto::ring::default_provider().install_default();
    let events: usize = match std::env::args().nth(1) {
        Some(n) => n.parse().context("usage: ./run bench [EVENTS]")?,
        None => 500_000,
    };
    let work = tempfile::tempdir()?;
    let from_ns = i64::try_from(jiff::Timestamp::now().as_nanosecond())? - 3_600_000_000_000;
    println!("making {events} events");
    let mut load = Load::new(1, from_ns, 3_500_000_000_000 / events.max(1) as i64);
    let batches: Vec<String> = (0..events.div_ceil(BATCH)).map(|n| load.lines(BATCH.min(events - n * BATCH))).collect();
    let batches = Arc::new(batches);
    let raw_bytes: usize = batches.iter().map(String::len).sum();
    let file = work.path().join("events.ndjson");
    std::fs::write(&file, batches.concat())?;
    let packed = Command::new("zstd").args(["-3", "-q", "-c"]).arg(&file).stdout(Stdio::piped()).output();
    let packed = match packed {
        Ok(output) => output.stdout.len(),
        Err(_) => zstd_len(&file)?,
    };

    let mut calvex_rates = Vec::new();
    let mut kept = None;
    for senders in [1, 8] {
        let service =
            Service::start(&[("CALVEX_DATABASE_BUFFER_POOL_MIB", "256"), ("CALVEX_DATABASE_REDO_LOG_MIB", "256")])?;
        let rate = send(&service, &batches, senders).await?;
        println!("calvex, {senders} senders: {rate:.0} events/s");
        calvex_rates.push(rate);
        kept = Some(service);
    }
    let service = kept.context("no service")?;
    service.ok(&["admin", "seal"])?;
    let stored = count(&service).await?;
    if stored != events as u64 {
        bail!("{stored} of {events} events are found");
    }
    // What InnoDB still writes behind is on disk once the server has stopped; the files are what counts.
    let data = service.dir.join("mariadb/data/calvex");
    let calvex_bytes = wait_for("the files to settle", || {
        let before = folder_bytes(&data);
        std::thread::sleep(Duration::from_millis(700));
        Ok(Some(folder_bytes(&data)).filter(|b| *b == before))
    })?;
    let journal_bytes = folder_bytes_of(&data, "journal_");

    println!("the plain table");
    let table = PlainTable::make(work.path()).await?;
    let rows: Vec<&str> = batches.iter().flat_map(|b| b.lines()).take(TABLE_ROWS).collect();
    let rows_owned: Arc<Vec<String>> = Arc::new(rows.iter().map(|r| (*r).to_owned()).collect());
    let mut table_rates = Vec::new();
    for writers in [1, 8] {
        table.empty().await?;
        table_rates.push(table.fill(&rows_owned, writers).await?);
        println!("table, {writers} writers: {:.0} events/s", table_rates[table_rates.len() - 1]);
    }
    let table_bytes = folder_bytes(&work.path().join("mariadb/data/plain")) as f64 / rows.len() as f64;

    // What is looked for stands in the first part, which the table holds too.
    let needle: Value = serde_json::from_str(rows[rows.len() / 2])?;
    let trace = needle["trace_id"].as_str().context("no trace")?.to_owned();
    let rare = "rare3".to_owned();
    let searches = [
        (
            "one trace id",
            format!("trace={trace}"),
            format!("JSON_VALUE(event, '$.trace_id') = '{trace}'"),
            trace.clone(),
        ),
        ("one rare word", rare.clone(), format!("MATCH(message) AGAINST('{rare}')"), rare.clone()),
        (
            "newest 100 of two fields",
            "service=slots severity=error".to_owned(),
            "JSON_VALUE(event, '$.service') = 'slots' AND JSON_VALUE(event, '$.level') = 'error'".to_owned(),
            String::new(),
        ),
    ];
    let mut lines = String::new();
    for (name, query, sql, pattern) in searches {
        let (calvex, found) = time_search(&service, &query).await?;
        let table_time = table.time(&sql).await?;
        let rg = time_rg(&file, &pattern)?;
        println!("{name}: {found} found in {:.2} ms; table {:.1} ms; rg {:.1} ms", ms(calvex), ms(table_time), ms(rg));
        writeln!(
            lines,
            "| {name} | {:.2} ms | {:.1} ms ({:.0}x) | {:.1} ms ({:.0}x) |",
            ms(calvex),
            ms(table_time),
            ms(table_time) / ms(calvex),
            ms(rg),
            ms(rg) / ms(calvex)
        )?;
    }

    let per_event = calvex_bytes as f64 / events as f64;
    let sealed_only = (calvex_bytes - journal_bytes) as f64 / events as f64;
    let report = format!(
        "# Benchmarks\n\n\
         Written by `./run bench {events}` on {machine}. Timings hold for that machine; the ratios beside them were\n\
         measured in the same run. Load generator, service and MariaDB share the cores. Events: {raw:.0} bytes of JSON each\n\
         on average, about forty requests interleaved, several hundred message forms, one event in a thousand hours late.\n\n\
         ## Durable intake over HTTP (NDJSON, batches of {BATCH}, each answered after its commit)\n\n\
         | senders | Calvex | MariaDB rows with JSON column and full-text index | ratio |\n| --- | --- | --- | --- |\n\
         | 1 | {c1:.0} events/s | {t1:.0} events/s | {r1:.1}x |\n| 8 | {c8:.0} events/s | {t8:.0} events/s | {r8:.1}x |\n\n\
         The table was filled with the first {table_rows} events by multi-row inserts of {BATCH}, one commit each.\n\n\
         ## Bytes on disk per event, after sealing\n\n\
         | what | bytes/event |\n| --- | --- |\n| Calvex, every file of its database | {per_event:.1} |\n\
         | of these without the emptied journal table | {sealed_only:.1} |\n| the MariaDB table | {table_bytes:.0} |\n\
         | `zstd -3` of the raw text | {z:.1} |\n\n\
         The journal's table keeps its size until it rotates at 256 MiB; the share of it falls as more is kept.\n\n\
         ## Searches over the {events} events, warm, through HTTP (Calvex and table: median of {RUNS}; ripgrep: best of 3)\n\n\
         | search | Calvex | MariaDB table of {table_rows} | `rg` over the file |\n| --- | --- | --- | --- |\n{lines}\n\
         The table holds fewer events than the other two, which flatters it; `rg` does not sort and, for two fields, looks for\n\
         lines with both.\n\n\
         ## What is behind these figures\n\n\
         This is the first version of every stage. A chunk has one membership filter; where it may hold a rare word, every\n\
         text column of every page is unpacked and tested, which is why a rare word is slower than a trace id. A filter per\n\
         page, and messages split into templates, are next. Intake parses each event into a tree before it becomes columns,\n\
         and sealing takes columns apart into events and builds them again; both are to go.\n",
        machine = machine(),
        raw = raw_bytes as f64 / events as f64,
        c1 = calvex_rates[0],
        c8 = calvex_rates[1],
        t1 = table_rates[0],
        t8 = table_rates[1],
        r1 = calvex_rates[0] / table_rates[0],
        r8 = calvex_rates[1] / table_rates[1],
        table_rows = rows.len(),
        z = packed as f64 / events as f64,
    );
    std::fs::write("docs/benchmarks.md", report)?;
    table.server.stop().await;
    println!("docs/benchmarks.md is written");
    Ok(())
}

fn ms(d: Duration) -> f64 {
    d.as_secs_f64() * 1000.0
}

fn machine() -> String {
    let info = std::fs::read_to_string("/proc/cpuinfo").unwrap_or_default();
    let model = info
        .lines()
        .find_map(|l| l.strip_prefix("model name"))
        .map_or("an unknown processor", |m| m.trim_start_matches(['\t', ':', ' ']));
    let cores = std::thread::available_parallelism().map_or(0, usize::from);
    format!("{cores} cores of {model}")
}

fn zstd_len(file: &Path) -> Result<usize> {
    let mut counted = Counted(0);
    let mut out = zstd::Encoder::new(&mut counted, 3)?;
    std::io::copy(&mut std::fs::File::open(file)?, &mut out)?;
    out.finish()?;
    Ok(counted.0)
}

struct Counted(usize);

impl std::io::Write for Counted {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.0 += bytes.len();
        Ok(bytes.len())
    }
    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

fn folder_bytes(dir: &Path) -> u64 {
    folder_bytes_of(dir, "")
}

fn folder_bytes_of(dir: &Path, prefix: &str) -> u64 {
    use std::os::unix::fs::MetadataExt;
    let entries = std::fs::read_dir(dir).into_iter().flatten().flatten();
    let named = entries.filter(|e| e.file_name().to_string_lossy().starts_with(prefix));
    named.filter_map(|e| e.metadata().ok()).map(|m| m.blocks() * 512).sum()
}

async fn send(service: &Service, batches: &Arc<Vec<String>>, senders: usize) -> Result<f64> {
    let next = Arc::new(std::sync::atomic::AtomicUsize::new(0));
    let began = Instant::now();
    let mut tasks = tokio::task::JoinSet::new();
    for _ in 0..senders {
        let (batches, next) = (batches.clone(), next.clone());
        let (url, key) = (format!("{}/v1/events", service.url), service.key.clone());
        tasks.spawn(async move {
            let client = reqwest::Client::builder().no_proxy().build()?;
            loop {
                let n = next.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
                let Some(batch) = batches.get(n) else { return Ok::<(), anyhow::Error>(()) };
                loop {
                    let request = client
                        .post(&url)
                        .bearer_auth(&key)
                        .header("idempotency-key", format!("b{n}"))
                        .body(batch.clone());
                    let response = request.send().await?;
                    if response.status().is_success() {
                        break;
                    }
                    if response.status().as_u16() != 503 {
                        bail!("{}", response.text().await?);
                    }
                    tokio::time::sleep(Duration::from_millis(20)).await;
                }
            }
        });
    }
    while let Some(done) = tasks.join_next().await {
        done??;
    }
    let events: usize = batches.iter().map(|b| b.lines().count()).sum();
    Ok(events as f64 / began.elapsed().as_secs_f64())
}

async fn ask(service: &Service, path: &str, body: &Value, client: &reqwest::Client) -> Result<Value> {
    let request = client.post(format!("{}{path}", service.url)).bearer_auth(&service.token).json(body);
    Ok(request.send().await?.error_for_status()?.json().await?)
}

async fn count(service: &Service) -> Result<u64> {
    let client = reqwest::Client::builder().no_proxy().build()?;
    let answer =
        ask(service, "/api/histogram", &json!({ "from": "now-2d", "to": "now+1d", "buckets": 1 }), &client).await?;
    answer["total"].as_u64().context("no total")
}

/// Median time of a search over everything, and how many it found.
async fn time_search(service: &Service, query: &str) -> Result<(Duration, usize)> {
    let client = reqwest::Client::builder().no_proxy().build()?;
    let body = json!({ "query": query, "from": "now-2d", "to": "now+1d", "limit": 100 });
    let mut times = Vec::new();
    let mut found = 0;
    for _ in 0..RUNS {
        let began = Instant::now();
        let answer = ask(service, "/api/search", &body, &client).await?;
        times.push(began.elapsed());
        found = answer["events"].as_array().map_or(0, Vec::len);
    }
    times.sort();
    if found == 0 {
        bail!("{query} found nothing");
    }
    Ok((times[RUNS / 2], found))
}

fn time_rg(file: &Path, pattern: &str) -> Result<Duration> {
    let mut best = Duration::MAX;
    for _ in 0..3 {
        let began = Instant::now();
        let mut command = Command::new("rg");
        if pattern.is_empty() {
            command.args(["--no-config", r#""level":"error".*"service":"slots""#]);
        } else {
            command.args(["--no-config", "--fixed-strings", pattern]);
        }
        let status =
            command.arg(file).stdout(Stdio::null()).status().context("rg does not start; ./run bench installs it")?;
        if !status.success() {
            bail!("rg found nothing for `{pattern}`");
        }
        best = best.min(began.elapsed());
    }
    Ok(best)
}

/// The plain alternative.
struct PlainTable {
    server: Server,
    pool: MySqlPool,
}

impl PlainTable {
    async fn make(dir: &Path) -> Result<Self> {
        let settings = ServerSettings { data_dir: dir.to_owned(), buffer_pool_mib: 256, redo_log_mib: 256 };
        let server = Server::start(settings).await?;
        let options = MySqlConnectOptions::new().socket(server.socket()).username("root");
        let pool = MySqlPoolOptions::new().max_connections(9).connect_with(options).await?;
        sqlx::query("CREATE DATABASE plain").execute(&pool).await?;
        Ok(PlainTable { server, pool })
    }

    async fn empty(&self) -> Result<()> {
        sqlx::query("DROP TABLE IF EXISTS plain.event").execute(&self.pool).await?;
        let create = "CREATE TABLE plain.event (id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY, at DATETIME(6) NOT NULL,
                      message TEXT NOT NULL, event JSON NOT NULL, KEY by_time (at), FULLTEXT KEY words (message)) ENGINE=InnoDB";
        sqlx::query(create).execute(&self.pool).await?;
        Ok(())
    }

    async fn fill(&self, rows: &Arc<Vec<String>>, writers: usize) -> Result<f64> {
        let began = Instant::now();
        let mut tasks = tokio::task::JoinSet::new();
        for writer in 0..writers {
            let (rows, pool) = (rows.clone(), self.pool.clone());
            tasks.spawn(async move {
                for batch in rows.chunks(BATCH).skip(writer).step_by(writers) {
                    let mut insert =
                        sqlx::QueryBuilder::<sqlx::MySql>::new("INSERT INTO plain.event (at, message, event) ");
                    let parsed: Vec<(String, String, &String)> = batch
                        .iter()
                        .map(|line| {
                            let event: Value = serde_json::from_str(line).unwrap_or_default();
                            let text = |name: &str| event[name].as_str().unwrap_or("").to_owned();
                            (text("time").replace('T', " ").trim_end_matches('Z').to_owned(), text("message"), line)
                        })
                        .collect();
                    insert.push_values(parsed, |mut values, (at, message, line)| {
                        values.push_bind(at).push_bind(message).push_bind(line);
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

    async fn time(&self, condition: &str) -> Result<Duration> {
        let select = format!("SELECT id, event FROM plain.event WHERE {condition} ORDER BY at DESC LIMIT 100");
        let mut times = Vec::new();
        for _ in 0..RUNS.min(7) {
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
