//! Figures in the console: one number, bars by group, bars down the page step by step; each opens its events.

use anyhow::Result;
use calvex_e2e::browser::Browser;
use calvex_e2e::service::{PASSWORD, Service, wait_for};
use serde_json::json;

#[tokio::test(flavor = "multi_thread")]
async fn figures_are_drawn_and_open_their_events() -> Result<()> {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let service = Service::start(&[])?;
    let start = jiff::Timestamp::now() - jiff::SignedDuration::from_mins(30);
    let lines: String = (0..60)
        .map(|n| {
            let name = if n % 3 == 0 { "slots" } else { "edge" };
            let time = start + jiff::SignedDuration::from_secs(n * 10);
            json!({"time": time.to_string(), "service": name, "msg": format!("door {n} opened"), "took_ms": n})
                .to_string()
                + "\n"
        })
        .collect();
    service.calvex_with(&["send", "--quiet"], lines.as_bytes())?;
    wait_for("the events", || Ok((service.search("", &[])?.len() == 60).then_some(())))?;
    let browser = Browser::open(1280, 800).await?;
    browser.page.goto(&service.url).await?;
    browser.sign_in(&service.url, PASSWORD).await?;
    let at = |query: &str| {
        let q: String = query.bytes().map(|b| format!("%{b:02X}")).collect();
        format!("{}/search?q={q}", service.url)
    };

    browser.page.goto(at("measure count, p95(took_ms)")).await?;
    browser.saying("[data-testid=figures] strong", "60").await?;
    browser.saying("[data-testid=figures] strong", "56 ms").await?;

    browser.page.goto(at("took_ms<30 measure count, max(took_ms) per service")).await?;
    let row = browser.saying("[aria-label=Figures] tr", "edge").await?;
    let text = row.text().await?;
    assert!(text.contains("20") && text.contains("29 ms"), "{text}");
    browser.click_saying("[aria-label=Figures] td a", "20").await?;
    browser.saying("[aria-live] strong", "20").await?;
    assert!(browser.address().await?.contains("service%3Dedge"), "{}", browser.address().await?);

    // Steps run down the page; a group can be hidden, another aggregate chosen, a step opened.
    browser.page.goto(at("measure count, max(took_ms) per service every 5m")).await?;
    browser.saying("[aria-label='Figures by step'] th", "edge 40").await?;
    browser.click_saying("[aria-label='Groups shown'] button", "slots").await?;
    browser.css("[aria-label='Groups shown'] button[aria-pressed=false]").await?;
    let head = browser.text("[aria-label='Figures by step'] thead").await?;
    assert!(!head.contains("slots"), "{head}");
    browser.click_saying("button", "max(took_ms)").await?;
    browser.saying("[aria-label='Figures by step'] th", "edge 59 ms").await?.text().await?;
    browser.click_saying("[aria-label='Figures by step'] td a", "59 ms").await?;
    browser.saying("[data-index]", "door 59 opened").await?;

    // A word is not a clause; a mistake stands under its place; no events give an empty answer.
    browser.page.goto(at("\"measure count\"")).await?;
    browser.css("[data-testid=empty]").await?;
    browser.page.goto(at("measure count, p95() per service")).await?;
    browser.css("[role=alert] li").await?;
    browser.page.goto(at("service=nobody measure count per service")).await?;
    browser.saying("span", "No event in this range passes the filter").await?;
    browser.close().await
}
