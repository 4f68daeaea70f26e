//! Whom an alert notifies, and when: hours, who comes next, repeats, limits, mutes of groups, notes; contacts that cannot be
//! reached, heartbeats, secrets that change. With the real client and the stand-in receiver.

use anyhow::{Context, Result};
use calvex_e2e::receiver::Receiver;
use calvex_e2e::service::{PATIENCE, Service, wait_for};
use serde_json::{Value, json};
use std::time::{Duration, Instant};

const REFUSED: &str = "name = 'refused'\nnotify = ['desk']\ndelay = '0s'\n[threshold]\nevents = 'refused'\n\
    per = ['zone']\nover = '30s'\nabove = 3\n";

/// Hours that begin the day after tomorrow.
fn later_hours() -> String {
    let day = jiff::Timestamp::now().to_zoned(jiff::tz::TimeZone::UTC).date().weekday().wrapping_add(2);
    let name = format!("{day:?}").to_lowercase();
    format!("{} 08:00-18:00", name.get(..3).unwrap_or("mon"))
}

fn service(receiver: &Receiver) -> Result<Service> {
    let _ = rustls::crypto::ring::default_provider().install_default();
    Service::start(&[
        ("CALVEX_NOTIFY_WEBHOOK_LOCAL", "true"),
        ("CALVEX_NOTIFY_MAIL_SERVER", &receiver.mail),
        ("CALVEX_NOTIFY_CONSOLE_URL", "http://console.fennmark.test"),
    ])
}

fn apply(service: &Service, document: &str) -> Result<()> {
    let path = service.dir.join("rule.toml");
    std::fs::write(&path, document)?;
    service.ok(&["rule", "apply", &path.display().to_string()]).map(|_| ())
}

fn fail(service: &Service, zone: &str, n: usize) -> Result<()> {
    let event = json!({ "service": "edge", "zone": zone, "msg": "drop-off refused" });
    let sent = service.calvex_with(&["send", "--quiet"], format!("{event}\n").repeat(n).as_bytes())?;
    anyhow::ensure!(sent.status.success(), "{}", String::from_utf8_lossy(&sent.stderr));
    Ok(())
}

fn lines(text: &str) -> Vec<Value> {
    text.lines().filter_map(|line| serde_json::from_str(line).ok()).collect()
}

fn alerts(service: &Service) -> Result<Vec<Value>> {
    Ok(lines(&String::from_utf8(service.calvex(&["alerts", "--json"])?.stdout)?))
}

/// Waits for so many webhooks of a type.
async fn events(receiver: &Receiver, kind: &str, many: usize) -> Result<Vec<Value>> {
    let until = Instant::now() + PATIENCE;
    loop {
        let found = receiver.events(kind).await?;
        if found.len() >= many {
            return Ok(found);
        }
        anyhow::ensure!(Instant::now() < until, "{many} of {kind} did not arrive: {:?}", receiver.arrived().await?);
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_alert_goes_on_until_somebody_takes_it() -> Result<()> {
    let receiver = Receiver::start()?;
    let service = service(&receiver)?;
    // The desk is closed until the day after tomorrow; the night is not, and has the lead behind it.
    let hook = receiver.hook.as_str();
    for wrong in [
        vec!["contact", "set", "x", "--webhook", hook, "--on-duty", "always"],
        vec!["contact", "set", "x", "--webhook", hook, "--next", "nobody"],
        vec!["contact", "set", "x", "--webhook", hook, "--after", "soon"],
        vec!["contact", "set", "x", "--webhook", hook, "--in-zone", "Nowhere"],
        vec!["contact", "set", "x"],
    ] {
        assert_eq!(service.calvex(&wrong)?.status.code(), Some(2), "{wrong:?}");
    }
    service.ok(&["contact", "set", "lead", "--mail", "lead@fennmark.test"])?;
    service.ok(&[
        "contact",
        "set",
        "night",
        "--webhook",
        hook,
        "--next",
        "lead",
        "--after",
        "10s",
        "--repeat",
        "10s",
    ])?;
    let hours = later_hours();
    service.ok(&["contact", "set", "desk", "--mail", "desk@fennmark.test", "--on-duty", &hours, "--next", "night"])?;
    // What is not given stays as it is.
    service.ok(&["contact", "set", "night", "--hourly", "30"])?;
    let listed = service.ok(&["contact", "list", "--json"])?;
    let night = lines(&listed).into_iter().find(|c| c["name"] == "night").context("no night")?;
    assert_eq!((&night["repeat"], &night["hourly"], &night["next"]), (&json!("10s"), &json!(30), &json!("lead")));

    apply(&service, REFUSED)?;
    fail(&service, "north", 10)?;
    let raised = events(&receiver, "alert.raised", 1).await?;
    assert_eq!((&raised[0]["data"]["rule"], &raised[0]["data"]["instead_of"]), (&json!("refused"), &json!("desk")));
    let link = raised[0]["data"]["page"].as_str().unwrap_or("");
    assert!(link.starts_with("http://console.fennmark.test/alerts?rule=refused&raised="), "{link}");
    assert!(
        raised[0]["data"]["evidence"].as_str().is_some_and(|l| l.contains("/search?q=refused&from=")),
        "{raised:?}"
    );
    assert!(raised[0]["data"]["explanation"]["strip"]["values"].is_array(), "{raised:?}");
    // Nobody takes it: it is repeated, and the lead is called. What fails goes on meanwhile.
    let mut lead = false;
    let until = Instant::now() + PATIENCE;
    while !lead || receiver.events("alert.repeated").await?.is_empty() {
        anyhow::ensure!(Instant::now() < until, "{:?}", receiver.arrived().await?);
        fail(&service, "north", 5)?;
        lead = receiver.arrived().await?.iter().any(|a| a["to"] == "lead@fennmark.test");
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    // A note, and somebody takes it: no repeat after that, and both hear that it ended, with the note.
    let id = alerts(&service)?[0]["id"].to_string();
    service.ok(&["alerts", "note", &id, "the lease was set to 12 s"])?;
    assert_eq!(service.calvex(&["alerts", "note", &id, ""])?.status.code(), Some(2));
    service.ok(&["alerts", "take", &id])?;
    let repeats = receiver.events("alert.repeated").await?.len();
    let ended = events(&receiver, "alert.ended", 1).await?;
    assert!(ended[0]["data"]["notes"][0].as_str().is_some_and(|n| n.contains("set to 12 s")), "{ended:?}");
    assert_eq!(ended[0]["data"]["taken_by"], "admin");
    assert!(receiver.events("alert.repeated").await?.len() <= repeats + 1, "one may have been under way");
    wait_for("the lead to hear of the end", || {
        let shown = service.ok(&["alerts", "show", &id, "--text"])?;
        Ok((shown.contains("mail lead ended: sent") && shown.contains("noted")).then_some(()))
    })?;
    let arrived = receiver.arrived().await?;
    assert!(!arrived.iter().any(|a| a["to"] == "desk@fennmark.test"), "the desk is closed: {arrived:?}");
    // The page of the stand-in shows it.
    let page = reqwest::get(receiver.hook.replace("/hook", "/")).await?.text().await?;
    assert!(page.contains("alert.ended refused") && page.contains("lead@fennmark.test"), "{page}");
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_changed_rule_ends_its_alerts_and_keeps_its_versions() -> Result<()> {
    let receiver = Receiver::start()?;
    let service = service(&receiver)?;
    service.ok(&["contact", "set", "desk", "--webhook", &receiver.hook])?;
    apply(&service, REFUSED)?;
    fail(&service, "north", 10)?;
    events(&receiver, "alert.raised", 1).await?;
    apply(&service, &REFUSED.replace("above = 3", "above = 4000"))?;
    let ended = events(&receiver, "alert.ended", 1).await?;
    assert_eq!(ended[0]["data"]["why_ended"], "rule changed");
    assert_eq!(alerts(&service)?[0]["closed"], "rule changed");
    let versions = lines(&service.ok(&["rule", "versions", "refused", "--json"])?);
    assert_eq!(versions.iter().map(|v| v["revision"].clone()).collect::<Vec<_>>(), [json!(2), json!(1)]);
    assert!(versions.iter().all(|v| v["by"] == "admin" && v["at"].is_string()), "{versions:?}");
    let shown = service.ok(&["rule", "versions", "refused", "--text"])?;
    assert!(shown.contains("- above = 3") && shown.contains("+ above = 4000"), "{shown}");
    assert_eq!(service.calvex(&["rule", "versions", "gone"])?.status.code(), Some(1));
    // The new document does not judge what the old one raised: that alert stays as it ended.
    fail(&service, "south", 1)?;
    wait_for("a judgement", || {
        Ok((lines(&service.ok(&["rule", "list", "--json"])?)[0]["judged"].is_string()).then_some(()))
    })?;
    assert_eq!(alerts(&service)?.len(), 1);

    // A rule that is removed while it is raised says so, too.
    apply(&service, REFUSED)?;
    fail(&service, "north", 10)?;
    events(&receiver, "alert.raised", 2).await?;
    let id = lines(&service.ok(&["rule", "list", "--json"])?)[0]["id"].to_string();
    service.ok(&["rule", "remove", &id])?;
    let ended = events(&receiver, "alert.ended", 2).await?;
    assert_eq!(ended[1]["data"]["why_ended"], "rule removed");
    assert!(alerts(&service)?.is_empty());
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_mute_of_some_groups_leaves_the_others() -> Result<()> {
    let receiver = Receiver::start()?;
    let service = service(&receiver)?;
    service.ok(&["contact", "set", "desk", "--webhook", &receiver.hook])?;
    apply(&service, REFUSED)?;
    let id = lines(&service.ok(&["rule", "list", "--json"])?)[0]["id"].to_string();
    let refused = service.calvex(&["rule", "mute", &id, "--for", "1h", "--why", "works", "--where", "host=n1"])?;
    assert_eq!(refused.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&refused.stderr).contains("it judges zone apart"), "{refused:?}");
    service.ok(&["rule", "mute", &id, "--for", "1h", "--why", "works", "--where", "zone=north"])?;
    assert!(service.ok(&["rule", "list", "--text"])?.contains("muted of zone=north"));
    // North alone notifies nobody; once south fails as well, the message names south.
    wait_for("the alert", || {
        fail(&service, "north", 5)?;
        Ok(alerts(&service)?.into_iter().find(|alert| alert["muted"] == true))
    })?;
    assert!(receiver.arrived().await?.is_empty());
    wait_for("south to be notified", || {
        fail(&service, "north", 5)?;
        fail(&service, "south", 5)?;
        Ok(alerts(&service)?.into_iter().find(|alert| alert["muted"] == false))
    })?;
    let raised = events(&receiver, "alert.raised", 1).await?;
    assert_eq!((&raised[0]["data"]["groups"], raised.len()), (&json!(["south"]), 1));
    service.ok(&["rule", "unmute", &id, "--where", "zone=north"])?;
    assert!(!service.ok(&["rule", "list", "--text"])?.contains("muted"));
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn too_many_messages_are_held_back_and_counted() -> Result<()> {
    let receiver = Receiver::start()?;
    let service = service(&receiver)?;
    service.ok(&["contact", "set", "desk", "--webhook", &receiver.hook, "--hourly", "1"])?;
    apply(&service, REFUSED)?;
    apply(&service, &REFUSED.replace("'refused'\nnotify", "'refused too'\nnotify"))?;
    fail(&service, "north", 10)?;
    let messages = || -> Result<Vec<Value>> {
        Ok(lines(&String::from_utf8(service.calvex(&["contact", "messages", "--json"])?.stdout)?))
    };
    let held = wait_for("a message to be held back", || {
        let all = messages()?;
        Ok(all.iter().any(|m| m["state"] == "held back").then_some(all))
    })?;
    // One arrives; of the other, one message is to say later that it was held back.
    events(&receiver, "alert.raised", 1).await?;
    assert_eq!(held.iter().filter(|m| m["what"] == "held-back" && m["state"] == "waiting").count(), 1, "{held:?}");
    service.sql("UPDATE outbox SET next_ns = 0 WHERE what = 'held-back'")?;
    let said = events(&receiver, "contact.held-back", 1).await?;
    assert!(said[0]["data"]["sentence"].as_str().is_some_and(|s| s.contains("messages were held back")), "{said:?}");
    assert_eq!(receiver.events("alert.raised").await?.len(), 1);
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_contact_that_cannot_be_reached_is_an_alert_for_the_others() -> Result<()> {
    let receiver = Receiver::start()?;
    let service = service(&receiver)?;
    service.ok(&["contact", "set", "lead", "--webhook", &receiver.hook, "--heartbeat", "10s"])?;
    service.ok(&["contact", "set", "desk", "--webhook", "http://127.0.0.1:1/"])?;
    apply(&service, REFUSED)?;
    fail(&service, "north", 10)?;
    // A pile for one that cannot be reached stands before everything else, and keeps no other waiting.
    service.sql(
        "INSERT INTO outbox (contact, kind, what, target, payload, error, next_ns) \
         SELECT 'desk', 'webhook', 'unreachable', 'x', '{}', '', -seq FROM seq_1_to_600",
    )?;
    let said = events(&receiver, "contact.unreachable", 1).await?;
    assert!(said[0]["data"]["sentence"].as_str().is_some_and(|s| s.contains("contact desk do not arrive")), "{said:?}");
    assert!(service.ok(&["contact", "list", "--text"])?.contains("cannot be reached since"));
    let failed = lines(&service.ok(&["contact", "messages", "--json"])?);
    let of_desk = failed.iter().filter(|m| m["contact"] == "desk");
    let tries = of_desk.map(|m| m["tries"].as_array().cloned().unwrap_or_default());
    assert!(tries.clone().flatten().all(|t| t["error"] != "") && tries.flatten().count() >= 3, "{failed:?}");
    service.sql("DELETE FROM outbox WHERE alert_id IS NULL AND contact = 'desk'")?;
    // A secret that changes overlaps with the old one; at its new address the message arrives, under the same id.
    let first = service.ok(&["contact", "set", "desk", "--webhook", &receiver.hook, "--json"])?;
    assert!(first.contains("whsec_"), "{first}");
    let second = service.ok(&["contact", "set", "desk", "--rotate", "--json"])?;
    assert!(second.contains("whsec_") && second != first, "{second}");
    let old: Value = serde_json::from_str(&first)?;
    let secret = old["webhook_secret"].as_str().unwrap_or("").to_owned();
    reqwest::Client::new().post(receiver.hook.replace("/hook", "/secret")).body(secret).send().await?;
    service.sql("UPDATE outbox SET next_ns = 0 WHERE done_ns IS NULL")?;
    events(&receiver, "alert.raised", 1).await?;
    let arrived = receiver.arrived().await?;
    let raised =
        arrived.iter().find(|a| a["text"].as_str().is_some_and(|t| t.contains("alert.raised"))).context("none")?;
    assert_eq!(raised["signature"], "good", "the old secret signs it too");
    wait_for("the contact to be reached again", || {
        Ok((!service.ok(&["contact", "list", "--text"])?.contains("cannot be reached")).then_some(()))
    })?;
    // All the while the lead hears that Calvex works.
    let beats = events(&receiver, "calvex.heartbeat", 2).await?;
    assert_ne!(beats[0]["id"], beats[1]["id"]);
    Ok(())
}
