//! Durable intake by each way in, from eight senders: every way that answers is timed to its last answer, which comes after
//! the commit; syslog, which does not answer, to the moment when search counts all that was sent.

use crate::intake::{Body, Protocol, send};
use crate::{BATCH, HOUR_NS, start_with};
use anyhow::{Context, Result, bail};
use calvex_e2e::load::Load;
use calvex_e2e::service::Service;
use opentelemetry_proto::tonic::collector::logs::v1::ExportLogsServiceRequest;
use opentelemetry_proto::tonic::collector::logs::v1::logs_service_client::LogsServiceClient;
use prost::Message;
use serde_json::Value;
use std::sync::Arc;
use std::time::Instant;
use tokio::io::{AsyncBufReadExt, AsyncWriteExt, BufReader};
use tokio::net::TcpStream;

const SENDERS: usize = 8;

/// Measures every way with `events` events each, and prints events a second.
pub async fn ways(events: usize) -> Result<()> {
    let now_ns = i64::try_from(jiff::Timestamp::now().as_nanosecond())?;
    let (from_ns, step_ns) = (now_ns - HOUR_NS, HOUR_NS * 9 / 10 / events as i64);
    let off = "127.0.0.1:0";
    let service = start_with(&[("CALVEX_LINES_LISTEN", off), ("CALVEX_SYSLOG_TCP_LISTEN", off)])?;
    // Each way gets events of the same hour: times ahead of now would not be counted yet.
    let load = |seed| Load::new(seed, from_ns, step_ns);
    let mut reported = Vec::new();
    let mut report = |way: &str, rate: f64| {
        println!("  {way}: {rate:.0} events/s");
        reported.push((way.to_owned(), rate));
    };

    let bodies = |mut load: Load| {
        let body = |_| Body { bytes: load.lines(BATCH).into(), events: BATCH };
        Arc::new((0..events / BATCH).map(body).collect::<Vec<_>>())
    };
    let ndjson = bodies(load(1));
    report("NDJSON over HTTP", send(&service, &ndjson, SENDERS, Protocol::Ndjson).await?);
    let lines = bodies(load(2));
    report("JSON lines over TCP", json_lines(&service, &lines).await?);
    let mut made = load(3);
    let protobuf = |_| Body { bytes: made.otlp(BATCH).into(), events: BATCH };
    let otlp = Arc::new((0..events / BATCH).map(protobuf).collect::<Vec<_>>());
    report("OTLP protobuf over HTTP", send(&service, &otlp, SENDERS, Protocol::OtlpProtobuf).await?);
    drop(otlp);
    let mut made = load(4);
    let request = |_| ExportLogsServiceRequest::decode(made.otlp(BATCH).as_slice());
    let requests = (0..events / BATCH).map(request).collect::<Result<Vec<_>, _>>()?;
    report("OTLP over gRPC", grpc(&service, requests).await?);
    let mut made = load(5);
    let messages = (0..events / BATCH).map(|_| made.syslog(BATCH)).collect::<Vec<_>>();
    report("syslog over TCP", syslog(&service, messages).await?);
    Ok(())
}

/// Each sender writes its share and waits until all of it is answered.
async fn json_lines(service: &Service, bodies: &Arc<Vec<Body>>) -> Result<f64> {
    let address = service.other("JSON lines", "tcp://")?.trim_start_matches("tcp://").to_owned();
    let began = Instant::now();
    let mut tasks = tokio::task::JoinSet::new();
    for sender in 0..SENDERS {
        let (bodies, address, key) = (bodies.clone(), address.clone(), service.key.clone());
        tasks.spawn(async move {
            let mut stream = TcpStream::connect(&address).await?;
            stream.write_all(format!("{{\"key\":\"{key}\"}}\n").as_bytes()).await?;
            let (reader, mut writer) = stream.into_split();
            let share: Vec<usize> = (sender..bodies.len()).step_by(SENDERS).collect();
            let events: u64 = share.iter().map(|n| bodies[*n].events as u64).sum();
            let writing = tokio::spawn(async move {
                for n in share {
                    writer.write_all(&bodies[n].bytes).await?;
                }
                Ok::<_, anyhow::Error>(writer)
            });
            let mut lines = BufReader::new(reader).lines();
            let mut answered = 0;
            while answered < events {
                let line = lines.next_line().await?.context("the connection ended")?;
                let reported: Value = serde_json::from_str(&line)?;
                if reported["refused"].as_u64().unwrap_or(0) > 0 || reported["detail"].is_string() {
                    bail!("{line}");
                }
                answered += reported["stored"].as_u64().unwrap_or(0);
            }
            writing.await??;
            Ok(events)
        });
    }
    let mut events = 0;
    while let Some(done) = tasks.join_next().await {
        events += done??;
    }
    Ok(events as f64 / began.elapsed().as_secs_f64())
}

async fn grpc(service: &Service, requests: Vec<ExportLogsServiceRequest>) -> Result<f64> {
    let address = service.other("OTLP over gRPC", "http://")?.to_owned();
    let events = requests.len() * BATCH;
    let shares: Vec<Vec<ExportLogsServiceRequest>> =
        (0..SENDERS).map(|s| requests.iter().skip(s).step_by(SENDERS).cloned().collect()).collect();
    let began = Instant::now();
    let mut tasks = tokio::task::JoinSet::new();
    for share in shares {
        let (address, key) = (address.clone(), service.key.clone());
        tasks.spawn(async move {
            let mut exporter = LogsServiceClient::connect(address).await?;
            for export in share {
                let mut request = tonic::Request::new(export);
                request.metadata_mut().insert("authorization", format!("Bearer {key}").parse()?);
                exporter.export(request).await?;
            }
            Ok::<_, anyhow::Error>(())
        });
    }
    while let Some(done) = tasks.join_next().await {
        done??;
    }
    Ok(events as f64 / began.elapsed().as_secs_f64())
}

async fn syslog(service: &Service, messages: Vec<String>) -> Result<f64> {
    let address = service.other("syslog", "tcp://")?.trim_start_matches("tcp://").to_owned();
    let events = messages.len() * BATCH;
    let messages = Arc::new(messages);
    let began = Instant::now();
    let mut tasks = tokio::task::JoinSet::new();
    for sender in 0..SENDERS {
        let (messages, address) = (messages.clone(), address.clone());
        tasks.spawn(async move {
            let mut stream = TcpStream::connect(&address).await?;
            for text in messages.iter().skip(sender).step_by(SENDERS) {
                stream.write_all(text.as_bytes()).await?;
            }
            stream.shutdown().await?;
            Ok::<_, anyhow::Error>(())
        });
    }
    while let Some(done) = tasks.join_next().await {
        done??;
    }
    loop {
        let reported = service.ok(&["search", "--json", "has syslog measure count over last 30d"])?;
        let row: Value = serde_json::from_str(reported.lines().next().unwrap_or("{}"))?;
        if row["count"].as_u64().unwrap_or(0) >= events as u64 {
            return Ok(events as f64 / began.elapsed().as_secs_f64());
        }
    }
}
