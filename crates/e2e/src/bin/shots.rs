//! `./run shots`: the pictures of `docs/screenshots/`, from a demo that runs.

use anyhow::{Context, Result};
use calvex_e2e::browser::Browser;
use std::path::PathBuf;
use std::time::{Duration, Instant};
use thirtyfour::By;

/// How long the tail may take to show a dozen events.
const TRICKLE: Duration = Duration::from_secs(240);

#[tokio::main]
async fn main() -> Result<()> {
    // The driver's HTTP client asks for a TLS provider even on loopback.
    let _ = rustls::crypto::ring::default_provider().install_default();
    let mut args = std::env::args().skip(1);
    let usage = "usage: calvex-shots URL PASSWORD NIGHT(date of the night) FOLDER";
    let (url, password) = (args.next().context(usage)?, args.next().context(usage)?);
    let (night, folder) = (args.next().context(usage)?, PathBuf::from(args.next().context(usage)?));
    std::fs::create_dir_all(&folder)?;
    let range = format!("from={night}T01:50:00Z&to={night}T03:10:00Z");
    let browser = Browser::open(1280, 800).await?;
    let shoot = async |name: &str| -> Result<()> {
        // Fonts and the last rows settle within a frame or two.
        tokio::time::sleep(Duration::from_millis(400)).await;
        browser.page.screenshot(&folder.join(name)).await.with_context(|| format!("cannot write {name}"))?;
        println!("{name}");
        Ok(())
    };
    browser.page.goto(format!("{url}/search")).await?;
    browser.sign_in(&url, &password).await?;
    browser.page.goto(format!("{url}/search?q=not+%22health+check%22&{range}&seek={night}T02:38:45Z")).await?;
    browser.saying("[data-index]", "ran out").await?.click().await?;
    browser.css("[data-testid=event]").await?;
    shoot("search.png").await?;
    browser.page.execute("localStorage.setItem('calvex.theme','day')", vec![]).await?;
    browser.page.refresh().await?;
    browser.css("[data-testid=event]").await?;
    shoot("search-day.png").await?;
    browser.page.execute("localStorage.setItem('calvex.theme','night')", vec![]).await?;
    browser.page.goto(format!("{url}/search?q=severity%3E%3Dwarn&{range}&view=shapes")).await?;
    browser.saying("[data-testid=shapes] button", "ran out").await?.click().await?;
    browser.css("[data-testid=places]").await?;
    shoot("search-shapes.png").await?;
    browser.page.goto(format!("{url}/search?from=now-9d&to=now&view=errors")).await?;
    browser.saying("[data-testid=errors] tbody button", "Certificate").await?.click().await?;
    browser.css("[data-testid=error-group]").await?;
    shoot("search-errors.png").await?;
    let fields = "fields=1&field=late_by_ms&columns=slot.bank,late_by_ms~100";
    browser.page.goto(format!("{url}/search?q=service%3Dslots+%22ran+out%22&{range}&{fields}")).await?;
    let spread = browser.css("[data-testid=spread]").await?;
    spread.scroll_into_view().await?;
    shoot("search-fields.png").await?;
    browser.page.goto(format!("{url}/search?q=service%3Dedge+%22slot+lease+gone%22&{range}")).await?;
    browser.css("[data-index]").await?.click().await?;
    browser.saying("[data-testid=event] a", "Its story").await?.click().await?;
    browser.css("[data-testid=score] svg [data-bar]").await?;
    shoot("story.png").await?;
    let changed = format!("from={night}T02:10:00Z&to={night}T02:38:00Z");
    browser.page.goto(format!("{url}/compare?q=service%3Dslots&{changed}")).await?;
    browser.saying("[data-testid=finding]", "lease.seconds=12").await?;
    shoot("compare.png").await?;
    let measure = "severity%3E%3Dinfo+measure+count%2C+share%28severity%3E%3Derror%29+per+service+every+5m";
    browser.page.goto(format!("{url}/search?q={measure}&{range}")).await?;
    browser.saying("[aria-label='Figures by step'] th", "edge").await?;
    shoot("figures.png").await?;
    browser.page.goto(format!("{url}/tail")).await?;
    // The trickle is slow; some of it should stand there.
    let until = Instant::now() + TRICKLE;
    while Instant::now() < until && browser.page.find_all(By::Css("[data-index]")).await?.len() < 12 {
        tokio::time::sleep(Duration::from_secs(1)).await;
    }
    shoot("tail.png").await?;
    browser.page.goto(format!("{url}/now")).await?;
    browser.css("[aria-label='Services now']").await?;
    shoot("now.png").await?;
    browser.page.goto(format!("{url}/alerts")).await?;
    browser.saying("td a", "leases run out").await?.click().await?;
    browser.saying("[aria-label='What is different']", "lease.seconds=12").await?;
    shoot("alert.png").await?;
    browser.page.goto(format!("{url}/rules/a%20service%20is%20silent")).await?;
    browser.saying("[data-testid=summary]", "Raised").await?;
    shoot("rule.png").await?;
    browser.page.goto(format!("{url}/intake")).await?;
    browser.saying("[aria-label=Arrivals] td", "locker-agent").await?;
    shoot("intake.png").await?;
    browser.page.goto(format!("{url}/intake/keys")).await?;
    browser.saying("[aria-label=Keys] td", "sorter-prod").await?;
    browser.saying("button", "limits").await?.click().await?;
    shoot("intake-keys.png").await?;
    browser.page.goto(format!("{url}/intake/nodes")).await?;
    browser.saying("[aria-label=Nodes] td", "merging").await?;
    shoot("intake-nodes.png").await?;
    browser.page.goto(format!("{url}/people/grants?lane=main")).await?;
    browser.saying("table[aria-label='Who can read main'] td", "noor").await?;
    shoot("people-grants.png").await?;
    // One who looks only for what changed.
    browser.page.goto(format!("{url}/people/trail?word=grant")).await?;
    browser.saying("td", "give grant").await?;
    shoot("people-trail.png").await?;
    browser.resize(390, 844).await?;
    browser.page.goto(format!("{url}/search?q=severity%3E%3Dwarn&{range}")).await?;
    browser.css("[data-index]").await?;
    shoot("search-phone.png").await?;
    browser.close().await
}
