//! Search in the console, bullet by bullet, on the demo's night: the field that proposes, ranges in words, the spine by
//! keyboard and by any field, columns, picked rows, the event's tree and neighbours, fields, shapes, download, Now; at
//! 1280x800 and 390x844, and by keyboard alone.

#![allow(clippy::unwrap_used, reason = "a test may end where it stands")]

use anyhow::{Context, Result};
use calvex_e2e::service::wait_for;
use calvex_e2e::stage::{DESK, PHONE, ROW, Stage, wait_until};
use std::time::Duration;
use thirtyfour::prelude::*;

#[tokio::test(flavor = "multi_thread")]
async fn asking() -> Result<()> {
    asking_in(DESK).await
}

#[tokio::test(flavor = "multi_thread")]
async fn asking_on_a_phone() -> Result<()> {
    asking_in(PHONE).await
}

async fn asking_in(window: (u32, u32)) -> Result<()> {
    let stage = Stage::new(window).await?;
    let browser = &stage.browser;
    stage.open("", "").await?;
    let all = stage.total(|n| n > 8000).await?;

    // Fields and values seen are proposed with their counts; Tab takes the first, Enter asks.
    stage.query().await?.send_keys("serv").await?;
    browser.saying(".cm-tooltip-autocomplete li", "service").await?;
    stage.press(Key::Tab + "=slo").await?;
    browser.saying(".cm-tooltip-autocomplete li", "slots").await?;
    stage.press(Key::Tab + Key::Enter).await?;
    stage.address_with("q=service%3Dslots").await?;
    let slots = stage.total(|n| n < all).await?;
    // Coloured by the parser; a mistake is underlined and reported with its cure while one types.
    browser.saying(".q-field", "service").await?;
    stage.query().await?.send_keys(" severity>=loud").await?;
    browser.saying(".q-mistake", "loud").await?;
    browser.saying("[role=alert] li", "is no severity").await?;
    // What can be written otherwise is, on demand.
    stage.open("service = slots   and severity>=warn", "").await?;
    stage.query().await?.send_keys(" ").await?;
    browser.click_saying("button", "format").await?;
    wait_until(async || Ok(stage.query().await?.text().await? == "service=slots severity>=warn")).await?;

    // An empty answer says why, and what to ask instead.
    stage.open("htpp.status>=500 or service=codes2", "").await?;
    browser.saying("[data-testid=empty] li", "htpp.status").await?;
    stage.axe("nothing found").await?;
    browser.click_saying("[data-testid=empty] button", "ask for http.status").await?;
    stage.address_with("q=http.status%3E%3D500").await?;
    stage.total(|n| n > 0).await?;

    // Kept under a name, found again with its owner; what was asked lately stands there as well.
    stage.open("service=slots", "").await?;
    stage.total(|n| n == slots).await?;
    browser.click_saying("button", "save").await?;
    browser.css("input[name=saved-name]").await?.send_keys("slots alone").await?;
    browser.click("[role=dialog] button[type=submit]").await?;
    wait_until(async || Ok(browser.page.find_all(By::Css("[role=dialog]")).await?.is_empty())).await?;
    stage.open("", "").await?;
    stage.total(|n| n == all).await?;
    browser.click_saying("button", "ideas").await?;
    let ideas = browser.text("[aria-label='Searches to start from']").await?;
    assert!(ideas.contains("every error") && ideas.contains("service=slots"), "{ideas}");
    browser.click_saying("[role=dialog] button", "slots alone").await?;
    stage.total(|n| n == slots).await?;

    // A range in words; one that is none is reported; a step earlier, and back.
    let entry = browser.css("[aria-label='Range in words']").await?;
    entry.click().await?;
    entry.send_keys(Key::Control + "a").await?;
    entry.send_keys("soonish" + Key::Enter).await?;
    browser.saying("[role=alert]", "yesterday 2am to 3am").await?;
    entry.send_keys(Key::Control + "a").await?;
    entry.send_keys("yesterday 02:10 to 02:20" + Key::Enter).await?;
    let ten = stage.total(|n| n < slots).await?;
    stage.address_with("T02%3A10%3A00").await?;
    browser.click_saying("button", "later ›").await?;
    stage.address_with("T02%3A20%3A00").await?;
    stage.total(|n| n != ten).await?;
    browser.click_saying("button", "back").await?;
    stage.total(|n| n == ten).await?;
    stage.axe("Search with events").await?;
    stage.browser.close().await
}

#[tokio::test(flavor = "multi_thread")]
async fn looking() -> Result<()> {
    looking_in(DESK).await
}

#[tokio::test(flavor = "multi_thread")]
async fn looking_on_a_phone() -> Result<()> {
    looking_in(PHONE).await
}

async fn looking_in(window: (u32, u32)) -> Result<()> {
    let stage = Stage::new(window).await?;
    let browser = &stage.browser;
    // The spine shows exact counts by keyboard, and Enter narrows to what was read.
    stage.open("severity>=warn", "").await?;
    let warned = stage.total(|n| n > 500).await?;
    browser.css(ROW).await?;
    let reader = browser.css("[aria-label^='Counts over time']").await?;
    reader.send_keys(Key::PageDown + Key::PageDown + Key::PageDown + Key::PageDown).await?;
    let reported = browser.text("[data-testid=counted]").await?;
    assert!(reported.contains("events,") && reported.contains("errors"), "{reported}");
    let counted: u64 = reported.split(['·', 'e']).nth(1).context("no count")?.trim().replace(' ', "").parse()?;
    reader.send_keys(Key::Enter + "").await?;
    stage.total(|n| n == counted).await?;
    // Stacked by a field, with a legend; marks and alerts are pinned.
    stage.open("", "by=service").await?;
    browser.saying("[data-testid=legend]", "locker-agent").await?;
    browser.saying("[data-testid=spine] title", "slot lease 120 s → 12 s").await.ok();
    let pins = browser
        .page
        .execute("return [...document.querySelectorAll('[data-testid=spine] title')].map(t => t.textContent)", vec![])
        .await?;
    let pins: Vec<String> = pins.convert()?;
    assert!(pins.iter().any(|p| p == "slot lease 120 s → 12 s"), "{pins:?}");

    // Columns: from a value, widened and taken away, all in the address.
    stage.open("service=slots \"ran out\"", "").await?;
    browser.click(ROW).await?;
    browser.click_saying("[data-testid=event] button", "bank").await?;
    browser.click_saying("[data-testid=event] button", "column").await?;
    stage.address_with("columns=slot.bank").await?;
    // On a phone the event lies over the list.
    browser.click_saying("[data-testid=event] button", "close").await?;
    browser.saying("[role=columnheader]", "slot.bank").await?;
    browser.click("[aria-label='Column slot.bank']").await?;
    browser.click_saying("[role=menuitem]", "wider").await?;
    stage.address_with("columns=slot.bank%7E180").await?;
    browser.click(ROW).await?;
    // The event: its neighbours, its raw form, its shape with its count.
    browser.saying("[data-testid=shape]", "in this range").await?;
    browser.click_saying("[data-testid=event] button", "near it").await?;
    browser.click_saying("[data-testid=near] button", "its service").await?;
    browser.css("[data-testid=near] button[title]").await?;
    browser.click_saying("[data-testid=event] button", "raw").await?;
    browser.saying("[data-testid=event] pre", "\"severity_number\"").await?;
    stage.axe("an event").await?;

    // Rows picked are copied: by keyboard and by reaching.
    stage.open("service=slots", "").await?;
    browser.css(ROW).await?;
    stage.press("jxjjx").await?;
    browser.saying("span, div", "2 picked").await?;
    let picked = browser.page.find_all(By::Css("[data-picked=true]")).await?;
    assert_eq!(picked.len(), 2);
    browser.saying("button", "copy as NDJSON").await?;

    // Fields found, a value of one kept only, several left out, numbers spread.
    stage.open("service=slots", "fields=1").await?;
    browser.click_saying("[data-testid=fields] button", "slot.bank").await?;
    let picks = browser
        .page
        .query(By::Css("[data-testid=breakdown] input"))
        .wait(Duration::from_secs(20), Duration::from_millis(50))
        .all_from_selector()
        .await?;
    for pick in picks.iter().take(2) {
        pick.click().await?;
    }
    stage.axe("fields").await?;
    browser.click_saying("[data-testid=breakdown] button", "keep only").await?;
    stage.address_with("slot.bank+in+%28").await?;
    browser.click_saying("[data-testid=fields] button", "slot.door").await?;
    browser.saying("[data-testid=spread]", "p95").await?;

    // Shapes: folded, with what is new in the range, and what varies in one.
    stage.open("severity>=warn", "view=shapes").await?;
    browser.saying("[data-testid=shapes] tr", "ran out").await?;
    let shapes = browser.text("[data-testid=shapes]").await?;
    assert!(shapes.contains("photo eye dusty"), "{shapes}");
    browser.click_saying("[data-testid=shapes] button", "ran out").await?;
    browser.saying("[data-testid=places]", "after “LS-”").await?;
    stage.axe("shapes").await?;
    browser.click_saying("[data-testid=places] a", "open these events").await?;
    stage.total(|n| n < warned).await?;

    // How the answer came about.
    browser.click_saying("button", "explain:").await?;
    browser.saying("[data-testid=explain]", "rows looked at").await?;
    stage.browser.close().await
}

#[tokio::test(flavor = "multi_thread")]
async fn taking_away_and_standing() -> Result<()> {
    taking_away_and_standing_in(DESK).await
}

#[tokio::test(flavor = "multi_thread")]
async fn taking_away_and_standing_on_a_phone() -> Result<()> {
    taking_away_and_standing_in(PHONE).await
}

async fn taking_away_and_standing_in(window: (u32, u32)) -> Result<()> {
    let stage = Stage::new(window).await?;
    let browser = &stage.browser;
    let folder = browser.downloads();
    let written = |ending: &'static str| {
        let folder = folder.clone();
        move || {
            let found = std::fs::read_dir(&folder)?.filter_map(|e| Some(e.ok()?.path()));
            let mut found = found.filter(|p| p.extension().is_some_and(|e| e == ending));
            // A file that has just been made is empty for a moment.
            let text = found.next().map(|p| std::fs::read_to_string(p).unwrap());
            Ok(text.filter(|text| !text.is_empty()))
        }
    };
    stage.open("service=slots", "columns=slot.bank").await?;
    let total = stage.total(|n| n > 100).await?;
    browser.click_saying("button", "download").await?;
    browser.click("[role=dialog] button[type=submit]").await?;
    browser.saying("[role=dialog] [role=status]", "events written").await?;
    let text = wait_for("the NDJSON", written("ndjson"))?;
    assert_eq!(text.lines().count() as u64, total);
    assert!(text.lines().all(|l| serde_json::from_str::<serde_json::Value>(l).is_ok_and(|e| e["service"] == "slots")));
    browser.css("[role=dialog] select").await?.send_keys("CSV").await?;
    browser.click("[role=dialog] button[type=submit]").await?;
    let text = wait_for("the CSV", written("csv"))?;
    assert!(text.starts_with("time,severity,service,host,message,trace,slot.bank\r\n"), "{}", &text[..200]);
    assert_eq!(text.lines().count() as u64, total + 1);

    // Figures as CSV.
    std::fs::read_dir(&folder)?.for_each(|e| std::fs::remove_file(e.unwrap().path()).unwrap());
    stage.open("measure count per service", "").await?;
    browser.click_saying("button", "download").await?;
    let text = wait_for("the figures", written("csv"))?;
    assert!(text.starts_with("service,count\r\n") && text.contains("sorter,"), "{text}");
    stage.axe("figures").await?;

    // Now: services, marks, what is silent.
    browser.page.goto(format!("{}/now", stage.service.url)).await?;
    browser.saying("h2", "Services").await?;
    browser.saying("p", "No service sent anything").await?;
    let now = jiff::Timestamp::now().to_string();
    let event = format!(
        "{{\"time\":\"{now}\",\"service\":\"slots\",\"level\":\"error\",\"msg\":\"door 4 stuck\",\"mark\":\"new release\"}}\n"
    );
    stage.service.calvex_with(&["send", "--quiet"], event.as_bytes())?;
    browser.page.refresh().await?;
    browser.saying("[aria-label='Services now'] td", "slots").await?;
    browser.saying("[aria-label=Marks] a", "new release").await?;
    stage.axe("Now").await?;
    stage.browser.close().await
}

#[tokio::test(flavor = "multi_thread")]
async fn every_place_and_both_themes() -> Result<()> {
    let stage = Stage::new(DESK).await?;
    let browser = &stage.browser;
    for theme in ["night", "day"] {
        browser.page.execute(&format!("localStorage.setItem('calvex.theme', '{theme}')"), vec![]).await?;
        for place in [
            "search",
            "tail",
            "story/PX-10023",
            "alerts",
            "rules",
            "rules/new",
            "contacts",
            "intake",
            "intake/keys",
            "intake/transforms",
            "intake/dials",
            "intake/fields",
        ] {
            browser.page.goto(format!("{}/{place}", stage.service.url)).await?;
            browser.css("nav").await?;
            browser.saying("main, p, span", "in the terminal").await.with_context(|| place.to_owned())?;
            stage.axe(&format!("{place} by {theme}")).await?;
        }
        stage.open("severity>=warn", "by=service&columns=slot.bank").await?;
        browser.css("[data-testid=legend]").await?;
        browser.click(ROW).await?;
        browser.css("[data-testid=event]").await?;
        stage.axe(&format!("an event by {theme}")).await?;
    }
    // By Ctrl K anywhere: a place, or the story of an id.
    let chord = browser.page.action_chain().key_down(Key::Control).send_keys("k").key_up(Key::Control);
    chord.perform().await?;
    browser.css("[role=dialog] input").await?.send_keys("PX-10023").await?;
    browser.click_saying("[role=option]", "Story of PX-10023").await?;
    stage.address_with("/story/PX-10023").await?;
    stage.browser.close().await
}

#[tokio::test(flavor = "multi_thread")]
async fn on_a_phone_and_by_keyboard() -> Result<()> {
    let stage = Stage::new(PHONE).await?;
    let browser = &stage.browser;
    // The spine lies above the list, earliest left; nothing is wider than the window.
    stage.open("severity>=warn", "").await?;
    browser.css(ROW).await?;
    let spine = browser.css("[data-testid=spine]").await?.rect().await?;
    assert!(spine.width > spine.height * 3.0 && spine.width <= 390.0, "{spine:?}");
    let wide = "return document.documentElement.scrollWidth <= window.innerWidth";
    for place in ["", "view=shapes", "fields=1"] {
        stage.open("severity>=warn", place).await?;
        stage.total(|n| n > 0).await?;
        assert!(browser.page.execute(wide, vec![]).await?.convert::<bool>()?, "{place} is too wide");
        stage.axe(&format!("phone, {place}")).await?;
    }
    stage.open("service=slots \"ran out\"", "").await?;
    browser.click(ROW).await?;
    browser.saying("[data-testid=event] a", "Its story").await?;
    stage.axe("phone, an event").await?;

    // By keyboard alone, from the query to the story of an event that ran out.
    browser.resize(1280, 800).await?;
    stage.open("", "").await?;
    stage.total(|n| n > 8000).await?;
    stage.query().await?;
    stage.press("/").await?;
    stage.press("service=slots \"ran out\"").await?;
    stage.press(Key::Enter + "").await?;
    stage.address_with("ran+out").await?;
    stage.total(|n| n < 1000).await?;
    browser.css(ROW).await?;
    stage.press(Key::Escape + "").await?;
    stage.press("jj").await?;
    stage.press(Key::Enter + "").await?;
    browser.css("[data-testid=event]").await?;
    stage.press("v").await?;
    browser.css("[data-testid=shapes]").await?;
    stage.press("v").await?;
    browser.css("[data-testid=errors]").await?;
    stage.press("v").await?;
    browser.css(ROW).await?;
    stage.press("j").await?;
    stage.press("s").await?;
    browser.css("[data-testid=services]").await?;
    stage.browser.close().await
}
