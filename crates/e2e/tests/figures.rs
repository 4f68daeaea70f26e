//! Figures through the real binary: measures, breakdown and streams give one answer from head, chunks and merged chunks,
//! and a chunk explains itself.
#![allow(clippy::unwrap_used, reason = "a test may end where it stands")]

use calvex_e2e::service::Service;
use serde_json::{Value, json};

fn lines(from: usize, count: usize) -> String {
    let now = jiff::Timestamp::now();
    (from..from + count)
        .map(|n| {
            let time = now - jiff::SignedDuration::from_secs(60);
            let service = ["slots", "edge", "codes"][n % 3];
            let level = if n % 10 == 0 { "error" } else { "info" };
            json!({ "time": time.to_string(), "level": level, "service": service, "took_ms": n % 100,
                    "message": format!("door {n} opened"), "slot": { "bank": format!("BK-{:03}", n % 4) } })
            .to_string()
                + "\n"
        })
        .collect()
}

async fn post(service: &Service, path: &str, body: Value, accept: &str) -> String {
    let client = reqwest::Client::builder().no_proxy().build().unwrap();
    let request = client.post(format!("{}{path}", service.url)).bearer_auth(&service.token).header("accept", accept);
    request.json(&body).send().await.unwrap().text().await.unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn one_answer_from_head_chunk_and_merged() {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let service = Service::start(&[]).unwrap();
    let mut sent = 0;
    for round in 0..3 {
        let send = service.calvex_with(&["send", "-"], lines(sent, 600).as_bytes()).unwrap();
        assert!(send.status.success(), "{}", String::from_utf8_lossy(&send.stderr));
        sent += 600;
        if round > 0 {
            service.ok(&["admin", "seal"]).unwrap();
        }
        check(&service, sent).await;
    }
    // Two chunks and no head; then one chunk; then with nothing in any cache.
    service.ok(&["admin", "merge"]).unwrap();
    let chunks = service.ok(&["admin", "chunk", "--json"]).unwrap();
    assert_eq!(chunks.lines().count(), 1, "{chunks}");
    check(&service, sent).await;
    service.ok(&["admin", "forget"]).unwrap();
    check(&service, sent).await;

    let chunk: Value = serde_json::from_str(chunks.lines().next().unwrap()).unwrap();
    let shown = service.ok(&["admin", "chunk", chunk["id"].as_str().unwrap(), "--text"]).unwrap();
    for reported in ["1800 events", "slot.bank", "message", "bytes/event", "filter"] {
        assert!(shown.contains(reported), "{reported} is not in {shown}");
    }
    assert_eq!(service.calvex(&["admin", "chunk", "ff"]).unwrap().status.code(), Some(2));
    let nothing = service.calvex(&["search", "nowhere measure count"]).unwrap();
    assert_eq!(nothing.status.code(), Some(1), "figures of no events are nothing found");
}

async fn check(service: &Service, sent: usize) {
    let query = "measure count, count(severity>=error) as bad, max(took_ms), p50(took_ms) per service";
    let reported = service.ok(&["search", "--json", query]).unwrap();
    let rows: Vec<Value> = reported.lines().map(|l| serde_json::from_str(l).unwrap()).collect();
    assert_eq!(rows.len(), 3);
    for row in &rows {
        assert_eq!(row["count"], sent / 3, "{row}");
        assert_eq!(row["bad"], sent / 30, "{row}");
        assert!(row["max(took_ms)"].as_u64().unwrap() >= 97 && row["p50(took_ms)"].as_f64().unwrap() > 40.0, "{row}");
    }
    let shapes = service.ok(&["search", "--text", "measure count per shape"]).unwrap();
    assert!(shapes.contains("door ‹› opened"), "{shapes}");
    let ask = json!({ "query": "", "fields": ["slot.bank", "severity"], "top": 2 });
    let answer: Value = serde_json::from_str(&post(service, "/api/breakdown", ask, "*/*").await).unwrap();
    assert_eq!(answer["events"], sent);
    assert_eq!(answer["fields"][0]["top"][0], json!({ "value": "BK-000", "count": sent / 4 }));
    assert_eq!(answer["fields"][1]["top"][0], json!({ "value": "info", "count": sent * 9 / 10 }));

    let ask = json!({ "query": "opened", "limit": 5 });
    let streamed = post(service, "/api/search", ask, "application/x-ndjson").await;
    let lines: Vec<Value> = streamed.lines().map(|l| serde_json::from_str(l).unwrap()).collect();
    let (last, before) = lines.split_last().unwrap();
    let events = last["answer"]["events"].as_array().unwrap();
    assert_eq!(events.len(), 5);
    let reported: Vec<&Value> = before.iter().filter_map(|l| l["events"].as_array()).flatten().collect();
    assert_eq!(reported, events.iter().collect::<Vec<_>>(), "what is streamed is the answer, in its order");
    assert!(before.iter().any(|l| l["progress"]["done"].as_u64().is_some_and(|n| n > 0)));
    let wrong = post(service, "/api/measure", json!({ "query": "opened" }), "application/x-ndjson").await;
    assert!(wrong.contains("problem") && wrong.contains("no `measure`"), "{wrong}");
}
