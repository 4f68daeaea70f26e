//! Who may what: every path of the interface, from the description that the service itself gives, asked as nobody, by a
//! narrowed token, by a reading token and as a reader. Nothing that stands in a hidden lane comes back, and what reads
//! changes nothing. A path that is added later is swept too.

use anyhow::{Context, Result};
use calvex_e2e::hostile::client;
use calvex_e2e::service::{Service, wait_for};
use reqwest::Method;
use serde_json::{Value, json};
use std::io::{BufRead, BufReader};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// Stands in the hidden lane only: its name, a service, a host, a field, a value, a message, a sender, a rule.
const PLANTED: [&str; 8] =
    ["vaultlane", "vaultservice", "vaulthost", "vaultfield", "vaultvalue", "vaultmessage", "vaultkey", "vaultrule"];
/// An id of an event in the hidden lane, asked for by the sweep, so an answer may repeat it.
const HIDDEN_ID: &str = "ZX-4711";
const READER: (&str, &str) = ("olle", "a long enough password");

/// Bodies that each path takes; any other gets an empty object.
fn body_for(path: &str) -> Value {
    match path {
        "/search" | "/histogram" | "/check" | "/found-fields" => json!({ "query": "" }),
        "/tail" => json!({ "query": "service=nobody" }),
        "/measure" => json!({ "query": "measure count, max(time) per service, host, lane, message" }),
        "/breakdown" => json!({ "query": "", "fields": ["lane", "service", "host", "message", "sender"] }),
        "/compare" | "/errors" => json!({ "query": "", "from": "now-30m" }),
        "/errors/{id}" => json!({ "state": "known" }),
        "/paste" => json!({ "text": "seen: ZX-4712 and PX-1" }),
        "/complete" => json!({ "query": "vau", "at": 3 }),
        "/range" => json!({ "text": "last 1h" }),
        "/shape" => json!({ "query": "", "shape": "0" }),
        "/patterns/try" => json!({ "patterns": ["{rest message}"], "lines": ["x"] }),
        "/patterns/learn" => json!(["a b c"]),
        "/dials" => json!({ "when": "service=x", "least": "debug" }),
        "/rules" => json!({ "name": "swept", "query": "x", "window_s": 60, "above": 1 }),
        "/saved/{name}" => json!({ "name": "swept", "query": "x" }),
        "/lanes/{name}" => json!({ "name": "swept", "retention_days": 7, "listed": true }),
        "/keys" | "/tokens" => json!({ "name": "swept" }),
        "/people" => json!({ "name": "swept", "password": "a long enough password", "role": "admin" }),
        "/people/{name}" => json!({ "role": "admin" }),
        "/me/password" => json!({ "password": "a long enough password", "new_password": "another long password" }),
        "/routes" | "/transforms" => json!([]),
        _ => json!({}),
    }
}

struct Asked {
    what: String,
    status: u16,
    text: String,
}

/// Asks every operation of the description; `secret` is a bearer text.
async fn sweep(service: &Service, description: &Value, secret: Option<&str>) -> Result<Vec<Asked>> {
    let http = client()?;
    let mut asked = Vec::new();
    for (path, operations) in description["paths"].as_object().context("no paths")? {
        for method in operations.as_object().into_iter().flatten().map(|(m, _)| m.to_uppercase()) {
            // The description's paths begin below the interface or at its root.
            let below = path.trim_start_matches("/api");
            // A try to sign in, or to set a password by a code, is for everybody, and so is health, which the description says.
            let is_open = operations[method.to_lowercase()]["security"].as_array().is_some_and(Vec::is_empty);
            if below == "/login" || below == "/redeem" || is_open {
                continue;
            }
            let root = if path.starts_with("/api") { "/api" } else { "" };
            let named = below
                .replace("{name}", "swept")
                .replace("{id}", if below.starts_with("/story") { HIDDEN_ID } else { "1" });
            let mut request = http
                .request(Method::from_bytes(method.as_bytes())?, format!("{}{root}{named}", service.url))
                .timeout(Duration::from_secs(20));
            if let Some(secret) = secret {
                request = request.bearer_auth(secret);
            }
            if ["POST", "PUT"].contains(&method.as_str()) {
                request = request.json(&body_for(below));
            }
            let mut answer = request.send().await.with_context(|| format!("{method} {below}"))?;
            let status = answer.status().as_u16();
            let mut text = String::new();
            // What follows the present has no end; its first lines are enough.
            while let Some(piece) = answer.chunk().await? {
                text.push_str(&String::from_utf8_lossy(&piece));
                if below == "/tail" {
                    break;
                }
            }
            asked.push(Asked { what: format!("{method} {below}"), status, text });
        }
    }
    Ok(asked)
}

async fn session(service: &Service, (name, password): (&str, &str)) -> Result<String> {
    let ask = json!({ "name": name, "password": password });
    let answer = client()?.post(format!("{}/api/login", service.url)).json(&ask).send().await?;
    let cookie = answer.headers().get("set-cookie").context("no session")?.to_str()?;
    Ok(cookie.split(';').next().unwrap_or("").to_owned())
}

async fn planted() -> Result<Service> {
    let service = Service::start(&[])?;
    service.ok(&["lane", "set", "vaultlane", "--days", "30", "--unlisted"])?;
    service.ok(&["route", "add", "service=vaultservice", "vaultlane"])?;
    let key = service.ok(&["key", "new", "vaultkey", "--text"])?.trim().to_owned();
    let event = json!({
        "service": "vaultservice", "host": "vaulthost", "msg": "vaultmessage", "vaultfield": "vaultvalue", "level": "error",
        "mark": "vaultmessage", "parcel": { "id": HIDDEN_ID },
    })
    .to_string();
    let http = client()?;
    for (key, body) in [
        (&key, event),
        (&service.key, r#"{"service":"edge","host":"edge-1","msg":"door 17 opened"}"#.to_owned()),
        (&key, "no json".to_owned()),
    ] {
        http.post(format!("{}/v1/events", service.url)).bearer_auth(key).body(body).send().await?;
    }
    service.ok(&["rule", "new", "vaultrule", "--query", "service=vaultservice", "--above", "0"])?;
    wait_for("both events", || Ok((service.search("has service", &[])?.len() >= 2).then_some(())))?;
    Ok(service)
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_of_a_hidden_lane_comes_back_by_any_path() -> Result<()> {
    let service = planted().await?;
    let description: Value = client()?
        .get(format!("{}/api/openapi.json", service.url))
        .bearer_auth(&service.token)
        .send()
        .await?
        .json()
        .await?;
    assert!(description["paths"].as_object().map_or(0, |p| p.len()) > 30, "the description lists the paths");

    for Asked { what, status, text } in sweep(&service, &description, None).await? {
        assert_eq!(status, 401, "{what} as nobody: {text}");
    }
    let narrow = service.ok(&["token", "new", "narrow", "--lane", "main", "--text"])?.trim().to_owned();
    for Asked { what, status, text } in sweep(&service, &description, Some(&narrow)).await? {
        assert!(status < 500, "{what}: {status} {text}");
        for word in PLANTED {
            assert!(!text.contains(word), "{what} gives `{word}` to a narrowed token: {text}");
        }
        let changes = what.starts_with("PUT") || what.starts_with("DELETE");
        assert!(!changes || status == 403, "{what} by a narrowed token: {status} {text}");
    }
    // A token that reads everything changes nothing either.
    let reads = service.ok(&["token", "new", "reads", "--text"])?.trim().to_owned();
    for Asked { what, status, text } in sweep(&service, &description, Some(&reads)).await? {
        let changes = what.starts_with("PUT") || what.starts_with("DELETE");
        assert!(!changes || status == 403, "{what} by a token that reads: {status} {text}");
    }
    for list in ["key", "token", "saved"] {
        assert!(!service.ok(&[list, "list", "--json"]).unwrap_or_default().contains("swept"), "{list}");
    }
    let metrics = client()?.get(format!("{}/metrics", service.url)).bearer_auth(&narrow).send().await?.text().await?;
    assert!(metrics.contains("lane=\"main\"") && !metrics.contains("vaultlane"), "{metrics}");
    let whole =
        client()?.get(format!("{}/metrics", service.url)).bearer_auth(&service.token).send().await?.text().await?;
    assert!(whole.contains("vaultlane"));
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_reader_of_one_lane_sees_that_lane() -> Result<()> {
    let service = planted().await?;
    let made = client()?
        .post(format!("{}/api/people", service.url))
        .bearer_auth(&service.token)
        .json(&json!({ "name": READER.0, "password": READER.1, "role": "reader", "lanes": ["main"] }))
        .send()
        .await?;
    assert_eq!(made.status(), 200);
    let cookie = session(&service, READER).await?;
    let get = |path: &'static str| {
        let (url, cookie) = (format!("{}/api{path}", service.url), cookie.clone());
        async move { Ok::<_, anyhow::Error>(client()?.get(url).header("cookie", cookie).send().await?) }
    };
    for path in ["/me", "/lanes", "/arrivals", "/now", "/rules", "/alerts", "/ties", "/fields", "/story/vaultvalue"] {
        let answer = get(path).await?;
        assert_eq!(answer.headers()["cache-control"], "no-store", "{path}");
        let (status, text) = (answer.status(), answer.text().await?);
        assert_eq!(status, 200, "{path}: {text}");
        for word in PLANTED {
            // That a lane exists may be said where the lane allows it; nothing else of it.
            let reported = word == "vaultlane" && path.starts_with("/story");
            assert!(
                reported || word == "vaultvalue" && path.starts_with("/story") || !text.contains(word),
                "{path} gives `{word}`: {text}"
            );
        }
    }
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_sent_as_a_key_is_kept_nowhere() -> Result<()> {
    let mut service = Service::start(&[])?;
    const SECRET: &str = "correct-horse-locker";
    for url in ["/v1/events", "/v1/logs"] {
        let answer = client()?.post(format!("{}{url}", service.url)).bearer_auth(SECRET).body("{}").send().await?;
        assert_eq!(answer.status(), 401);
        assert!(!answer.text().await?.contains("correct"));
    }
    let ask = json!({ "name": SECRET, "password": "a password typed as it should be" });
    client()?.post(format!("{}/api/login", service.url)).json(&ask).send().await?;
    // Nothing was stored, which is exit code 1; what was refused is listed.
    let reported = String::from_utf8(service.calvex(&["arrivals", "--json"])?.stdout)?;
    assert!(reported.contains("wrong-key") && !reported.contains("correct"), "{reported}");
    service.stop()?;
    assert!(!calvex_e2e::service::on_disk(&service.dir, SECRET));
    Ok(())
}

/// Names are one name as the database compares them; who is locked out is who guessed.
#[tokio::test(flavor = "multi_thread")]
async fn guessing_is_limited_whatever_the_spelling() -> Result<()> {
    let service = Service::start(&[])?;
    let http = client()?;
    let mut codes = Vec::new();
    for name in ["admin", "Admin", "ADMIN ", "ádmin", "adMIN  ", "âdmin", "admin"] {
        let ask = json!({ "name": name, "password": "not the password" });
        codes.push(http.post(format!("{}/api/login", service.url)).json(&ask).send().await?.status().as_u16());
    }
    assert_eq!(codes, [401, 401, 401, 401, 401, 429, 429]);
    // Sixty at once take turns.
    let many = (0..60).map(|n| {
        let ask = json!({ "name": format!("nobody{n}"), "password": "not the password" });
        tokio::spawn(http.post(format!("{}/api/login", service.url)).json(&ask).send())
    });
    for answer in many.collect::<Vec<_>>() {
        assert!([401, 429].contains(&answer.await??.status().as_u16()));
    }
    let mib = calvex_e2e::hostile::peak_mib(service.pid())?;
    assert!(mib < 400, "sixty sign-ins took {mib} MiB");
    Ok(())
}

/// A body that does not come is not waited for.
#[tokio::test(flavor = "multi_thread")]
async fn a_sign_in_that_never_ends_is_let_go() -> Result<()> {
    use tokio::io::{AsyncReadExt, AsyncWriteExt};
    let service = Service::start(&[("CALVEX_LIMITS_REQUEST_S", "1")])?;
    let mut slow = tokio::net::TcpStream::connect(service.url.trim_start_matches("http://")).await?;
    slow.write_all(b"POST /api/login HTTP/1.1\r\nhost: x\r\ncontent-type: application/json\r\ncontent-length: 900\r\n\r\n{\"name\":").await?;
    let mut answer = vec![0; 4096];
    let length = tokio::time::timeout(Duration::from_secs(20), slow.read(&mut answer)).await??;
    assert!(String::from_utf8_lossy(&answer[..length]).starts_with("HTTP/1.1 408"), "it is reported");
    // A stranger may send a name and a password, not more.
    let large = client()?.post(format!("{}/api/login", service.url)).body(vec![b' '; 100_000]).send().await?;
    assert_eq!(large.status(), 413);
    Ok(())
}

/// Who follows is let go when the token is revoked.
#[test]
fn revoking_a_token_ends_its_tails() -> Result<()> {
    let service = Service::start(&[])?;
    let token = service.ok(&["token", "new", "night", "--text"])?.trim().to_owned();
    let mut tail = Command::new(calvex_e2e::service::binary())
        .args(["tail", "--json"])
        .env("CALVEX_URL", &service.url)
        .env("CALVEX_TOKEN", &token)
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()?;
    let mut lines = BufReader::new(tail.stdout.take().context("no output")?).lines();
    // It follows once it shows what comes.
    let sending = std::thread::spawn({
        let (url, key) = (service.url.clone(), service.key.clone());
        move || {
            let mut child = Command::new(calvex_e2e::service::binary())
                .args(["send", "--quiet"])
                .env("CALVEX_URL", url)
                .env("CALVEX_KEY", key)
                .stdin(Stdio::piped())
                .spawn()?;
            let mut input = child.stdin.take().context("no input")?;
            for n in 0..200 {
                if writeln_to(&mut input, n).is_err() {
                    break;
                }
                std::thread::sleep(Duration::from_millis(50));
            }
            drop(input);
            child.wait()?;
            Ok::<_, anyhow::Error>(())
        }
    });
    let first = lines.next().transpose()?;
    assert!(first.is_some_and(|l| l.contains("door")));
    service.ok(&["token", "revoke", "night"])?;
    let revoked = Instant::now();
    // The rest of its lines ends by itself.
    for line in lines {
        line?;
        assert!(revoked.elapsed() < Duration::from_secs(20), "it still follows");
    }
    tail.wait()?;
    let _ = sending.join();
    Ok(())
}

fn writeln_to(to: &mut impl std::io::Write, n: usize) -> std::io::Result<()> {
    writeln!(to, "{{\"msg\":\"door {n} opened\"}}")?;
    to.flush()
}
