//! Headless Chromium through WebDriver.

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
        let wait = self.page.query(By::Css(selector)).wait(Duration::from_secs(20), Duration::from_millis(50));
        wait.first().await.with_context(|| format!("no {selector} on the page"))
    }

    /// The first element whose text contains `text`, among those of a CSS selector, waited for.
    pub async fn saying(&self, selector: &str, text: &str) -> Result<WebElement> {
        let wanted = text.to_owned();
        let query = self.page.query(By::Css(selector)).with_filter(move |e: WebElement| {
            let wanted = wanted.clone();
            async move { Ok(e.text().await.unwrap_or_default().contains(&wanted)) }
        });
        let found = query.wait(Duration::from_secs(20), Duration::from_millis(50)).first().await;
        found.with_context(|| format!("no {selector} says `{text}`"))
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

impl Drop for Browser {
    fn drop(&mut self) {
        let _ = self.driver.kill();
        let _ = self.driver.wait();
    }
}
