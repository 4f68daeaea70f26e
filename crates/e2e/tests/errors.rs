//! Error groups: on the command line, over HTTP, in the console; states, returns, and what a reader may not see.

#![allow(clippy::indexing_slicing, reason = "JSON is asked by place; what is missing is null and fails its assertion")]

use anyhow::{Context, Result};
use calvex_e2e::service::{Service, wait_for};
use calvex_e2e::stage::{DESK, PHONE, Stage, wait_until};
use serde_json::{Value, json};

/// A failure of the kiosk at a line of its source, `ago_s` seconds ago.
fn failure(ago_s: i64, line: usize, release: &str) -> String {
    let time = (jiff::Timestamp::now() - jiff::SignedDuration::from_secs(ago_s)).to_string();
    let stack = format!("DoorShut: door {line} stayed shut\n\tat fennmark.kiosk.Doors.open(Doors.java:{line})");
    let event = json!({"time": time, "service": "kiosk", "level": "error", "msg": format!("door {line} stayed shut"),
        "error": {"type": "DoorShut", "stack": stack}, "service.version": release});
    event.to_string() + "\n"
}

fn send(service: &Service, lines: &str) -> Result<()> {
    anyhow::ensure!(service.calvex_with(&["send", "--quiet"], lines.as_bytes())?.status.success());
    Ok(())
}

fn groups(service: &Service, options: &[&str]) -> Result<Vec<Value>> {
    let answer = service.calvex(&[&["errors", "--json"], options].concat())?;
    let lines = String::from_utf8(answer.stdout)?;
    lines.lines().map(|line| serde_json::from_str(line).context("no JSON")).collect()
}

#[test]
fn failures_are_problems_with_a_state() -> Result<()> {
    let service = Service::start(&[])?;
    service.ok(&["lane", "set", "audit", "--days", "400"])?;
    service.ok(&["route", "add", "service=access", "audit"])?;
    let narrow = service.ok(&["token", "new", "narrow", "--lane", "main", "--text"])?.trim().to_owned();
    let time = (jiff::Timestamp::now() - jiff::SignedDuration::from_mins(5)).to_string();
    let hidden = json!({"time": time, "service": "access", "level": "error", "msg": "override refused"}).to_string();
    let calm = json!({"time": time, "service": "kiosk", "level": "info", "msg": "door 4 opened"}).to_string();
    let kiosk: String = (0..30).map(|n| failure(600 - n, n as usize + 1, "41.1")).collect();
    send(&service, &format!("{kiosk}{hidden}\n{calm}\n"))?;
    wait_for("the events", || Ok((service.search("", &[])?.len() == 32).then_some(())))?;

    // Thirty failures of other lines are one problem.
    let all = groups(&service, &[])?;
    assert_eq!(all.len(), 2, "{all:?}");
    let kiosk = &all[0];
    assert_eq!((&kiosk["count"], &kiosk["state"], &kiosk["error"]), (&json!(30), &json!("new"), &json!("DoorShut")));
    assert_eq!((&kiosk["frames"], &kiosk["language"]), (&json!(["fennmark.kiosk.Doors.open"]), &json!("java")));
    assert_eq!(kiosk["releases"], json!([{"release": "41.1", "count": 30}]));
    let id = kiosk["id"].as_str().context("no id")?.to_owned();
    assert_eq!(service.search(&format!("error_group={id}"), &[])?.len(), 30);
    let table = service.ok(&["errors", "--text"])?;
    assert!(table.contains("DoorShut · door ‹› stayed shut · at fennmark.kiosk.Doors.open"), "{table}");

    // What another lane holds is neither shown nor talked about.
    let seen = groups(&service, &["--token", &narrow])?;
    assert_eq!(seen.len(), 1, "{seen:?}");
    let hidden = all[1]["id"].as_str().context("no id")?;
    let refused = service.calvex(&["errors", "--known", hidden, "--token", &narrow])?;
    assert!(String::from_utf8_lossy(&refused.stderr).contains("changes nothing"), "{refused:?}");
    let missing = service.calvex(&["errors", "--known", "0123456789abcdef"])?;
    assert!(String::from_utf8_lossy(&missing.stderr).contains("there is no error group"), "{missing:?}");

    // Two ids are none, and neither is anything else that is no id.
    for no_id in [format!("{id},{hidden}"), "%".repeat(16), "é".repeat(8)] {
        let refused = service.calvex(&["errors", "--resolved", &no_id])?;
        assert!(String::from_utf8_lossy(&refused.stderr).contains("there is no error group"), "{refused:?}");
    }

    // Known; resolved in a release; failures of the release before are no return, those of another are.
    service.ok(&["errors", "--known", &id, "--note", "the hinges"])?;
    let known = groups(&service, &["--state", "known"])?;
    assert_eq!((&known[0]["said"]["by"], &known[0]["said"]["note"]), (&json!("admin"), &json!("the hinges")));
    service.ok(&["errors", "--resolved", &id, "--release", "41.2"])?;
    assert_eq!(groups(&service, &["--state", "resolved"])?.len(), 1);
    send(&service, &failure(0, 7, "41.1"))?;
    wait_for("the old release's failure", || Ok((groups(&service, &[])?[0]["count"] == 31).then_some(())))?;
    assert_eq!(groups(&service, &["--state", "resolved"])?.len(), 1);
    send(&service, &failure(0, 8, "41.2"))?;
    wait_for("the return", || Ok((groups(&service, &["--state", "returned"])?.len() == 1).then_some(())))?;
    // Of a sender whose clock is ahead the failure is seen as it comes, not only once its time has come.
    send(&service, &failure(-300, 9, "41.2"))?;
    let ahead = "SELECT COUNT(*) FROM error_group_seen WHERE last_ns > (UNIX_TIMESTAMP() + 120) * 1000000000";
    wait_for("the failure that is ahead", || Ok((service.sql(ahead)? == "1").then_some(())))?;
    // The failures may leave the range; that the group returned is kept.
    wait_for("the return to be kept", || {
        let earlier = groups(&service, &["--to", "now-2m", "--state", "returned"])?;
        Ok((earlier.len() == 1).then_some(()))
    })?;
    service.ok(&["errors", "--new", &id])?;
    assert_eq!(groups(&service, &["--state", "new"])?.len(), 2);
    // Where nothing failed there is nothing.
    assert_eq!(service.calvex(&["errors", "service=nobody"])?.status.code(), Some(1));
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn in_the_console() -> Result<()> {
    in_the_console_at(DESK).await
}

#[tokio::test(flavor = "multi_thread")]
async fn in_the_console_on_a_phone() -> Result<()> {
    in_the_console_at(PHONE).await
}

async fn in_the_console_at(window: (u32, u32)) -> Result<()> {
    let stage = Stage::new(window).await?;
    let browser = &stage.browser;
    stage.open("", "view=errors").await?;
    browser.saying("[data-testid=errors] p", "failures in").await?;
    browser.click("[data-testid=errors] tbody button[aria-expanded=false]").await?;
    browser.saying("[data-testid=error-group]", "group ").await?;
    stage.axe("error groups").await?;
    browser.click_saying("[data-testid=error-group] button", "I know of it").await?;
    browser.saying("[data-testid=errors] td", "known").await?;
    browser.click_saying("[data-testid=error-group] button", "take that back").await?;
    wait_until(async || Ok(!browser.text("[data-testid=errors] tbody").await?.contains("known"))).await?;
    // From the problem to its failures, and to the story of one.
    browser.click_saying("[data-testid=error-group] a", "open these events").await?;
    stage.address_with("error_group%3D").await?;
    stage.total(|n| n > 0).await?;
    stage.browser.close().await
}
