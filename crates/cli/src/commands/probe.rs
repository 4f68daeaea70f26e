//! `calvex probe`: a marked event through each way in, proved to be found by search.

use super::send::key_or_env;
use crate::client::{Client, Connection, http_client, root_cause};
use crate::{Ended, output};
use anyhow::{Context, Result, anyhow, bail};
use calvex_wire::api::{SearchAnswer, SearchRequest, WayIn};
use calvex_wire::otlp::{Encoding, encode};
use clap::Args;
use opentelemetry_proto::tonic::collector::logs::v1::ExportLogsServiceRequest;
use opentelemetry_proto::tonic::collector::logs::v1::logs_service_client::LogsServiceClient;
use opentelemetry_proto::tonic::common::v1::{AnyValue, any_value};
use opentelemetry_proto::tonic::logs::v1::{LogRecord, ResourceLogs, ScopeLogs};
use serde::Serialize;
use std::time::{Duration, Instant};
use tokio::io::{AsyncBufReadExt, AsyncWriteExt, BufReader};
use tokio::net::{TcpStream, UdpSocket};

/// How long one step may take.
const PATIENCE: Duration = Duration::from_secs(10);
const PAUSE: Duration = Duration::from_millis(20);

/// Send a marked event by each way in and tell each step, up to found by search.
#[derive(Args)]
pub struct Probe {
    /// Key for sending [env: CALVEX_KEY]
    #[arg(long)]
    key: Option<String>,
    /// As NDJSON
    #[arg(long)]
    json: bool,
    #[command(flatten)]
    connection: Connection,
}

/// What became of one event.
#[derive(Serialize)]
struct Told {
    way: String,
    address: String,
    /// Milliseconds until the service had answered for it; none where the way has no answer.
    answered_ms: Option<f64>,
    /// Milliseconds until search found it.
    found_ms: Option<f64>,
    /// What went wrong.
    #[serde(skip_serializing_if = "Option::is_none")]
    wrong: Option<String>,
}

impl Probe {
    pub async fn run(self) -> Result<Ended> {
        let key = key_or_env(self.key.as_deref())?;
        let client = self.connection.open().await?;
        let ways: Vec<WayIn> = client.get("/api/ways-in").await?;
        let host = reqwest::Url::parse(&self.connection.url).ok().and_then(|u| u.host_str().map(str::to_owned));
        let host = host.context("the address of the service has no host")?;
        let mut told = Vec::new();
        for (n, way) in ways.iter().enumerate() {
            let address = if way.address.is_empty() {
                self.connection.url.trim_end_matches('/').to_owned()
            } else {
                reachable(&way.address, &host)
            };
            let mark = format!("calvexprobe{n}x{:08x}", rand::random::<u32>());
            let began = Instant::now();
            let sent = tokio::time::timeout(PATIENCE, send(&way.name, &address, &key, &mark)).await;
            let answered = began.elapsed();
            let mut row = Told { way: way.name.clone(), address, answered_ms: None, found_ms: None, wrong: None };
            match sent.unwrap_or_else(|_| Err(anyhow!("no answer within {} s", PATIENCE.as_secs()))) {
                Ok(answers) => {
                    row.answered_ms = answers.then_some(answered.as_secs_f64() * 1000.0);
                    match found(&client, &mark, began).await {
                        Ok(found) => row.found_ms = Some(found.as_secs_f64() * 1000.0),
                        Err(e) => row.wrong = Some(format!("{e:#}")),
                    }
                }
                Err(e) => row.wrong = Some(format!("{e:#}")),
            }
            told.push(row);
        }
        let failed = told.iter().filter(|t| t.wrong.is_some()).count();
        if self.json {
            output::ndjson(&told)?;
        } else {
            let ms = |n: Option<f64>| n.map_or_else(|| "–".to_owned(), |n| format!("{n:.0} ms"));
            let row = |t: &Told| {
                let outcome = t.wrong.clone().unwrap_or_else(|| "found".to_owned());
                vec![t.way.clone(), t.address.clone(), ms(t.answered_ms), ms(t.found_ms), outcome]
            };
            output::table(&["way in", "address", "answered", "found", ""], told.iter().map(row).collect())?;
        }
        match failed {
            0 => Ok(Ended::Well),
            n => bail!("{n} of {} ways in failed; `calvex arrivals` tells what was refused", told.len()),
        }
    }
}

/// An address as it is reached from here: one that listens everywhere is on the host of the service.
fn reachable(address: &str, host: &str) -> String {
    match address.rsplit_once(':') {
        Some(("0.0.0.0" | "[::]", port)) => format!("{host}:{port}"),
        _ => address.to_owned(),
    }
}

/// Sends the marked event; whether the way answers for it.
async fn send(way: &str, address: &str, key: &str, mark: &str) -> Result<bool> {
    let message = format!("{mark} sent by calvex probe");
    match way {
        "NDJSON over HTTP" => {
            let line = serde_json::json!({ "service": "calvex-probe", "level": "info", "msg": message }).to_string();
            let request = http_client(PATIENCE)?.post(format!("{address}/v1/events")).bearer_auth(key).body(line);
            posted(request).await
        }
        "OTLP over HTTP" => {
            let base = if address.contains("://") { address.to_owned() } else { format!("http://{address}") };
            let body = encode(&export(&message), Encoding::Protobuf);
            let request = http_client(PATIENCE)?.post(format!("{base}/v1/logs")).bearer_auth(key);
            posted(request.header("content-type", Encoding::Protobuf.media_type()).body(body)).await
        }
        "OTLP over gRPC" => {
            let mut exporter = LogsServiceClient::connect(format!("http://{address}")).await?;
            let mut request = tonic::Request::new(export(&message));
            request.metadata_mut().insert("authorization", format!("Bearer {key}").parse()?);
            exporter.export(request).await.map_err(|status| anyhow!("{}", status.message()))?;
            Ok(true)
        }
        "JSON lines over TCP" => {
            let mut stream = BufReader::new(TcpStream::connect(address).await?);
            let key = serde_json::json!({ "key": key });
            let event = serde_json::json!({ "service": "calvex-probe", "level": "info", "msg": message });
            stream.get_mut().write_all(format!("{key}\n{event}\n").as_bytes()).await?;
            let mut lines = stream.lines();
            loop {
                let line = lines.next_line().await?.context("the connection ended without an answer")?;
                let told: serde_json::Value = serde_json::from_str(&line)?;
                match (told["stored"].as_u64(), told["detail"].as_str()) {
                    (Some(1..), _) => return Ok(true),
                    (_, Some(detail)) => bail!("{detail}"),
                    _ => {}
                }
            }
        }
        "syslog over UDP" => {
            let socket = UdpSocket::bind("0.0.0.0:0").await?;
            socket.send_to(syslog(&message).as_bytes(), address).await?;
            Ok(false)
        }
        "syslog over TCP" => {
            let mut stream = TcpStream::connect(address).await?;
            stream.write_all(format!("{}\n", syslog(&message)).as_bytes()).await?;
            stream.shutdown().await?;
            Ok(false)
        }
        "syslog over TLS" => bail!("not probed: this client does not know the certificate"),
        other => bail!("this client does not know the way `{other}`; it is older than the service"),
    }
}

fn syslog(message: &str) -> String {
    format!("<14>1 {} - calvex-probe - - - {message}", jiff::Timestamp::now())
}

fn export(message: &str) -> ExportLogsServiceRequest {
    let time = u64::try_from(jiff::Timestamp::now().as_nanosecond()).unwrap_or(0);
    let body = AnyValue { value: Some(any_value::Value::StringValue(message.to_owned())) };
    let record = LogRecord { time_unix_nano: time, severity_number: 9, body: Some(body), ..LogRecord::default() };
    let logs = ScopeLogs { log_records: vec![record], ..ScopeLogs::default() };
    ExportLogsServiceRequest { resource_logs: vec![ResourceLogs { scope_logs: vec![logs], ..ResourceLogs::default() }] }
}

async fn posted(request: reqwest::RequestBuilder) -> Result<bool> {
    let response = request.send().await.map_err(|e| anyhow!("{}", root_cause(&e)))?;
    crate::client::good(response).await?;
    Ok(true)
}

async fn found(client: &Client, mark: &str, began: Instant) -> Result<Duration> {
    let ask = SearchRequest { query: mark.to_owned(), from: Some("now-1h".to_owned()), ..SearchRequest::default() };
    loop {
        let answer: SearchAnswer = client.post("/api/search", &ask).await?;
        if !answer.events.is_empty() {
            return Ok(began.elapsed());
        }
        if began.elapsed() > PATIENCE {
            bail!("taken, but not found; may the token read the lane it went to?");
        }
        tokio::time::sleep(PAUSE).await;
    }
}
