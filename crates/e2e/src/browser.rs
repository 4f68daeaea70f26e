//! Headless Chromium through WebDriver.

use crate::service::signal;
use anyhow::{Context, Result, bail};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use thirtyfour::prelude::*;

/// A browser and the driver that runs it.
pub struct Browser {
    /// The page.
    pub page: WebDriver,
    driver: Child,
    profile: tempfile::TempDir,
}

impl Browser {
    /// Opens a browser with a window of this size.
    pub async fn open(width: u32, height: u32) -> Result<Self> {
        let port = std::net::TcpListener::bind("127.0.0.1:0")?.local_addr()?.port();
        let driver = Command::new("chromedriver")
            .arg(format!("--port={port}"))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .context("chromedriver does not start; `./run test` installs it")?;
        let profile = tempfile::tempdir()?;
        let mut options = DesiredCapabilities::chrome();
        for option in [
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--hide-scrollbars",
            &format!("--window-size={width},{height}"),
            &format!("--user-data-dir={}", profile.path().display()),
        ] {
            options.add_arg(option)?;
        }
        let downloads = profile.path().join("taken");
        std::fs::create_dir(&downloads)?;
        options.add_experimental_option("prefs", serde_json::json!({ "download.default_directory": downloads }))?;
        let until = Instant::now() + Duration::from_secs(30);
        let page = loop {
            match WebDriver::new(format!("http://127.0.0.1:{port}"), options.clone()).await {
                Ok(page) => break page,
                Err(e) if Instant::now() > until => bail!("the browser does not start: {e}"),
                Err(_) => tokio::time::sleep(Duration::from_millis(50)).await,
            }
        };
        let browser = Browser { page, driver, profile };
        browser.resize(width, height).await?;
        Ok(browser)
    }

    /// Where files go that a page hands over.
    pub fn downloads(&self) -> std::path::PathBuf {
        self.profile.path().join("taken")
    }

    /// Gives the page, not the window's frame, this size.
    pub async fn resize(&self, width: u32, height: u32) -> Result<()> {
        self.page.set_window_rect(0, 0, width, height).await?;
        let inner = self.page.execute("return [window.innerWidth, window.innerHeight]", vec![]).await?;
        let [w, h]: [u32; 2] = inner.convert()?;
        self.page.set_window_rect(0, 0, width + width.saturating_sub(w), height + height.saturating_sub(h)).await?;
        Ok(())
    }

    /// Signs in at `url`.
    pub async fn sign_in(&self, url: &str, password: &str) -> Result<()> {
        self.page.goto(format!("{url}/search")).await?;
        self.css("input[name=name]").await?.send_keys("admin").await?;
        self.css("input[name=password]").await?.send_keys(password).await?;
        self.css("button[type=submit]").await?.click().await?;
        self.css("nav").await?;
        Ok(())
    }

    /// The element of a CSS selector, waited for.
    pub async fn css(&self, selector: &str) -> Result<WebElement> {
        let wait = self.page.query(By::Css(selector)).wait(Duration::from_secs(40), Duration::from_millis(50));
        wait.first().await.with_context(|| format!("no {selector} on the page"))
    }

    /// The first element whose text contains `text`, among those of a CSS selector, waited for.
    pub async fn saying(&self, selector: &str, text: &str) -> Result<WebElement> {
        // One script looks at all of them: a call for the text of each takes longer than the page does.
        let script = "const [selector, wanted] = arguments;
            const shown = (e) => (e.innerText ?? e.textContent ?? '').replaceAll('\\u00a0', ' ');
            return [...document.querySelectorAll(selector)]
                .find((e) => e.checkVisibility() && shown(e).includes(wanted)) ?? null;";
        let until = Instant::now() + Duration::from_secs(40);
        loop {
            // While another page comes there is none to ask.
            let found = self.page.execute(script, vec![selector.into(), text.into()]).await;
            if let Ok(element) = found.and_then(|found| found.element()) {
                return Ok(element);
            }
            if Instant::now() > until {
                bail!("no {selector} says `{text}`");
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    /// Does something with an element, found anew where the page put another in its place meanwhile: a page that is
    /// drawn again between finding and touching leaves a reference to what is no longer there.
    async fn anew<T>(&self, act: impl AsyncFn() -> Result<T>) -> Result<T> {
        let until = Instant::now() + Duration::from_secs(40);
        loop {
            match act().await {
                Err(e) if is_stale(&e) && Instant::now() < until => tokio::time::sleep(Duration::from_millis(30)).await,
                done => return done,
            }
        }
    }

    /// Clicks the element of a CSS selector.
    pub async fn click(&self, selector: &str) -> Result<()> {
        self.anew(async || Ok(self.css(selector).await?.click().await?)).await
    }

    /// Clicks the first element whose text contains `text`.
    pub async fn click_saying(&self, selector: &str, text: &str) -> Result<()> {
        self.anew(async || Ok(self.saying(selector, text).await?.click().await?)).await
    }

    /// The text of the element of a CSS selector.
    pub async fn text(&self, selector: &str) -> Result<String> {
        self.anew(async || Ok(self.css(selector).await?.text().await?)).await
    }

    /// An attribute of the element of a CSS selector.
    pub async fn attr(&self, selector: &str, name: &str) -> Result<Option<String>> {
        self.anew(async || Ok(self.css(selector).await?.attr(name).await?)).await
    }

    /// The address.
    pub async fn address(&self) -> Result<String> {
        Ok(self.page.current_url().await?.to_string())
    }

    /// Closes browser and driver.
    pub async fn close(mut self) -> Result<()> {
        self.page.clone().quit().await?;
        self.driver.kill()?;
        self.driver.wait()?;
        Ok(())
    }
}

/// Whether the page put another element in the place of the one that was found, or laid it out anew under the pointer.
pub fn is_stale(error: &anyhow::Error) -> bool {
    let text = format!("{error:#}");
    ["stale element", "element click intercepted", "element not interactable"].iter().any(|sign| text.contains(sign))
}

impl Drop for Browser {
    fn drop(&mut self) {
        let _ = self.driver.kill();
        let _ = self.driver.wait();
        // The browser outlives its driver, where a test ends without closing it; it is known by its profile.
        let profile = self.profile.path().display().to_string();
        let pids = std::fs::read_dir("/proc").into_iter().flatten().flatten();
        for pid in pids.filter_map(|entry| entry.file_name().to_str()?.parse().ok()) {
            let command = std::fs::read(format!("/proc/{pid}/cmdline")).unwrap_or_default();
            if String::from_utf8_lossy(&command).contains(&profile) {
                let _ = signal(pid, "KILL");
            }
        }
    }
}
