//! The list of Search: it stays what it was while events come, pages as far as one scrolls, and its columns, order and
//! lines are one's own; what is picked is taken along as text.

use anyhow::{Context, Result};
use calvex_e2e::stage::{DESK, PHONE, ROW, Stage, wait_until};
use thirtyfour::prelude::*;

/// The text of each row in sight, from the top.
async fn rows(stage: &Stage) -> Result<Vec<String>> {
    let script = "return [...document.querySelectorAll('[data-index]')]
        .sort((a, b) => a.dataset.index - b.dataset.index).map((r) => r.innerText)";
    Ok(stage.browser.page.execute(script, vec![]).await?.convert()?)
}

#[tokio::test(flavor = "multi_thread")]
async fn it_is_ones_own() -> Result<()> {
    it_is_ones_own_in(DESK).await
}

#[tokio::test(flavor = "multi_thread")]
async fn it_is_ones_own_on_a_phone() -> Result<()> {
    it_is_ones_own_in(PHONE).await
}

async fn it_is_ones_own_in(window: (u32, u32)) -> Result<()> {
    let stage = Stage::new(window).await?;
    let browser = &stage.browser;
    // Only what is in sight exists, however many there are, and the end is reached and said.
    stage.open("service=slots", "").await?;
    let total = stage.total(|n| n > 1000).await?;
    browser.css(ROW).await?;
    let newest = rows(&stage).await?;
    assert!(newest.len() < 100, "{} rows exist", newest.len());
    let scroll = "const list = document.querySelector('[data-testid=events]'); list.scrollTop = list.scrollHeight;";
    wait_until(async || {
        browser.page.execute(scroll, vec![]).await?;
        Ok(browser.text("[data-testid=events]").await?.contains("That is all in this range.")
            && browser.page.find(By::Css(format!("[aria-rowindex='{total}']"))).await.is_ok())
    })
    .await
    .context("the end")?;
    let counted = browser.attr("[role=grid]", "aria-rowcount").await?;
    assert_eq!(counted, Some(total.to_string()));
    let earliest = browser.text(&format!("[aria-rowindex='{total}']")).await?;

    // The other way round, the earliest stands first, and the address says so.
    browser.click_saying("button", "newest first").await?;
    stage.address_with("order=oldest").await?;
    wait_until(async || Ok(browser.text("[aria-rowindex='1']").await? == earliest))
        .await
        .context("the earliest first")?;
    browser.click_saying("button", "oldest first").await?;
    wait_until(async || Ok(rows(&stage).await? == newest)).await.context("the newest first")?;

    // Columns change places, are dragged wider, and go.
    stage.open("service=slots", "columns=slot.bank,slot.door").await?;
    let columns = async || -> Result<String> {
        let names = "return [...document.querySelectorAll('[role=columnheader]')].map((c) => c.innerText).join(' ')";
        Ok(browser.page.execute(names, vec![]).await?.convert()?)
    };
    wait_until(async || Ok(columns().await?.contains("slot.bank slot.door"))).await.context("two columns")?;
    browser.click("[aria-label='Column slot.bank']").await?;
    browser.click_saying("[role=menuitem]", "to the right").await?;
    stage.address_with("columns=slot.door%2Cslot.bank").await?;
    wait_until(async || Ok(columns().await?.contains("slot.door slot.bank"))).await.context("columns moved")?;
    let grip = browser.css("[aria-label='Width of slot.door']").await?;
    let before: i64 = grip.attr("aria-valuenow").await?.context("no width")?.parse()?;
    browser.page.action_chain().drag_and_drop_element_by_offset(&grip, 60, 0).perform().await?;
    wait_until(async || {
        let now = browser.attr("[aria-label='Width of slot.door']", "aria-valuenow").await?;
        Ok(now.and_then(|n| n.parse::<i64>().ok()).is_some_and(|n| n > before + 40))
    })
    .await
    .context("a width")?;
    browser.click("[aria-label='Column slot.door']").await?;
    browser.click_saying("[role=menuitem]", "take away").await?;
    wait_until(async || Ok(!columns().await?.contains("slot.door"))).await.context("a column gone")?;

    // A long message takes one line, or all it needs.
    let long = format!(
        "{{\"time\":\"{}\",\"service\":\"slots\",\"msg\":\"a note {}\"}}\n",
        stage.time("02:05:00"),
        "of many words ".repeat(40)
    );
    stage.service.calvex_with(&["send", "--quiet"], long.as_bytes())?;
    stage.open("\"a note of many words\"", "").await?;
    let height = async || Ok::<_, anyhow::Error>(browser.css(ROW).await?.rect().await?.height);
    let one = height().await?;
    browser.click_saying("button", "wrap").await?;
    stage.address_with("wrap=1").await?;
    wait_until(async || Ok(height().await? > one * 1.8)).await.context("a message in lines")?;
    stage.browser.close().await
}

#[tokio::test(flavor = "multi_thread")]
async fn it_stays_what_it_was_while_events_come() -> Result<()> {
    it_stays_what_it_was_while_events_come_in(DESK).await
}

#[tokio::test(flavor = "multi_thread")]
async fn it_stays_what_it_was_while_events_come_on_a_phone() -> Result<()> {
    it_stays_what_it_was_while_events_come_in(PHONE).await
}

async fn it_stays_what_it_was_while_events_come_in(window: (u32, u32)) -> Result<()> {
    let stage = Stage::new(window).await?;
    let browser = &stage.browser;
    let send = |n: std::ops::Range<u32>| -> Result<()> {
        let now = jiff::Timestamp::now();
        let line = |n: u32| format!("{{\"time\":\"{now}\",\"service\":\"sorter\",\"msg\":\"fresh parcel {n}\"}}\n");
        let sent = stage.service.calvex_with(&["send", "--quiet"], n.map(line).collect::<String>().as_bytes())?;
        anyhow::ensure!(sent.status.success(), "not sent");
        Ok(())
    };
    send(0..3)?;
    browser.page.goto(format!("{}/search?q=fresh&from=now-15m&to=now&follow=1", stage.service.url)).await?;
    stage.total(|n| n == 3).await?;
    browser.css(ROW).await?;
    let before = rows(&stage).await?;
    assert_eq!(before.len(), 3);
    // What comes is counted and offered; the rows stay under the hand that reads them.
    send(3..8)?;
    let offer = browser.saying("button", "5 new, show").await?;
    stage.total(|n| n == 8).await?;
    assert_eq!(rows(&stage).await?, before);
    offer.click().await?;
    wait_until(async || Ok(rows(&stage).await?.len() == 8)).await?;
    // A range that is fixed is a link that shows the same to everyone.
    browser.click_saying("button", "fix the range for a link").await?;
    let address = stage.address_with("from=20").await?;
    assert!(!address.contains("follow") && !address.contains("now"), "{address}");
    send(8..9)?;
    browser.page.refresh().await?;
    stage.total(|n| n == 8).await?;
    stage.browser.close().await
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_picked_is_taken_along() -> Result<()> {
    what_is_picked_is_taken_along_in(DESK).await
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_picked_is_taken_along_on_a_phone() -> Result<()> {
    what_is_picked_is_taken_along_in(PHONE).await
}

async fn what_is_picked_is_taken_along_in(window: (u32, u32)) -> Result<()> {
    let stage = Stage::new(window).await?;
    let browser = &stage.browser;
    stage.open("service=slots \"ran out\"", "").await?;
    stage.total(|n| n > 10).await?;
    browser.css(ROW).await?;
    // A page may not read the clipboard unasked, so what it would write is kept.
    let keep = "navigator.clipboard.writeText = (text) => { window.taken = text; return Promise.resolve(); }";
    browser.page.execute(keep, vec![]).await?;
    let taken =
        async || -> Result<String> { Ok(browser.page.execute("return window.taken ?? ''", vec![]).await?.convert()?) };
    let picked: Vec<WebElement> = browser.page.find_all(By::Css(ROW)).await?.into_iter().take(4).collect();
    let [first, _, third, _] = picked.as_slice() else { anyhow::bail!("too few rows") };
    // Ctrl picks one, Shift reaches to another.
    for again in [true, false] {
        let chain = browser.page.action_chain();
        chain.key_down(Key::Control).click_element(first).key_up(Key::Control).perform().await?;
        // What is drawn above the rows may come between finding one and clicking it; then nothing was picked.
        match browser.saying("div", "1 picked").await {
            Err(_) if again => {}
            picked => {
                picked?;
                break;
            }
        }
    }
    browser.page.action_chain().key_down(Key::Shift).click_element(third).key_up(Key::Shift).perform().await?;
    browser.saying("div", "3 picked").await?;
    browser.click_saying("button", "copy as NDJSON").await?;
    wait_until(async || Ok(!taken().await?.is_empty())).await?;
    let ndjson = taken().await?;
    let events: Vec<serde_json::Value> =
        ndjson.lines().map(serde_json::from_str).collect::<std::result::Result<_, _>>()?;
    assert_eq!(events.len(), 3);
    assert!(
        events.iter().all(|e| e["service"] == "slots" && e["message"].as_str().is_some_and(|m| m.contains("ran out")))
    );
    browser.click_saying("button", "copy as text").await?;
    wait_until(async || Ok(taken().await? != ndjson)).await?;
    let text = taken().await?;
    assert_eq!(text.lines().count(), 3);
    assert!(text.lines().all(|l| l.contains("slots") && l.contains("ran out") && !l.contains('{')), "{text}");
    browser.click_saying("button", "none").await?;
    wait_until(async || Ok(browser.page.find_all(By::Css("[data-picked=true]")).await?.is_empty())).await?;
    stage.browser.close().await
}
