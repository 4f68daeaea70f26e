//! Sign-on by a provider: in the console from the button to the team, and everything that must not let anybody in. The
//! provider is the stand-in that ships.

#![allow(clippy::indexing_slicing, reason = "JSON is asked by place; what is missing is null and fails its assertion")]

use anyhow::{Context, Result, ensure};
use calvex_e2e::browser::Browser;
use calvex_e2e::service::{PASSWORD, Service, binary};
use calvex_e2e::stage::{DESK, PHONE, Stage};
use reqwest::{StatusCode, header};
use serde_json::{Value, json};
use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};

/// The stand-in, stopped when this goes.
struct Provider {
    child: Child,
    at: String,
}

impl Provider {
    fn start() -> Result<Self> {
        let mut child = Command::new(binary())
            .args(["provider", "--http", "127.0.0.1:0"])
            .args(["--person", "mira=locker-people,drivers", "--person", "admin", "--person", "sixten"])
            .stdout(Stdio::piped())
            .spawn()?;
        let mut line = String::new();
        BufReader::new(child.stdout.take().context("no output")?).read_line(&mut line)?;
        let at = line.trim().strip_prefix("provider at ").context("no address")?.to_owned();
        Ok(Provider { child, at })
    }
}

impl Drop for Provider {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// A service whose people sign in by the stand-in; its port is chosen first, for the provider sends people back to it.
fn with_provider() -> Result<(Service, Provider)> {
    let provider = Provider::start()?;
    let port = std::net::TcpListener::bind("127.0.0.1:0")?.local_addr()?.port();
    let service = Service::start(&[
        ("CALVEX_HTTP_LISTEN", &format!("127.0.0.1:{port}")),
        ("CALVEX_OIDC_ISSUER", &provider.at),
        ("CALVEX_OIDC_CLIENT_SECRET", "stand-in"),
        ("CALVEX_OIDC_LABEL", "Sign in at Fennmark"),
    ])?;
    service.ok(&["team", "set", "lockers", "--group", "locker-people"])?;
    service.ok(&["grant", "give", "main", "--team", "lockers", "--rows", "service=slots"])?;
    Ok((service, provider))
}

/// A browser without a window: it keeps cookies, and follows nothing by itself.
struct Walker {
    http: reqwest::Client,
    cookies: String,
}

impl Walker {
    fn new() -> Result<Self> {
        let http = reqwest::Client::builder().no_proxy().redirect(reqwest::redirect::Policy::none()).build()?;
        Ok(Walker { http, cookies: String::new() })
    }

    /// Goes to an address; where it is sent on to.
    async fn go(&mut self, url: &str) -> Result<String> {
        let answer = self.http.get(url).header(header::COOKIE, &self.cookies).send().await?;
        for cookie in answer.headers().get_all(header::SET_COOKIE) {
            let cookie = cookie.to_str()?.split(';').next().unwrap_or("");
            self.cookies = format!("{}; {cookie}", self.cookies);
        }
        ensure!(answer.status() == StatusCode::SEE_OTHER, "{url}: {} {}", answer.status(), answer.text().await?);
        Ok(answer.headers()[header::LOCATION].to_str()?.to_owned())
    }

    /// Signs on as somebody; where that ends.
    async fn sign_on(&mut self, service: &Service, provider: &Provider, name: &str) -> Result<String> {
        let back = self.chosen(service, provider, name).await?;
        self.go(&back).await
    }

    /// As far as the provider's answer: the address to go back to.
    async fn chosen(&mut self, service: &Service, provider: &Provider, name: &str) -> Result<String> {
        let to = self.go(&format!("{}/api/sign-on", service.url)).await?;
        ensure!(to.starts_with(&provider.at) && to.contains("code_challenge_method=S256"), "{to}");
        let asked = to.split_once('?').context("nothing is asked")?.1;
        self.go(&format!("{}/chosen?{asked}&name={name}", provider.at)).await
    }

    async fn me(&self, service: &Service) -> Result<Value> {
        let answer =
            self.http.get(format!("{}/api/me", service.url)).header(header::COOKIE, &self.cookies).send().await?;
        Ok(if answer.status().is_success() { answer.json().await? } else { Value::Null })
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn people_come_by_the_provider_and_with_their_groups() -> Result<()> {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let (service, provider) = with_provider()?;
    let mut mira = Walker::new()?;
    assert_eq!(mira.sign_on(&service, &provider, "mira").await?, "/now");
    let me = mira.me(&service).await?;
    assert_eq!((&me["name"], &me["role"], &me["teams"]), (&json!("mira"), &json!("reader"), &json!(["lockers"])));
    assert_eq!(me["parts"][0]["rows"], json!(["service=slots"]), "{me}");
    // Who is in no group is known, and reads nothing.
    let mut sixten = Walker::new()?;
    assert_eq!(sixten.sign_on(&service, &provider, "sixten").await?, "/now");
    assert_eq!(sixten.me(&service).await?["lanes"], json!([]));
    // With the group the team goes.
    service.ok(&["team", "set", "lockers", "--group", "others"])?;
    let mut again = Walker::new()?;
    again.sign_on(&service, &provider, "mira").await?;
    assert_eq!(again.me(&service).await?["teams"], json!([]));

    // Somebody who signs in by password is not taken over by a name; who is disabled stays out.
    let mut admin = Walker::new()?;
    assert_eq!(admin.sign_on(&service, &provider, "admin").await?, "/now?sign-on=unknown");
    assert_eq!(admin.me(&service).await?, Value::Null);
    service.ok(&["person", "disable", "mira"])?;
    let mut disabled = Walker::new()?;
    assert_eq!(disabled.sign_on(&service, &provider, "mira").await?, "/now?sign-on=unknown");
    assert_eq!(mira.me(&service).await?, Value::Null, "open sessions end too");

    // An answer is good once, in the browser that asked, and as the provider gave it.
    let mut honest = Walker::new()?;
    let back = honest.chosen(&service, &provider, "sixten").await?;
    let mut stranger = Walker::new()?;
    assert_eq!(stranger.go(&back).await?, "/now?sign-on=refused", "a link that signs another in");
    let mut tampered = Walker::new()?;
    tampered.cookies = honest.cookies.clone();
    assert_eq!(tampered.go(&back.replace("code=", "code=x")).await?, "/now?sign-on=refused");
    assert_eq!(honest.go(&back).await?, "/now?sign-on=refused", "the try used it up");
    let mut fresh = Walker::new()?;
    let back = fresh.chosen(&service, &provider, "sixten").await?;
    assert_eq!(fresh.go(&back).await?, "/now");
    assert_eq!(fresh.go(&back).await?, "/now?sign-on=refused", "once");
    let trail = service.ok(&["audit", "--limit", "200", "--text"])?;
    for part in ["by the provider, from 127.0.0.1", "join teams by the provider", "sign in refused"] {
        assert!(trail.contains(part), "{part} is not in {trail}");
    }
    // Without its provider a service says so, and people with a password come in.
    drop(provider);
    service.ok(&["lane", "list"])?;
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn from_the_button_to_the_page_in_the_console() -> Result<()> {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let (service, _provider) = with_provider()?;
    let browser = Browser::open(1280, 800).await?;
    let stage = Stage { service, browser, day: String::new(), range: String::new() };
    let url = stage.service.url.clone();
    stage.browser.page.goto(format!("{url}/now")).await?;
    stage.browser.saying("button", "Sign in at Fennmark").await?;
    stage.axe("the way in").await?;
    // By keys alone.
    stage.follow("Sign in at Fennmark").await?;
    stage.browser.saying("h1", "Fennmark sign-on").await?;
    stage.follow("mira").await?;
    stage.browser.css("nav").await?;
    stage.browser.page.goto(format!("{url}/people")).await?;
    stage.browser.saying("main", "lockers").await?;
    stage.browser.saying("main", "where service=slots").await?;
    stage.axe("what mira may do").await?;
    // What came to nothing is said in words of the console's own.
    stage.browser.page.delete_all_cookies().await?;
    stage.browser.page.goto(format!("{url}/now?sign-on=unknown&said=%3Cb%3Eanything")).await?;
    stage.browser.saying("form", "You may not sign in so").await?;
    stage.browser.close().await
}

/// The pages of People, at a desk and on a phone.
#[tokio::test(flavor = "multi_thread")]
async fn people_are_looked_after_in_the_console() -> Result<()> {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let service = Service::start(&[])?;
    let browser = Browser::open(DESK.0, DESK.1).await?;
    browser.sign_in(&service.url, PASSWORD).await?;
    let stage = Stage { service, browser, day: String::new(), range: String::new() };
    let (url, browser) = (stage.service.url.clone(), &stage.browser);
    let type_in = async |name: &str, text: &str| -> Result<()> {
        Ok(browser.css(&format!("input[name={name}]")).await?.send_keys(text).await?)
    };
    browser.page.goto(format!("{url}/people/all")).await?;
    type_in("person", "olle").await?;
    browser.click_saying("button", "add").await?;
    browser.saying("p", "calvex-code-").await?;
    browser.page.goto(format!("{url}/people/teams")).await?;
    type_in("team", "lockers").await?;
    type_in("people", "olle").await?;
    browser.click_saying("button", "set").await?;
    browser.saying("td", "lockers").await?;
    browser.page.goto(format!("{url}/people/grants")).await?;
    type_in("to", "lockers").await?;
    type_in("rows", "service=slots").await?;
    type_in("hidden", "recipient.phone").await?;
    browser.click_saying("button", "give").await?;
    browser.saying("td", "service=slots, without recipient.phone").await?;
    // Who can read it, and why.
    browser.saying("table[aria-label='Who can read main'] td", "team lockers").await?;
    browser.page.goto(format!("{url}/people/trail?word=grant")).await?;
    browser.saying("td", "give grant").await?;
    browser.click_saying("button", "check every link").await?;
    browser.saying("[role=status]", "entries hold").await?;
    for window in [DESK, PHONE] {
        browser.resize(window.0, window.1).await?;
        for (page, says) in [
            ("", "Your sessions"),
            ("/grants", "Grants"),
            ("/all", "Everybody"),
            ("/teams", "Teams"),
            ("/trail", "Audit trail"),
        ] {
            browser.page.goto(format!("{url}/people{page}")).await?;
            browser.saying("h1", says).await?;
            browser.css("td").await?;
            stage.fits(page).await?;
            stage.axe(page).await?;
        }
    }
    stage.browser.close().await
}
