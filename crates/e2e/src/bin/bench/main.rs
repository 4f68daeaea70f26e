//! `./run bench [EVENTS]`: the figures of this service, each beside plain alternatives measured in the same run, written
//! to `docs/benchmarks.md`. From 100 thousand to 100 million events; 1 million if not given. With `growth`, only the same
//! questions at each tenfold size, printed; with `ways` each way in; with `steps` what each step of the engine takes; with
//! `console` the console in a browser; with `causes` comparison and story; with `rules` alert rules; with `parts` what
//! reading a part of a lane costs; with `second` another load, and fields of many values.

mod causes;
mod console;
mod export;
mod growth;
mod hostile;
mod intake;
mod nodes;
mod parts;
mod plain;
mod questions;
mod report;
mod rules;
mod second;
mod steps;
mod ways;

use anyhow::{Context, Result, bail};
use calvex_e2e::load::Load;
use calvex_e2e::service::{Service, wait_for};
use intake::{Body, Protocol, freshness, send};
use plain::{PlainTable, duck, time_rg};
use questions::{Question, ask, ask_cold, percentile, questions};
use report::{Asked, Report};
use serde_json::Value;
use std::io::Write;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

/// Events of one request.
const BATCH: usize = 2000;
/// Events made ahead of sending them; making them is not part of any figure.
const SLICE: usize = 1_000_000;
/// Rows of the plain table: enough to be fair, few enough to wait for.
const TABLE_ROWS: usize = 500_000;
/// Events of the file that `rg` and the column store get at most.
const FILE_EVENTS: usize = 10_000_000;
/// How often a needle is asked for; a scan a fifth as often.
const RUNS: usize = 100;
const HOUR_NS: i64 = 3_600_000_000_000;

fn slice(load: &mut Load, events: usize) -> Arc<Vec<Body>> {
    let sizes = (0..events.div_ceil(BATCH)).map(|n| BATCH.min(events - n * BATCH));
    Arc::new(sizes.map(|events| Body { bytes: load.lines(events).into(), events }).collect())
}

fn memory_kib(pid: u32) -> Option<u64> {
    let status = std::fs::read_to_string(format!("/proc/{pid}/status")).ok()?;
    status.lines().find_map(|l| l.strip_prefix("VmRSS:"))?.trim().trim_end_matches(" kB").trim().parse().ok()
}

/// Notes the memory of a process every second until stopped; MiB.
fn watch_memory(pid: u32, stop: Arc<AtomicBool>) -> std::thread::JoinHandle<Vec<u64>> {
    std::thread::spawn(move || {
        let mut curve = Vec::new();
        while !stop.load(Ordering::Relaxed) {
            curve.extend(memory_kib(pid).map(|kib| kib / 1024));
            std::thread::sleep(Duration::from_secs(1));
        }
        curve
    })
}

fn start() -> Result<Service> {
    start_with(&[])
}

fn start_with(more: &[(&str, &str)]) -> Result<Service> {
    let own = [
        ("CALVEX_DATABASE_BUFFER_POOL_MIB", "256"),
        ("CALVEX_DATABASE_REDO_LOG_MIB", "512"),
        // Whole scans of a hundred million events are to be measured, not cut off.
        ("CALVEX_SEARCH_TIMEOUT_S", "300"),
    ];
    Service::start(&[&own, more].concat())
}

#[tokio::main]
async fn main() -> Result<()> {
    // reqwest wants a TLS provider chosen, also for plain HTTP.
    let _ = rustls::crypto::ring::default_provider().install_default();
    let usage = "usage: ./run bench [100000 to 100000000] [growth, ways, steps, console, causes, rules, parts, second, nodes, export or hostile]";
    let events: usize = match std::env::args().nth(1) {
        Some(n) => n.parse().ok().filter(|n| (100_000..=100_000_000).contains(n)).context(usage)?,
        None => 1_000_000,
    };
    match std::env::args().nth(2).as_deref() {
        None => {}
        Some("growth") => return growth::grow(events).await,
        Some("parts") => return parts::parts(events).await,
        Some("second") => return second::second(events).await,
        Some("nodes") => return nodes::nodes(events).await,
        Some("rules") => return rules::rules(events).await,
        Some("causes") => return causes::causes(events).await,
        Some("console") => return console::console(events).await,
        Some("steps") => return steps::steps(events),
        Some("export") => return export::export(events).await,
        Some("hostile") => return hostile::hostile().await,
        Some("ways") => return ways::ways(events).await,
        Some(_) => bail!(usage),
    }
    let work = tempfile::tempdir()?;
    let now_ns = i64::try_from(jiff::Timestamp::now().as_nanosecond())?;
    let from_ns = now_ns - HOUR_NS;
    let step_ns = HOUR_NS * 9 / 10 / events as i64;
    let mut report = Report { events, ..Report::default() };
    let first = SLICE.min(events);

    println!("intake, one sender and OTLP");
    {
        let service = start()?;
        let bodies = slice(&mut Load::new(1, from_ns, step_ns), first);
        report.raw_bytes = bodies.iter().map(|b| b.bytes.len()).sum::<usize>() as f64 / first as f64;
        report.zstd_bytes = zstd_len(&bodies)? as f64 / first as f64;
        report.rate_one = send(&service, &bodies, 1, Protocol::Ndjson).await?;
        println!("  1 sender: {:.0} events/s", report.rate_one);
        let mut load = Load::new(2, from_ns, step_ns);
        let protobuf = |_| Body { bytes: load.otlp(BATCH).into(), events: BATCH };
        let bodies = Arc::new((0..first / BATCH).map(protobuf).collect::<Vec<_>>());
        report.rate_otlp = send(&service, &bodies, 8, Protocol::OtlpProtobuf).await?;
        println!("  OTLP protobuf, 8 senders: {:.0} events/s", report.rate_otlp);
    }

    println!("the whole load");
    let service = start()?;
    let stop = Arc::new(AtomicBool::new(false));
    let watching = watch_memory(service.pid(), stop.clone());
    let file = work.path().join("events.ndjson");
    let mut out = std::io::BufWriter::new(std::fs::File::create(&file)?);
    let mut load = Load::new(1, from_ns, step_ns);
    let (mut sent, mut seconds) = (0, 0.0);
    let mut sample = String::new();
    let mut checkpoint = 1_000_000;
    while sent < events {
        let bodies = slice(&mut load, SLICE.min(events - sent));
        if sample.is_empty() {
            let lines: Vec<&str> = std::str::from_utf8(&bodies[bodies.len() / 3].bytes)?.lines().collect();
            sample = lines[lines.len() / 2].to_owned();
        }
        let rate = send(&service, &bodies, 8, Protocol::Ndjson).await?;
        let count: usize = bodies.iter().map(|b| b.events).sum();
        seconds += count as f64 / rate;
        if sent < FILE_EVENTS.min(events) {
            bodies.iter().try_for_each(|b| out.write_all(&b.bytes))?;
        }
        sent += count;
        println!("  {sent} events, {rate:.0} events/s");
        if sent == checkpoint && sent < events {
            checkpoint *= 10;
            service.ok(&["admin", "seal"])?;
            service.ok(&["admin", "merge"])?;
            let asked = ask_all(&service, &sample, from_ns, now_ns).await?;
            report.growth.push((sent, asked));
        }
    }
    out.flush()?;
    drop(out);
    report.rate_eight = events as f64 / seconds;
    service.ok(&["admin", "seal"])?;
    // What merges and rolls up does so of its own accord, as after any hour.
    tokio::time::sleep(Duration::from_secs(5)).await;
    stop.store(true, Ordering::Relaxed);
    report.memory_mib = watching.join().unwrap_or_default();
    // What InnoDB still writes behind, and what merging left, is on disk or gone a while later; files are what counts.
    let data = service.dir.join("mariadb/data/calvex");
    report.disk_bytes = wait_for_files(&data)? as f64 / events as f64;
    report.chunk_bytes = chunk_bytes(&service)? as f64 / events as f64;
    println!("  {:.1} bytes/event on disk, {:.1} of them chunks", report.disk_bytes, report.chunk_bytes);
    report.columns = largest_columns(&service)?;

    println!("questions");
    let asking = questions(&serde_json::from_str(&sample)?, &rfc(from_ns - 10 * HOUR_NS), &rfc(now_ns + HOUR_NS))?;
    for question in &asking {
        let asked = asked(&service, question, true).await?;
        println!("  {}: {:.2} ms, p99 {:.2} ms, cold {:.1} ms", question.name, asked.median, asked.p99, asked.cold);
        report.asked.push(asked);
    }

    println!("fresh events, and intake while heavy queries run");
    let mut more = Load::new(3, now_ns - HOUR_NS / 20, 1000);
    let bodies = slice(&mut more, first);
    let times = freshness(&service, &bodies, report.rate_eight / 2.0).await?;
    report.fresh_p99 = percentile(&times, 99.0);
    println!("  sent to found, p99 {:.0} ms of {} tries", report.fresh_p99, times.len());
    report.rate_alone = send(&service, &slice(&mut more, first), 8, Protocol::Ndjson).await?;
    let heavy = questions(&serde_json::from_str(&sample)?, &rfc(from_ns - 10 * HOUR_NS), &rfc(now_ns + HOUR_NS))?;
    let stop = Arc::new(AtomicBool::new(false));
    let service = Arc::new(service);
    let mut asking_tasks = tokio::task::JoinSet::new();
    let heavy = Arc::new(heavy);
    for n in 0..4 {
        let (service, heavy, stop) = (service.clone(), heavy.clone(), stop.clone());
        asking_tasks.spawn(async move {
            while !stop.load(Ordering::Relaxed) {
                let scans: Vec<&Question> = heavy.iter().filter(|q| !q.needle).collect();
                ask(&service, scans[n % scans.len()], 1).await?;
            }
            Ok::<(), anyhow::Error>(())
        });
    }
    report.rate_beside = send(&service, &slice(&mut more, first), 8, Protocol::Ndjson).await?;
    stop.store(true, Ordering::Relaxed);
    while let Some(done) = asking_tasks.join_next().await {
        done??;
    }
    println!("  {:.0} events/s alone, {:.0} beside", report.rate_alone, report.rate_beside);
    drop(service);

    plain_alternatives(&mut report, work.path(), &file, &asking, from_ns, step_ns).await?;
    report.write()?;
    println!("docs/benchmarks.md is written");
    Ok(())
}

async fn plain_alternatives(
    report: &mut Report,
    work: &Path,
    file: &Path,
    asking: &[Question],
    from_ns: i64,
    step_ns: i64,
) -> Result<()> {
    println!("the plain table");
    let table = PlainTable::make(work).await?;
    let mut load = Load::new(1, from_ns, step_ns);
    let rows: Arc<Vec<String>> = Arc::new(load.lines(TABLE_ROWS).lines().map(str::to_owned).collect());
    for writers in [1, 8] {
        table.empty().await?;
        let rate = table.fill(&rows, writers).await?;
        println!("  {writers} writers: {rate:.0} events/s");
        report.table_rates.push(rate);
    }
    for (question, asked) in asking.iter().zip(&mut report.asked) {
        if let Some(condition) = &question.table {
            asked.table = table.time(condition).await.ok().map(|t| t.as_secs_f64() * 1000.0);
        }
        if let Some(pattern) = &question.pattern {
            asked.rg = time_rg(file, pattern).ok().map(|t| t.as_secs_f64() * 1000.0);
        }
    }
    table.server.stop().await;
    report.table_bytes = folder_bytes(&work.join("mariadb/data/plain")) as f64 / rows.len() as f64;
    println!("the column store");
    let asked: Vec<(String, String)> = asking.iter().map(|q| (q.name.to_owned(), q.duck.clone())).collect();
    match duck(work, file, &asked)? {
        None => println!("  it is not installed; ./run bench installs it from PyPI"),
        Some((times, bytes)) => {
            report.duck_bytes = Some(bytes as f64 / report.events.min(FILE_EVENTS) as f64);
            for asked in &mut report.asked {
                asked.duck = times.get(asked.name).copied();
            }
        }
    }
    Ok(())
}

async fn ask_all(service: &Service, sample: &str, from_ns: i64, now_ns: i64) -> Result<Vec<Asked>> {
    let mut all = Vec::new();
    for question in questions(&serde_json::from_str(sample)?, &rfc(from_ns - 10 * HOUR_NS), &rfc(now_ns + HOUR_NS))? {
        all.push(asked(service, &question, false).await?);
    }
    Ok(all)
}

async fn asked(service: &Service, question: &Question, cold: bool) -> Result<Asked> {
    let cold = if cold { ask_cold(service, question).await? } else { f64::NAN };
    ask(service, question, 3).await?;
    let times = ask(service, question, if question.needle { RUNS } else { RUNS / 5 }).await?;
    Ok(Asked {
        name: question.name,
        goal_ms: question.goal_ms,
        median: percentile(&times, 50.0),
        p99: percentile(&times, 99.0),
        cold,
        ..Asked::default()
    })
}

fn rfc(time_ns: i64) -> String {
    calvex_language::model::time::format_utc(time_ns, 3)
}

fn zstd_len(bodies: &[Body]) -> Result<usize> {
    let mut counted = Counted(0);
    let mut out = zstd::Encoder::new(&mut counted, 3)?;
    bodies.iter().try_for_each(|b| out.write_all(&b.bytes))?;
    out.finish()?;
    Ok(counted.0)
}

struct Counted(usize);

impl Write for Counted {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.0 += bytes.len();
        Ok(bytes.len())
    }
    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

fn folder_bytes(dir: &Path) -> u64 {
    use std::os::unix::fs::MetadataExt;
    let entries = std::fs::read_dir(dir).into_iter().flatten().flatten();
    entries.filter_map(|e| e.metadata().ok()).map(|m| m.blocks() * 512).sum()
}

fn wait_for_files(data: &Path) -> Result<u64> {
    wait_for("the files to settle", || {
        let before = folder_bytes(data);
        // Longer than the quiet after which an emptied journal table goes.
        std::thread::sleep(Duration::from_secs(5));
        Ok(Some(folder_bytes(data)).filter(|b| *b == before))
    })
}

fn chunk_bytes(service: &Service) -> Result<u64> {
    let reported = service.ok(&["admin", "chunk", "--json"])?;
    let mut bytes = 0;
    for line in reported.lines() {
        let chunk: Value = serde_json::from_str(line)?;
        bytes += chunk["bytes"].as_u64().context("a chunk without bytes")?;
    }
    if bytes == 0 {
        bail!("nothing was sealed");
    }
    Ok(bytes)
}

/// What the largest chunk spends its bytes on: bytes for each event of the chunk, largest first.
fn largest_columns(service: &Service) -> Result<Vec<(String, f64)>> {
    let chunks = service.ok(&["admin", "chunk", "--json"])?;
    let chunks = chunks.lines().map(serde_json::from_str).collect::<Result<Vec<Value>, _>>()?;
    let largest = chunks.iter().max_by_key(|c| c["rows"].as_u64()).context("nothing was sealed")?;
    let id = largest["id"].as_str().context("a chunk without an id")?;
    let chunk: Value = serde_json::from_str(&service.ok(&["admin", "chunk", id, "--json"])?)?;
    let rows = chunk["rows"].as_f64().context("a chunk without rows")?;
    let bytes = |value: &Value| value.as_f64().unwrap_or(0.0) / rows;
    let columns = chunk["columns"].as_array().into_iter().flatten();
    let mut all: Vec<(String, f64)> =
        columns.map(|c| (c["name"].as_str().unwrap_or("").to_owned(), bytes(&c["bytes"]))).collect();
    all.push(("blooms".to_owned(), bytes(&chunk["bloom_bytes"])));
    all.sort_by(|a, b| b.1.total_cmp(&a.1));
    Ok(all)
}
