//! Ways in, through real sockets: NDJSON plain and packed, OTLP by the real exporter, refusals, idempotency, rights.

#![allow(
    clippy::unwrap_used,
    clippy::type_complexity,
    reason = "a test may end where it stands; its tables are read once"
)]

use anyhow::Result;
use calvex_e2e::service::{Service, wait_for};
use reqwest::{Client, StatusCode};
use serde_json::{Value, json};

fn client() -> Client {
    // reqwest wants a TLS provider chosen, also for plain HTTP.
    let _ = rustls::crypto::ring::default_provider().install_default();
    Client::builder().no_proxy().build().unwrap()
}

async fn post(service: &Service, body: Vec<u8>, headers: &[(&str, &str)]) -> Result<(StatusCode, Value)> {
    let mut request = client().post(format!("{}/v1/events", service.url)).bearer_auth(&service.key).body(body);
    for (name, value) in headers {
        request = request.header(*name, *value);
    }
    let response = request.send().await?;
    Ok((response.status(), response.json().await?))
}

#[tokio::test(flavor = "multi_thread")]
async fn ndjson_in_every_packing_with_refusals_beside_what_is_stored() -> Result<()> {
    let service = Service::start(&[])?;
    let body = |word: &str| format!("{{\"msg\":\"{word} one\"}}\nno json\n\n[1]\n{{\"msg\":\"{word} two\",\"n\":1}}\n");
    let plain = body("plain").into_bytes();
    let gzip = {
        use std::io::Write;
        let mut out = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::default());
        out.write_all(body("gzipped").as_bytes())?;
        out.finish()?
    };
    let zstd = zstd::bulk::compress(body("zstandard").as_bytes(), 1)?;
    for (word, bytes, encoding) in
        [("plain", plain, "identity"), ("gzipped", gzip, "gzip"), ("zstandard", zstd, "zstd")]
    {
        let (status, answer) = post(&service, bytes, &[("content-encoding", encoding)]).await?;
        assert_eq!(
            (status, answer["stored"].as_u64(), answer["refused"].as_u64()),
            (StatusCode::OK, Some(2), Some(2)),
            "{answer}"
        );
        let reported: Vec<(u64, &str)> = answer["refusals"]
            .as_array()
            .unwrap()
            .iter()
            .map(|r| (r["line"].as_u64().unwrap(), r["reason"].as_str().unwrap()))
            .collect();
        assert_eq!(reported, [(2, "not-json"), (4, "not-an-object")]);
        // Acknowledged is found: no waiting.
        assert_eq!(service.search(word, &[])?.len(), 2);
    }
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn bad_requests_get_a_clear_answer_and_stop_no_one() -> Result<()> {
    let service = Service::start(&[("CALVEX_LIMITS_BODY_MIB", "1"), ("CALVEX_LIMITS_UNPACKED_MIB", "2")])?;
    let event = b"{\"msg\":\"fine\"}\n".to_vec();
    let bomb = zstd::bulk::compress(&vec![b' '; 50 << 20], 3)?;
    let cases: Vec<(Vec<u8>, Vec<(&str, &str)>, u16, &str)> = vec![
        (vec![b'x'; 2 << 20], vec![], 413, "larger than"),
        (bomb, vec![("content-encoding", "zstd")], 413, "decompressed"),
        (b"not packed".to_vec(), vec![("content-encoding", "gzip")], 400, "is not gzip"),
        (event.clone(), vec![("content-encoding", "br")], 415, "use gzip, zstd or none"),
        (event.clone(), vec![("idempotency-key", "")], 400, "1 to 256"),
    ];
    for (body, headers, status, reported) in cases {
        let (found, answer) = post(&service, body, &headers).await?;
        assert_eq!(found.as_u16(), status, "{answer}");
        assert!(answer["detail"].as_str().unwrap_or("").contains(reported), "{answer}");
    }
    for (key, reported) in
        [("", "carries no key"), ("calvex-key-wrong", "is not good"), (service.token.as_str(), "a token reads")]
    {
        let mut request = client().post(format!("{}/v1/events", service.url)).body(event.clone());
        if !key.is_empty() {
            request = request.bearer_auth(key);
        }
        let response = request.send().await?;
        assert_eq!(response.status(), 401);
        assert_eq!(response.headers()["content-type"], "application/problem+json");
        let answer: Value = response.json().await?;
        assert!(answer["detail"].as_str().unwrap_or("").contains(reported), "{answer}");
        assert!(!answer.to_string().contains(&service.token), "a secret is never reported back");
    }
    let deep = format!("{}1{}\n", "{\"a\":".repeat(60), "}".repeat(60));
    let (_, answer) = post(&service, [deep.as_bytes(), &event].concat(), &[]).await?;
    assert_eq!((answer["stored"].as_u64(), answer["refusals"][0]["reason"].as_str()), (Some(1), Some("too-deep")));
    let old = b"{\"time\":\"2001-01-01T00:00:00Z\",\"msg\":\"old\"}\n".to_vec();
    let (_, answer) = post(&service, old, &[]).await?;
    assert_eq!(answer["refusals"][0]["reason"], "too-old");
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_batch_sent_again_is_stored_once_also_after_sealing() -> Result<()> {
    let service = Service::start(&[])?;
    let body = b"{\"msg\":\"once\"}\n{\"msg\":\"once\"}\n".to_vec();
    let headers = [("idempotency-key", "night-1")];
    let (_, first) = post(&service, body.clone(), &headers).await?;
    service.ok(&["admin", "seal"])?;
    let (status, again) = post(&service, body, &headers).await?;
    assert_eq!((status, &again["stored"], &again["repeated"]), (StatusCode::OK, &first["stored"], &json!(true)));
    let (status, answer) = post(&service, b"{\"msg\":\"other\"}\n".to_vec(), &headers).await?;
    assert_eq!(status, 422, "{answer}");
    assert_eq!(service.search("once", &[])?.len(), 2);
    assert_eq!(service.search("other", &[])?.len(), 0);

    // Without a key: a body of timed events is known by its hash; one without times may rightly come twice.
    let timed = format!("{{\"time\":\"{}\",\"msg\":\"timed\"}}\n", jiff::Timestamp::now()).into_bytes();
    for expected in [Value::Null, json!(true)] {
        assert_eq!(post(&service, timed.clone(), &[]).await?.1["repeated"], expected);
    }
    for _ in 0..2 {
        assert_eq!(post(&service, b"{\"msg\":\"untimed\"}\n".to_vec(), &[]).await?.1["repeated"], Value::Null);
    }
    assert_eq!(service.search("timed", &[])?.len(), 1);
    assert_eq!(service.search("untimed", &[])?.len(), 2);
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn otlp_by_the_real_exporter_on_both_ports() -> Result<()> {
    use opentelemetry::logs::{AnyValue, LogRecord, Logger, LoggerProvider, Severity};
    use opentelemetry_otlp::{LogExporter, Protocol, WithExportConfig, WithHttpConfig};
    use opentelemetry_sdk::Resource;
    use opentelemetry_sdk::logs::SdkLoggerProvider;
    let service = Service::start(&[])?;
    client();
    for (word, base) in
        [("main", service.url.clone()), ("standard", service.other("OTLP also", "http").unwrap().to_owned())]
    {
        let key = service.key.clone();
        // The exporter brings threads and a blocking client of its own.
        tokio::task::spawn_blocking(move || {
            let headers = [("authorization".to_owned(), format!("Bearer {}", key))].into();
            let exporter = LogExporter::builder()
                .with_http()
                .with_protocol(Protocol::HttpBinary)
                .with_endpoint(format!("{base}/v1/logs"))
                .with_headers(headers)
                .build()?;
            let resource = Resource::builder_empty().with_service_name("codes").build();
            let provider = SdkLoggerProvider::builder().with_resource(resource).with_batch_exporter(exporter).build();
            let logger = provider.logger("pickup");
            for n in 0..25i64 {
                let mut record = logger.create_log_record();
                record.set_severity_number(Severity::Warn);
                record.set_timestamp(std::time::SystemTime::now());
                record.set_body(AnyValue::from(format!("{word} port: pick-up code withheld, try {n}")));
                record.add_attribute("slot.bank", "BK-017");
                record.add_attribute("try", n);
                logger.emit(record);
            }
            provider.shutdown()?;
            Ok::<(), anyhow::Error>(())
        })
        .await??;
        let query = format!("{word} service=codes severity=warn slot.bank=BK-017");
        let found =
            wait_for("the exporter's events", || Ok(Some(service.search(&query, &[])?).filter(|f| f.len() >= 25)))?;
        assert_eq!(found.len(), 25);
        assert!(found.iter().all(|e| e["fields"]["scope"]["name"] == "pickup" && e["fields"]["try"].is_i64()));
    }
    // JSON, packed, with one record too old: partial success.
    let body = json!({"resourceLogs": [{"resource": {"attributes": [{"key": "service.name", "value": {"stringValue": "slots"}}]},
        "scopeLogs": [{"logRecords": [
            {"timeUnixNano": "1000000000", "body": {"stringValue": "long ago"}},
            {"observedTimeUnixNano": jiff::Timestamp::now().as_nanosecond().to_string(), "body": {"stringValue": "by json"}}]}]}]});
    let answer = client()
        .post(format!("{}/v1/logs", service.url))
        .bearer_auth(&service.key)
        .header("content-type", "application/json")
        .body(body.to_string())
        .send()
        .await?;
    assert_eq!(answer.status(), 200);
    let answer: Value = answer.json().await?;
    let partial = &answer["partialSuccess"];
    assert!(partial["rejectedLogRecords"] == json!("1") || partial["rejectedLogRecords"] == json!(1), "{answer}");
    assert!(partial["errorMessage"].as_str().unwrap_or("").contains("days back"), "{answer}");
    assert_eq!(service.search("\"by json\" service=slots", &[])?.len(), 1);
    let wrong = client().post(format!("{}/v1/logs", service.url)).bearer_auth(&service.key).body("x").send().await?;
    assert_eq!(wrong.status(), 415);
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_reader_gets_nothing_from_a_lane_it_may_not_read() -> Result<()> {
    let service = Service::start(&[])?;
    service.ok(&["lane", "set", "audit", "--days", "400"])?;
    service.ok(&["route", "add", "service=access", "audit"])?;
    let trace = "5b8aa5a2d2c872e8321cf37308d69df2";
    let line =
        |s: &str| format!("{{\"service\":\"{s}\",\"msg\":\"door 17\",\"trace_id\":\"{trace}\",\"secret_{s}\":1}}\n");
    post(&service, [line("access"), line("edge")].concat().into_bytes(), &[]).await?;
    let narrow = service.ok(&["token", "new", "narrow", "--lane", "main", "--text"])?.trim().to_owned();
    let as_narrow = |args: &[&str]| -> Result<(i32, String, String)> {
        let output = service.calvex(&[args, &["--token", &narrow]].concat())?;
        let text = |b: &[u8]| String::from_utf8_lossy(b).into_owned();
        Ok((output.status.code().unwrap_or(-1), text(&output.stdout), text(&output.stderr)))
    };
    let (_, found, _) = as_narrow(&["search", "--json", "door"])?;
    assert_eq!(found.lines().count(), 1);
    assert!(found.contains("edge") && !found.contains("access"));
    let (code, _, reported) = as_narrow(&["search", "--json", "secret_acess=1"])?;
    assert_eq!(code, 1);
    assert!(!reported.contains("secret_access"), "not even a suggestion: {reported}");
    let (_, histogram, _) = as_narrow(&["search", "--json", "--histogram", "door"])?;
    let counted: u64 =
        histogram.lines().map(|l| serde_json::from_str::<Value>(l).unwrap()["info"].as_u64().unwrap()).sum();
    assert_eq!(counted, 1);
    let (_, story, reported) = as_narrow(&["story", trace, "--json"])?;
    assert_eq!(story.lines().count(), 1);
    assert!(reported.contains("lane `audit` was not searched"), "that it may hold more is said: {reported}");
    let (_, _, reported) = as_narrow(&["story", "PX-00000", "--json"])?;
    assert!(reported.contains("lane `audit` was not searched"), "whatever the question: {reported}");
    let (code, _, reported) = as_narrow(&["lane", "set", "audit", "--days", "1"])?;
    assert_eq!((code, reported.contains("changes nothing")), (2, true), "{reported}");
    // Nothing but health answers without a secret.
    for path in ["/api/me", "/api/lanes", "/api/alerts", "/metrics", "/api/story/x"] {
        assert_eq!(client().get(format!("{}{path}", service.url)).send().await?.status(), 401, "{path}");
    }
    for path in ["/healthz", "/readyz"] {
        assert_eq!(client().get(format!("{}{path}", service.url)).send().await?.status(), 200, "{path}");
    }
    let metrics = client().get(format!("{}/metrics", service.url)).bearer_auth(&service.token).send().await?;
    assert!(metrics.headers()["content-type"].to_str()?.starts_with("application/openmetrics-text"));
    let metrics = metrics.text().await?;
    assert!(metrics.contains("calvex_events_stored_total{") && metrics.ends_with("# EOF\n"), "{metrics}");
    Ok(())
}
