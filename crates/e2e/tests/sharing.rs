//! Many teams, one service: whoever reads a part of a lane gets by every path what a database would answer that holds
//! nothing else; grants end, glass is broken, and all of it stands in the trail.

#![allow(clippy::indexing_slicing, reason = "JSON is asked by place; what is missing is null and fails its assertion")]

use crate::teams::{as_person, asked, person};
use anyhow::{Context, Result, ensure};
use calvex_e2e::hostile::client;
use calvex_e2e::service::{PATIENCE, Service, wait_for};
use reqwest::Method;
use serde_json::{Map, Value, json};
use std::collections::BTreeMap;
use std::time::Instant;

/// What may be read: these rows, without this field.
const ROWS: &str = "service=slots or message*=\"handed over\"";
const HIDDEN: &str = "recipient.phone";
const TRACE: &str = "5b8aa5a2d2c872e8321cf37308d69df2";

/// Whether the plain meaning of [`ROWS`] admits an event.
fn is_admitted(event: &Value) -> bool {
    event["service"] == "slots" || event["msg"].as_str().is_some_and(|msg| msg.contains("handed over"))
}

fn events() -> Vec<Value> {
    let start = jiff::Timestamp::now() - jiff::SignedDuration::from_mins(20);
    let event = |n: i64| {
        let time = (start + jiff::SignedDuration::from_secs(n)).to_string();
        let service = ["slots", "access", "notify", "edge"][(n % 4) as usize];
        let message = match n % 7 {
            0 => format!("parcel PX-{n} handed over at BK-{}", n % 5),
            _ => format!("door {n} opened, {service}"),
        };
        let mut event = json!({
            "time": time, "service": service, "host": format!("{service}-{}", n % 3), "msg": message,
            "level": if n % 5 == 0 { "error" } else { "info" }, "took_ms": n * 3,
            "recipient": { "phone": format!("+46 70 {n:04}"), "floor": n % 4 },
            "parcel": { "id": format!("PX-{}", n % 11) },
            "stops": [{ "bank": format!("BK-{}", n % 5), "code": n }],
        });
        if n % 10 == 0 {
            event["trace"] = json!(TRACE);
            event[format!("only.{service}")] = json!(n);
        }
        if n % 5 == 0 {
            event["exception"] = json!({ "type": format!("{service}Timeout"), "message": "no answer" });
        }
        event
    };
    (0..400).map(event).collect()
}

async fn send(service: &Service, key: &str, events: &[Value]) -> Result<()> {
    let body: String = events.iter().map(|event| format!("{event}\n")).collect();
    let sent = client()?.post(format!("{}/v1/events", service.url)).bearer_auth(key).body(body).send().await?;
    ensure!(sent.status().is_success(), "{}", sent.text().await?);
    Ok(())
}

/// Bodies of the paths that read; none for a path that reads by its address.
fn questions(path: &str) -> Option<Vec<Value>> {
    let q = |query: &str| json!({ "query": query, "from": "now-2h" });
    let texts = [
        "",
        "door",
        "service=access",
        "has recipient.phone",
        "recipient.phone=\"+46 70 0004\"",
        "0004",
        "has only",
        "recipient.floor=2",
        "severity>=error",
        "stops.code>100",
        "not has recipient",
    ];
    let all = || texts.iter().map(|text| q(text)).collect::<Vec<_>>();
    let with = |more: Value| {
        let add = |mut body: Value| {
            body.as_object_mut().into_iter().for_each(|b| b.extend(more.as_object().cloned().unwrap_or_default()));
            body
        };
        all().into_iter().map(add).collect::<Vec<_>>()
    };
    Some(match path {
        "/search" => {
            [with(json!({ "sent": true, "limit": 500 })), with(json!({ "order": "oldest", "limit": 7 }))].concat()
        }
        "/histogram" | "/export" => all(),
        "/found-fields" => all(),
        "/errors" => with(json!({ "points": 4 })),
        "/measure" => [
            "measure count per service, host",
            "measure max(took_ms), p50(took_ms) per shape",
            "measure distinct(recipient.phone), count(has recipient.phone)",
            "measure count per recipient.phone top 3",
            "severity>=error measure count per error_group",
            "measure share(has trace) every 1m",
        ]
        .iter()
        .map(|m| q(m))
        .collect(),
        "/breakdown" => {
            with(json!({ "fields": ["service", "host", "recipient.phone", "recipient.floor", "shape", "stops.code"] }))
        }
        "/compare" => vec![json!({ "query": "severity>=error", "before_query": "", "from": "now-2h" })],
        "/complete" => ["rec", "recipient.", "service=", "recipient.phone=", "only", "host=acc"]
            .iter()
            .map(|text| json!({ "query": text, "at": text.len(), "from": "now-2h" }))
            .collect(),
        "/shape" => vec![
            json!({ "message": "door 4 opened, slots", "from": "now-2h" }),
            json!({ "message": "door 4 opened, access", "from": "now-2h" }),
        ],
        "/paste" => vec![json!({ "text": format!("{TRACE} PX-3 and PX-7") })],
        _ => return None,
    })
}

/// Paths whose answers are of who asks, of the service as a whole, or of no event; and those that change something.
const OTHERS: &[&str] = &[
    "/login",
    "/logout",
    "/redeem",
    "/me",
    "/me/password",
    "/me/sessions",
    "/me/sessions/{id}",
    "/tail",
    "/check",
    "/range",
    "/syntax",
    "/saved",
    "/saved/{name}",
    "/errors/{id}",
    "/ways-in",
    "/level",
    "/probe",
    "/lanes",
    "/lanes/{name}",
    "/lanes/{name}/readers",
    "/routes",
    "/keys",
    "/keys/{name}",
    "/keys/{name}/limits",
    "/keys/{name}/rotate",
    "/tokens",
    "/tokens/{name}",
    "/dials",
    "/dials/{id}",
    "/transforms",
    "/transforms/try",
    "/patterns/try",
    "/patterns/learn",
    "/ties",
    "/ties/{name}",
    "/people",
    "/people/{name}",
    "/people/{name}/code",
    "/people/{name}/sessions",
    "/teams",
    "/teams/{name}",
    "/grants",
    "/grants/{id}",
    "/break-glass",
    "/trail",
    "/trail/verify",
    "/nodes",
    "/nodes/{name}",
    "/secrets/rotate",
    "/expire",
    "/seal",
    "/merge",
    "/cache",
    "/chunks",
    "/chunks/{id}",
    "/rules",
    "/rules/apply",
    "/contacts",
    "/contacts/{name}/test",
    "/contacts/{name}",
    "/rules/check",
    "/rules/{id}/mute",
    "/rules/{id}",
    "/alerts",
    "/alerts/{id}",
    "/alerts/{id}/notes",
    "/messages",
    "/rules/{id}/versions",
    "/alerts/{id}/take",
    "/openapi.json",
    "/marks",
];

/// Paths that read by their address alone.
fn addresses(path: &str) -> Option<Vec<String>> {
    Some(match path {
        "/story/{id}" => [TRACE, "PX-3", "PX-7", "+46 70 0004"]
            .iter()
            .map(|id| format!("/story/{}", id.replace(' ', "%20").replace('+', "%2B")))
            .collect(),
        "/fields" => vec!["/fields".to_owned()],
        "/ties/proposals" => vec!["/ties/proposals".to_owned()],
        "/now" => vec!["/now".to_owned()],
        "/arrivals" => vec!["/arrivals".to_owned()],
        _ => return None,
    })
}

/// An answer without what is of the asking, its ids numbered anew.
fn told(text: &str) -> String {
    let mut numbers = BTreeMap::new();
    let lines = text.lines().map(|line| {
        let parsed: Value = serde_json::from_str(line).unwrap_or_else(|_| Value::String(line.to_owned()));
        stripped(parsed, &mut numbers).to_string()
    });
    lines.collect::<Vec<_>>().join("\n")
}

fn stripped(value: Value, numbers: &mut BTreeMap<String, usize>) -> Value {
    let is_of_asking =
        |name: &str| ["explain", "arrived", "cursor", "at", "range", "from_ns", "created"].contains(&name);
    match value {
        Value::Object(fields) => {
            let kept = fields.into_iter().filter(|(name, _)| !is_of_asking(name));
            Value::Object(
                kept.map(|(name, value)| {
                    let is_id =
                        name == "id" && value.as_str().is_some_and(|id| id.contains('-') && !id.starts_with("PX"));
                    let value = match value {
                        Value::String(id) if is_id => {
                            let next = numbers.len();
                            json!(*numbers.entry(id).or_insert(next))
                        }
                        value => stripped(value, numbers),
                    };
                    (name, value)
                })
                .collect::<Map<_, _>>(),
            )
        }
        Value::Array(list) => Value::Array(list.into_iter().map(|v| stripped(v, numbers)).collect()),
        other => other,
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_part_is_answered_as_if_there_were_nothing_else() -> Result<()> {
    let (whole, alone) = (Service::start(&[])?, Service::start(&[])?);
    let events = events();
    let left = events.iter().filter(|event| is_admitted(event)).cloned().map(|mut event| {
        event["recipient"].as_object_mut().map(|r| r.remove("phone"));
        event
    });
    let left: Vec<Value> = left.collect();
    let mut tokens = Vec::new();
    for (service, events) in [(&whole, &events), (&alone, &left)] {
        service.ok(&["tie", "add", "parcel", "parcel.id"])?;
        let key = service.ok(&["key", "new", "lockers", "--text"])?.trim().to_owned();
        send(service, &key, events).await?;
        wait_for("the events", || Ok((service.search("", &[])?.len() == events.len()).then_some(())))?;
        person(service, "olle", "reader").await?;
    }
    let part = ["grant", "give", "main", "--person", "olle", "--rows", ROWS, "--hide", HIDDEN];
    whole.ok(&part)?;
    alone.ok(&["grant", "give", "main", "--person", "olle"])?;
    for service in [&whole, &alone] {
        tokens.push(as_person(service, "olle", &["token", "new", "night", "--text"])?.trim().to_owned());
    }
    let shown = as_person(&whole, "olle", &["whoami", "--text"])?;
    assert_eq!(shown.trim(), format!("olle, reader, reads main where `{ROWS}` without {HIDDEN}"));
    let (_, description) = asked(&whole, &tokens[0], Method::GET, "/openapi.json", None).await?;
    let description: Value = serde_json::from_str(&description)?;
    for sealed in [false, true] {
        let mut compared = 0;
        for path in description["paths"].as_object().context("no paths")?.keys() {
            let Some(below) = path.strip_prefix("/api") else { continue };
            let asks: Vec<(Method, String, Option<Value>)> = match (questions(below), addresses(below)) {
                (Some(bodies), _) => bodies.into_iter().map(|b| (Method::POST, below.to_owned(), Some(b))).collect(),
                (None, Some(paths)) => paths.into_iter().map(|path| (Method::GET, path, None)).collect(),
                (None, None) if below == "/rules/rehearse" => continue,
                (None, None) => {
                    ensure!(OTHERS.contains(&below), "{below} is new: does it read events? say so in this test");
                    continue;
                }
            };
            for (method, path, body) in asks {
                let mut answers = Vec::new();
                for (service, token) in [&whole, &alone].into_iter().zip(&tokens) {
                    let (status, text) = asked(service, token, method.clone(), &path, body.as_ref()).await?;
                    ensure!(status == 200, "{path} {body:?}: {status} {text}");
                    let asked = format!("{path} {}", body.as_ref().map_or_else(String::new, Value::to_string));
                    ensure!(!text.contains("+46 70 0") || asked.contains("46"), "{asked} shows a phone: {text}");
                    answers.push(told(&text));
                }
                // What was counted over rows that may not be read is not shown at all.
                if below == "/arrivals" {
                    ensure!(answers[0].contains("\"arrivals\":[]"), "{}", answers[0]);
                    continue;
                }
                ensure!(answers[0] == answers[1], "{path} {body:?}, sealed {sealed}:\n{}\n{}", answers[0], answers[1]);
                compared += 1;
            }
        }
        assert!(compared > 90, "{compared} answers were compared");
        whole.ok(&["admin", "seal"])?;
        alone.ok(&["admin", "seal"])?;
    }
    // What comes is followed in part too, and nothing is said of how much was read.
    let mut tail =
        client()?.post(format!("{}/api/tail", whole.url)).bearer_auth(&tokens[0]).json(&json!({ "query": "" }));
    let mut tail = {
        tail = tail.timeout(PATIENCE);
        tail.send().await?
    };
    let first = tail.chunk().await?.context("nothing")?;
    assert!(String::from_utf8_lossy(&first).contains("ready"));
    let fresh =
        |service: &str| json!({ "service": service, "msg": "fresh", "recipient": { "phone": "+46 1", "floor": 9 } });
    send(&whole, &whole.key, &[fresh("access"), fresh("slots")]).await?;
    let mut seen = String::new();
    while !seen.contains("fresh") {
        seen.push_str(&String::from_utf8_lossy(&tail.chunk().await?.context("the tail ended")?));
    }
    assert!(
        seen.contains("slots") && seen.contains("floor") && !seen.contains("access") && !seen.contains("+46"),
        "{seen}"
    );
    let ask = json!({ "query": "door", "from": "now-2h" });
    let (_, text) = asked(&whole, &tokens[0], Method::POST, "/search", Some(&ask)).await?;
    let explain = serde_json::from_str::<Value>(&text)?["explain"].clone();
    for counter in ["chunks", "chunks_read", "pages_scanned", "rows_looked_at", "segments_read", "pages_skipped"] {
        assert_eq!(explain[counter], 0, "{counter} in {explain}");
    }
    let metrics = client()?.get(format!("{}/metrics", whole.url)).bearer_auth(&tokens[0]).send().await?.text().await?;
    assert!(!metrics.contains("lane=\"main\""), "a part of a lane has no counters");
    Ok(())
}

/// Waits until a stream of an answer has ended.
async fn drained(mut answer: reqwest::Response) -> Result<String> {
    let until = Instant::now() + PATIENCE;
    let mut text = String::new();
    while let Some(piece) = answer.chunk().await? {
        text.push_str(&String::from_utf8_lossy(&piece));
        ensure!(Instant::now() < until, "it goes on");
    }
    Ok(text)
}

#[tokio::test(flavor = "multi_thread")]
async fn grants_end_glass_is_broken_and_all_is_on_record() -> Result<()> {
    let service = Service::start(&[])?;
    for (name, role) in [("olle", "reader"), ("ines", "reader"), ("vera", "auditor")] {
        person(&service, name, role).await?;
    }
    let team = ["team", "set", "lockers", "--person", "ines", "--on-call", "yes"];
    service.ok(&team)?;
    service.ok(&["lane", "set", "audit", "--days", "400", "--audited", "yes"])?;
    service.ok(&["route", "add", "service=access", "audit"])?;
    let event =
        |n: u32| json!({ "service": if n.is_multiple_of(2) { "access" } else { "slots" }, "msg": format!("door {n}") });
    let many: Vec<Value> = (0..200).map(event).collect();
    send(&service, &service.key, &many).await?;
    wait_for("the events", || Ok((service.search("", &[])?.len() == 200).then_some(())))?;

    // Nothing is read without a grant, by an administrator neither.
    let none = as_person(&service, "olle", &["whoami", "--text"])?;
    assert_eq!(none.trim(), "olle, reader, reads nothing");
    person(&service, "ada", "admin").await?;
    assert_eq!(as_person(&service, "ada", &["whoami", "--text"])?.trim(), "ada, admin, reads nothing");
    assert_eq!(as_person(&service, "ada", &["search", "", "--json"])?, "");
    let refused = as_person(&service, "ada", &["grant", "give", "main", "--person", "ada"]);
    assert!(refused.is_err_and(|e| e.to_string().contains("not yours to share")), "an administrator helps herself");

    // A grant on a part; both sides see it; it ends, and what lasts by it ends with it.
    let id =
        service.ok(&["grant", "give", "main", "--person", "olle", "--for", "30d", "--why", "partner", "--text"])?;
    let token = as_person(&service, "olle", &["token", "new", "--text"])?.trim().to_owned();
    let tail = client()?.post(format!("{}/api/tail", service.url)).bearer_auth(&token).json(&json!({ "query": "" }));
    let tail = tail.send().await?;
    assert!(tail.status().is_success());
    assert!(as_person(&service, "olle", &["grant", "list", "--text"])?.contains("partner"));
    assert_eq!(as_person(&service, "olle", &["search", "door", "--json"])?.lines().count(), 100);
    as_person(&service, "olle", &["grant", "end", id.trim()])?;
    // It follows on, and gets nothing more; with the token itself it ends.
    assert_eq!(as_person(&service, "olle", &["search", "door", "--json"])?, "");
    service.ok(&["person", "disable", "olle"])?;
    drained(tail).await?;

    // On call, somebody reads a lane for an hour; others do not.
    let alone = as_person(&service, "ada", &["grant", "break-glass", "audit", "--why", "curious"]);
    assert!(alone.is_err_and(|e| e.to_string().contains("on call")));
    let broken = as_person(&service, "ines", &["grant", "break-glass", "audit", "--why", "doors stay shut", "--text"])?;
    assert!(broken.contains("you read audit until"), "{broken}");
    assert_eq!(as_person(&service, "ines", &["search", "door", "--json"])?.lines().count(), 100);
    let readers = service.ok(&["grant", "readers", "audit", "--text"])?;
    assert!(readers.contains("ines") && readers.contains("glass broken by ines: doors stay shut"), "{readers}");

    // The trail: what was done, what it was before, each read of the lane that asks for it; and its links hold.
    let trail = as_person(&service, "vera", &["audit", "--limit", "200", "--text"])?;
    for part in
        ["break glass", "doors stay shut", "give grant", "end grant", "read lane", "search `door`", "100 events passed"]
    {
        assert!(trail.contains(part), "{part} is not in:\n{trail}");
    }
    assert!(as_person(&service, "ines", &["audit"]).is_err(), "the trail is read by auditors");
    assert!(
        as_person(&service, "vera", &["audit", "doors stay shut", "--who", "ines", "--text"])?.contains("break glass")
    );
    let verified = as_person(&service, "vera", &["admin", "audit", "verify", "--text"])?;
    assert!(verified.contains("entries hold"), "{verified}");
    service.sql("UPDATE audit SET what = 'main: curious' WHERE act = 'break glass'")?;
    let broken = as_person(&service, "vera", &["admin", "audit", "verify"]);
    assert!(broken.is_err_and(|e| e.to_string().contains("is not as it was written")));
    Ok(())
}

/// An export that is under way when its grant ends: it ends too, and says so instead of passing for whole.
#[tokio::test(flavor = "multi_thread")]
async fn an_export_ends_with_its_grant() -> Result<()> {
    let service = Service::start(&[])?;
    person(&service, "olle", "reader").await?;
    let id = service.ok(&["grant", "give", "main", "--person", "olle", "--text"])?;
    let token = as_person(&service, "olle", &["token", "new", "--text"])?.trim().to_owned();
    // More than waits in buffers on the way.
    let event =
        |n: u32| json!({ "service": "slots", "msg": format!("door {n}"), "note": format!("{n:x}").repeat(200) });
    for batch in 0..10 {
        let many: Vec<Value> = (0..3000).map(|n| event(batch * 3000 + n)).collect();
        send(&service, &service.key, &many).await?;
    }
    let ask = json!({ "query": "", "from": "now-1h" });
    let mut export =
        client()?.post(format!("{}/api/export", service.url)).bearer_auth(&token).json(&ask).send().await?;
    ensure!(export.status().is_success());
    export.chunk().await?.context("nothing comes")?;
    service.ok(&["grant", "end", id.trim()])?;
    // Read as slowly as somebody who does other things between: it is over long before all could be read so.
    let (began, mut last) = (Instant::now(), Vec::new());
    while let Some(piece) = export.chunk().await? {
        last = [last.split_off(last.len().saturating_sub(4096)), piece.to_vec()].concat();
        service.ok(&["lane", "list"])?;
        ensure!(began.elapsed() < PATIENCE, "it goes on");
    }
    let last = String::from_utf8_lossy(&last).lines().last().unwrap_or("").to_owned();
    assert!(last.contains("has changed meanwhile") && !last.contains("\"account\""), "{last}");
    Ok(())
}
