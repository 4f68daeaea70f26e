//! The console in headless Chromium, through the real service: sign in, search, drag on the spine, open an event, open
//! its story.

#![allow(clippy::unwrap_used, reason = "a test may end where it stands; its tables are read once")]

use anyhow::{Context, Result};
use calvex_demo::Night;
use calvex_e2e::browser::Browser;
use calvex_e2e::service::{PASSWORD, Service};
use std::time::Duration;
use thirtyfour::prelude::*;

const CHANGE: &str = "02:10:00Z";

/// The number that Search shows in front of "events", once it is another than `not`.
async fn total(browser: &Browser, not: Option<u64>) -> Result<u64> {
    for _ in 0..400 {
        let text = browser.css("[data-testid=total]").await?.text().await.unwrap_or_default();
        if let Ok(n) = text.replace(' ', "").parse::<u64>()
            && Some(n) != not
        {
            return Ok(n);
        }
        tokio::time::sleep(Duration::from_millis(25)).await;
    }
    anyhow::bail!("no total appears")
}

#[tokio::test(flavor = "multi_thread")]
async fn sign_in_search_drag_open_follow() -> Result<()> {
    // The driver's HTTP client wants a TLS provider chosen, also on loopback.
    let _ = rustls::crypto::ring::default_provider().install_default();
    let service = Service::start(&[])?;
    let yesterday = (jiff::Timestamp::now() - jiff::SignedDuration::from_hours(24)).to_string()[..10].to_owned();
    let change: jiff::Timestamp = format!("{yesterday}T{CHANGE}").parse()?;
    let change_ns = i64::try_from(change.as_nanosecond())?;
    let night: String = Night::new(1, change_ns, 20_000).map(|e| e.json + "\n").collect();
    anyhow::ensure!(service.calvex_with(&["send", "--quiet"], night.as_bytes())?.status.success());

    let browser = Browser::open(1280, 800).await?;
    // A wrong password is reported, and does not let in.
    browser.page.goto(format!("{}/search", service.url)).await?;
    browser.css("input[name=name]").await?.send_keys("admin").await?;
    browser.css("input[name=password]").await?.send_keys("not the password").await?;
    browser.click("button[type=submit]").await?;
    browser.saying("[role=alert]", "do not fit").await?;
    browser.sign_in(&service.url, PASSWORD).await?;

    // Search by typing.
    let range = format!("from={yesterday}T01:40:00Z&to={yesterday}T03:10:00Z");
    browser.page.goto(format!("{}/search?{range}", service.url)).await?;
    let all = total(&browser, None).await?;
    assert!(all > 15_000, "{all}");
    let query = browser.css("[data-testid=query] [aria-label=Query]").await?;
    query.send_keys("service=slots \"ran out\"" + Key::Enter).await?;
    let leases = total(&browser, Some(all)).await?;
    let expected = service.search(
        "service=slots \"ran out\"",
        &["--from", &format!("{yesterday}T01:40:00Z"), "--to", &format!("{yesterday}T03:10:00Z")],
    )?;
    assert_eq!(leases as usize, expected.len(), "the console and the client agree");
    assert!(browser.address().await?.contains("ran+out"), "the address is the state");

    // Drag across the spine's upper half (the later times), confirm, and see the range narrowed.
    let spine = browser.css("[data-testid=spine]").await?;
    let rect = spine.rect().await?;
    let at = |share: f64| (rect.x as i64 + 60, (rect.y + rect.height * share) as i64);
    let (from, to) = (at(0.30), at(0.62));
    let drag = browser.page.action_chain().move_to(from.0, from.1).click_and_hold();
    drag.move_to(to.0, (from.1 + to.1) / 2).move_to(to.0, to.1).release().perform().await?;
    browser.click_saying("button", "Only this").await?;
    let within = total(&browser, Some(leases)).await?;
    assert!(within > 0 && within < leases, "{within} of {leases}");
    let address = browser.address().await?;
    assert!(!address.contains("01%3A40%3A00Z"), "the range is in the address: {address}");
    browser.page.back().await?;
    assert_eq!(total(&browser, Some(within)).await?, leases, "a step back undoes it");

    // Open an event, narrow by a value of it, and follow it to its story: by mouse, then by keyboard.
    let row = browser.css("[data-index]").await?;
    row.click().await?;
    let event = browser.css("[data-testid=event]").await?;
    let text = event.text().await?;
    for part in ["ran out", "lease", "seconds", "bank", "late_by_ms", "UTC", "lane", "integer"] {
        assert!(text.contains(part), "{part} is not in {text}");
    }
    browser.click_saying("[data-testid=event] a", "Its story").await?;
    let services = browser.attr("[data-testid=services]", "title").await?;
    assert_eq!(services.as_deref(), Some("edge → parcels → slots → locker-agent → codes"));
    browser.saying("h1", "ran out").await?;
    browser.saying("li", "gave up on drop-off").await?;
    assert!(browser.address().await?.contains("/story/"));
    browser.page.back().await?;
    browser.css("[data-index]").await?;
    browser.page.action_chain().send_keys("jj").perform().await?;
    browser.css("[data-index][aria-selected=true]").await?;
    browser.page.action_chain().send_keys("s").perform().await?;
    browser.css("[data-testid=services]").await?;

    // An empty answer explains itself; a mistake stands under its place.
    browser.page.goto(format!("{}/search?q=htpp.status%3D409&{range}", service.url)).await?;
    browser.saying("[data-testid=empty] li", "Did you mean http.status?").await?;
    browser.page.goto(format!("{}/search?q=severity%3E%3Dloud&{range}", service.url)).await?;
    browser.saying("[role=alert] li", "is no severity").await?;

    // The spine's handle moves by keyboard, and the list with it.
    browser.page.goto(format!("{}/search?{range}", service.url)).await?;
    let handle = browser.css("[aria-label='What the list shows']").await?;
    let before = handle.attr("aria-valuetext").await?.context("no value")?;
    handle.send_keys(Key::PageDown + Key::PageDown).await?;
    for _ in 0..200 {
        let now = browser.css("[aria-label='What the list shows']").await?.attr("aria-valuetext").await.ok().flatten();
        if now.is_some_and(|v| v != before) {
            browser.click_saying("a", "Alerts").await?;
            browser.saying("h1", "Alerts").await?;
            intake(&browser, &service).await?;
            return browser.close().await;
        }
        tokio::time::sleep(Duration::from_millis(25)).await;
    }
    anyhow::bail!("the list did not follow the handle from {before}")
}

/// The account of arrivals, one look: what came, and a line that did not.
async fn intake(browser: &Browser, service: &Service) -> Result<()> {
    service.calvex_with(&["send", "--quiet"], b"{\"msg\": broken}\n")?;
    browser.click_saying("a", "Intake").await?;
    browser.saying("[aria-label=Arrivals] td", "locker-agent").await?;
    browser.saying("[aria-label=Refused] td", "not-json").await?;
    browser.saying("[aria-label='Ways in'] td", "OTLP over gRPC").await?;
    browser.page.goto(format!("{}/intake?service=nobody", service.url)).await?;
    browser.saying("p", "Nothing of nobody arrived").await?;
    browser.click_saying("button", "every service").await?;
    browser.click_saying("[aria-label=Arrivals] td a", "slots").await?;
    browser.css("[aria-label=Query]").await?;
    assert!(browser.address().await?.contains("service%3D%22slots%22"), "{}", browser.address().await?);
    Ok(())
}
