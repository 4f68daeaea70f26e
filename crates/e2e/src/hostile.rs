//! What a hostile or careless sender, reader or stranger does, all at once, beside one who just sends. The tests ask for
//! what must hold whatever the machine (nothing lost or doubled, memory bounded, everybody answered); the benchmark
//! measures how much slower the steady sender gets.

use anyhow::{Context, Result};
use bytes::Bytes;
use serde_json::{Value, json};
use std::io::Write;
use std::net::{SocketAddr, TcpStream, UdpSocket};
use std::process::Command;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};
use tonic::Code;
use tonic::codegen::http;

/// Whom the attacks go to.
#[derive(Clone)]
pub struct Target {
    /// The HTTP address.
    pub url: String,
    /// The address of OTLP over gRPC.
    pub grpc: String,
    /// Syslog over TCP and UDP, where they are on.
    pub syslog: Option<(SocketAddr, SocketAddr)>,
    /// A key that is not the steady sender's.
    pub key: String,
    /// A token that reads.
    pub token: String,
}

/// A client that waits for as long as the service takes.
pub fn client() -> Result<reqwest::Client> {
    // reqwest wants a TLS provider chosen, also for plain HTTP.
    let _ = rustls::crypto::ring::default_provider().install_default();
    Ok(reqwest::Client::builder().timeout(Duration::from_secs(60)).no_proxy().pool_max_idle_per_host(4).build()?)
}

fn gzip(bytes: &[u8]) -> Vec<u8> {
    let mut out = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    // Writing to memory does not fail.
    let _ = out.write_all(bytes);
    out.finish().unwrap_or_default()
}

/// An OTLP export request of `records` empty records, two bytes each.
pub fn empty_records(records: usize) -> Vec<u8> {
    let wrapped = |field: u64, inner: &[u8]| {
        let mut out = Vec::with_capacity(inner.len() + 12);
        prost::encoding::encode_varint(field << 3 | 2, &mut out);
        prost::encoding::encode_varint(inner.len() as u64, &mut out);
        out.extend_from_slice(inner);
        out
    };
    wrapped(1, &wrapped(2, &[18u8, 0].repeat(records)))
}

/// A gRPC call's one message, packed: its five bytes before it, and itself.
pub fn packed_message(message: &[u8]) -> Bytes {
    let packed = gzip(message);
    let length = u32::try_from(packed.len()).unwrap_or(u32::MAX);
    let mut framed = vec![1];
    framed.extend_from_slice(&length.to_be_bytes());
    framed.extend_from_slice(&packed);
    framed.into()
}

/// Sends a packed message as a gRPC export of logs; the code of the answer.
///
/// # Errors
/// Where the service cannot be reached, or lets the call go.
pub async fn grpc_export(grpc: &str, key: Option<&str>, message: Bytes) -> Result<Code> {
    let socket = tokio::net::TcpStream::connect(grpc.trim_start_matches("http://")).await?;
    let (client, connection) = h2::client::handshake(socket).await?;
    let connection = tokio::spawn(connection);
    let mut client = client.ready().await?;
    let path = "/opentelemetry.proto.collector.logs.v1.LogsService/Export";
    let mut request = http::Request::post(format!("{grpc}{path}"))
        .header("content-type", "application/grpc")
        .header("grpc-encoding", "gzip")
        .header("te", "trailers");
    if let Some(key) = key {
        request = request.header("authorization", format!("Bearer {key}"));
    }
    let (answer, mut body) = client.send_request(request.body(())?, false)?;
    // A call without a good key may be answered, and its stream closed, before its body is sent.
    let _ = body.send_data(message, true);
    let answer = answer.await?;
    let code = |headers: &http::HeaderMap| headers.get("grpc-status").map(|v| Code::from_bytes(v.as_bytes()));
    if let Some(code) = code(answer.headers()) {
        return Ok(code);
    }
    let mut body = answer.into_body();
    while let Some(bytes) = body.data().await {
        body.flow_control().release_capacity(bytes?.len())?;
    }
    let code = body.trailers().await?.as_ref().and_then(code).context("the answer has no status")?;
    connection.abort();
    Ok(code)
}

/// What an attack may come to: an answer with a status, or the connection let go.
async fn post(client: &reqwest::Client, url: String, secret: &str, body: Vec<u8>, headers: &[(&str, &str)]) {
    let mut request = client.post(url).bearer_auth(secret).body(body);
    for (name, value) in headers {
        request = request.header(*name, *value);
    }
    if let Ok(answer) = request.send().await {
        let status = answer.status().as_u16();
        assert!(status != 500, "an attack made the service fail: {}", answer.text().await.unwrap_or_default());
    }
}

/// A path, a body, and its headers.
type Sent<'a> = (&'a str, Vec<u8>, Vec<(&'a str, &'a str)>);

/// How the attackers' threads are scheduled. They have machines of their own in life: what they work is not to be
/// measured, only what they make others work.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Attackers {
    /// The last step of niceness: they go on also where both cores are busy with something else.
    Nice,
    /// In what all others leave (`SCHED_IDLE`), so that nobody waits for them.
    Idle,
}

/// Goes on with every attack until `over`; how many requests that were.
///
/// # Errors
/// Where nothing can be sent at all, or the threads cannot be scheduled so.
pub fn attack(target: Target, attackers: Attackers, over: Arc<AtomicBool>) -> JoinHandle<Result<u64>> {
    std::thread::spawn(move || {
        // On Linux both are each thread's own, and the threads it starts begin with them.
        match attackers {
            Attackers::Nice => drop(rustix::process::nice(19)),
            Attackers::Idle => idle()?,
        }
        tokio::runtime::Runtime::new()?.block_on(all_attacks(target, over))
    })
}

/// Keeps every core busy with nothing until `over`, in what all others leave: what a sender then waits for longer, it waits
/// for the machine's host and not for anything that the service does.
///
/// # Errors
/// Where the threads cannot be scheduled so.
pub fn spin(over: &Arc<AtomicBool>) -> Vec<JoinHandle<Result<()>>> {
    let cores = std::thread::available_parallelism().map_or(1, std::num::NonZero::get);
    let spinner = |_| {
        let over = over.clone();
        std::thread::spawn(move || {
            idle()?;
            while !over.load(Ordering::Relaxed) {
                std::hint::spin_loop();
            }
            Ok(())
        })
    };
    (0..cores).map(spinner).collect()
}

/// Has the own thread run in what all others leave.
fn idle() -> Result<()> {
    let own = rustix::thread::gettid().as_raw_nonzero().to_string();
    let done = Command::new("chrt").args(["--idle", "--pid", "0", &own]).status().context("chrt cannot be started")?;
    anyhow::ensure!(done.success(), "chrt ended with {done}");
    Ok(())
}

async fn all_attacks(target: Target, over: Arc<AtomicBool>) -> Result<u64> {
    let sent = Arc::new(AtomicU64::new(0));
    let http = client()?;
    let mut attacks = tokio::task::JoinSet::new();
    let packed = [("content-encoding", "gzip")];
    let otlp = [("content-encoding", "gzip"), ("content-type", "application/x-protobuf")];
    let json_records =
        format!("{{\"resourceLogs\":[{{\"scopeLogs\":[{{\"logRecords\":[{}{{}}]}}]}}]}}", "{},".repeat(1_000_000));
    let days: String = (0..3000)
        .map(|n| {
            let time = jiff::Timestamp::now() - jiff::SignedDuration::from_hours(24 * n);
            format!("{{\"time\":\"{time}\",\"msg\":\"old\"}}\n")
        })
        .collect();
    let names: String =
        (0..5000).map(|n| format!("{{\"service\":\"s{n}\",\"host\":\"h{n}\",\"msg\":\"x\"}}\n")).collect();
    let long_line = format!("{{\"msg\":\"{}\"}}\n", "a b ".repeat(32_000));
    let bodies: Vec<Sent> = vec![
        ("/v1/events", gzip(&vec![b' '; 60 << 20]), packed.to_vec()),
        ("/v1/events", gzip(&b"x\n".repeat(8 << 20)), packed.to_vec()),
        ("/v1/events", gzip(&b"x\n".repeat(200_000)), packed.to_vec()),
        ("/v1/logs", gzip(&empty_records(2_000_000)), otlp.to_vec()),
        ("/v1/logs", gzip(&empty_records(100_000)), otlp.to_vec()),
        (
            "/v1/logs",
            gzip(json_records.as_bytes()),
            vec![("content-encoding", "gzip"), ("content-type", "application/json")],
        ),
        ("/v1/events", days.into_bytes(), Vec::new()),
        ("/v1/events", names.into_bytes(), Vec::new()),
        ("/v1/events", long_line.into_bytes(), Vec::new()),
    ];
    for _ in 0..4 {
        for (path, body, headers) in bodies.clone() {
            let (http, target, over, sent) = (http.clone(), target.clone(), over.clone(), sent.clone());
            attacks.spawn(async move {
                while !over.load(Ordering::SeqCst) {
                    post(&http, format!("{}{path}", target.url), &target.key, body.clone(), &headers).await;
                    sent.fetch_add(1, Ordering::SeqCst);
                    tokio::time::sleep(Duration::from_millis(20)).await;
                }
            });
        }
    }
    let records = packed_message(&empty_records(2_000_000));
    // Strangers: without a key over gRPC, with wrong keys, guessing passwords, with bodies that never end.
    for n in 0..4 {
        let (http, target, over, sent) = (http.clone(), target.clone(), over.clone(), sent.clone());
        let records = records.clone();
        attacks.spawn(async move {
            let mut round = 0u64;
            while !over.load(Ordering::SeqCst) {
                round += 1;
                let _ = grpc_export(&target.grpc, None, records.clone()).await;
                let key = format!("calvex-key-{:0>43}", round * 4 + n);
                post(&http, format!("{}/v1/events", target.url), &key, b"{}".to_vec(), &[]).await;
                let guesses = (0..15).map(|guess| {
                    let body = json!({ "name": format!("Admin{}", " ".repeat(guess)), "password": "a guess of mine" });
                    http.post(format!("{}/api/login", target.url)).json(&body).send()
                });
                let guesses: Vec<_> = guesses.map(tokio::spawn).collect();
                for guess in guesses {
                    let _ = guess.await;
                }
                sent.fetch_add(17, Ordering::SeqCst);
            }
        });
    }
    // Readers: patterns without end, figures of everything, a thousand expressions.
    for _ in 0..2 {
        let (http, target, over, sent) = (http.clone(), target.clone(), over.clone(), sent.clone());
        attacks.spawn(async move {
            let pattern = "{text} a".repeat(60);
            let patterns = json!({ "patterns": [pattern], "lines": ["a ".repeat(60_000)] });
            let regexes = (0..1000).map(|n| format!("m~/(a{n}|b{n}){{50}}/")).collect::<Vec<_>>().join(" or ");
            let asks = [
                ("/api/patterns/try", patterns),
                ("/api/check", json!({ "query": regexes.get(..16_000).unwrap_or("") })),
                (
                    "/api/breakdown",
                    json!({ "query": "", "fields": ["message", "host", "service", "shape"], "top": 1000 }),
                ),
                (
                    "/api/measure",
                    json!({ "query": "measure count, distinct(message), p99(took_ms) per message, host, service" }),
                ),
                ("/api/search", json!({ "query": "message~/.*a.*b.*/", "limit": 1000 })),
            ];
            for (path, ask) in asks.iter().cycle() {
                if over.load(Ordering::SeqCst) {
                    break;
                }
                let body = serde_json::to_vec(ask).unwrap_or_default();
                let json = [("content-type", "application/json")];
                post(&http, format!("{}{path}", target.url), &target.token, body, &json).await;
                sent.fetch_add(1, Ordering::SeqCst);
            }
        });
    }
    // The silent and the slow hold what they may; a flood of datagrams goes beside.
    let host = target.url.trim_start_matches("http://").to_owned();
    let (over2, sent2, syslog) = (over.clone(), sent.clone(), target.syslog);
    let silent = std::thread::spawn(move || -> Result<()> {
        let mut held = Vec::new();
        let datagrams = UdpSocket::bind("127.0.0.1:0")?;
        while !over2.load(Ordering::SeqCst) {
            if held.len() < 700 {
                held.extend(TcpStream::connect(&host));
                if let Ok(mut slow) = TcpStream::connect(&host) {
                    let _ = slow.write_all(b"POST /api/login HTTP/1.1\r\nhost: x\r\ncontent-length: 4000\r\n\r\n{");
                    held.push(slow);
                }
                if let Some((tcp, _)) = syslog {
                    held.extend(TcpStream::connect(tcp));
                }
            }
            if let Some((_, udp)) = syslog {
                for _ in 0..50 {
                    let _ = datagrams.send_to(b"<13>1 - - - - - - flood", udp);
                }
            }
            sent2.fetch_add(1, Ordering::SeqCst);
            std::thread::sleep(Duration::from_millis(2));
        }
        Ok(())
    });
    while let Some(done) = attacks.join_next().await {
        done?;
    }
    silent.join().map_err(|_| anyhow::anyhow!("the silent clients failed"))??;
    Ok(sent.load(Ordering::SeqCst))
}

/// One who sends `rate` events a second in small batches, each numbered from `first` on, under idempotency keys.
pub struct Steady {
    /// Numbers of events that were acknowledged.
    pub acknowledged: Vec<u64>,
    /// How long each batch took from its first try to its answer, sorted.
    pub took: Vec<Duration>,
}

impl Steady {
    /// The time within which 99 of 100 batches were answered.
    pub fn p99(&self) -> Duration {
        self.took.get(self.took.len().saturating_sub(1) * 99 / 100).copied().unwrap_or_default()
    }
}

/// Sends for `long`, in batches of `batch`.
///
/// # Errors
/// Where a batch is refused for good.
pub async fn send_steadily(url: &str, key: &str, first: u64, rate: u64, batch: u64, long: Duration) -> Result<Steady> {
    let http = client()?;
    let began = Instant::now();
    let every = Duration::from_secs_f64(batch as f64 / rate as f64);
    let mut tasks = tokio::task::JoinSet::new();
    let mut timer = tokio::time::interval(every);
    let mut next = first;
    while began.elapsed() < long {
        timer.tick().await;
        let numbers = next..next + batch;
        next += batch;
        let (http, url, key) = (http.clone(), format!("{url}/v1/events"), key.to_owned());
        tasks.spawn(async move {
            let time = jiff::Timestamp::now();
            let line =
                |n: u64| format!("{{\"time\":\"{time:.9}\",\"service\":\"steady\",\"msg\":\"door {n}\",\"n\":{n}}}\n");
            let body: String = numbers.clone().map(line).collect();
            let began = Instant::now();
            loop {
                let request =
                    http.post(&url).bearer_auth(&key).header("idempotency-key", format!("steady-{}", numbers.start));
                match request.body(body.clone()).send().await {
                    Ok(answer) if answer.status().is_success() => {
                        let answer: Value = answer.json().await?;
                        anyhow::ensure!(answer["stored"].as_u64() == Some(numbers.end - numbers.start), "{answer}");
                        return Ok((numbers, began.elapsed()));
                    }
                    Ok(answer) if matches!(answer.status().as_u16(), 429 | 503) => {}
                    Ok(answer) => anyhow::bail!("{}: {}", answer.status(), answer.text().await?),
                    Err(_) => {}
                }
                tokio::time::sleep(Duration::from_millis(20)).await;
            }
        });
    }
    let (mut acknowledged, mut took) = (Vec::new(), Vec::new());
    while let Some(done) = tasks.join_next().await {
        let (numbers, time) = done??;
        acknowledged.extend(numbers);
        took.push(time);
    }
    took.sort_unstable();
    Ok(Steady { acknowledged, took })
}

/// The most memory that a process held so far, MiB.
///
/// # Errors
/// Where the system does not say.
pub fn peak_mib(pid: u32) -> Result<u64> {
    status_mib(pid, "VmHWM:")
}

/// The memory that a process holds now, MiB.
///
/// # Errors
/// Where the system does not say.
pub fn resident_mib(pid: u32) -> Result<u64> {
    status_mib(pid, "VmRSS:")
}

fn status_mib(pid: u32, name: &str) -> Result<u64> {
    let status = std::fs::read_to_string(format!("/proc/{pid}/status"))?;
    let line = status.lines().find_map(|l| l.strip_prefix(name)).context("the system does not say")?;
    Ok(line.split_whitespace().next().context("no number")?.parse::<u64>()? >> 10)
}
