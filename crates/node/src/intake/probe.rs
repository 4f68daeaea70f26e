//! A marked event through each way in, as a sender would send it: what `calvex probe` and the console's button run.

use super::grpc_call::export_logs;
use crate::error::innermost;
use calvex_language::model::time::format_utc;
use calvex_wire::Problem;
use calvex_wire::api::{Probed, WayIn};
use calvex_wire::otlp::{Encoding, encode};
use opentelemetry_proto::tonic::collector::logs::v1::ExportLogsServiceRequest;
use opentelemetry_proto::tonic::common::v1::{AnyValue, KeyValue, any_value};
use opentelemetry_proto::tonic::logs::v1::{LogRecord, ResourceLogs, ScopeLogs};
use opentelemetry_proto::tonic::resource::v1::Resource;
use std::time::{Duration, Instant};
use tokio::io::{AsyncBufReadExt, AsyncWriteExt, BufReader};
use tokio::net::{TcpStream, UdpSocket};

/// How long one step may take.
const PATIENCE: Duration = Duration::from_secs(10);
const PAUSE: Duration = Duration::from_millis(20);
/// The service of marked events.
pub const PROBE_SERVICE: &str = "calvex-probe";

/// What went wrong with one way, in words.
type Outcome<T> = std::result::Result<T, String>;

/// Sends a marked event by each way, one after the other, with `key`, and asks `find` for its mark until it is found.
/// `base` is the address of the HTTP interface, as it is reached from here; `now_ns` dates the events.
pub async fn probe<F>(
    ways: &[WayIn],
    base: &str,
    key: &str,
    now_ns: impl Fn() -> i64,
    find: impl Fn(String) -> F,
) -> Vec<Probed>
where
    F: Future<Output = Outcome<bool>>,
{
    let host = reqwest::Url::parse(base).ok().and_then(|u| u.host_str().map(str::to_owned)).unwrap_or_default();
    let mut reported = Vec::new();
    for (n, way) in ways.iter().enumerate() {
        let address = if way.address.is_empty() { base.to_owned() } else { reachable(&way.address, &host) };
        let mark = format!("calvexprobe{n}x{:08x}", rand::random::<u32>());
        let began = Instant::now();
        let sent = tokio::time::timeout(PATIENCE, send(&way.name, &address, key, &mark, now_ns())).await;
        let answered = began.elapsed();
        let mut row = Probed { way: way.name.clone(), address, answered_ms: None, found_ms: None, wrong: None };
        match sent.unwrap_or_else(|_| Err(format!("no answer within {} s", PATIENCE.as_secs()))) {
            Ok(answers) => {
                row.answered_ms = answers.then_some(answered.as_secs_f64() * 1000.0);
                match found(&find, &mark, began).await {
                    Ok(found) => row.found_ms = Some(found.as_secs_f64() * 1000.0),
                    Err(e) => row.wrong = Some(e),
                }
            }
            Err(e) => row.wrong = Some(e),
        }
        reported.push(row);
    }
    reported
}

async fn found<F>(find: &impl Fn(String) -> F, mark: &str, began: Instant) -> Outcome<Duration>
where
    F: Future<Output = Outcome<bool>>,
{
    loop {
        if find(mark.to_owned()).await? {
            return Ok(began.elapsed());
        }
        if began.elapsed() > PATIENCE {
            return Err(
                "taken, but not found; may you read the lane it went to, and does no rule or dial set it aside?".into(),
            );
        }
        tokio::time::sleep(PAUSE).await;
    }
}

fn reported(e: impl std::error::Error) -> String {
    innermost(&e)
}

/// An address as it is reached from here: one that listens everywhere is on the host of the service.
fn reachable(address: &str, host: &str) -> String {
    match address.rsplit_once(':') {
        Some(("0.0.0.0" | "[::]", port)) => format!("{host}:{port}"),
        _ => address.to_owned(),
    }
}

/// Sends the marked event; whether the way answers for it.
async fn send(way: &str, address: &str, key: &str, mark: &str, now_ns: i64) -> Outcome<bool> {
    let message = format!("{mark} sent by calvex probe");
    match way {
        "NDJSON over HTTP" => {
            let line = serde_json::json!({ "service": PROBE_SERVICE, "level": "info", "msg": message }).to_string();
            let request = client()?.post(format!("{address}/v1/events")).bearer_auth(key).body(line);
            posted(request).await
        }
        "OTLP over HTTP" => {
            let base = if address.contains("://") { address.to_owned() } else { format!("http://{address}") };
            let body = encode(&export(&message, now_ns), Encoding::Protobuf);
            let request = client()?.post(format!("{base}/v1/logs")).bearer_auth(key);
            posted(request.header("content-type", Encoding::Protobuf.media_type()).body(body)).await
        }
        "OTLP over gRPC" => {
            let message = encode(&export(&message, now_ns), Encoding::Protobuf);
            export_logs(address, key, &message).await.map_err(|e| innermost(&*e))?;
            Ok(true)
        }
        "JSON lines over TCP" => {
            let mut stream = BufReader::new(TcpStream::connect(address).await.map_err(reported)?);
            let key = serde_json::json!({ "key": key });
            let event = serde_json::json!({ "service": PROBE_SERVICE, "level": "info", "msg": message });
            stream.get_mut().write_all(format!("{key}\n{event}\n").as_bytes()).await.map_err(reported)?;
            let mut lines = stream.lines();
            loop {
                let line =
                    lines.next_line().await.map_err(reported)?.ok_or("the connection ended without an answer")?;
                let reported: serde_json::Value = serde_json::from_str(&line).map_err(reported)?;
                match (reported["stored"].as_u64(), reported["detail"].as_str()) {
                    (Some(1..), _) => return Ok(true),
                    (_, Some(detail)) => return Err(detail.to_owned()),
                    _ => {}
                }
            }
        }
        "syslog over UDP" => {
            let socket = UdpSocket::bind("0.0.0.0:0").await.map_err(reported)?;
            socket.send_to(syslog(&message, now_ns).as_bytes(), address).await.map_err(reported)?;
            Ok(false)
        }
        "syslog over TCP" => {
            let mut stream = TcpStream::connect(address).await.map_err(reported)?;
            stream.write_all(format!("{}\n", syslog(&message, now_ns)).as_bytes()).await.map_err(reported)?;
            stream.shutdown().await.map_err(reported)?;
            Ok(false)
        }
        "syslog over TLS" => Err("not probed: the certificate is not known here".into()),
        other => Err(format!("the way `{other}` is not known here; this client is older than the service")),
    }
}

fn syslog(message: &str, now_ns: i64) -> String {
    format!("<14>1 {} - {PROBE_SERVICE} - - - {message}", format_utc(now_ns, 6))
}

fn export(message: &str, now_ns: i64) -> ExportLogsServiceRequest {
    let time = u64::try_from(now_ns).unwrap_or(0);
    let body = AnyValue { value: Some(any_value::Value::StringValue(message.to_owned())) };
    let record = LogRecord { time_unix_nano: time, severity_number: 9, body: Some(body), ..LogRecord::default() };
    let logs = ScopeLogs { log_records: vec![record], ..ScopeLogs::default() };
    let name = AnyValue { value: Some(any_value::Value::StringValue(PROBE_SERVICE.to_owned())) };
    let name = KeyValue { key: "service.name".to_owned(), value: Some(name), ..KeyValue::default() };
    let resource = Some(Resource { attributes: vec![name], ..Resource::default() });
    let logs = ResourceLogs { resource, scope_logs: vec![logs], ..ResourceLogs::default() };
    ExportLogsServiceRequest { resource_logs: vec![logs] }
}

fn client() -> Outcome<reqwest::Client> {
    reqwest::Client::builder().timeout(PATIENCE).no_proxy().build().map_err(reported)
}

async fn posted(request: reqwest::RequestBuilder) -> Outcome<bool> {
    let response = request.send().await.map_err(reported)?;
    let status = response.status();
    if status.is_success() {
        return Ok(true);
    }
    let text = response.text().await.unwrap_or_default();
    let problem = serde_json::from_str::<Problem>(&text).ok();
    Err(problem.map_or_else(|| format!("the service answered {status}"), |p| p.detail))
}
