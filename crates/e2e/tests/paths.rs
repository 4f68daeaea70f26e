//! What is answered where nothing is taken, so that no sender believes that something was stored; and what was sent, had
//! again as it came.

#![allow(clippy::indexing_slicing, reason = "JSON is asked by place; what is missing is null and fails its assertion")]

use anyhow::Result;
use calvex_e2e::service::{Service, wait_for};
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

fn client() -> Result<reqwest::Client> {
    let _ = rustls::crypto::ring::default_provider().install_default();
    Ok(reqwest::Client::builder().no_proxy().build()?)
}

/// The status, media type, allowed methods and body of an answer.
async fn answer(request: reqwest::RequestBuilder) -> Result<(u16, String, String, Vec<u8>)> {
    let answer = request.send().await?;
    let header = |name: &str| answer.headers().get(name).and_then(|v| v.to_str().ok()).unwrap_or("").to_owned();
    let (media_type, allowed) = (header("content-type"), header("allow"));
    Ok((answer.status().as_u16(), media_type, allowed, answer.bytes().await?.to_vec()))
}

#[tokio::test(flavor = "multi_thread")]
async fn unknown_paths_and_methods_are_problems() -> Result<()> {
    let service = Service::start(&[])?;
    let http = client()?;
    let ask = |method: &str, path: &str| {
        let method = Method::from_bytes(method.as_bytes()).unwrap_or_default();
        http.request(method, format!("{}{path}", service.url)).bearer_auth(&service.key)
    };
    const PROBLEM: &str = "application/problem+json";
    for (method, path, status, media_type, allowed) in [
        ("POST", "/v1/other", 404, PROBLEM, ""),
        ("POST", "/v1/logs/more", 404, PROBLEM, ""),
        ("POST", "//v1/logs", 404, PROBLEM, ""),
        ("GET", "/nowhere", 404, PROBLEM, ""),
        ("GET", "/api/nowhere", 404, PROBLEM, ""),
        ("GET", "/v1/events", 405, PROBLEM, "POST"),
        ("PUT", "/v1/logs/", 405, PROBLEM, "POST"),
        ("GET", "/api/search", 405, PROBLEM, "POST"),
        ("POST", "/healthz", 405, PROBLEM, "GET,HEAD"),
        ("POST", "/", 405, PROBLEM, "GET,HEAD"),
        ("POST", "/search", 405, PROBLEM, "GET,HEAD"),
        ("GET", "/search", 200, "text/html", ""),
        ("GET", "/story/PX-1", 200, "text/html", ""),
    ] {
        let (got, reported, methods, body) = answer(ask(method, path)).await?;
        let shown = String::from_utf8_lossy(&body);
        assert_eq!(
            (got, reported.as_str(), methods.as_str()),
            (status, media_type, allowed),
            "{method} {path}: {shown}"
        );
        if status >= 400 {
            let problem: Value = serde_json::from_slice(&body)?;
            assert_eq!(problem["status"], status, "{shown}");
            assert!(problem["detail"].as_str().is_some_and(|d| d.len() > 20), "{shown}");
        }
    }
    // A slash behind the path is taken.
    for path in ["/v1/events/", "/v1/logs/"] {
        let request = ask("POST", path).header("content-type", "application/json").body("{}");
        assert_eq!(answer(request).await?.0, 200, "{path}");
    }
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn otlp_answers_in_its_own_forms() -> Result<()> {
    let service = Service::start(&[])?;
    let http = client()?;
    const PROTOBUF: &str = "application/x-protobuf";
    const JSON: &str = "application/json";
    let post = |path: &str, media_type: &str, body: &[u8]| {
        let request = http.post(format!("{}{path}", service.url)).header("content-type", media_type);
        request.bearer_auth(&service.key).body(body.to_vec())
    };
    let span = br#"{"resourceSpans":[{"scopeSpans":[{"spans":[{"name":"n"}]}]}]}"#;
    // An export of one span in protobuf: its trace id comes first.
    let span_bytes = [10, 6, 18, 4, 18, 2, 10, 0];
    for (path, media_type, body, status, code, reported) in [
        ("/v1/metrics", JSON, &b"{}"[..], 404, 12, "metrics"),
        ("/v1/metrics/", PROTOBUF, b"", 404, 12, "metrics"),
        ("/v1/logs", JSON, b"[]", 400, 3, "sequence, expected an object"),
        ("/v1/logs", JSON, b"{\"msg\":\"door 17\"}", 400, 3, "no `resourceLogs`"),
        ("/v1/logs", JSON, span, 400, 3, "send them to /v1/traces"),
        ("/v1/logs", PROTOBUF, &span_bytes, 400, 3, "send them to /v1/traces"),
        ("/v1/logs", PROTOBUF, b"\xff", 400, 3, "a number has no end"),
        ("/v1/logs", "Application/JSON; charset=utf-8", b"[", 400, 3, "sequence"),
    ] {
        let (got, got_type, _, bytes) = answer(post(path, media_type, body)).await?;
        let shown = String::from_utf8_lossy(&bytes);
        assert_eq!(got, status, "{path}: {shown}");
        assert!(shown.contains(reported), "{path}: {shown}");
        if media_type == PROTOBUF {
            assert_eq!((got_type.as_str(), bytes.get(..2)), (PROTOBUF, Some(&[8, code][..])), "{path}");
        } else {
            let status: Value = serde_json::from_slice(&bytes)?;
            assert_eq!((got_type.as_str(), &status["code"]), (JSON, &json!(code)), "{path}");
        }
    }
    // Without a key, in the encoding of the request; in none of OTLP's, a problem.
    let stranger = |media_type: &str| http.post(format!("{}/v1/logs", service.url)).header("content-type", media_type);
    let (status, media_type, _, bytes) = answer(stranger(PROTOBUF)).await?;
    assert_eq!((status, media_type.as_str(), bytes.get(..2)), (401, PROTOBUF, Some(&[8, 16][..])));
    assert_eq!(answer(stranger("text/plain")).await?.1, "application/problem+json");
    assert_eq!(answer(post("/v1/logs", "text/plain", b"x")).await?.0, StatusCode::UNSUPPORTED_MEDIA_TYPE.as_u16());
    // A full success has nothing to add.
    let log = br#"{"resourceLogs":[{"scopeLogs":[{"logRecords":[{"body":{"stringValue":"door 17 shut"}}]}]}]}"#;
    let (status, _, _, bytes) = answer(post("/v1/logs", JSON, log)).await?;
    assert_eq!((status, bytes.as_slice()), (200, &b"{}"[..]));
    wait_for("the refused metrics", || {
        let arrivals = service.ok(&["arrivals", "--json"])?;
        Ok(arrivals.contains("not-taken").then_some(()))
    })?;
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_sent_is_given_back_as_it_came() -> Result<()> {
    let service = Service::start(&[])?;
    let sent = [
        r#"{"lvl":"warning","text":"door 17 shut"}"#,
        r#"{"far":1e400,"big":12345678901234567890123,"msg":"numbers","ts":1791081521198}"#,
        r#"{"time":"2026-10-04T04:38:41+02:00","service":{"name":"slots"},"msg":"nested"}"#,
    ];
    let now = jiff::Timestamp::now().as_millisecond().to_string();
    let sent = sent.map(|line| {
        line.replace("1791081521198", &now).replace("2026-10-04T04:38:41+02:00", &format!("{}", jiff::Timestamp::now()))
    });
    let answered = service.calvex_with(&["send", "--quiet"], sent.join("\n").as_bytes())?;
    assert_eq!(answered.status.code(), Some(0));
    // Numbers beyond a double are no fault here, but the helper's library has none.
    wait_for("the events", || {
        Ok((service.ok(&["search", "--json", ""]).unwrap_or_default().lines().count() == 3).then_some(()))
    })?;
    let read = |line: &str| calvex_language::model::parse_value(line).map_err(|e| anyhow::anyhow!("{e}"));
    let mut expected = sent.iter().map(|line| read(line)).collect::<Result<Vec<_>>>()?;
    for command in ["search", "export"] {
        let reported = service.ok(&[command, "--sent", "--from", "now-1h", ""])?;
        let mut lines = reported.lines().map(read).collect::<Result<Vec<_>>>()?;
        for list in [&mut lines, &mut expected] {
            list.sort_by_key(|value| format!("{value:?}").len());
        }
        assert_eq!(lines, expected, "{command}");
    }
    let csv = service.ok(&["export", "--csv", "--columns", "far,big", "--from", "now-1h", "numbers"])?;
    assert_eq!(csv.lines().collect::<Vec<_>>(), ["far,big", "1e400,12345678901234567890123"]);
    // What was sent under another name is found by the event's own, and the answer says so.
    let reported = service.calvex(&["search", "--json", "lvl=warning"])?;
    let warned = String::from_utf8_lossy(&reported.stderr).into_owned();
    assert!(warned.contains("`lvl` is kept as `severity`; write severity=warning"), "{warned}");
    assert_eq!(service.search("severity=Warning", &[])?.len(), 1);
    Ok(())
}
