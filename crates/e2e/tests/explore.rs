//! What helps to ask, over HTTP: proposals, ranges in words, fields found, spreads, shapes, saved searches, how things
//! stand. Nothing of it reveals a lane that may not be read.

#![allow(clippy::indexing_slicing, reason = "JSON is asked by place; what is missing is null and fails its assertion")]

use anyhow::{Context, Result};
use calvex_e2e::service::{Service, wait_for};
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

/// Asks the interface as the one with `token`.
async fn ask(
    service: &Service,
    token: &str,
    method: Method,
    path: &str,
    body: Option<Value>,
) -> Result<(StatusCode, Value)> {
    let http = reqwest::Client::builder().no_proxy().build()?;
    let mut request = http.request(method, format!("{}/api{path}", service.url)).bearer_auth(token);
    if let Some(body) = body {
        request = request.json(&body);
    }
    let response = request.send().await?;
    let status = response.status();
    let text = response.text().await?;
    Ok((status, if text.is_empty() { Value::Null } else { serde_json::from_str(&text)? }))
}

fn texts(answer: &Value) -> Vec<&str> {
    answer["proposals"].as_array().into_iter().flatten().filter_map(|p| p["text"].as_str()).collect()
}

/// A service with events of two lanes in it, and a token that reads only one.
fn with_events() -> Result<(Service, String)> {
    let service = Service::start(&[])?;
    service.ok(&["lane", "set", "audit", "--days", "400"])?;
    service.ok(&["route", "add", "service=access", "audit"])?;
    let narrow = service.ok(&["token", "new", "narrow", "--lane", "main", "--text"])?.trim().to_owned();
    let start = jiff::Timestamp::now() - jiff::SignedDuration::from_mins(10);
    let lines: String = (0..200)
        .map(|n| {
            let time = (start + jiff::SignedDuration::from_secs(n)).to_string();
            let event = match n % 4 {
                0 => json!({"time": time, "service": "access", "msg": "door override", "operator": "ines",
                    "mark": "lease 120 s → 12 s"}),
                n4 => json!({"time": time, "service": if n4 == 1 { "slots" } else { "edge" },
                    "level": if n4 == 1 { "error" } else { "info" }, "msg": format!("lease LS-{n} ran out at BK-00{}", n % 7),
                    "took_ms": n, "slot": {"bank": format!("BK-00{}", n % 7)}}),
            };
            event.to_string() + "\n"
        })
        .collect();
    anyhow::ensure!(service.calvex_with(&["send", "--quiet"], lines.as_bytes())?.status.success());
    wait_for("the events", || Ok((service.search("", &[])?.len() == 200).then_some(())))?;
    Ok((service, narrow))
}

#[tokio::test(flavor = "multi_thread")]
async fn proposals_ranges_and_fields() -> Result<()> {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let (service, narrow) = with_events()?;
    let all = service.token.clone();
    let post = |token: String, path: &'static str, body: Value| {
        let service = &service;
        async move { ask(service, &token, Method::POST, path, Some(body)).await.map(|(_, answer)| answer) }
    };

    // Fields with their counts, values with theirs; what begins so first.
    let reported = post(all.clone(), "/complete", json!({"query": "slo", "at": 3})).await?;
    assert_eq!(texts(&reported)[0], "slot.bank");
    assert_eq!(reported["proposals"][0]["events"], 150);
    let reported = post(all.clone(), "/complete", json!({"query": "lease service=", "at": 14})).await?;
    assert_eq!((texts(&reported), &reported["from"]), (vec!["edge", "access", "slots"], &json!(14)));
    let reported = post(all.clone(), "/complete", json!({"query": "slot.bank in (BK-001, \"bk", "at": 25})).await?;
    assert_eq!(texts(&reported).len(), 7);
    let reported = post(all.clone(), "/complete", json!({"query": "measure p9", "at": 10})).await?;
    assert_eq!(texts(&reported), ["p95(", "p99("]);
    // What a reader may not read is not proposed either, though another saw it a moment ago.
    let reported = post(narrow.clone(), "/complete", json!({"query": "service=", "at": 8})).await?;
    assert_eq!(texts(&reported), ["edge", "slots"]);
    let reported = post(narrow.clone(), "/complete", json!({"query": "oper", "at": 4})).await?;
    assert!(!texts(&reported).contains(&"operator"), "{reported}");

    // Why there is nothing: a dial that may have set such events aside is one reason, one of another service is none.
    service.ok(&["dial", "set", "service=edge", "warn", "--for", "1h"])?;
    service.ok(&["dial", "set", "service=codes", "error", "--for", "1h"])?;
    let reported = post(all.clone(), "/search", json!({"query": "service=edge severity=debug"})).await?;
    let reasons = reported["empty"]["reasons"].to_string();
    assert!(reasons.contains("A dial keeps only warn and worse of `service=edge` until"), "{reasons}");
    assert!(!reasons.contains("service=codes"), "{reasons}");

    // A range as people say it; what is none is reported with examples.
    let reported = post(all.clone(), "/range", json!({"text": "last 2 hours"})).await?;
    assert_eq!((&reported["from"], &reported["to"]), (&json!("now-2h"), &json!("now")));
    let reported =
        post(all.clone(), "/range", json!({"text": "2026-10-04 02:00 to 03:00", "zone": "Europe/Oslo"})).await?;
    assert_eq!(reported["from"], "2026-10-04T00:00:00.000000000Z");
    let (status, reported) = ask(&service, &all, Method::POST, "/range", Some(json!({"text": "soonish"}))).await?;
    assert_eq!(status, StatusCode::BAD_REQUEST);
    assert!(reported["detail"].as_str().unwrap_or("").contains("yesterday 2am to 3am"), "{reported}");
    assert_eq!(service.search("", &["--from", "1 hour ago"])?.len(), 200, "bounds are read alike");

    // The fields of the events found, and how the numbers of one are spread.
    let reported = post(all.clone(), "/found-fields", json!({"query": "service=slots"})).await?;
    assert_eq!((&reported["events"], &reported["whole"]), (&json!(50), &json!(true)));
    assert_eq!(reported["fields"][0], json!({"field": "slot.bank", "types": ["text"], "having": 50}));
    assert_eq!(reported["fields"].as_array().map(Vec::len), Some(2));
    let reported = post(narrow.clone(), "/found-fields", json!({"query": ""})).await?;
    assert!(!reported.to_string().contains("operator"), "{reported}");
    let reported = post(all.clone(), "/breakdown", json!({"query": "", "fields": ["took_ms", "service"]})).await?;
    let spread = &reported["fields"][0]["spread"];
    assert_eq!((&spread["min"], &spread["max"], &spread["numbers"]), (&json!(1.0), &json!(199.0), &json!(150)));
    assert_eq!(reported["fields"][1]["spread"], Value::Null);

    // A shape, of a message and by its id.
    let reported = post(all.clone(), "/shape", json!({"message": "lease LS-5 ran out at BK-001"})).await?;
    let shape = reported["shape"].as_str().context("no shape")?.to_owned();
    assert_eq!(reported["template"], "lease LS-‹› ran out at BK-‹›");
    let reported = post(all.clone(), "/shape", json!({"shape": shape, "query": "service=edge"})).await?;
    assert_eq!((&reported["events"], &reported["places"][1]["distinct"]), (&json!(100), &json!(7)));
    assert_eq!(reported["places"][0]["before"], "LS-");
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn saved_searches_and_how_things_stand() -> Result<()> {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let (service, narrow) = with_events()?;
    let admin = service.token.clone();
    let user = json!({"name": "liv", "password": "locker bank eighteen", "role": "reader", "lanes": ["main"]});
    let (status, reported) = ask(&service, &admin, Method::POST, "/people", Some(user)).await?;
    assert!(status.is_success(), "{reported}");
    // Signed in by name: a token would be its owner's.
    let http = reqwest::Client::builder().no_proxy().build()?;
    let to = |method: Method, path: &str| {
        http.request(method, format!("{}/api{path}", service.url)).header("x-calvex-console", "1")
    };
    let credentials = json!({"name": "liv", "password": "locker bank eighteen"});
    let signed = to(Method::POST, "/login").json(&credentials).send().await?;
    let cookie = signed.headers().get("set-cookie").and_then(|c| c.to_str().ok()).context("no session")?.to_owned();
    let liv = |method: Method, path: &str| to(method, path).header("cookie", cookie.split(';').next().unwrap_or(""));

    let saved = |query: &str| json!({"name": "", "query": query, "note": "leases that end early"});
    let put = liv(Method::PUT, "/saved/early%20ends").json(&saved("\"ran out\"")).send().await?;
    assert_eq!(put.status(), StatusCode::NO_CONTENT, "{}", put.text().await?);
    let (_, list) = ask(&service, &admin, Method::GET, "/saved", None).await?;
    assert_eq!(
        (&list[0]["name"], &list[0]["owner"], &list[0]["query"]),
        (&json!("early ends"), &json!("liv"), &json!("\"ran out\""))
    );
    // A query that cannot be run is not saved, and a name has one owner.
    let put = liv(Method::PUT, "/saved/bad").json(&saved("severity>=loud")).send().await?;
    assert_eq!(put.status(), StatusCode::BAD_REQUEST);
    let (status, _) = ask(&service, &admin, Method::PUT, "/saved/of%20ines", Some(saved("severity>=error"))).await?;
    assert_eq!(status, StatusCode::NO_CONTENT);
    let put = liv(Method::PUT, "/saved/of%20ines").json(&saved("")).send().await?;
    assert_eq!(put.status(), StatusCode::CONFLICT);
    let gone = liv(Method::DELETE, "/saved/of%20ines").send().await?;
    assert_eq!(gone.status(), StatusCode::NOT_FOUND);
    // An administrator may put things in order; the owner stays.
    let (status, _) =
        ask(&service, &admin, Method::PUT, "/saved/early%20ends", Some(saved("lease \"ran out\""))).await?;
    assert_eq!(status, StatusCode::NO_CONTENT);
    let list: Value = liv(Method::GET, "/saved").send().await?.json().await?;
    let names: Vec<_> =
        list.as_array().into_iter().flatten().map(|s| (s["name"].as_str(), s["mine"].as_bool())).collect();
    assert_eq!(names, [(Some("early ends"), Some(true)), (Some("of ines"), Some(false))]);

    let (_, now) = ask(&service, &admin, Method::GET, "/now", None).await?;
    let services: Vec<&str> =
        now["services"].as_array().into_iter().flatten().filter_map(|s| s["service"].as_str()).collect();
    assert_eq!(services, ["slots", "access", "edge"], "errors first: {now}");
    assert_eq!(now["services"][0]["now"]["error_share"], 1.0);
    let steps = |name: &str| now["services"][0][name].as_array().into_iter().flatten().filter_map(Value::as_u64);
    assert!(
        steps("trend").count() == 12 && steps("trend").sum::<u64>() > 0 && steps("errors").sum::<u64>() > 0,
        "{now}"
    );
    assert_eq!(now["usual_of"], "the hours of the last day");
    assert_eq!(now["marks"][0]["what"], "lease 120 s → 12 s");
    let (_, now) = ask(&service, &narrow, Method::GET, "/now", None).await?;
    assert!(!now.to_string().contains("access") && !now.to_string().contains("lease 120"), "{now}");
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_cursor_outlives_sealing_and_merging() -> Result<()> {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let (service, _) = with_events()?;
    let all: Vec<Value> = service.search("", &[])?.iter().map(|e| e["id"].clone()).collect();
    for order in ["newest", "oldest"] {
        let (mut found, mut cursor) = (Vec::new(), Value::Null);
        for turn in 0.. {
            let mut body = json!({"query": "", "order": order, "limit": 30});
            if !cursor.is_null() {
                body["cursor"] = cursor;
            }
            let (status, answer) = ask(&service, &service.token, Method::POST, "/search", Some(body)).await?;
            assert!(status.is_success(), "{answer}");
            found.extend(answer["events"].as_array().into_iter().flatten().map(|e| e["id"].clone()));
            cursor = answer["cursor"].clone();
            if cursor.is_null() {
                break;
            }
            // What the next page is read from is another thing each time: heads, chunks, merged chunks; and more came.
            match turn {
                0 => service.ok(&["admin", "seal"]).map(drop)?,
                1 => {
                    let late = json!({"time": "2020-01-01T00:00:00Z", "service": "slots", "msg": "not in the range"});
                    service.calvex_with(&["send", "--quiet"], format!("{late}\n").as_bytes()).map(drop)?;
                }
                2 => service.ok(&["admin", "merge"]).map(drop)?,
                _ => {}
            }
        }
        if order == "oldest" {
            found.reverse();
        }
        assert_eq!(found, all, "{order}");
    }
    Ok(())
}
