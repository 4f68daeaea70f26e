//! Teams: what is a team's is changed by its people, and by no others. And how the tests of sharing ask as somebody.

use anyhow::{Result, ensure};
use calvex_e2e::hostile::client;
use calvex_e2e::service::{PATIENCE, Service, binary};
use reqwest::Method;
use serde_json::{Value, json};
use std::process::Command;
use std::time::Instant;

/// The password of everybody in these tests.
const PASSWORD: &str = "a long enough password";

/// Asks one path of the interface by a token.
pub async fn asked(
    service: &Service,
    token: &str,
    method: Method,
    path: &str,
    body: Option<&Value>,
) -> Result<(u16, String)> {
    let mut request = client()?.request(method, format!("{}/api{path}", service.url)).bearer_auth(token);
    if let Some(body) = body {
        request = request.json(body);
    }
    let answer = request.send().await?;
    Ok((answer.status().as_u16(), answer.text().await?))
}

/// The client as a person.
pub fn as_person(service: &Service, name: &str, args: &[&str]) -> Result<String> {
    let mut command = Command::new(binary());
    command.args(args).args(["--user", name]).env_remove("CALVEX_TOKEN").env("CALVEX_URL", &service.url);
    let done = command.env("CALVEX_ADMIN_PASSWORD", PASSWORD).output()?;
    // Nothing found is no failure.
    if done.status.code() == Some(1) {
        return Ok(String::new());
    }
    ensure!(done.status.success(), "{args:?}: {}", String::from_utf8_lossy(&done.stderr));
    Ok(String::from_utf8(done.stdout)?)
}

/// A person, who signs in by [`PASSWORD`].
pub async fn person(service: &Service, name: &str, role: &str) -> Result<()> {
    let ask = json!({ "name": name, "password": PASSWORD, "role": role });
    let (status, text) = asked(service, &service.token, Method::POST, "/people", Some(&ask)).await?;
    ensure!(status == 200, "{text}");
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_team_runs_its_own_corner() -> Result<()> {
    let service = Service::start(&[])?;
    for name in ["olle", "ines", "tore"] {
        person(&service, name, "reader").await?;
    }
    service.ok(&["team", "set", "lockers", "--person", "olle", "--person", "ines"])?;
    service.ok(&["team", "set", "couriers", "--person", "tore"])?;
    service.ok(&["lane", "set", "devices", "--days", "14", "--owner", "lockers"])?;
    let key = service.ok(&["key", "new", "agents", "--team", "lockers", "--text"])?;
    // Its terms, its grants, its key, its contact, its rule.
    as_person(&service, "olle", &["lane", "set", "devices", "--days", "21"])?;
    as_person(&service, "olle", &["grant", "give", "devices", "--team", "couriers", "--rows", "service=edge"])?;
    let rotated = as_person(&service, "ines", &["key", "rotate", "agents", "--text"])?;
    assert_ne!(rotated, key);
    as_person(
        &service,
        "ines",
        &["contact", "set", "desk", "--team", "lockers", "--webhook", "https://desk.fennmark.example/"],
    )?;
    let document = "name = \"devices\"\nnotify = [\"desk\"]\n[threshold]\nevents = \"severity>=error\"\nover = \"5m\"\nabove = 3\n";
    let file = service.dir.join("rule.toml");
    std::fs::write(&file, document)?;
    let file = file.to_string_lossy().into_owned();
    as_person(&service, "ines", &["rule", "apply", &file, "--team", "lockers"])?;
    let listed = as_person(&service, "olle", &["rule", "list", "--json"])?;
    assert!(listed.contains("\"team\":\"lockers\""), "{listed}");
    as_person(&service, "olle", &["rule", "mute", "1", "--for", "1h", "--why", "belt is cleaned"])?;
    // Of others nothing.
    for (what, args) in [
        ("the lane", vec!["lane", "set", "devices", "--days", "1"]),
        ("its grants", vec!["grant", "give", "devices", "--person", "tore"]),
        ("the key", vec!["key", "revoke", "agents"]),
        ("the contact", vec!["contact", "remove", "desk"]),
        ("a rule", vec!["rule", "apply", &file]),
        ("another team's key", vec!["token", "new", "--team", "lockers"]),
    ] {
        assert!(as_person(&service, "tore", &args).is_err(), "tore changes {what}");
    }
    assert!(!as_person(&service, "tore", &["rule", "list", "--json"])?.contains("devices"));
    let seen = as_person(&service, "tore", &["grant", "list", "--json"])?;
    assert!(seen.contains("service=edge") && seen.lines().count() == 1, "{seen}");
    // A token of the team does what the team may, as far as it says; it ends when it says so.
    let token = as_person(&service, "olle", &["token", "new", "ci", "--team", "lockers", "--lasts", "2h", "--text"])?;
    let (status, me) = asked(&service, token.trim(), Method::GET, "/me", None).await?;
    assert!(status == 200 && me.contains("\"name\":\"lockers\"") && me.contains("devices"), "{me}");
    service.sql("UPDATE token SET ends_ns = 1 WHERE name = 'ci'")?;
    let until = Instant::now() + PATIENCE;
    while asked(&service, token.trim(), Method::GET, "/me", None).await?.0 != 401 {
        ensure!(Instant::now() < until, "the token goes on");
    }
    // What an outsider decides has bounds.
    let wrong = |body: Value| {
        let service = &service;
        async move { asked(service, &service.token, Method::POST, "/grants", Some(&body)).await }
    };
    let many: Vec<String> = (0..101).map(|n| format!("f{n}")).collect();
    for body in [
        json!({ "lane": "main", "person": "olle", "may": "read", "rows": "service=" }),
        json!({ "lane": "main", "person": "olle", "may": "manage", "rows": "service=slots" }),
        json!({ "lane": "main", "person": "olle", "team": "lockers", "may": "read" }),
        json!({ "lane": "main", "person": "olle", "may": "own" }),
        json!({ "lane": "main", "person": "olle", "may": "read", "hidden": many }),
        json!({ "lane": "main", "person": "olle", "may": "read", "hidden": ["a\nb"] }),
        json!({ "lane": "main", "person": "olle", "may": "read", "until": "2020-01-01T00:00:00Z" }),
        json!({ "lane": "main", "person": "olle", "may": "read", "rows": "x ".repeat(1500) }),
    ] {
        let (status, text) = wrong(body).await?;
        assert_eq!(status, 400, "{text}");
    }
    let (status, _) = wrong(json!({ "lane": "main", "person": "nobody", "may": "read" })).await?;
    assert_eq!(status, 404);
    Ok(())
}
