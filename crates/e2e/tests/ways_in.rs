//! Every way in, by clients nobody here wrote: the OTLP exporters, `logger` of util-linux, a logging library's JSON; and by
//! plain sockets.

use anyhow::{Context, Result};
use calvex_e2e::service::{Service, wait_for};
use serde_json::{Value, json};
use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::process::Command;
use std::sync::Arc;

fn client() -> reqwest::Client {
    let _ = rustls::crypto::ring::default_provider().install_default();
    reqwest::Client::new()
}

/// Waits until a search finds `count` events, and gives them.
fn found(service: &Service, query: &str, count: usize) -> Result<Vec<Value>> {
    let events =
        wait_for(
            &format!("{count} of {query}"),
            || Ok(Some(service.search(query, &[])?).filter(|f| f.len() >= count)),
        )?;
    assert_eq!(events.len(), count, "{query}");
    Ok(events)
}

#[derive(Clone, Copy, Debug)]
enum Way {
    Binary,
    Json,
    Grpc,
}

/// One trace of two spans and one log record within it, by the exporters' own code.
fn export(way: Way, base: &str, key: &str, service: &str) -> Result<()> {
    use opentelemetry::logs::{AnyValue, LogRecord, Logger, LoggerProvider};
    use opentelemetry::trace::{Span, SpanKind, Status, TraceContextExt, Tracer, TracerProvider};
    use opentelemetry::{Context as Within, KeyValue};
    use opentelemetry_otlp::tonic_types::metadata::MetadataMap;
    use opentelemetry_otlp::{LogExporter, Protocol, SpanExporter, WithExportConfig, WithHttpConfig, WithTonicConfig};
    use opentelemetry_sdk::Resource;
    use opentelemetry_sdk::logs::SdkLoggerProvider;
    use opentelemetry_sdk::trace::SdkTracerProvider;
    let headers = || [("authorization".to_owned(), format!("Bearer {key}"))].into();
    let (spans, logs) = match way {
        Way::Grpc => {
            let mut metadata = MetadataMap::new();
            metadata.insert("authorization", format!("Bearer {key}").parse()?);
            let spans = SpanExporter::builder().with_tonic().with_endpoint(base).with_metadata(metadata.clone());
            let logs = LogExporter::builder().with_tonic().with_endpoint(base).with_metadata(metadata);
            (spans.build()?, logs.build()?)
        }
        Way::Binary | Way::Json => {
            let protocol = if matches!(way, Way::Json) { Protocol::HttpJson } else { Protocol::HttpBinary };
            let spans = SpanExporter::builder().with_http().with_protocol(protocol);
            let logs = LogExporter::builder().with_http().with_protocol(protocol);
            (
                spans.with_endpoint(format!("{base}/v1/traces")).with_headers(headers()).build()?,
                logs.with_endpoint(format!("{base}/v1/logs")).with_headers(headers()).build()?,
            )
        }
    };
    let resource = Resource::builder_empty().with_service_name(service.to_owned()).build();
    let tracers = SdkTracerProvider::builder().with_resource(resource.clone()).with_batch_exporter(spans).build();
    let loggers = SdkLoggerProvider::builder().with_resource(resource).with_batch_exporter(logs).build();
    let tracer = tracers.tracer("pickup");
    let outer = tracer.span_builder("open a door").with_kind(SpanKind::Server).start(&tracer);
    let within = Within::current_with_span(outer);
    let mut inner =
        tracer.span_builder("lease a slot").with_kind(SpanKind::Client).start_with_context(&tracer, &within);
    inner.set_attribute(KeyValue::new("slot.bank", "BK-017"));
    inner.add_event("lease ran out", vec![KeyValue::new("seconds", 12)]);
    inner.set_status(Status::error("no door confirmed"));
    inner.end();
    let logger = loggers.logger("pickup");
    let mut record = logger.create_log_record();
    record.set_timestamp(std::time::SystemTime::now());
    record.set_body(AnyValue::from("door 17 stays shut"));
    let at = within.span().span_context().clone();
    record.set_trace_context(at.trace_id(), at.span_id(), Some(at.trace_flags()));
    logger.emit(record);
    within.span().end();
    tracers.shutdown()?;
    loggers.shutdown()?;
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn logs_and_spans_by_the_exporters_of_the_standard() -> Result<()> {
    let service = Arc::new(Service::start(&[])?);
    client();
    for (way, name) in [(Way::Binary, "edge"), (Way::Json, "slots"), (Way::Grpc, "codes")] {
        let base = match way {
            Way::Grpc => service.other("OTLP over gRPC", "http")?.to_owned(),
            _ => service.url.clone(),
        };
        let key = service.key.clone();
        // The exporters bring threads and blocking clients of their own; the one for gRPC wants a runtime around it.
        let runtime = tokio::runtime::Handle::current();
        tokio::task::spawn_blocking(move || {
            let _within = runtime.enter();
            export(way, &base, &key, name)
        })
        .await?
        .with_context(|| format!("{way:?}"))?;
        let spans = found(&service, &format!("kind=span service={name}"), 2)?;
        let span = |message: &str| spans.iter().find(|s| s["message"] == message).cloned().unwrap_or_default();
        let (outer, inner) = (span("open a door"), span("lease a slot"));
        assert_eq!((&inner["parent"], &inner["trace"]), (&outer["span"], &outer["trace"]), "{inner}");
        assert_eq!((&inner["status"], &inner["severity"]), (&json!("error"), &json!("error")));
        assert!(
            inner["took_ns"].as_i64().is_some_and(|n| n >= 0) && outer["took_ns"].as_i64() >= inner["took_ns"].as_i64()
        );
        assert_eq!(inner["fields"]["slot"]["bank"], Value::Null, "a dotted name stays one");
        assert_eq!(inner["fields"]["slot.bank"], "BK-017");
        assert_eq!(inner["fields"]["span"]["events"][0]["name"], "lease ran out");
        assert_eq!(inner["fields"]["span"]["status_message"], "no door confirmed");
        // The record stands in the same trace, and both kinds answer one question.
        let trace = inner["trace"].as_str().unwrap_or("");
        assert_eq!(found(&service, &format!("trace={trace}"), 3)?.len(), 3);
        assert_eq!(found(&service, &format!("status=error service={name} slot.bank=BK-017"), 1)?.len(), 1);
        assert_eq!(found(&service, &format!("took>=0ms kind=span span.kind=client service={name}"), 1)?.len(), 1);
    }
    // What comes with a wrong key is not stored, and arrivals show it by how the key begins.
    let base = service.other("OTLP over gRPC", "http")?.to_owned();
    let runtime = tokio::runtime::Handle::current();
    let refused = tokio::task::spawn_blocking(move || {
        let _within = runtime.enter();
        export(Way::Grpc, &base, "calvex-key-nobodyAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA", "edge")
    });
    // The exporter keeps its failures to itself.
    let _ = refused.await?;
    assert_eq!(service.search("service=edge kind=span", &[])?.len(), 2);
    assert!(service.ok(&["arrivals"])?.contains("calvex-key-nobo"));
    Ok(())
}

fn port(service: &Service, scheme: &str) -> Result<String> {
    let address = service.other("syslog", scheme)?;
    Ok(address.rsplit(':').next().unwrap_or("").to_owned())
}

#[test]
fn syslog_by_logger_and_by_sockets() -> Result<()> {
    let folder = tempfile::tempdir()?;
    let made = rcgen::generate_simple_self_signed(vec!["localhost".to_owned()])?;
    let (cert, key) = (folder.path().join("cert.pem"), folder.path().join("key.pem"));
    std::fs::write(&cert, made.cert.pem())?;
    std::fs::write(&key, made.signing_key.serialize_pem())?;
    let service = Service::start(&[
        ("CALVEX_SYSLOG_UDP_LISTEN", "127.0.0.1:0"),
        ("CALVEX_SYSLOG_TCP_LISTEN", "127.0.0.1:0"),
        ("CALVEX_SYSLOG_TLS_LISTEN", "127.0.0.1:0"),
        ("CALVEX_TLS_EVERYWHERE", "false"),
        ("CALVEX_TLS_CERT", &cert.to_string_lossy()),
        ("CALVEX_TLS_KEY", &key.to_string_lossy()),
    ])?;
    let (udp, tcp) = (port(&service, "udp://")?, port(&service, "tcp://")?);
    let logger = |args: &[&str]| -> Result<()> {
        let done = Command::new("logger").args(["--server", "127.0.0.1"]).args(args).output()?;
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
        Ok(())
    };
    for (form, flags) in [
        (
            "udp5424",
            vec![
                "--udp",
                "--port",
                &udp,
                "--rfc5424",
                "--msgid",
                "DOOR",
                "--sd-id",
                "slot@41",
                "--sd-param",
                "bank=\"BK-017\"",
            ],
        ),
        ("udp3164", vec!["--udp", "--port", &udp, "--rfc3164"]),
        ("tcp5424", vec!["--tcp", "--port", &tcp, "--rfc5424"]),
        ("tcpcounted", vec!["--tcp", "--port", &tcp, "--octet-count", "--rfc5424"]),
        ("tcp3164", vec!["--tcp", "--port", &tcp, "--rfc3164"]),
    ] {
        let said = format!("{form}: door 17 öffnet nicht");
        logger(&[&flags[..], &["--tag", "locker-agent", "--priority", "local4.warning", "--id=411", &said]].concat())?;
        let event = found(&service, &format!("{form} service=locker-agent severity=warn"), 1)?.remove(0);
        assert_eq!(event["message"], said, "{form}");
        assert_eq!((&event["fields"]["syslog"]["facility"], &event["sender"]), (&json!("local4"), &json!("syslog")));
        assert_eq!(event["fields"]["syslog"]["procid"], "411", "{event}");
        assert!(!event["host"].as_str().unwrap_or("").is_empty());
    }
    assert_eq!(found(&service, "`slot@41.bank`=BK-017 syslog.msgid=DOOR", 1)?.len(), 1);

    // What handlers of standard libraries send: ends marked by NUL, or not at all.
    let mut stream = TcpStream::connect(("127.0.0.1", tcp.parse()?))?;
    stream.write_all(b"<14>codes: nul one\0<14>codes: nul two\0")?;
    let mut unmarked = TcpStream::connect(("127.0.0.1", tcp.parse()?))?;
    unmarked.write_all(b"<14>codes: rests without an end")?;
    found(&service, "service=codes (nul or rests)", 3)?;
    stream.write_all(b"<14>codes: and goes on\0")?;
    found(&service, "\"and goes on\"", 1)?;
    drop(stream);

    // Another protocol on this port is distinguished from syslog, and nothing of it is stored.
    let mut http = TcpStream::connect(("127.0.0.1", tcp.parse()?))?;
    http.write_all(b"GET /wrongport HTTP/1.1\r\n\r\n")?;
    // What was not read makes the end a reset.
    assert!(matches!(http.read(&mut [0; 16]), Ok(0) | Err(_)), "the connection ends");
    assert_eq!(service.search("wrongport", &[])?.len(), 0);

    let address = service.other("syslog", "tls://")?.trim_start_matches("tls://").to_owned();
    let mut roots = rustls::RootCertStore::empty();
    roots.add(made.cert.der().clone())?;
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let config = rustls::ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()?
        .with_root_certificates(roots)
        .with_no_client_auth();
    let mut tls = rustls::ClientConnection::new(Arc::new(config), "localhost".try_into()?)?;
    let mut socket = TcpStream::connect(&address)?;
    rustls::Stream::new(&mut tls, &mut socket).write_all(b"<14>1 - bk-017 locker-agent - - - under tls\n")?;
    assert_eq!(found(&service, "\"under tls\" host=bk-017", 1)?.len(), 1);
    Ok(())
}

#[test]
fn json_lines_over_tcp() -> Result<()> {
    let service = Service::start(&[("CALVEX_LINES_LISTEN", "127.0.0.1:0")])?;
    let address = service.other("JSON lines", "tcp://")?.trim_start_matches("tcp://").to_owned();
    let connect = || -> Result<(TcpStream, BufReader<TcpStream>)> {
        let stream = TcpStream::connect(&address)?;
        let answers = BufReader::new(stream.try_clone()?);
        Ok((stream, answers))
    };
    let next = |answers: &mut BufReader<TcpStream>| -> Result<Value> {
        let mut line = String::new();
        answers.read_line(&mut line)?;
        Ok(serde_json::from_str(&line)?)
    };
    let (mut stream, mut answers) = connect()?;
    writeln!(stream, "{}", json!({ "key": service.key }))?;
    assert_eq!(next(&mut answers)?, json!({ "ready": true }));
    stream.write_all(b"{\"msg\":\"line one\"}\n{\"msg\":\n[1]\n")?;
    let reported = next(&mut answers)?;
    assert_eq!((&reported["stored"], &reported["refused"]), (&json!(1), &json!(2)));
    assert_eq!(
        (&reported["refusals"][0]["line"], &reported["refusals"][1]["reason"]),
        (&json!(2), &json!("not-an-object"))
    );
    // A line in two pieces, and one that only the end of the stream ends; numbers go on.
    stream.write_all(b"{\"msg\":\"line")?;
    stream.write_all(b" two\"}\nbroken\n{\"msg\":\"line three\"}")?;
    stream.shutdown(std::net::Shutdown::Write)?;
    let (mut stored, mut lines) = (0, Vec::new());
    while let Ok(reported) = next(&mut answers) {
        stored += reported["stored"].as_u64().unwrap_or(0);
        lines.extend(reported["refusals"].as_array().into_iter().flatten().map(|r| r["line"].clone()));
    }
    assert_eq!((stored, lines), (2, vec![json!(5)]));
    found(&service, "line", 3)?;

    for first in ["{\"key\":\"calvex-key-nobody\"}\n", "hello\n", "GET / HTTP/1.1\n"] {
        let (mut stream, mut answers) = connect()?;
        stream.write_all(first.as_bytes())?;
        let problem = next(&mut answers)?;
        assert_eq!(problem["status"], 401, "{problem}");
        assert_eq!(answers.read_line(&mut String::new())?, 0);
    }
    Ok(())
}

#[test]
fn json_arrays_and_a_librarys_default_lines() -> Result<()> {
    use tracing_subscriber::fmt::MakeWriter;
    #[derive(Clone, Default)]
    struct Lines(Arc<std::sync::Mutex<Vec<u8>>>);
    impl Write for Lines {
        fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
            self.0.lock().map_err(|_| std::io::ErrorKind::Other)?.extend_from_slice(bytes);
            Ok(bytes.len())
        }
        fn flush(&mut self) -> std::io::Result<()> {
            Ok(())
        }
    }
    impl<'a> MakeWriter<'a> for Lines {
        type Writer = Lines;
        fn make_writer(&'a self) -> Lines {
            self.clone()
        }
    }
    let service = Service::start(&[])?;
    let lines = Lines::default();
    let subscriber = tracing_subscriber::fmt().json().with_writer(lines.clone()).finish();
    tracing::subscriber::with_default(subscriber, || {
        tracing::warn!(slot.bank = "BK-017", door = 17, "door stays shut");
    });
    let written = lines.0.lock().map(|l| l.clone()).unwrap_or_default();
    let sent = service.calvex_with(&["send", "-"], &written)?;
    assert!(sent.status.success(), "{}", String::from_utf8_lossy(&sent.stderr));
    let event = found(&service, "\"door stays shut\" severity=warn fields.door=17", 1)?.remove(0);
    assert_eq!(event["message"], "door stays shut");
    assert_eq!(event["fields"]["fields"]["slot.bank"], "BK-017", "{event}");

    let array = json!([{ "msg": "of an array", "n": 1 }, 7, { "msg": "of an array", "n": 2 }]).to_string();
    let body = post_json(&service, &array)?;
    assert_eq!((&body["stored"], &body["refused"], &body["refusals"][0]["line"]), (&json!(2), &json!(1), &json!(2)));
    found(&service, "\"of an array\"", 2)?;
    Ok(())
}

fn post_json(service: &Service, body: &str) -> Result<Value> {
    let runtime = tokio::runtime::Runtime::new()?;
    runtime.block_on(async {
        let request = client().post(format!("{}/v1/events", service.url)).bearer_auth(&service.key);
        Ok(request.header("content-type", "application/json").body(body.to_owned()).send().await?.json().await?)
    })
}
