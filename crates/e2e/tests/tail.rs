//! What comes, followed: by the real client, over HTTP, and in the console.

use anyhow::{Context, Result};
use calvex_e2e::browser::Browser;
use calvex_e2e::service::{PASSWORD, Service, binary, wait_for};
use serde_json::{Value, json};
use std::io::{BufRead, BufReader, Read};
use std::process::{Child, Command, Stdio};

/// A `calvex tail` that follows already.
fn tail(service: &Service, args: &[&str]) -> Result<(Child, BufReader<std::process::ChildStdout>)> {
    let mut child = Command::new(binary())
        .arg("tail")
        .args(args)
        .envs([("CALVEX_URL", &service.url), ("CALVEX_TOKEN", &service.token)])
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()?;
    let out = BufReader::new(child.stdout.take().context("no output")?);
    Ok((child, out))
}

fn send(service: &Service, lines: &[Value]) -> Result<()> {
    let text: String = lines.iter().map(|l| format!("{l}\n")).collect();
    let sent = service.calvex_with(&["send", "--quiet"], text.as_bytes())?;
    anyhow::ensure!(sent.status.success(), "{}", String::from_utf8_lossy(&sent.stderr));
    Ok(())
}

#[test]
fn what_comes_is_shown_to_those_who_may_read_it() -> Result<()> {
    let mut service = Service::start(&[])?;
    service.ok(&["lane", "set", "audit", "--days", "400"])?;
    service.ok(&["route", "add", "service=access", "audit"])?;
    let narrow = service.ok(&["token", "new", "narrow", "--lane", "main", "--text"])?.trim().to_owned();
    let event = |name: &str, n: u64| {
        let level = if n.is_multiple_of(2) { "warn" } else { "info" };
        json!({"time": jiff::Timestamp::now().to_string(), "service": name, "level": level, "msg": "told", "n": n})
    };
    send(&service, &[event("slots", 0)])?;
    // People's form says on standard error when it follows; the others are begun once that one is.
    let (mut people, mut people_out) = tail(&service, &["--text", "severity>=warn", "-n", "2"])?;
    let (all, mut all_out) = tail(&service, &["--json", "-n", "6"])?;
    let (narrowed, mut narrowed_out) = tail(&service, &["--json", "--token", &narrow, "-n", "4"])?;
    let mut reported = String::new();
    BufReader::new(people.stderr.as_mut().context("no standard error")?).read_line(&mut reported)?;
    assert!(reported.contains("following severity>=warn"), "{reported}");
    // Each sends nothing until it follows: events are sent until all three have ended.
    let mut n = 1;
    let mut ended = [people, all, narrowed];
    wait_for("all three to end", || {
        send(&service, &[event("slots", n), event("access", n), event("slots", n + 1)])?;
        n += 2;
        Ok(ended.iter_mut().map(Child::try_wait).collect::<std::io::Result<Option<Vec<_>>>>()?)
    })?
    .into_iter()
    .for_each(|status| assert!(status.success()));
    let text = |out: &mut BufReader<std::process::ChildStdout>| {
        let mut text = String::new();
        out.read_to_string(&mut text).map(|_| text)
    };
    let lines = text(&mut people_out)?;
    assert!(lines.lines().count() == 2 && lines.lines().all(|l| l.contains("warn")), "{lines}");
    let events = |text: String| -> Vec<Value> { text.lines().filter_map(|l| serde_json::from_str(l).ok()).collect() };
    let all = events(text(&mut all_out)?);
    assert_eq!(all.len(), 6);
    assert!(all.iter().any(|e| e["lane"] == "audit") && all.iter().all(|e| e["fields"]["n"] != 0), "{all:?}");
    let narrowed = events(text(&mut narrowed_out)?);
    assert!(narrowed.len() == 4 && narrowed.iter().all(|e| e["lane"] == "main"), "{narrowed:?}");

    let wrong = service.calvex(&["tail", "severity>="])?;
    assert_eq!(wrong.status.code(), Some(2));
    let figures = service.calvex(&["tail", "measure count"])?;
    assert!(String::from_utf8_lossy(&figures.stderr).contains("leave `over` and `measure` out"));
    // One that follows does not hold up the service's end, and learns of it.
    let (mut last, _) = tail(&service, &["--text"])?;
    let mut reported = String::new();
    BufReader::new(last.stderr.as_mut().context("no standard error")?).read_line(&mut reported)?;
    service.stop()?;
    reported.clear();
    BufReader::new(last.stderr.as_mut().context("no standard error")?).read_to_string(&mut reported)?;
    assert!(reported.contains("the service ended"), "{reported}");
    assert_eq!(last.wait()?.code(), Some(2));
    Ok(())
}

#[test]
fn values_of_fields_are_counted() -> Result<()> {
    let service = Service::start(&[])?;
    let event = |n: u64| json!({"time": jiff::Timestamp::now().to_string(), "service": if n < 3 { "slots" } else { "edge" }, "msg": format!("door {n} opened")});
    send(&service, &(0..8).map(event).collect::<Vec<_>>())?;
    let rows: Vec<Value> = wait_for("the counts", || {
        let reported = service.calvex(&["breakdown", "service", "shape", "--json"])?;
        let rows: Vec<Value> =
            String::from_utf8(reported.stdout)?.lines().filter_map(|l| serde_json::from_str(l).ok()).collect();
        Ok((rows.len() == 3).then_some(rows))
    })?;
    let of = |n: usize| (rows[n]["value"].clone(), rows[n]["count"].clone());
    assert_eq!((of(0), of(1)), ((json!("edge"), json!(5)), (json!("slots"), json!(3))));
    assert_eq!(rows[2]["count"], json!(8));
    let text = service.ok(&["breakdown", "service", "-q", "service=slots", "--text"])?;
    assert!(text.contains("in 100.0 % of 3 events, 1 values") && text.contains("100.0 %"), "{text}");
    assert_eq!(service.calvex(&["breakdown", "nothing.such"])?.status.code(), Some(1));

    // Folded by shape, with their trend.
    let reported = service.ok(&["shapes", "--json"])?;
    let row: Value = serde_json::from_str(reported.trim())?;
    assert_eq!((&row["count"], &row["shape"]), (&json!(8), &rows[2]["value"]));
    let trend: f64 = row["trend"].as_array().into_iter().flatten().filter_map(Value::as_f64).sum();
    assert_eq!(trend, 8.0, "{row}");
    assert!(service.ok(&["shapes", "service=slots", "--text"])?.contains("opened"));
    assert_eq!(service.calvex(&["shapes", "nothing"])?.status.code(), Some(1));
    assert_eq!(service.calvex(&["shapes", "measure count"])?.status.code(), Some(2));

    // Written out whole: NDJSON, CSV, figures, and honest about a bound.
    let all = service.ok(&["export"])?;
    assert_eq!(all.lines().filter(|l| serde_json::from_str::<Value>(l).is_ok()).count(), 8);
    let csv = service.ok(&["export", "--csv", "--columns", "service,message", "service=slots"])?;
    assert_eq!(csv.lines().next(), Some("service,message"));
    assert!(csv.lines().count() == 4 && csv.contains("slots,door 1 opened"), "{csv}");
    assert_eq!(service.ok(&["export", "--csv", "measure count per service"])?, "service,count\nedge,5\nslots,3\n");
    let cut = service.calvex(&["export", "--limit", "3"])?;
    assert!(String::from_utf8_lossy(&cut.stderr).contains("more than 3 events"));
    assert_eq!(String::from_utf8(cut.stdout)?.lines().count(), 3);
    assert_eq!(service.calvex(&["export", "nothing"])?.status.code(), Some(1));
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn the_console_follows_pauses_and_narrows() -> Result<()> {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let service = Service::start(&[])?;
    let browser = Browser::open(1280, 800).await?;
    browser.page.goto(&service.url).await?;
    browser.sign_in(&service.url, PASSWORD).await?;
    browser.page.goto(format!("{}/search?q=service%3Dslots", service.url)).await?;
    browser.click_saying("a", "tail").await?;
    browser.saying("[role=status]", "following").await?;
    let event = |name: &str, n: u64| json!({"time": jiff::Timestamp::now().to_string(), "service": name, "level": "error", "msg": format!("told {n}"), "door": n});
    send(&service, &[event("slots", 1), event("edge", 2)])?;
    browser.saying("[data-index]", "told 1").await?;
    browser.click("button[type=submit] + button").await?;
    browser.saying("[role=status]", "paused, 0 new").await?;
    send(&service, &[event("slots", 3)])?;
    browser.saying("[role=status]", "paused, 1 new").await?;
    browser.click_saying("button", "go on").await?;
    browser.click_saying("[data-index]", "told 3").await?;
    browser.saying("[data-testid=event]", "door").await?;
    let strip = browser.css("svg[role=img][aria-label^='events a second']").await?;
    assert!(strip.attr("aria-label").await?.is_some_and(|l| !l.contains("at most 0")));
    // Another query follows anew; a mistake is reported.
    browser.page.goto(format!("{}/tail?q=severity%3E%3Dloud", service.url)).await?;
    browser.saying("[role=alert]", "is no severity").await?;
    browser.page.goto(format!("{}/tail", service.url)).await?;
    browser.saying("[role=status]", "following").await?;
    send(&service, &[event("edge", 4)])?;
    browser.saying("[data-index]", "told 4").await?;
    browser.close().await
}
