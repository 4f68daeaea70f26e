//! The night, end to end: sent, found, followed, alerted, backed up, restored, expired.

#![allow(clippy::unwrap_used, reason = "a test may end where it stands; its tables are read once")]

use anyhow::{Context, Result};
use calvex_demo::{MINUTE_NS, Night, SECOND_NS};
use calvex_e2e::receiver::Receiver;
use calvex_e2e::service::{Service, wait_for};
use serde_json::Value;

fn now_ns() -> i64 {
    i64::try_from(jiff::Timestamp::now().as_nanosecond()).unwrap()
}

fn rfc3339(ns: i64) -> String {
    jiff::Timestamp::from_nanosecond(i128::from(ns)).unwrap().to_string()
}

/// Checks a Standard Webhooks signature by its own means, not by the code that made it.
fn signature_holds(secret: &str, id: &str, timestamp: &str, body: &str, sent: &str) -> bool {
    use base64::Engine;
    use hmac::{KeyInit, Mac};
    let engine = base64::engine::general_purpose::STANDARD;
    let key = engine.decode(secret.trim_start_matches("whsec_")).unwrap();
    let mut mac = hmac::Hmac::<sha2::Sha256>::new_from_slice(&key).unwrap();
    mac.update(format!("{id}.{timestamp}.{body}").as_bytes());
    let signature = sent.strip_prefix("v1,").and_then(|s| engine.decode(s).ok()).unwrap_or_default();
    mac.verify_slice(&signature).is_ok()
}

/// One request taken from a socket: its headers by lower-case name, and its body.
async fn one_webhook(listener: tokio::net::TcpListener) -> Result<(Vec<(String, String)>, String)> {
    use tokio::io::{AsyncReadExt, AsyncWriteExt};
    let (mut stream, _) = listener.accept().await?;
    let mut bytes = Vec::new();
    loop {
        let mut part = [0; 4096];
        let n = stream.read(&mut part).await?;
        bytes.extend_from_slice(&part[..n]);
        let text = String::from_utf8_lossy(&bytes).into_owned();
        if let Some((head, body)) = text.split_once("\r\n\r\n") {
            let headers: Vec<(String, String)> = head
                .lines()
                .skip(1)
                .filter_map(|l| l.split_once(": "))
                .map(|(k, v)| (k.to_lowercase(), v.to_owned()))
                .collect();
            let length: usize =
                headers.iter().find(|(k, _)| k == "content-length").map_or(0, |(_, v)| v.parse().unwrap());
            if body.len() >= length {
                stream.write_all(b"HTTP/1.1 204 No Content\r\ncontent-length: 0\r\n\r\n").await?;
                return Ok((headers, body.to_owned()));
            }
        }
        anyhow::ensure!(n > 0, "the webhook broke off");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_night() -> Result<()> {
    // reqwest wants a TLS provider chosen, also for plain HTTP.
    let _ = rustls::crypto::ring::default_provider().install_default();
    let receiver = Receiver::start()?;
    let own_hook = tokio::net::TcpListener::bind("127.0.0.1:0").await?;
    let own_url = format!("http://{}/", own_hook.local_addr()?);
    let mut service =
        Service::start(&[("CALVEX_NOTIFY_MAIL_SERVER", &receiver.mail), ("CALVEX_NOTIFY_WEBHOOK_LOCAL", "true")])?;

    service.ok(&["lane", "set", "devices", "--days", "14"])?;
    service.ok(&["lane", "set", "audit", "--days", "400"])?;
    service.ok(&["route", "add", "service=access", "audit"])?;
    service.ok(&["route", "add", "service=locker-agent", "devices"])?;
    // The change was made 25 minutes ago and stands: the alert must be raised now, not only in hindsight.
    let change_ns = now_ns() - 25 * MINUTE_NS;
    let rule = |name: &str, hook: &str| -> Result<Value> {
        let args = [
            "rule",
            "new",
            name,
            "--query",
            "service=slots \"ran out\"",
            "--window",
            "5m",
            "--above",
            "5",
            "--hold",
            "30s",
            "--delay",
            "1s",
            "--late",
            "2h",
            "--webhook",
            hook,
            "--mail",
            "oncall@fennmark.test",
            "--json",
        ];
        Ok(serde_json::from_str(&service.ok(&args)?)?)
    };
    let secret = rule("leases run out", &receiver.hook)?["webhook_secret"].as_str().unwrap().to_owned();
    let own_secret = rule("the same elsewhere", &own_url)?["webhook_secret"].as_str().unwrap().to_owned();
    reqwest::Client::new().post(receiver.hook.replace("/hook", "/secret")).body(secret).send().await?;

    // Load: what has been sent by now.
    let now = now_ns();
    let sent: Vec<_> = Night::new(1, change_ns, 30_000).take_while(|e| e.send_ns < now).collect();
    let body: String = sent.iter().map(|e| format!("{}\n", e.json)).collect();
    let output = service.calvex_with(&["send", "--json", "--quiet"], body.as_bytes())?;
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let reported: Value = serde_json::from_slice(&output.stdout)?;
    assert_eq!((reported["stored"].as_u64(), reported["refused"].as_u64()), (Some(sent.len() as u64), Some(0)));

    // Find the lease errors: every one of them, and nothing else.
    let (from, to) = (rfc3339(change_ns - 40 * MINUTE_NS), rfc3339(now + 60 * SECOND_NS));
    let range = ["--from", from.as_str(), "--to", to.as_str()];
    let found = service.search("service=slots \"ran out\"", &range)?;
    let expected = sent.iter().filter(|e| e.service == "slots" && e.json.contains("ran out")).count();
    assert!(expected > 20);
    assert_eq!(found.len(), expected);
    let all = service.search("", &range)?;
    assert_eq!(all.len(), sent.len(), "every event is found once");

    // Follow one failed drop-off through its services.
    let failed = service.search("service=edge \"slot lease gone\"", &range)?;
    let trace = failed[0]["trace"].as_str().context("no trace")?;
    let reported = service.ok(&["story", trace, "--json"])?;
    let story: Vec<Value> = reported.lines().map(|l| serde_json::from_str(l).unwrap()).collect();
    let services: std::collections::BTreeSet<&str> = story.iter().filter_map(|e| e["service"].as_str()).collect();
    for service in ["edge", "parcels", "slots", "locker-agent", "codes"] {
        assert!(services.contains(service), "{service} is missing from {services:?}");
    }
    let lanes: std::collections::BTreeSet<&str> = story.iter().filter_map(|e| e["lane"].as_str()).collect();
    assert!(lanes.contains("main") && lanes.contains("devices"), "{lanes:?}");
    let times: Vec<&str> = story.iter().filter_map(|e| e["time"].as_str()).collect();
    assert!(times.is_sorted(), "in order");
    assert_eq!(service.search("service=access lane=audit \"120 s to 12 s\"", &range)?.len(), 1, "who changed it");

    // The rule is raised; webhook and mail arrive, signed.
    let (headers, body) = tokio::time::timeout(calvex_e2e::service::PATIENCE, one_webhook(own_hook)).await??;
    let header = |name: &str| headers.iter().find(|(k, _)| k == name).map_or("", |(_, v)| v.as_str());
    let (id, timestamp, signature) = (header("webhook-id"), header("webhook-timestamp"), header("webhook-signature"));
    assert!(signature_holds(&own_secret, id, timestamp, &body, signature), "{headers:?} {body}");
    assert!(!signature_holds(&own_secret, id, timestamp, &body.replace("raised", "quiet!"), signature));
    let payload: Value = serde_json::from_str(&body)?;
    assert_eq!(
        (payload["type"].as_str(), payload["data"]["rule"].as_str()),
        (Some("alert.raised"), Some("the same elsewhere"))
    );
    let mut arrived = Vec::new();
    let until = std::time::Instant::now() + calvex_e2e::service::PATIENCE;
    while !(arrived.iter().any(|a: &Value| a["kind"] == "webhook" && a["signature"] == "good")
        && arrived.iter().any(|a| {
            a["kind"] == "mail"
                && a["to"] == "oncall@fennmark.test"
                && a["text"].as_str().unwrap().contains("leases run out")
        }))
    {
        anyhow::ensure!(std::time::Instant::now() < until, "webhook and mail did not arrive: {arrived:?}");
        arrived = receiver.arrived().await?;
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    let of_rule = |service: &Service, field: &str| -> Result<String> {
        let listed = service.ok(&["rule", "list", "--json"])?;
        let rule: Value =
            serde_json::from_str(listed.lines().find(|l| l.contains("leases run out")).context("no rule")?)?;
        Ok(rule[field].as_str().unwrap_or("").to_owned())
    };
    assert_eq!(of_rule(&service, "state")?, "raised");

    // It is still raised after a restart, and once it is judged again nobody was notified twice.
    let (judged, notified) = (of_rule(&service, "judged")?, receiver.arrived().await?.len());
    let took = service.stop()?;
    assert!(took.as_secs() < 10, "a graceful stop took {took:?}");
    service.restart()?;
    assert_eq!(of_rule(&service, "state")?, "raised");
    wait_for("a judgement after the restart", || Ok((of_rule(&service, "judged")? > judged).then_some(())))?;
    assert_eq!(receiver.arrived().await?.len(), notified);
    assert_eq!(service.search("", &range)?.len(), sent.len());

    // Backup, and restore into an empty place: the same searches, the same answers.
    service.ok(&["admin", "seal"])?;
    let file = service.dir.join("backup.zst");
    service.ok(&["admin", "backup", "--data-dir", service.dir.to_str().unwrap(), "--to", file.to_str().unwrap()])?;
    let elsewhere = tempfile::tempdir()?;
    let dir = elsewhere.path().join("restored");
    service.ok(&["admin", "restore", "--data-dir", dir.to_str().unwrap(), "--from", file.to_str().unwrap()])?;
    let again =
        service.calvex(&["admin", "restore", "--data-dir", dir.to_str().unwrap(), "--from", file.to_str().unwrap()])?;
    assert_eq!(again.status.code(), Some(2), "a directory that holds a database is left alone");
    let restored = Service::start_in(dir, Some(elsewhere), &[])?;
    for query in ["", "severity>=error", "service=slots \"ran out\"", trace] {
        assert_eq!(restored.search(query, &range)?, service.search(query, &range)?, "{query}");
    }
    drop(restored);
    Ok(())
}

/// Expiry on events that are about to end: a lane of one day, events of the day before yesterday's edge.
#[tokio::test(flavor = "multi_thread")]
async fn an_expired_bucket_is_dropped_and_a_live_one_is_not() -> Result<()> {
    let service = Service::start(&[])?;
    for (lane, days) in [("short", "3"), ("long", "9")] {
        service.ok(&["lane", "set", lane, "--days", days])?;
        service.ok(&["route", "add", &format!("service={lane}"), lane])?;
    }
    let old = rfc3339(now_ns() - 2 * 24 * 60 * MINUTE_NS);
    let line =
        |service: &str, n: usize| format!("{{\"time\":\"{old}\",\"service\":\"{service}\",\"msg\":\"door {n}\"}}\n");
    let body: String = (0..200).map(|n| line(if n % 2 == 0 { "short" } else { "long" }, n)).collect();
    assert!(service.calvex_with(&["send", "--quiet"], body.as_bytes())?.status.success());
    service.ok(&["admin", "seal"])?;
    let range = ["--from", "now-7d"];
    assert_eq!(service.search("service in (short, long)", &range)?.len(), 200);

    // One connection, because what is set on it must hold for the statements after.
    let options = sqlx::mysql::MySqlConnectOptions::new().socket(service.dir.join("mariadb/sock"));
    let options = options.username("root").database("calvex");
    let pool = sqlx::mysql::MySqlPoolOptions::new().max_connections(1).connect_with(options).await?;
    let tables = || async {
        let select = "SELECT COUNT(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA = 'calvex' AND TABLE_NAME LIKE 'parts\\_%'";
        sqlx::query_scalar::<_, i64>(select).fetch_one(&pool).await
    };
    assert_eq!(tables().await?, 2, "a bucket for each end");
    assert!(service.ok(&["admin", "expire"])?.contains("\"buckets_dropped\":0"), "nothing is due");

    // One day of term: events of two days ago are over. They are hidden at once; their table waits for its day.
    service.ok(&["lane", "set", "short", "--days", "1"])?;
    assert_eq!(service.search("service=short", &range)?.len(), 0);
    assert_eq!(service.search("service=long", &range)?.len(), 100);
    // Time cannot be turned here, so the buckets' days are: both are due now, one of them with a live chunk.
    let today = now_ns().div_euclid(24 * 60 * MINUTE_NS);
    let due = [today - 5, today - 6];
    let names: Vec<i32> = sqlx::query_scalar("SELECT day FROM bucket ORDER BY day").fetch_all(&pool).await?;
    for (day, due) in names.iter().zip(due) {
        // Numbers only; nothing comes from outside.
        for statement in [
            "SET FOREIGN_KEY_CHECKS = 0".to_owned(),
            format!("RENAME TABLE parts_{day} TO parts_{due}"),
            format!("UPDATE chunk SET bucket = {due} WHERE bucket = {day}"),
            format!("UPDATE bucket SET day = {due} WHERE day = {day}"),
            format!("UPDATE bucket_use SET day = {due} WHERE day = {day}"),
        ] {
            sqlx::query(sqlx::AssertSqlSafe(statement)).execute(&pool).await?;
        }
    }
    service.ok(&["lane", "set", "long", "--days", "9"])?;
    let dropped = service.ok(&["admin", "expire"])?;
    assert!(dropped.contains("\"buckets_dropped\":2"), "{dropped}");
    assert_eq!(tables().await?, 1, "the live chunk moved to a later bucket before its old one was dropped");
    assert_eq!(service.search("service=long", &range)?.len(), 100, "and is still found");
    wait_for("the expired lane to stay empty", || {
        Ok(service.search("service=short", &range)?.is_empty().then_some(()))
    })?;
    Ok(())
}
