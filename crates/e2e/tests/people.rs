//! People from the first code to the last session: added, signed in, another password, disabled. With the real client and
//! the interface.

use anyhow::{Context, Result};
use calvex_e2e::service::{PASSWORD, Service, binary, wait_for};
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};
use std::process::{Command, Output};

const FIRST: &str = "belt four stands still";
const SECOND: &str = "printer out of paper";

struct Web {
    http: reqwest::Client,
    url: String,
}

impl Web {
    async fn send(&self, method: Method, path: &str, cookie: &str, body: Value) -> Result<(StatusCode, String)> {
        let request = self.http.request(method, format!("{}/api{path}", self.url)).header("x-calvex-console", "1");
        let request = request.header("cookie", cookie);
        let request = if body.is_null() { request } else { request.json(&body) };
        let answer = request.send().await?;
        Ok((answer.status(), answer.text().await?))
    }

    /// The cookie of a new session, where name and password fit.
    async fn sign_in(&self, password: &str) -> Result<Option<String>> {
        let ask = json!({ "name": "olle", "password": password });
        let answer = self.http.post(format!("{}/api/login", self.url)).json(&ask).send().await?;
        let cookie = answer.headers().get("set-cookie").and_then(|v| v.to_str().ok()?.split(';').next());
        Ok(cookie.filter(|_| answer.status().is_success()).map(str::to_owned))
    }

    async fn redeem(&self, code: &str, password: &str) -> Result<StatusCode> {
        Ok(self.send(Method::POST, "/redeem", "", json!({ "code": code, "password": password })).await?.0)
    }

    async fn is_in(&self, cookie: &str) -> Result<bool> {
        Ok(self.send(Method::GET, "/me", cookie, Value::Null).await?.0.is_success())
    }
}

/// The client as somebody who signs in by name.
fn as_person(service: &Service, name: &str, passwords: [&str; 2], args: &[&str]) -> Result<Output> {
    let mut command = Command::new(binary());
    command.args(args).args(["--user", name]).env_remove("CALVEX_TOKEN").env("CALVEX_URL", &service.url);
    Ok(command.env("CALVEX_ADMIN_PASSWORD", passwords[0]).env("CALVEX_NEW_PASSWORD", passwords[1]).output()?)
}

#[tokio::test(flavor = "multi_thread")]
async fn from_the_first_code_to_the_last_session() -> Result<()> {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let service = Service::start(&[])?;
    let web = Web { http: reqwest::Client::builder().no_proxy().build()?, url: service.url.clone() };
    let code = service.ok(&["person", "add", "olle", "--lane", "main", "--text"])?.trim().to_owned();
    assert!(code.starts_with("calvex-code-"), "{code}");
    assert_eq!(web.sign_in("whatever it may be").await?, None, "there is no password yet");
    // What everybody would try is not taken, nor what is short; the code stays good until it is used, and is good once.
    for refused in ["password123", "olle1234567", "short"] {
        assert_eq!(web.redeem(&code, refused).await?, StatusCode::BAD_REQUEST, "{refused}");
    }
    assert_eq!(web.redeem(&code, FIRST).await?, StatusCode::NO_CONTENT);
    assert_eq!(web.redeem(&code, SECOND).await?, StatusCode::UNAUTHORIZED);

    // Two sessions; each sees both, and knows which it is.
    let desk = web.sign_in(FIRST).await?.context("not signed in")?;
    let phone = web.sign_in(FIRST).await?.context("not signed in")?;
    let (_, listed) = web.send(Method::GET, "/me/sessions", &desk, Value::Null).await?;
    let listed: Vec<Value> = serde_json::from_str(&listed)?;
    assert_eq!((listed.len(), listed.iter().filter(|s| s["own"] == true).count()), (2, 1), "{listed:?}");
    assert!(listed.iter().all(|s| s["address"] == "127.0.0.1"), "{listed:?}");

    // Another password, by whoever knows the present one: the other session ends. By a token it is not changed.
    let change = |now: &str| json!({ "password": now, "new_password": SECOND });
    assert_eq!(web.send(Method::POST, "/me/password", &desk, change("not this one")).await?.0, StatusCode::FORBIDDEN);
    assert!(web.is_in(&phone).await?);
    assert_eq!(web.send(Method::POST, "/me/password", &desk, change(FIRST)).await?.0, StatusCode::NO_CONTENT);
    assert!(web.is_in(&desk).await? && !web.is_in(&phone).await?);
    let by_token = web.http.post(format!("{}/api/me/password", web.url)).bearer_auth(&service.token);
    assert_eq!(by_token.json(&change(PASSWORD)).send().await?.status(), StatusCode::FORBIDDEN);
    let changed = as_person(&service, "olle", [SECOND, FIRST], &["password"])?;
    assert!(changed.status.success(), "{}", String::from_utf8_lossy(&changed.stderr));
    assert_eq!(as_person(&service, "olle", [SECOND, FIRST], &["password"])?.status.code(), Some(2));
    let shown = as_person(&service, "olle", [FIRST, ""], &["whoami", "--text"])?;
    assert_eq!(String::from_utf8(shown.stdout)?.trim(), "olle, reader, reads main");

    // One's own sessions are ended by oneself, and those of everybody by an administrator.
    let (desk, phone) = (web.sign_in(FIRST).await?.context("no")?, web.sign_in(FIRST).await?.context("no")?);
    let (_, listed) = web.send(Method::GET, "/me/sessions", &desk, Value::Null).await?;
    let listed: Vec<Value> = serde_json::from_str(&listed)?;
    let own = listed.iter().find(|s| s["own"] == true).context("none is its own")?["id"].to_string();
    assert_eq!(web.send(Method::DELETE, &format!("/me/sessions/{own}"), &phone, Value::Null).await?.0.as_u16(), 204);
    assert!(!web.is_in(&desk).await? && web.is_in(&phone).await?);
    service.ok(&["person", "sign-out", "olle"])?;
    assert!(!web.is_in(&phone).await?);

    // Disabled, everything that lasts ends at once, and neither password nor code lets anybody in.
    let desk = web.sign_in(FIRST).await?.context("not signed in")?;
    let tail = web.http.post(format!("{}/api/tail", web.url)).header("cookie", &desk).header("x-calvex-console", "1");
    let mut tail = tail.json(&json!({ "query": "" })).send().await?;
    assert!(tail.status().is_success());
    let code = service.ok(&["person", "code", "olle", "--text"])?.trim().to_owned();
    service.ok(&["person", "disable", "olle"])?;
    while tail.chunk().await?.is_some() {}
    assert!(!web.is_in(&desk).await?);
    assert_eq!(web.sign_in(FIRST).await?, None);
    assert_eq!(web.redeem(&code, SECOND).await?, StatusCode::UNAUTHORIZED);
    assert!(service.ok(&["person", "list", "--text"])?.contains("disabled since"));
    service.ok(&["person", "enable", "olle"])?;
    let desk = web.sign_in(FIRST).await?.context("not signed in")?;

    // A session that nobody used for long has ended, and so has a code.
    service.sql("UPDATE session SET seen_ns = seen_ns - 3 * 3600 * 1000000000")?;
    wait_for("the session to end", || {
        let listed = service.ok(&["person", "list", "--json"])?;
        Ok(listed.lines().any(|l| l.contains("\"olle\"") && l.contains("\"sessions\":0")).then_some(()))
    })?;
    let until = std::time::Instant::now() + calvex_e2e::service::PATIENCE;
    while web.is_in(&desk).await? {
        anyhow::ensure!(std::time::Instant::now() < until, "the session goes on");
    }
    let code = service.ok(&["person", "code", "olle", "--text"])?.trim().to_owned();
    service.sql("UPDATE password_code SET ends_ns = 1")?;
    assert_eq!(web.redeem(&code, SECOND).await?, StatusCode::UNAUTHORIZED);

    // Somebody must be left who administers; and all of it stands in the trail.
    let refused = service.calvex(&["person", "disable", "admin"])?;
    assert_eq!(refused.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&refused.stderr).contains("the last who administers"));
    service.ok(&["person", "change", "olle", "--role", "admin"])?;
    let acts = service.sql("SELECT GROUP_CONCAT(DISTINCT act) FROM audit")?;
    for act in ["add person", "set password by code", "change password", "end session", "end sessions", "change person"]
    {
        assert!(acts.contains(act), "{act} is not in {acts}");
    }
    assert!(acts.contains("change of password refused"), "{acts}");
    assert!(!service.sql("SELECT what FROM audit")?.contains(&code), "a code stands in the trail");
    // Nothing to change is no change; and codes are not guessed faster than passwords.
    assert_eq!(service.calvex(&["person", "change", "olle"])?.status.code(), Some(2));
    let mut tries = Vec::new();
    for n in 0..31 {
        tries.push(web.redeem(&format!("calvex-code-{n}"), SECOND).await?);
    }
    assert_eq!(tries.last(), Some(&StatusCode::TOO_MANY_REQUESTS), "{tries:?}");
    Ok(())
}

/// In the console: a code, a password, and in.
#[tokio::test(flavor = "multi_thread")]
async fn a_password_is_set_by_a_code_in_the_console() -> Result<()> {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let service = Service::start(&[])?;
    let code = service.ok(&["person", "add", "olle", "--lane", "main", "--text"])?.trim().to_owned();
    let browser = calvex_e2e::browser::Browser::open(390, 800).await?;
    browser.page.goto(format!("{}/now", service.url)).await?;
    browser.click_saying("button", "Set a password by a code").await?;
    browser.css("input[name=code]").await?.send_keys(&code).await?;
    browser.css("input[name=password]").await?.send_keys("password123").await?;
    browser.css("input[name=again]").await?.send_keys("password123").await?;
    browser.click("button[type=submit]").await?;
    browser.saying("form", "among those that are tried first").await?;
    for field in ["input[name=password]", "input[name=again]"] {
        let field = browser.css(field).await?;
        field.send_keys(thirtyfour::Key::Control + "a").await?;
        field.send_keys(FIRST).await?;
    }
    browser.click("button[type=submit]").await?;
    browser.saying("form", "The password is set").await?;
    browser.css("input[name=name]").await?.send_keys("olle").await?;
    browser.css("input[name=password]").await?.send_keys(FIRST).await?;
    browser.click("button[type=submit]").await?;
    browser.css("nav").await?;
    browser.close().await
}
