//! The console over the demo's night, for tests that look at it.

use crate::browser::Browser;
use crate::service::{PASSWORD, Service};
use anyhow::{Context, Result};
use calvex_demo::Night;
use std::time::Duration;
use thirtyfour::prelude::*;

/// A row of the list.
pub const ROW: &str = "[data-index]";
/// A window's width and height.
pub const DESK: (u32, u32) = (1280, 800);
/// That of a phone.
pub const PHONE: (u32, u32) = (390, 844);

/// A service that holds the night, and a browser signed in to it.
pub struct Stage {
    /// The service.
    pub service: Service,
    /// The browser.
    pub browser: Browser,
    /// The day of the night, `2026-10-04`.
    pub day: String,
    /// `from=…&to=…` of the night.
    pub range: String,
}

impl Stage {
    /// Sends the night, opens a window of this size, and signs in.
    pub async fn new((width, height): (u32, u32)) -> Result<Self> {
        let _ = rustls::crypto::ring::default_provider().install_default();
        let service = Service::start(&[])?;
        let yesterday = (jiff::Timestamp::now() - jiff::SignedDuration::from_hours(24)).to_string()[..10].to_owned();
        let change: jiff::Timestamp = format!("{yesterday}T02:10:00Z").parse()?;
        let night = Night::new(1, i64::try_from(change.as_nanosecond())?, 10_000);
        let night: String = night.map(|e| e.json + "\n").collect();
        anyhow::ensure!(service.calvex_with(&["send", "--quiet"], night.as_bytes())?.status.success());
        let browser = Browser::open(width, height).await?;
        browser.sign_in(&service.url, PASSWORD).await?;
        let range = format!("from={yesterday}T01:40:00Z&to={yesterday}T03:10:00Z");
        Ok(Stage { service, browser, day: yesterday, range })
    }

    /// A time of the night, RFC 3339, from its clock time.
    pub fn time(&self, clock: &str) -> String {
        format!("{}T{clock}Z", self.day)
    }

    /// Opens Search with this query and more of its state.
    pub async fn open(&self, query: &str, more: &str) -> Result<()> {
        let q: String = query.bytes().map(|b| format!("%{b:02X}")).collect();
        self.browser.page.goto(format!("{}/search?q={q}&{}&{more}", self.service.url, self.range)).await?;
        Ok(())
    }

    /// The query, once the editor is there.
    pub async fn query(&self) -> Result<WebElement> {
        self.browser.css("[data-testid=query] [aria-label=Query]").await
    }

    /// The count reported, once it is one that is wanted.
    pub async fn total(&self, wanted: impl Fn(u64) -> bool) -> Result<u64> {
        for _ in 0..1600 {
            let text = self.browser.css("[data-testid=total]").await?.text().await.unwrap_or_default();
            if let Ok(n) = text.replace(' ', "").parse::<u64>()
                && wanted(n)
            {
                return Ok(n);
            }
            tokio::time::sleep(Duration::from_millis(25)).await;
        }
        anyhow::bail!("no such total appears at {}", self.browser.address().await?)
    }

    /// The address, once `part` stands in it.
    pub async fn address_with(&self, part: &str) -> Result<String> {
        for _ in 0..1600 {
            let address = self.browser.address().await?;
            if address.contains(part) {
                return Ok(address);
            }
            tokio::time::sleep(Duration::from_millis(25)).await;
        }
        anyhow::bail!("{part} does not come into the address {}", self.browser.address().await?)
    }

    /// Presses keys, wherever the focus is.
    pub async fn press(&self, keys: impl Into<TypingData>) -> Result<()> {
        Ok(self.browser.page.action_chain().send_keys(keys).perform().await?)
    }

    /// Presses Tab until what has the focus says `text`, then Enter: as who has no mouse goes on.
    pub async fn follow(&self, text: &str) -> Result<()> {
        let said = "return document.activeElement?.textContent ?? '';";
        wait_until(async || Ok(self.browser.page.source().await?.contains(text))).await?;
        let mut met = Vec::new();
        for _ in 0..150 {
            self.press(thirtyfour::Key::Tab).await?;
            let focused: String = self.browser.page.execute(said, vec![]).await?.convert()?;
            if focused.contains(text) && focused.len() < text.len() + 80 {
                return self.press(thirtyfour::Key::Enter).await;
            }
            met.push(focused.chars().take(40).collect::<String>());
        }
        anyhow::bail!("the focus never comes to {text}: {met:?}")
    }

    /// Whether nothing of the page lies beyond the window's width.
    pub async fn fits(&self, place: &str) -> Result<()> {
        let script = "return document.documentElement.scrollWidth - window.innerWidth;";
        let beyond: i64 = self.browser.page.execute(script, vec![]).await?.convert()?;
        anyhow::ensure!(beyond <= 0, "{place} is {beyond} pixels wider than the window");
        Ok(())
    }

    /// What axe finds, of any level.
    pub async fn axe(&self, place: &str) -> Result<()> {
        let script = concat!(env!("CARGO_MANIFEST_DIR"), "/clients/node_modules/axe-core/axe.min.js");
        let script = std::fs::read_to_string(script).context("axe-core is missing; `./run test` installs it")?;
        self.browser.page.execute(&script, vec![]).await?;
        let ask = "const done = arguments[arguments.length - 1];
            axe.run(document, { resultTypes: ['violations'] }).then((r) => done(r.violations
                .map((v) => v.id + ': ' + v.nodes.map((n) => n.target + ' ' + n.failureSummary).slice(0, 3).join('; '))));";
        let found: Vec<String> = self.browser.page.execute_async(ask, vec![]).await?.convert()?;
        anyhow::ensure!(found.is_empty(), "{place}: {found:#?}");
        Ok(())
    }
}

/// Waits until it is so.
pub async fn wait_until(so: impl AsyncFn() -> Result<bool>) -> Result<()> {
    for _ in 0..1600 {
        if so().await.unwrap_or(false) {
            return Ok(());
        }
        tokio::time::sleep(Duration::from_millis(25)).await;
    }
    anyhow::bail!("it does not become so")
}
