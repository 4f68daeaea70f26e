//! Transform rules, routes and dials of teams: they hold for what the team's keys send, and give nobody more than grants do.

use crate::teams::{as_person, asked, person};
use anyhow::{Context, Result, ensure};
use calvex_e2e::hostile::client;
use calvex_e2e::service::{Service, wait_for};
use reqwest::Method;
use serde_json::{Value, json};

async fn send(service: &Service, key: &str, message: &str) -> Result<()> {
    let event = json!({ "service": "slots", "severity": "debug", "message": message });
    let request = client()?.post(format!("{}/v1/events", service.url)).bearer_auth(key.trim());
    let answer = request.body(format!("{event}\n")).send().await?;
    ensure!(answer.status().is_success(), "{}", answer.text().await?);
    Ok(())
}

/// The one event with this word, once it is there.
fn found(service: &Service, word: &str) -> Result<Value> {
    wait_for(word, || Ok(service.search(word, &[])?.into_iter().next()))
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_team_sets_holds_for_what_its_keys_send() -> Result<()> {
    let service = Service::start(&[])?;
    for name in ["olle", "tore"] {
        person(&service, name, "reader").await?;
    }
    service.ok(&["team", "set", "lockers", "--person", "olle"])?;
    service.ok(&["team", "set", "couriers", "--person", "tore"])?;
    service.ok(&["lane", "set", "devices", "--days", "14", "--owner", "lockers"])?;
    // Its administrator reads it for this test.
    as_person(&service, "olle", &["grant", "give", "devices", "--person", "admin"])?;
    let own = service.ok(&["key", "new", "agents", "--team", "lockers", "--text"])?;
    let olle = |args: &[&str]| as_person(&service, "olle", &[args, &["--team", "lockers"]].concat());
    olle(&["route", "add", "service=slots", "devices"])?;
    olle(&["transform", "add", "north", "stamp", "region=north"])?;
    send(&service, &own, "ownword").await?;
    send(&service, &service.key, "otherword").await?;
    let (of_team, of_others) = (found(&service, "ownword")?, found(&service, "otherword")?);
    assert_eq!((of_team["lane"].as_str(), of_others["lane"].as_str()), (Some("devices"), Some("main")));
    assert_eq!(of_team["fields"]["region"], "north");
    assert!(of_others["fields"]["region"].is_null(), "{of_others}");
    // What it tries is its own rules, and what it set is shown to it alone.
    let listed = as_person(&service, "olle", &["transform", "list", "--json"])?;
    assert!(listed.contains("\"team\":\"lockers\"") && listed.lines().count() == 1, "{listed}");
    for list in ["transform", "route", "dial"] {
        assert_eq!(as_person(&service, "tore", &[list, "list", "--json"])?, "", "{list}");
    }
    // The service's routes go before a team's.
    service.ok(&["lane", "set", "kept", "--days", "14"])?;
    service.ok(&["route", "add", "firstword", "kept"])?;
    send(&service, &own, "firstword").await?;
    assert_eq!(found(&service, "firstword")?["lane"], "kept");
    // A dial of the team sets aside its own alone.
    olle(&["dial", "set", "service=slots", "info", "--why", "belts are cleaned"])?;
    send(&service, &own, "quietword").await?;
    send(&service, &service.key, "loudword").await?;
    found(&service, "loudword")?;
    assert!(service.search("quietword", &[])?.is_empty());
    // Nobody sets what is not theirs, or sends where they may not.
    let token =
        as_person(&service, "olle", &["token", "new", "ci", "--team", "lockers", "--for", "configure", "--text"])?;
    let token = token.trim();
    let dial = json!({ "when": "service=edge", "least": "info" });
    let (status, set) = asked(&service, &service.token, Method::POST, "/dials", Some(&dial)).await?;
    ensure!(status == 200, "{set}");
    let of_service = serde_json::from_str::<Value>(&set)?["id"].as_u64().context("a number")?;
    let refused = |args: &[&str]| as_person(&service, "tore", args).is_err();
    assert!(refused(&["route", "add", "", "main"]) && refused(&["route", "add", "", "main", "--team", "lockers"]));
    assert!(refused(&["route", "add", "", "devices", "--team", "couriers"]));
    assert!(refused(&["transform", "add", "north", "stamp", "region=south", "--team", "couriers"]));
    for (what, method, path, body, expected) in [
        ("the service's routes", Method::PUT, "/routes", json!([]), 200..300),
        (
            "a lane that it does not configure",
            Method::PUT,
            "/routes",
            json!([{ "filter": "", "lane": "main" }]),
            403..404,
        ),
        (
            "a move there",
            Method::PUT,
            "/transforms",
            json!([{ "name": "a", "when": "", "act": { "move": "main" } }]),
            400..401,
        ),
        ("another's rules", Method::PUT, "/transforms?team=couriers", json!([]), 403..404),
        ("a team that is not there", Method::PUT, "/transforms?team=nobody", json!([]), 404..405),
        (
            "too many",
            Method::PUT,
            "/routes",
            Value::from(vec![json!({ "filter": "a", "lane": "devices" }); 21]),
            400..401,
        ),
        ("another's key", Method::POST, "/transforms/try", json!({ "events": "x", "sender": "default" }), 403..404),
    ] {
        let (status, text) = asked(&service, token, method, path, Some(&body)).await?;
        assert!(expected.contains(&status), "{what}: {status} {text}");
    }
    let (status, text) = asked(&service, token, Method::DELETE, &format!("/dials/{of_service}"), None).await?;
    assert_eq!(status, 403, "{text}");
    let routes = service.ok(&["route", "list", "--json"])?;
    assert!(
        routes.contains("firstword") && routes.lines().count() == 1,
        "a team replaces its own routes alone: {routes}"
    );
    // The key is narrowed by its team, and widened by administrators.
    as_person(&service, "olle", &["key", "limit", "agents", "--service", "slots"])?;
    assert!(
        as_person(&service, "olle", &["key", "limit", "agents", "--service", "slots", "--service", "edge"]).is_err()
    );
    service.ok(&["key", "limit", "agents", "--service", "slots", "--service", "edge"])?;
    // What was set by a grant ends with it.
    service.ok(&["team", "set", "couriers", "--person", "tore"])?;
    let couriers = service.ok(&["key", "new", "bikes", "--team", "couriers", "--text"])?;
    as_person(&service, "olle", &["grant", "give", "devices", "--team", "couriers", "--may", "configure"])?;
    as_person(&service, "tore", &["route", "add", "", "devices", "--team", "couriers"])?;
    send(&service, &couriers, "grantedword").await?;
    assert_eq!(found(&service, "grantedword")?["lane"], "devices");
    let grants = as_person(&service, "olle", &["grant", "list", "--json"])?;
    let granted = grants.lines().filter_map(|line| serde_json::from_str::<Value>(line).ok());
    let id = granted.into_iter().find(|g| g["team"] == "couriers").context("the grant")?["id"].to_string();
    as_person(&service, "olle", &["grant", "end", &id])?;
    send(&service, &couriers, "endedword").await?;
    assert_eq!(found(&service, "endedword")?["lane"], "main");
    Ok(())
}
