//! Alerts through kills: the service, its database, the mail server and the receiver of webhooks are killed while alerts are
//! raised and end. No alert is lost, and no message is sent again under another id.
//!
//! Five rounds in the suite; `CALVEX_ROUNDS=50` for more.

use anyhow::{Context, Result};
use calvex_e2e::receiver::Receiver;
use calvex_e2e::service::{PATIENCE, Service, signal, wait_for};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde_json::{Value, json};
use std::collections::{BTreeMap, BTreeSet};
use std::time::{Duration, Instant};

/// Rules, each raised by events of its own.
const RULES: usize = 12;

/// Everything that any of the receivers took: kind of way, id, rule, move, and when it was raised.
type Log = BTreeSet<(String, String, String, String, String)>;

fn rounds() -> usize {
    std::env::var("CALVEX_ROUNDS").ok().and_then(|n| n.parse().ok()).unwrap_or(5)
}

fn lines(text: &str) -> Vec<Value> {
    text.lines().filter_map(|line| serde_json::from_str(line).ok()).collect()
}

/// What a receiver took, in the log.
async fn note(receiver: &Receiver, log: &mut Log) -> Result<()> {
    for arrived in receiver.arrived().await? {
        let text = arrived["text"].as_str().unwrap_or("");
        if arrived["kind"] == "webhook" {
            let event: Value = serde_json::from_str(text)?;
            let part = |value: &Value| value.as_str().unwrap_or("").to_owned();
            let (what, raised) = (part(&event["type"]).replace("alert.", ""), part(&event["data"]["raised"]));
            log.insert(("webhook".into(), part(&arrived["to"]), part(&event["subject"]), what, raised));
        } else {
            let header = |name: &str| {
                let line = text.lines().find_map(|line| line.strip_prefix(name));
                line.map_or(String::new(), |value| value.trim().to_owned())
            };
            let subject = header("Subject:");
            let (what, rule) = subject.split_once(": ").unwrap_or((&subject, ""));
            log.insert(("mail".into(), header("Message-ID:"), rule.into(), what.into(), String::new()));
        }
    }
    Ok(())
}

/// Sends what raises a rule.
fn fail(service: &Service, rule: usize) -> Result<()> {
    let event = json!({ "service": "edge", "msg": format!("failure{rule} of a drop-off") });
    let body = format!("{event}\n").repeat(5);
    let sent = service.calvex_with(&["send", "--quiet"], body.as_bytes())?;
    anyhow::ensure!(sent.status.success(), "{}", String::from_utf8_lossy(&sent.stderr));
    Ok(())
}

fn alerts(service: &Service) -> Result<Vec<Value>> {
    Ok(lines(&String::from_utf8(service.calvex(&["alerts", "--json"])?.stdout)?))
}

#[tokio::test(flavor = "multi_thread")]
async fn no_alert_is_lost_and_none_is_sent_under_another_id() -> Result<()> {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let mut receiver = Receiver::start()?;
    let at = |receiver: &Receiver| (receiver.hook.replace("http://", "").replace("/hook", ""), receiver.mail.clone());
    let (http, smtp) = at(&receiver);
    let mut service = Service::start(&[
        ("CALVEX_NOTIFY_WEBHOOK_LOCAL", "true"),
        ("CALVEX_NOTIFY_MAIL_SERVER", &smtp),
        ("CALVEX_RULES_TICK_MS", "200"),
    ])?;
    let contact =
        ["contact", "set", "desk", "--webhook", &receiver.hook, "--mail", "d@fennmark.test", "--hourly", "1000"];
    service.ok(&contact)?;
    for rule in 0..RULES {
        let path = service.dir.join("rule.toml");
        let document = format!(
            "name = 'rule{rule}'\nnotify = ['desk']\ndelay = '0s'\n[threshold]\nevents = 'failure{rule}'\nover = '5s'\nabove = 2\n"
        );
        std::fs::write(&path, document)?;
        service.ok(&["rule", "apply", &path.display().to_string()])?;
    }
    let mut log = Log::new();
    let mut rng = ChaCha8Rng::seed_from_u64(11);
    let mut expected: BTreeMap<usize, usize> = BTreeMap::new();
    for round in 0..rounds() {
        let struck: BTreeSet<usize> = (0..3).map(|_| rng.random_range(0..RULES)).collect();
        let before = alerts(&service)?;
        for rule in &struck {
            fail(&service, *rule)?;
            // One that is raised still is the same alert.
            let is_raised = before.iter().any(|a| a["rule"] == format!("rule{rule}") && a["ended"].is_null());
            *expected.entry(*rule).or_default() += usize::from(!is_raised);
        }
        // At once, as the first is raised, as its message arrived, or as it ended.
        let stage = rng.random_range(0..4);
        wait_for("the moment to strike", || {
            let all = alerts(&service)?;
            let mut mine = all.iter().filter(|a| struck.iter().any(|rule| a["rule"] == format!("rule{rule}")));
            let sent = |a: &Value| a["notified"].as_array().is_some_and(|n| n.iter().any(|n| n["state"] == "sent"));
            let is_there = match stage {
                0 => true,
                1 => mine.any(|a| a["ended"].is_null()),
                2 => mine.any(|a| a["ended"].is_null() && sent(a)),
                _ => mine.clone().count() > 0 && mine.all(|a| a["ended"].is_string()),
            };
            Ok(is_there.then_some(()))
        })?;
        match round % 4 {
            0 => {
                service.kill()?;
                service.restart()?;
            }
            1 => {
                let pid = service.database_pid().context("no database")?;
                signal(pid, "KILL")?;
                wait_for("the database to come back", || Ok(service.database_pid().filter(|p| *p != pid)))?;
            }
            _ => {
                note(&receiver, &mut log).await?;
                drop(receiver);
                // Until a message failed, or nothing is under way.
                wait_for("a message to fail", || {
                    let all = alerts(&service)?;
                    let mut states = all.iter().flat_map(|a| a["notified"].as_array().cloned().unwrap_or_default());
                    let failed = states.any(|n| n["state"] != "sent" && n["state"] != "waiting");
                    Ok((failed
                        || all
                            .iter()
                            .all(|a| a["ended"].is_string() && !a["notified"].to_string().contains("waiting")))
                    .then_some(()))
                })?;
                receiver = Receiver::start_at(&http, &smtp)?;
            }
        }
        note(&receiver, &mut log).await?;
    }
    // Everything ends, and everything arrives.
    let until = Instant::now() + 3 * PATIENCE;
    let all = loop {
        let all = alerts(&service)?;
        let sent = |a: &Value| {
            a["notified"].as_array().is_some_and(|n| n.len() >= 4 && n.iter().all(|n| n["state"] == "sent"))
        };
        let is_over = |a: &Value| a["ended"].is_string() && sent(a);
        let enough = expected
            .iter()
            .all(|(rule, n)| all.iter().filter(|a| a["rule"] == format!("rule{rule}")).count() >= *n.min(&1));
        if enough && !all.is_empty() && all.iter().all(is_over) {
            break all;
        }
        anyhow::ensure!(Instant::now() < until, "not all ended and arrived: {all:#?}");
        tokio::time::sleep(Duration::from_millis(200)).await;
    };
    note(&receiver, &mut log).await?;
    // Each rule that was struck was raised; a strike while it was raised prolongs what is raised.
    for rule in expected.keys() {
        assert!(all.iter().any(|a| a["rule"] == format!("rule{rule}")), "rule{rule} was never raised");
    }
    // By each way each move of each alert has one id. What a killed receiver took is in the log as well, or was never
    // acknowledged and came again under the same id.
    let mut ids: BTreeMap<(String, String, String, String), BTreeSet<String>> = BTreeMap::new();
    for (way, id, rule, what, raised) in log.iter().filter(|(way, ..)| way == "webhook").cloned() {
        ids.entry((way, rule, what, raised)).or_default().insert(id);
    }
    let twice: Vec<_> = ids.iter().filter(|(_, ids)| ids.len() > 1).collect();
    assert!(twice.is_empty(), "sent under several ids: {twice:?}");
    let count = |way: &str, what: &str| log.iter().filter(|(w, _, _, m, _)| w == way && m == what).count();
    for way in ["webhook", "mail"] {
        assert!(
            count(way, "raised") <= all.len() && count(way, "ended") <= all.len(),
            "{way}: more messages than alerts"
        );
    }
    println!("{} alerts, {} messages in the log, {} rounds", all.len(), log.len(), rounds());
    Ok(())
}
