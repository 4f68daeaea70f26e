//! Rules as documents: checked, applied, rehearsed, judged in groups, changed; what they raise explains itself and reaches
//! its contact; what late events undo is withdrawn. With the real client, and the rule's page in the console.

use anyhow::{Context, Result};
use calvex_e2e::service::{Service, wait_for};
use calvex_e2e::stage::{DESK, Stage};
use serde_json::{Value, json};
use std::path::PathBuf;

const SECOND_NS: i64 = 1_000_000_000;
const MINUTE_NS: i64 = 60 * SECOND_NS;

fn now_ns() -> i64 {
    i64::try_from(jiff::Timestamp::now().as_nanosecond()).unwrap_or(0)
}

fn rfc(ns: i64) -> String {
    jiff::Timestamp::from_nanosecond(i128::from(ns)).map(|t| t.to_string()).unwrap_or_default()
}

fn send(service: &Service, events: &[Value]) -> Result<()> {
    let body: String = events.iter().map(|event| format!("{event}\n")).collect();
    let sent = service.calvex_with(&["send", "--quiet"], body.as_bytes())?;
    anyhow::ensure!(sent.status.success(), "{}", String::from_utf8_lossy(&sent.stderr));
    Ok(())
}

fn file(service: &Service, name: &str, text: &str) -> Result<PathBuf> {
    let path = service.dir.join(name);
    std::fs::write(&path, text)?;
    Ok(path)
}

fn lines(text: &str) -> Vec<Value> {
    text.lines().filter_map(|line| serde_json::from_str(line).ok()).collect()
}

/// Takes one message as a receiver does, and answers that it arrived.
fn one_message(hook: &std::net::TcpListener) -> Result<Value> {
    let (mut stream, _) = hook.accept()?;
    stream.set_read_timeout(Some(std::time::Duration::from_secs(20)))?;
    let mut request = Vec::new();
    let mut buffer = [0u8; 8192];
    loop {
        let read = std::io::Read::read(&mut stream, &mut buffer)?;
        request.extend_from_slice(buffer.get(..read).unwrap_or_default());
        let text = String::from_utf8_lossy(&request).into_owned();
        if let Some((_, body)) = text.split_once("\r\n\r\n")
            && let Ok(body) = serde_json::from_str::<Value>(body)
        {
            std::io::Write::write_all(&mut stream, b"HTTP/1.1 204 No Content\r\ncontent-length: 0\r\n\r\n")?;
            return Ok(body);
        }
        anyhow::ensure!(read > 0, "the message broke off: {text}");
    }
}

/// The alerts of a rule.
fn alerts(service: &Service, rule: &str) -> Result<Vec<Value>> {
    let listed = service.calvex(&["alerts", "--json"])?;
    let all = lines(&String::from_utf8(listed.stdout)?);
    Ok(all.into_iter().filter(|alert| alert["rule"] == rule).collect())
}

const REFUSED: &str = "name = 'drop-offs refused'\nnotify = ['on call']\nnote = 'Look at the lease.'\ndelay = '0s'\n\
    late = '2h'\n[threshold]\nevents = 'refused'\nper = ['zone']\nover = '30s'\nabove = 3\n";

#[test]
fn a_rule_is_checked_applied_judged_by_group_and_changed() -> Result<()> {
    let service = Service::start(&[("CALVEX_NOTIFY_WEBHOOK_LOCAL", "true")])?;
    let hook = std::net::TcpListener::bind("127.0.0.1:0")?;
    let url = format!("http://{}/hook", hook.local_addr()?);
    let secret = service.ok(&["contact", "set", "on call", "--webhook", &url, "--json"])?;
    assert!(secret.contains("whsec_"), "{secret}");
    assert!(service.ok(&["contact", "list", "--json"])?.contains("on call"));
    // A test message arrives; where nobody takes it, the answer says so.
    let receiver = hook.try_clone()?;
    let taking = std::thread::spawn(move || one_message(&receiver));
    assert!(service.ok(&["contact", "test", "on call", "--json"])?.contains("\"state\":\"sent\""));
    assert_eq!(taking.join().map_err(|_| anyhow::anyhow!("no receiver"))??["type"], "contact.test");
    service.ok(&["contact", "set", "nobody", "--webhook", "http://127.0.0.1:1/"])?;
    let lost = service.calvex(&["contact", "test", "nobody"])?;
    assert_eq!(lost.status.code(), Some(2), "{}", String::from_utf8_lossy(&lost.stderr));
    service.ok(&["contact", "remove", "nobody"])?;

    // Each form's own document is a rule; a broken one names line and field, and the exit code is 2.
    for form in ["threshold", "share", "silence", "first-seen", "deviation", "objective", "unfinished", "error-group"] {
        let path = file(&service, "form.toml", &service.ok(&["rule", "form", form])?)?;
        let said = service.ok(&["rule", "check", &path.display().to_string(), "--text"])?;
        assert!(said.starts_with("when "), "{form}: {said}");
    }
    let broken = file(&service, "broken.toml", &REFUSED.replace("refused'", "severity>=loud'"))?;
    let refused = service.calvex(&["rule", "check", &broken.display().to_string()])?;
    let said = String::from_utf8_lossy(&refused.stderr);
    assert_eq!(refused.status.code(), Some(2));
    assert!(said.contains("line 7, column") && said.contains("`threshold.events`"), "{said}");

    // A dry run changes nothing; then it is made, and made again it is as it was.
    let path = file(&service, "refused.toml", REFUSED)?.display().to_string();
    assert!(service.ok(&["rule", "apply", &path, "--dry-run", "--json"])?.contains("\"what\":\"made\""));
    assert_eq!(service.calvex(&["rule", "list"])?.status.code(), Some(1));
    assert!(service.ok(&["rule", "apply", &path, "--json"])?.contains("\"what\":\"made\""));
    assert!(service.ok(&["rule", "apply", &path, "--json"])?.contains("\"what\":\"as it was\""));
    let exported = service.ok(&["rule", "export", "drop-offs refused"])?;
    let again = file(&service, "exported.toml", &exported)?.display().to_string();
    assert!(service.ok(&["rule", "apply", &again, "--json"])?.contains("\"what\":\"as it was\""), "{exported}");

    // Two zones fail, after a change that somebody marked: one alert with two groups, that explains itself.
    let at = now_ns();
    let event = |n: i64, zone: &str, what: &str| {
        let lease = if what == "refused" { 12 } else { 120 };
        json!({ "time": rfc(at - n * SECOND_NS / 4), "service": "edge", "zone": zone, "lease": lease,
            "msg": format!("drop-off {n} {what}"), "level": if what == "refused" { "error" } else { "info" },
            "trace_id": format!("{:032x}", 7_000_000_000_000_000_000_000_i128 + i128::from(n)) })
    };
    let mut events: Vec<Value> = (240..1600).map(|n| event(n, "north", "held")).collect();
    events.push(
        json!({ "time": rfc(at - MINUTE_NS), "service": "access", "msg": "changed", "mark": "lease 120 s → 12 s" }),
    );
    events.extend((0..240).map(|n| event(n, ["north", "south", "west"][(n % 3) as usize], "refused")));
    send(&service, &events[..1361])?;
    // West fails too little: two of its events in half a minute.
    events.retain(|e| e["zone"] != "west" || e["lease"] == 120);
    send(&service, &events[1361..])?;
    let raised = wait_for("the alert", || Ok(alerts(&service, "drop-offs refused")?.into_iter().next()))?;
    wait_for("both groups", || Ok((alerts(&service, "drop-offs refused")?[0]["group_count"] == 2).then_some(())))?;
    let raised_again = alerts(&service, "drop-offs refused")?;
    assert_eq!(raised_again.len(), 1, "{raised_again:?}");
    let mut names: Vec<&str> =
        raised_again[0]["groups"].as_array().context("no groups")?.iter().filter_map(|g| g["name"].as_str()).collect();
    // They stand by when each was raised: whichever came first.
    names.sort_unstable();
    assert_eq!(names, ["north", "south"]);
    assert_eq!(raised["bound"], json!({"side": "above", "number": 3.0}));
    let explained = &raised["explanation"];
    assert!(explained["story"].as_str().is_some_and(|id| id.len() == 32), "{raised}");

    // The message: a CloudEvent to the contact, with the explanation frozen in it.
    let body = one_message(&hook)?;
    assert_eq!(
        (&body["specversion"], &body["type"], &body["subject"]),
        (&json!("1.0"), &json!("alert.raised"), &json!("drop-offs refused"))
    );
    assert_eq!(body["data"]["note"], "Look at the lease.");
    assert_eq!(body["data"]["explanation"]["story"], explained["story"]);
    assert!(!body.to_string().contains("whsec_"));

    // In a terminal, too.
    let id = raised["id"].to_string();
    let shown = service.ok(&["alerts", "show", &id, "--text"])?;
    assert!(shown.contains("note       Look at the lease.") && shown.contains("group      north"), "{shown}");
    assert_eq!(service.calvex(&["alerts", "show", "4711"])?.status.code(), Some(2));

    // It is played over the past as it was judged, and another bound finds nothing.
    let rehearsed = lines(&service.ok(&["rule", "rehearse", &path, "--days", "0.1", "--json"])?);
    assert_eq!(rehearsed.len(), 1, "{rehearsed:?}");
    let mut names: Vec<&str> =
        rehearsed[0]["groups"].as_array().context("no groups")?.iter().filter_map(Value::as_str).collect();
    names.sort_unstable();
    assert_eq!(names, ["north", "south"]);
    let higher = file(&service, "higher.toml", &REFUSED.replace("above = 3", "above = 5000"))?.display().to_string();
    assert_eq!(service.calvex(&["rule", "rehearse", &higher, "--days", "0.1"])?.status.code(), Some(1));

    // Changed, it is quiet, and what it had raised has ended; judged by the new document it stays so.
    assert!(service.ok(&["rule", "apply", &higher, "--json"])?.contains("\"what\":\"changed\""));
    let ended = alerts(&service, "drop-offs refused")?;
    assert!(ended[0]["ended"].is_string(), "{ended:?}");
    let message = one_message(&hook)?;
    assert_eq!((&message["type"], &message["data"]["why_ended"]), (&json!("alert.ended"), &json!("rule changed")));
    let listed = lines(&service.ok(&["rule", "list", "--json"])?);
    assert_eq!((listed[0]["revision"].as_u64(), listed[0]["state"].as_str()), (Some(2), Some("quiet")));
    service.ok(&["contact", "remove", "on call"])?;
    assert_eq!(service.calvex(&["contact", "list"])?.status.code(), Some(1));
    Ok(())
}

/// A share that late events bring below its bound again was never above it.
#[test]
fn an_alert_that_late_events_undo_is_withdrawn() -> Result<()> {
    let service = Service::start(&[])?;
    let document =
        "name = 'share'\ndelay = '0s'\nlate = '2h'\n[share]\nof = 'refused'\nover = '1m'\nabove = 0.5\nleast = 10\n";
    let path = file(&service, "share.toml", document)?.display().to_string();
    service.ok(&["rule", "apply", &path])?;
    let at = now_ns() - 20 * SECOND_NS;
    let event = |n: i64, what: &str| json!({ "time": rfc(at - n * SECOND_NS), "service": "edge", "msg": what });
    send(&service, &(0..12).map(|n| event(n, "refused")).collect::<Vec<_>>())?;
    wait_for("the alert", || Ok((!alerts(&service, "share")?.is_empty()).then_some(())))?;
    // A sender that was cut off delivers what went well at the same time.
    send(&service, &(0..40).map(|n| event(n % 12, "held")).collect::<Vec<_>>())?;
    wait_for("it to be withdrawn", || Ok((alerts(&service, "share")?[0]["withdrawn"] == true).then_some(())))?;
    let all = alerts(&service, "share")?;
    assert!(all.iter().all(|alert| alert["withdrawn"] == true && alert["ended"].is_string()), "{all:?}");
    assert_eq!(lines(&service.ok(&["rule", "list", "--json"])?)[0]["state"], "quiet");
    Ok(())
}

/// Of a rule that is muted nobody is notified; what lasts when that ends is notified then.
#[test]
fn a_mute_keeps_quiet_and_ends() -> Result<()> {
    let service = Service::start(&[("CALVEX_NOTIFY_WEBHOOK_LOCAL", "true")])?;
    let hook = std::net::TcpListener::bind("127.0.0.1:0")?;
    let url = format!("http://{}/hook", hook.local_addr()?);
    service.ok(&["contact", "set", "on call", "--webhook", &url])?;
    let path = file(&service, "refused.toml", REFUSED)?.display().to_string();
    service.ok(&["rule", "apply", &path])?;
    let id = lines(&service.ok(&["rule", "list", "--json"])?)[0]["id"].to_string();
    // A mute has a reason and an end.
    assert_eq!(service.calvex(&["rule", "mute", &id, "--for", "for ever", "--why", "x"])?.status.code(), Some(2));
    assert_eq!(service.calvex(&["rule", "mute", &id, "--for", "2h", "--why", ""])?.status.code(), Some(2));
    service.ok(&["rule", "mute", &id, "--for", "2h", "--why", "the depot is closed"])?;
    assert!(service.ok(&["rule", "list", "--text"])?.contains("the depot is closed"));
    let zones = json!({ "service": "edge", "zone": "north", "msg": "drop-off refused" });
    // It goes on for as long as the test looks.
    let failing = || send(&service, &(0..20).map(|_| zones.clone()).collect::<Vec<_>>());
    let raised = wait_for("the alert", || {
        failing()?;
        Ok(alerts(&service, "drop-offs refused")?.into_iter().next())
    })?;
    assert_eq!((&raised["muted"], &raised["notified"]), (&json!(true), &json!([])));
    service.ok(&["rule", "unmute", &id])?;
    let receiver = hook.try_clone()?;
    let taking = std::thread::spawn(move || one_message(&receiver));
    wait_for("the message", || {
        failing()?;
        Ok((alerts(&service, "drop-offs refused")?[0]["muted"] == false).then_some(()))
    })?;
    let message = taking.join().map_err(|_| anyhow::anyhow!("no receiver"))??;
    assert_eq!((&message["type"], &message["data"]["rule"]), (&json!("alert.raised"), &json!("drop-offs refused")));
    Ok(())
}

/// From a measure in Search to a rule that is rehearsed, its bound moved by keys, and switched on; without a mouse.
#[tokio::test(flavor = "multi_thread")]
async fn a_measure_becomes_a_rule_in_the_console() -> Result<()> {
    let stage = Stage::new(DESK).await?;
    let browser = &stage.browser;
    browser
        .page
        .goto(format!(
            "{}/search?q=service%3Dslots+%22ran+out%22+measure+count+every+5m&from=now-1d",
            stage.service.url
        ))
        .await?;
    browser.click_saying("a", "make a rule of this").await?;
    browser.saying("[data-testid=sentence]", "when count of").await?;
    browser.saying("[data-testid=summary]", "Raised").await?;
    stage.axe("a rule and its rehearsal").await?;
    stage.fits("a rule and its rehearsal").await?;
    // A bound beyond every value raises nothing; the document says so too.
    let bound = browser.css("[role=slider]").await?;
    for _ in 0..60 {
        bound.send_keys(thirtyfour::Key::Right).await?;
    }
    browser.saying("[data-testid=summary]", "Not raised").await?;
    browser.click_saying("button", "as a document").await?;
    let area = browser.css("textarea").await?;
    let text = area.prop("value").await?.unwrap_or_default();
    assert!(text.contains("[threshold]") && text.contains("events = \"service=slots \\\"ran out\\\"\""), "{text}");
    // A name, a mistake, and its place; then it is switched on.
    area.send_keys(thirtyfour::Key::Control + "a").await?;
    area.send_keys("name = \"leases\"\n[threshold]\nevents = \"severity>=loud\"\nover = \"5m\"\nabove = 20\n").await?;
    browser.saying("[role=alert] li", "line 3").await?;
    area.send_keys(thirtyfour::Key::Control + "a").await?;
    area.send_keys(
        "name = \"leases\"\n[threshold]\nevents = \"service=slots \\\"ran out\\\"\"\nover = \"5m\"\nabove = 20\n",
    )
    .await?;
    browser.saying("[data-testid=sentence]", "above 20").await?;
    browser.click_saying("button", "Switch it on").await?;
    browser.saying("h1", "leases").await?;
    // Changed as a sentence: another side and number, another form, a note; its versions show what changed.
    browser.click_saying("button", "as a sentence").await?;
    let number = browser.css("[aria-label=bound]:not([role=slider])").await?;
    number.send_keys(thirtyfour::Key::Control + "a").await?;
    number.send_keys("25").await?;
    browser.saying("[data-testid=sentence]", "above 25").await?;
    stage.axe("a rule as a sentence").await?;
    stage.fits("a rule as a sentence").await?;
    browser.click_saying("button", "Change the rule").await?;
    browser.saying("[aria-label=Versions] ins", "above = 25").await?;
    browser.saying("[aria-label=Versions] del", "above = 20").await?;
    // Muted from its page, with a reason.
    browser.click_saying("button", "mute").await?;
    browser.css("input[name=why]").await?.send_keys("the depot is closed").await?;
    browser.click_saying("button", "Mute").await?;
    browser.saying("p", "the depot is closed").await?;
    browser.page.goto(format!("{}/rules", stage.service.url)).await?;
    browser.saying("[aria-label=Rules] td", "leases").await?;
    stage.axe("rules").await?;
    stage.fits("rules").await?;
    Ok(())
}

/// An alert on its page: taken, noted, with whom it notified; found by the link of its message.
#[tokio::test(flavor = "multi_thread")]
async fn an_alert_has_a_page() -> Result<()> {
    let stage = Stage::new(DESK).await?;
    let (service, browser) = (&stage.service, &stage.browser);
    service.ok(&["contact", "set", "desk", "--webhook", "https://192.0.2.1/hook"])?;
    let document = REFUSED.replace("drop-offs refused", "page").replace("on call", "desk");
    let path = file(service, "page.toml", &document)?.display().to_string();
    service.ok(&["rule", "apply", &path])?;
    let failing = || {
        let event = json!({ "service": "edge", "zone": "north", "msg": "drop-off refused" });
        send(service, &(0..20).map(|_| event.clone()).collect::<Vec<_>>())
    };
    let alert = wait_for("the alert", || {
        failing()?;
        Ok(alerts(service, "page")?.into_iter().next())
    })?;
    let raised = alert["raised"].as_str().unwrap_or("");
    browser.page.goto(format!("{}/alerts?rule=page&raised={raised}", service.url)).await?;
    browser.saying("h1", "page").await?;
    browser.saying("[aria-label='What is different']", "What is different").await?;
    browser.saying("[aria-label=Groups] td", "north").await?;
    browser.saying("[aria-label=Messages]", "raised to desk").await?;
    browser.click_saying("button", "Take it").await?;
    browser.saying("header", "taken by").await?;
    browser.css("[aria-label=Notes] textarea").await?.send_keys("the lease was too short").await?;
    browser.click_saying("button", "Add a note").await?;
    browser.saying("[aria-label=Notes] li", "the lease was too short").await?;
    stage.axe("an alert").await?;
    stage.fits("an alert").await?;
    browser.page.goto(format!("{}/alerts", service.url)).await?;
    browser.saying("[aria-label=Alerts] td", "page").await?;
    stage.axe("alerts").await?;
    browser.page.goto(format!("{}/contacts", service.url)).await?;
    browser.saying("[aria-label=Contacts] td", "desk").await?;
    stage.axe("contacts").await?;
    stage.fits("contacts").await?;
    Ok(())
}
