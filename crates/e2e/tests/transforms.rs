//! What is done to events on purpose before they are kept: transform rules, dials, quotas, limits of keys, ties. By the real
//! client against the real service.

use anyhow::{Context, Result};
use calvex_e2e::service::{Service, on_disk, wait_for};
use reqwest::StatusCode;
use serde_json::{Value, json};

fn rows(output: &str) -> Vec<Value> {
    output.lines().filter_map(|line| serde_json::from_str(line).ok()).collect()
}

/// Sends lines with the service's key, or another; returns what came on standard error.
fn send(service: &Service, key: Option<&str>, lines: &[Value]) -> Result<(Option<i32>, String)> {
    let text: String = lines.iter().map(|l| format!("{l}\n")).collect();
    let key = key.unwrap_or(&service.key);
    let sent = service.calvex_with(&["send", "--quiet", "--key", key], text.as_bytes())?;
    Ok((sent.status.code(), String::from_utf8_lossy(&sent.stderr).into_owned()))
}

const MAIL: &str = "tore.hidden@fennmark.example";
const PIN: &str = "hidden-pin-8812";

#[test]
fn rules_transform_what_comes() -> Result<()> {
    let mut service = Service::start(&[])?;
    service.ok(&["lane", "set", "quiet", "--days", "7"])?;
    let add = |args: &[&str]| service.ok(&[&["transform", "add"], args].concat());
    let belts = "{time} {severity} belt {number belt}: {rest message}";
    add(&["lines", "--when", "service=sorter", "cut", belts])?;
    add(&["site", "--when", "has belt", "stamp", "hall=north", "row=3"])?;
    add(&["mail", "mask", "--detect", "mail", "--hash"])?;
    add(&["pins", "mask", "--field", "user.pin"])?;
    add(&["away", "--when", "belt=4", "move", "quiet"])?;
    add(&["noise", "--when", "severity=debug", "--before", "lines", "set-aside"])?;
    add(&["never", "--when", "service=nobody", "drop", "x"])?;
    let names = |listed: &str| rows(listed).iter().map(|r| r["rule"]["name"].to_string()).collect::<Vec<_>>().join(" ");
    let listed = service.ok(&["transform", "list", "--json"])?;
    assert_eq!(names(&listed), r#""noise" "lines" "site" "mail" "pins" "away" "never""#);

    // A mistake is reported with its rule and place, and changes nothing.
    let wrong = service.calvex(&["transform", "add", "bad", "--when", "severity>=", "drop", "x"])?;
    assert_eq!(wrong.status.code(), Some(2));
    let reported = String::from_utf8_lossy(&wrong.stderr).into_owned();
    assert!(reported.contains("rule `bad`, when: column 11"), "{reported}");

    // Tried, nothing is stored.
    let line = "2026-10-04 02:38:41,198 WARN belt 4: jam, told tore.hidden@fennmark.example";
    let tried = service.calvex_with(
        &["transform", "try", "-", "--text"],
        format!("{{\"service\":\"sorter\",\"msg\":\"{line}\"}}\n").as_bytes(),
    )?;
    let reported = String::from_utf8_lossy(&tried.stdout).into_owned();
    assert!(reported.contains("stored in lane quiet") && reported.contains("belt: – → 4"), "{reported}");
    assert!(reported.contains("never: its filter does not hold"), "{reported}");

    let now = jiff::Timestamp::now().to_string();
    let events = [
        json!({"time": now, "service": "sorter", "msg": line.replace("2026-10-04 02:38:41,198", &now)}),
        json!({"time": now, "service": "sorter", "msg": "belt 5 stands"}),
        json!({"time": now, "service": "edge", "msg": format!("sent to {MAIL}, again {MAIL}"), "user": {"pin": PIN, "id": 17}}),
        json!({"time": now, "service": "edge", "level": "debug", "msg": "nobody asked"}),
    ];
    send(&service, None, &events)?;
    service
        .calvex_with(&["send", "--quiet"], format!("{{\"msg\":\"broken\",\"user\":{{\"pin\":\"{PIN}\"").as_bytes())?;
    let found = wait_for("what was sent", || Ok(Some(service.search("", &[])?).filter(|f| f.len() == 3)))?;
    let of = |message: &str| {
        let is = |e: &&Value| e["message"].as_str().is_some_and(|m| m.starts_with(message));
        found.iter().find(is).cloned().with_context(|| format!("no event begins {message}: {found:#?}"))
    };
    let jam = of("jam")?;
    assert_eq!(
        (&jam["severity"], &jam["lane"], &jam["transformed"]),
        (&json!("warn"), &json!("quiet"), &json!(["lines", "site", "mail"]))
    );
    assert_eq!(
        (&jam["fields"]["belt"], &jam["fields"]["row"], &jam["fields"]["hall"]),
        (&json!(4), &json!(3), &json!("north"))
    );
    assert_eq!(of("belt 5")?.get("transformed"), None, "no pattern fits it");
    let sent = of("sent")?;
    assert_eq!((&sent["fields"]["user"]["pin"], &sent["fields"]["user"]["id"]), (&json!("•••"), &json!(17)));
    let words: Vec<&str> =
        sent["message"].as_str().unwrap_or("").split([' ', ',']).filter(|w| w.starts_with("masked_")).collect();
    assert!(words.len() == 2 && words[0] == words[1], "{sent}");
    // Equal secrets still correlate, across services.
    assert_eq!(service.search(words[0], &[])?.len(), 2);
    assert_eq!(service.search("transformed=mail", &[])?.len(), 2);

    // The account says what was not stored, and by which rule; rules say how often they were applied.
    let reported = rows(&service.ok(&["arrivals", "--json"])?);
    let aside = reported.iter().find(|r| r["cause"] == "rule noise").context("nothing was set aside")?;
    assert_eq!((&aside["service"], &aside["events"], &aside["lane"]), (&json!("edge"), &json!(1), &json!("main")));
    let listed = rows(&service.ok(&["transform", "list", "--json"])?);
    let held: Vec<_> = listed.iter().map(|r| r["held"].as_u64()).collect();
    assert_eq!(held, [Some(1), Some(1), Some(1), Some(2), Some(1), Some(1), Some(0)], "{listed:#?}");
    assert!(listed[6]["last"].is_null());

    // A rule removed is not applied any more.
    service.ok(&["transform", "remove", "noise"])?;
    send(&service, None, &events[3..])?;
    wait_for("the debug event", || Ok(Some(service.search("nobody", &[])?).filter(|f| f.len() == 1)))?;

    // What was masked is nowhere: not in journal, chunks, samples or logs.
    service.ok(&["admin", "seal"])?;
    service.stop()?;
    for secret in [MAIL, PIN] {
        assert!(!on_disk(&service.dir, secret), "{secret} stands on the disk");
    }
    assert!(on_disk(&service.dir, "not-json"), "the test can find what is there");
    service.restart()?;
    assert_eq!(service.search("transformed=lines belt=4", &[])?.len(), 1);
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn dials_turn_senders_down_and_end_by_themselves() -> Result<()> {
    let service = Service::start(&[])?;
    let _ = rustls::crypto::ring::default_provider().install_default();
    let http = reqwest::Client::new();
    let poll = |tag: Option<String>| {
        let ask = http.get(format!("{}/v1/dials?service=slots&host=slots-1", service.url)).bearer_auth(&service.key);
        match tag {
            Some(tag) => ask.header("if-none-match", tag),
            None => ask,
        }
        .send()
    };
    let first = poll(None).await?;
    let tag = first.headers()["etag"].to_str()?.to_owned();
    let reported: Value = first.json().await?;
    assert_eq!((&reported["least"], &reported["lowest"]), (&json!(null), &json!(null)));
    assert_eq!(poll(Some(tag.clone())).await?.status(), StatusCode::NOT_MODIFIED);

    service.ok(&["dial", "set", "service=slots", "error", "--why", "too much"])?;
    let span = "8s";
    let set =
        service.ok(&["dial", "set", "service=slots logger^=\"slots.lease\"", "debug", "--for", span, "--text"])?;
    assert!(set.contains("dial 2: debug and above"), "{set}");
    let answer = poll(Some(tag)).await?;
    assert_eq!(answer.status(), StatusCode::OK, "it changed");
    let reported: Value = answer.json().await?;
    assert_eq!((&reported["least"], &reported["lowest"]), (&json!("error"), &json!("debug")));
    assert_eq!(reported["within"][0]["when"], "logger^=\"slots.lease\"");
    let nobody = http.get(format!("{}/v1/dials?service=slots", service.url)).send().await?;
    assert_eq!(nobody.status(), StatusCode::UNAUTHORIZED);

    let event = |n: usize, level: &str, logger: &str| json!({"time": jiff::Timestamp::now().to_string(), "service": "slots", "level": level, "logger": logger, "msg": format!("say {n}")});
    send(
        &service,
        None,
        &[event(1, "info", "slots.door"), event(2, "debug", "slots.lease.timer"), event(3, "error", "slots.door")],
    )?;
    let kept = |n: usize| wait_for("events", || Ok(Some(service.search("say", &[])?).filter(|f| f.len() == n)));
    kept(2)?;
    // After its end the other dial holds again: what it let through is set aside.
    wait_for("the end of the dial", || {
        let listed = rows(&service.ok(&["dial", "list", "--json"])?);
        Ok(listed.iter().any(|d| d["id"] == 2 && d["in_force"] == false).then_some(()))
    })?;
    send(&service, None, &[event(4, "debug", "slots.lease.timer"), event(5, "error", "slots.lease.timer")])?;
    kept(3)?;
    let reported: Value = poll(None).await?.json().await?;
    assert_eq!((&reported["within"], &reported["lowest"]), (&json!([]), &json!("error")));
    let aside = rows(&service.ok(&["arrivals", "slots", "--json"])?);
    let by: u64 = aside.iter().filter(|r| r["cause"] == "dial 1").filter_map(|r| r["events"].as_u64()).sum();
    assert_eq!(by, 2);
    service.ok(&["dial", "remove", "1"])?;
    send(&service, None, &[event(6, "trace", "slots.door")])?;
    kept(4)?;
    assert_eq!(service.calvex(&["dial", "set", "service=slots", "loud"])?.status.code(), Some(2));
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn keys_are_limited_rotated_and_end() -> Result<()> {
    let service = Service::start(&[])?;
    service.ok(&["lane", "set", "audit", "--days", "400"])?;
    service.ok(&["route", "add", "service=access", "audit"])?;
    let _ = rustls::crypto::ring::default_provider().install_default();
    let http = reqwest::Client::new();
    let event = |service: &str, n: u64| json!({"time": jiff::Timestamp::now().to_string(), "service": service, "msg": format!("say {n}")});
    let post = |key: &str, events: &[Value]| {
        let body: String = events.iter().map(|e| format!("{e}\n")).collect();
        http.post(format!("{}/v1/events", service.url)).bearer_auth(key).body(body).send()
    };
    let new = |args: &[&str]| {
        Ok::<_, anyhow::Error>(service.ok(&[&["key", "new", "--text"], args].concat())?.trim().to_owned())
    };

    // For two services and one lane.
    let key = new(&["slots-prod", "--service", "slots", "--service", "access", "--lane", "main"])?;
    let answer: Value = post(&key, &[event("slots", 1), event("edge", 2), event("access", 3)]).await?.json().await?;
    assert_eq!((&answer["stored"], &answer["refused"]), (&json!(1), &json!(2)));
    let reasons: Vec<&str> = (0..2).filter_map(|n| answer["refusals"][n]["reason"].as_str()).collect();
    assert_eq!(reasons, ["service-not-allowed", "lane-not-allowed"]);
    assert_eq!(answer["refusals"][0]["line"], 2);

    // A daily quota sets aside; a lane's too.
    service.ok(&["key", "limit", "slots-prod", "--day-events", "3"])?;
    let answer: Value = post(&key, &(10..15).map(|n| event("slots", n)).collect::<Vec<_>>()).await?.json().await?;
    assert_eq!((&answer["stored"], &answer["set_aside"]), (&json!(2), &json!(3)));
    service.ok(&["lane", "set", "audit", "--days", "400", "--day-events", "1"])?;
    let answer: Value = post(&service.key, &[event("access", 20), event("access", 21)]).await?.json().await?;
    assert_eq!((&answer["stored"], &answer["set_aside"]), (&json!(1), &json!(1)));
    let reported = rows(&service.ok(&["arrivals", "--json"])?);
    let aside = |cause: &str| reported.iter().find(|r| r["cause"] == cause).and_then(|r| r["events"].as_u64());
    assert_eq!(aside("daily quota of the key"), Some(3));
    assert_eq!(aside("daily quota of lane audit"), Some(1));

    // A rate: one large batch may pass, the next waits, and says how long.
    let quick = new(&["quick", "--per-second", "10"])?;
    assert_eq!(post(&quick, &(0..200).map(|n| event("edge", n)).collect::<Vec<_>>()).await?.status(), StatusCode::OK);
    let held = post(&quick, &[event("edge", 300)]).await?;
    assert_eq!(held.status(), StatusCode::TOO_MANY_REQUESTS);
    let wait: u32 = held.headers()["retry-after"].to_str()?.parse()?;
    assert!((1..=20).contains(&wait), "{wait}");
    let others = post(&service.key, &[event("edge", 301)]).await?;
    assert_eq!(others.status(), StatusCode::OK, "one sender's rate is its own");

    // Another secret: both work, then only the new one.
    let second = service.ok(&["key", "rotate", "slots-prod", "--overlap", "1h", "--text"])?.trim().to_owned();
    service.ok(&["key", "limit", "slots-prod"])?;
    for key in [&key, &second] {
        assert_eq!(post(key, &[event("slots", 40)]).await?.status(), StatusCode::OK);
    }
    let third = service.ok(&["key", "rotate", "slots-prod", "--overlap", "0", "--text"])?.trim().to_owned();
    for (key, status) in
        [(&key, StatusCode::UNAUTHORIZED), (&second, StatusCode::UNAUTHORIZED), (&third, StatusCode::OK)]
    {
        assert_eq!(post(key, &[event("slots", 41)]).await?.status(), status);
    }
    let listed = rows(&service.ok(&["key", "list", "--json"])?);
    let of = |name: &str| listed.iter().find(|k| k["name"] == name).cloned().unwrap_or_default();
    assert_eq!(of("slots-prod")["secrets"].as_array().map(Vec::len), Some(3));
    assert!(of("slots-prod")["last_used"].is_string() && of("slots-prod")["state"] == "in use");

    // An end.
    let brief = new(&["brief", "--expires-in", "6s"])?;
    assert_eq!(post(&brief, &[event("edge", 50)]).await?.status(), StatusCode::OK);
    wait_for("the key's end", || {
        let listed = rows(&service.ok(&["key", "list", "--json"])?);
        Ok(listed.iter().any(|k| k["name"] == "brief" && k["state"] == "ended").then_some(()))
    })?;
    let ended = post(&brief, &[event("edge", 51)]).await?;
    assert_eq!(ended.status(), StatusCode::UNAUTHORIZED);
    assert!(ended.text().await?.contains("calvex key rotate"));
    Ok(())
}

#[test]
fn one_id_by_many_spellings() -> Result<()> {
    let service = Service::start(&[])?;
    let now = jiff::Timestamp::now().to_string();
    let mut events = Vec::new();
    for n in 0..8 {
        let id = format!("PX-{n}");
        events.push(json!({"time": now, "service": "edge", "msg": "dropped", "parcelId": id}));
        events.push(json!({"time": now, "service": "parcels", "msg": "taken", "parcel": {"id": id}, "n": 5}));
        events.push(json!({"time": now, "service": "courier", "msg": "carried", "load": id, "n": "five"}));
        let header = json!({"x-parcel-id": [id]});
        events.push(json!({"time": now, "service": "notify", "msg": "told", "http": {"request": {"header": header}}}));
    }
    send(&service, None, &events)?;
    wait_for("all events", || Ok(Some(service.search("", &[])?).filter(|f| f.len() == events.len())))?;
    assert_eq!(service.search("parcel=PX-3", &[])?.len(), 0, "no tie yet");
    service.ok(&["tie", "add", "parcel", "parcel_id"])?;
    for sealed in [false, true] {
        if sealed {
            service.ok(&["admin", "seal"])?;
        }
        assert_eq!(service.search("parcel=PX-3", &[])?.len(), 3, "sealed: {sealed}");
        assert_eq!(service.search("has parcel", &[])?.len(), 24);
        let groups = rows(&service.ok(&["search", "--json", "measure count per parcel top 3"])?);
        assert_eq!(groups[0]["count"].as_u64().or_else(|| groups[0]["total"][0].as_u64()), Some(8), "{groups:?}");
    }
    let proposed = rows(&service.ok(&["tie", "propose", "--json"])?);
    assert_eq!(proposed.len(), 1, "{proposed:?}");
    assert_eq!(
        (&proposed[0]["tie"], &proposed[0]["spelling"], &proposed[0]["shared"]),
        (&json!("parcel"), &json!("load"), &json!(8))
    );
    service.ok(&["tie", "add", "parcel", "load"])?;
    assert_eq!(service.search("parcel=PX-3", &[])?.len(), 4);
    assert_eq!(service.calvex(&["tie", "propose"])?.status.code(), Some(1));
    assert_eq!(service.calvex(&["tie", "add", "other", "load"])?.status.code(), Some(2), "it means one tie");
    service.ok(&["tie", "remove", "parcel", "load"])?;
    assert_eq!(service.search("parcel=PX-3", &[])?.len(), 3);

    // The catalogue knows all of it.
    let fields = rows(&service.ok(&["fields", "main", "--json"])?);
    let of = |name: &str| fields.iter().find(|f| f["field"] == name).cloned().unwrap_or_default();
    assert_eq!((&of("parcel.id")["tie"], &of("parcel.id")["distinct"]), (&json!("parcel"), &json!(8)));
    assert_eq!((&of("n")["types"], &of("n")["conflicting"]), (&json!(["integer", "text"]), &json!(true)));
    assert_eq!(of("parcel.id")["share"], json!(0.25));
    let narrow = service
        .ok(&["lane", "set", "audit", "--days", "7"])
        .and_then(|_| service.ok(&["token", "new", "--lane", "audit", "--text"]))?;
    let none = service.calvex(&["fields", "--token", narrow.trim()])?;
    assert_eq!(none.status.code(), Some(1), "fields of lanes one may not read are not reported");
    Ok(())
}
