//! Rights that change or end while something goes on that stands on them: a tail, a rule and its messages, sessions.

use crate::teams::{as_person, asked, person};
use anyhow::{Context, Result, ensure};
use calvex_e2e::hostile::client;
use calvex_e2e::receiver::Receiver;
use calvex_e2e::service::{PATIENCE, Service, wait_for};
use reqwest::Method;
use serde_json::{Value, json};
use std::time::{Duration, Instant};

/// Two people of a team that owns a lane and keeps a rule over it.
async fn a_team_with_a_rule(service: &Service, notify: &str) -> Result<()> {
    for name in ["olle", "ines"] {
        person(service, name, "reader").await?;
    }
    service.ok(&["team", "set", "lockers", "--person", "olle", "--person", "ines"])?;
    service.ok(&["lane", "set", "devices", "--days", "14", "--owner", "lockers"])?;
    service.ok(&["route", "add", "service=edge", "devices"])?;
    let document = format!(
        "name = 'refused'\nnotify = [{notify}]\ndelay = '0s'\n[threshold]\nevents = 'refused'\n\
         per = ['zone']\nover = '30s'\nabove = 3\n"
    );
    let file = service.dir.join("rule.toml");
    std::fs::write(&file, document)?;
    as_person(service, "olle", &["rule", "apply", &file.to_string_lossy(), "--team", "lockers"])?;
    Ok(())
}

fn fail(service: &Service) -> Result<()> {
    let event = json!({ "service": "edge", "zone": "backyard", "msg": "drop-off refused" });
    let sent = service.calvex_with(&["send", "--quiet"], format!("{event}\n").repeat(10).as_bytes())?;
    ensure!(sent.status.success(), "{}", String::from_utf8_lossy(&sent.stderr));
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_contact_of_no_team_hears_nothing_of_events_that_nobody_granted_it() -> Result<()> {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let receiver = Receiver::start()?;
    let service = Service::start(&[
        ("CALVEX_NOTIFY_WEBHOOK_LOCAL", "true"),
        ("CALVEX_NOTIFY_MAIL_SERVER", &receiver.mail),
        ("CALVEX_NOTIFY_CONSOLE_URL", "http://console.fennmark.test"),
    ])?;
    service.ok(&["team", "set", "lockers"])?;
    service.ok(&["contact", "set", "own", "--team", "lockers", "--webhook", &format!("{}?own", receiver.hook)])?;
    service.ok(&["contact", "set", "desk", "--webhook", &receiver.hook])?;
    a_team_with_a_rule(&service, "'own', 'desk'").await?;
    fail(&service)?;
    let until = Instant::now() + PATIENCE;
    let raised = loop {
        let raised = receiver.events("alert.raised").await?;
        if raised.len() == 2 {
            break raised;
        }
        ensure!(Instant::now() < until, "{:?}", receiver.arrived().await?);
        tokio::time::sleep(Duration::from_millis(50)).await;
    };
    // The same alert, and what was read of events goes to its team alone.
    assert!(raised.iter().all(|event| event["data"]["rule"] == "refused" && event["data"]["group_count"] == 1));
    let with = |word: &str| raised.iter().filter(|event| event.to_string().contains(word)).count();
    assert_eq!((with("backyard"), with("strip")), (1, 1), "{raised:?}");
    // The same holds for its end.
    let id = as_person(&service, "olle", &["alerts", "--json"])?;
    let id = serde_json::from_str::<Value>(id.lines().next().context("no alert")?)?["id"].to_string();
    as_person(&service, "olle", &["alerts", "note", &id, "the backyard door was oiled"])?;
    as_person(&service, "olle", &["rule", "remove", "1"])?;
    let ended = loop {
        let ended = receiver.events("alert.ended").await?;
        if ended.len() == 2 {
            break ended;
        }
        ensure!(Instant::now() < until, "{:?}", receiver.arrived().await?);
        tokio::time::sleep(Duration::from_millis(50)).await;
    };
    assert_eq!(ended.iter().filter(|event| event.to_string().contains("backyard")).count(), 1, "{ended:?}");
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_rule_whose_owner_may_read_nothing_is_failing_and_not_quiet() -> Result<()> {
    let service = Service::start(&[])?;
    person(&service, "tore", "reader").await?;
    service.ok(&["grant", "give", "main", "--person", "tore", "--may", "configure"])?;
    let document =
        "name = 'refused'\nnotify = []\ndelay = '0s'\n[threshold]\nevents = 'refused'\nover = '30s'\nabove = 3\n";
    let file = service.dir.join("rule.toml");
    std::fs::write(&file, document)?;
    as_person(&service, "tore", &["rule", "apply", &file.to_string_lossy()])?;
    let listed = || service.ok(&["rule", "list", "--json"]);
    wait_for("the rule to be judged", || Ok(listed()?.contains("\"judged\":\"").then_some(())))?;
    assert!(!listed()?.contains("may read no lane"));
    service.ok(&["person", "disable", "tore"])?;
    wait_for("the rule to fail", || Ok(listed()?.contains("may read no lane").then_some(())))?;
    service.ok(&["person", "enable", "tore"])?;
    wait_for("the rule to be judged again", || Ok((!listed()?.contains("may read no lane")).then_some(())))
}

#[tokio::test(flavor = "multi_thread")]
async fn one_who_follows_is_shown_that_rights_changed_and_that_they_ended() -> Result<()> {
    let service = Service::start(&[])?;
    a_team_with_a_rule(&service, "").await?;
    let token = as_person(&service, "ines", &["token", "new", "follow", "--text"])?.trim().to_owned();
    let request = client()?.post(format!("{}/api/tail", service.url)).bearer_auth(&token);
    let mut answer = request.json(&json!({ "query": "" })).send().await?;
    ensure!(answer.status().is_success(), "{}", answer.status());
    let mut text = String::new();
    async fn shown(answer: &mut reqwest::Response, text: &mut String, word: &str) -> Result<()> {
        while !text.contains(word) {
            let part = tokio::time::timeout(PATIENCE, answer.chunk()).await.context(format!("no {word}: {text}"))??;
            text.push_str(&String::from_utf8_lossy(&part.with_context(|| format!("it ended without {word}: {text}"))?));
        }
        Ok(())
    }
    shown(&mut answer, &mut text, "\"ready\"").await?;
    service.ok(&["grant", "give", "main", "--person", "ines", "--rows", "service=slots"])?;
    shown(&mut answer, &mut text, "has changed").await?;
    service.ok(&["token", "revoke", "follow"])?;
    shown(&mut answer, &mut text, "has ended").await?;
    ensure!(answer.chunk().await?.is_none(), "it goes on");
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn the_oldest_session_gives_way() -> Result<()> {
    let service = Service::start(&[])?;
    person(&service, "olle", "reader").await?;
    as_person(&service, "olle", &["whoami"])?;
    // As many as may be, each seen before that one.
    service.sql(
        "INSERT INTO session (hash, user_id, expires_ns, begun_ns, seen_ns, address) \
         SELECT UNHEX(SHA2(CONCAT('of a test ', n.seq), 256)), s.user_id, s.expires_ns, s.begun_ns, s.seen_ns - n.seq, '' \
         FROM (SELECT * FROM session WHERE user_id = (SELECT id FROM user WHERE name = 'olle') LIMIT 1) s, seq_1_to_120 n",
    )?;
    as_person(&service, "olle", &["whoami"])?;
    let of_olle = "SELECT COUNT(*), SUM(hash = UNHEX(SHA2('of a test 120', 256))) FROM session \
                   WHERE user_id = (SELECT id FROM user WHERE name = 'olle')";
    let counted = service.sql(of_olle)?;
    assert_eq!(counted.split_whitespace().collect::<Vec<_>>(), ["100", "0"], "{counted}");
    let (status, text) = asked(&service, &service.token, Method::GET, "/people", None).await?;
    ensure!(status == 200, "{text}");
    Ok(())
}
