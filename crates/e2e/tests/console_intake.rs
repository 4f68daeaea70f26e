//! The pages of Intake in headless Chromium, through the real service: keys, transforms with its try, dials, fields and ties, and
//! the probe's button.

use anyhow::Result;
use calvex_e2e::browser::Browser;
use calvex_e2e::service::{PASSWORD, Service, wait_for};
use serde_json::{Value, json};
use thirtyfour::prelude::*;

/// Types into the field of a label, in place of what stands there.
async fn fill(browser: &Browser, name: &str, text: &str) -> Result<()> {
    let field = browser.css(&format!("input[name={name}]")).await?;
    field.send_keys(Key::Control + "a").await?;
    field.send_keys(text).await?;
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn keys_transforms_dials_and_ties() -> Result<()> {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let service = Service::start(&[])?;
    let now = jiff::Timestamp::now();
    let lines: String = (0..12)
        .map(|n| {
            let id = format!("PX-{n}");
            let a = json!({"time": now.to_string(), "service": "parcels", "msg": "taken", "request_id": id, "n": n});
            let b = json!({"time": now.to_string(), "service": "courier", "msg": "carried", "load": id, "n": "some"});
            format!("{a}\n{b}\n")
        })
        .collect();
    service.calvex_with(&["send", "--quiet"], lines.as_bytes())?;
    let browser = Browser::open(1280, 800).await?;
    browser.page.goto(&service.url).await?;
    browser.sign_in(&service.url, PASSWORD).await?;

    // A key is made, its secret shown once and good; rotated, both are good; revoked, none.
    browser.page.goto(format!("{}/intake/keys", service.url)).await?;
    fill(&browser, "name", "belt-prod").await?;
    fill(&browser, "services", "sorter").await?;
    browser.click_saying("button", "make a key").await?;
    let secret = async |than: &str| -> Result<String> {
        for _ in 0..400 {
            let text = browser.css("[role=status]").await?.text().await.unwrap_or_default();
            let secret = text.split_whitespace().find(|w| w.starts_with("calvex-key-")).unwrap_or("").to_owned();
            if !secret.is_empty() && secret != than {
                return Ok(secret);
            }
            tokio::time::sleep(std::time::Duration::from_millis(25)).await;
        }
        anyhow::bail!("no secret is shown")
    };
    let first = secret("").await?;
    browser.saying("[aria-label=Keys] td", "for sorter").await?;
    let send = |key: &str| {
        let line = json!({"service": "sorter", "msg": "belt 4 stands"}).to_string();
        Ok::<_, anyhow::Error>(service.calvex_with(&["send", "--quiet", "--key", key], line.as_bytes())?.status.code())
    };
    assert_eq!(send(&first)?, Some(0));
    let row = browser.saying("[aria-label=Keys] tr", "belt-prod").await?;
    row.find(By::XPath(".//button[starts-with(text(),'limits')]")).await?.click().await?;
    fill(&browser, "day", "5000").await?;
    browser.click("option[value=past]").await?;
    browser.click_saying("button", "set the limits").await?;
    browser.saying("[aria-label=Keys] td", "for sorter; 5 000 events a day; a past").await?;
    let row = browser.saying("[aria-label=Keys] tr", "belt-prod").await?;
    row.find(By::XPath(".//button[text()='rotate']")).await?.click().await?;
    let second = secret(&first).await?;
    assert_eq!((send(&first)?, send(&second)?), (Some(0), Some(0)));
    let row = browser.saying("[aria-label=Keys] tr", "belt-prod").await?;
    row.find(By::XPath(".//button[starts-with(text(),'revoke')]")).await?.click().await?;
    browser.click_saying("button", "revoke belt-prod at once").await?;
    browser.saying("[aria-label=Keys] td", "revoked").await?;
    assert_eq!((send(&first)?, send(&second)?), (Some(2), Some(2)));

    // A rule is tried before it is there, then added, and shapes what comes.
    browser.page.goto(format!("{}/intake/transforms", service.url)).await?;
    fill(&browser, "name", "belts").await?;
    fill(&browser, "when", "service=sorter").await?;
    fill(&browser, "how", "belt {number belt").await?;
    browser.click_saying("button", "try with belts").await?;
    browser.saying("[role=alert]", "column").await?;
    fill(&browser, "how", "belt {number belt} {rest message}").await?;
    browser.click_saying("button", "try with belts").await?;
    browser.saying("section", "stored in lane main").await?;
    browser.saying("section ins", "photo eye dusty, reading 0.61").await?;
    browser.click_saying("button", "add the rule").await?;
    browser.saying("[aria-label='Transform rules'] td", "cut message by").await?;
    let line = json!({"time": now.to_string(), "service": "sorter", "msg": "belt 5 runs again"}).to_string();
    service.calvex_with(&["send", "--quiet"], line.as_bytes())?;
    let transformed = wait_for("the transformed event", || Ok(service.search("transformed=belts", &[])?.pop()))?;
    assert_eq!((&transformed["fields"]["belt"], &transformed["message"]), (&json!(5), &json!("runs again")));
    browser.page.refresh().await?;
    browser.saying("[aria-label='Transform rules'] td.number", "1").await?;
    browser.click("[aria-label='Remove belts']").await?;
    browser.saying("p", "No rule yet").await?;

    // A dial is set, sets aside, and is taken back; arrivals point to it.
    browser.page.goto(format!("{}/intake/dials", service.url)).await?;
    fill(&browser, "when", "service=").await?;
    browser.click_saying("button", "set the dial").await?;
    browser.saying("[role=alert]", "column").await?;
    fill(&browser, "when", "service=sorter").await?;
    fill(&browser, "why", "too much").await?;
    browser.css("form select").await?.send_keys("error").await?;
    browser.click_saying("button", "set the dial").await?;
    browser.saying("[aria-label=Dials] td", "for another").await?;
    service.calvex_with(&["send", "--quiet"], line.as_bytes())?;
    browser.click_saying("nav a", "Arrivals").await?;
    browser.click_saying("[aria-label='Set aside'] a", "dial 1").await?;
    browser.click_saying("button", "take back").await?;
    browser.saying("span", "No dial is set").await?;

    // A proposed tie is made one; a field whose types differ is reported.
    browser.page.goto(format!("{}/intake/fields", service.url)).await?;
    browser.saying("[aria-label=Fields] td", "types differ").await?;
    browser.click_saying("[aria-label=Ties] button", "make it so").await?;
    browser.saying("[aria-label=Ties] td", "load").await?;
    wait_for("the tie", || Ok((service.search("request=PX-3", &[])?.len() == 2).then_some(())))?;

    // The probe goes every way.
    browser.page.goto(format!("{}/intake", service.url)).await?;
    browser.click_saying("button", "probe each").await?;
    let row = browser.saying("[aria-label='Ways in'] tr", "found by search").await?;
    assert!(row.text().await?.contains("ms"));
    let keys: Vec<Value> = serde_json::from_str(&format!(
        "[{}]",
        service.ok(&["key", "list", "--json"])?.lines().collect::<Vec<_>>().join(",")
    ))?;
    let probing = |k: &Value| k["name"].as_str().is_some_and(|n| n.starts_with("calvex-probe"));
    assert!(!keys.iter().any(probing), "the key made for it is gone");
    browser.close().await
}
