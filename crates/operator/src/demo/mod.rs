//! `calvex demo`: the service with the Fennmark Lockers night in it, a trickle that goes on, and incidents on demand.

mod incident;
mod live;
mod people;
mod rules;

use crate::receiver::{listen, show};
use crate::serve::{Sources, start_log, stop};
use anyhow::{Context, Result, bail};
use calvex_client::client::{Client, Connection, http_client};
use calvex_client::{Ended, Work, asked_to_stop, output};
use calvex_demo::{Days, Night, SERVICES, Sent};
use calvex_intake::transform::{Act as Does, Cutting, Masking, Rule};
use calvex_language::model::mask::Detector;
use calvex_wire::api::{
    AppliedRule, ApplyRule, Dial, IDEMPOTENCY_HEADER, KeyLimits, Lane, MadeContact, MadeSecret, NewDial, NewKey,
    NewToken, Route, TieListed,
};
use clap::{Args, Subcommand};
use indicatif::{ProgressBar, ProgressStyle};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

/// Events of one batch while loading.
const BATCH: usize = 2000;

/// Run the demo, or print its events.
#[derive(Args)]
pub struct Demo {
    #[command(subcommand)]
    act: Option<Act>,
    #[command(flatten)]
    sources: Sources,
    /// Spans and events of the nine days
    #[arg(long, default_value_t = 400_000, value_parser = clap::value_parser!(u64).range(10_000..=10_000_000))]
    events: u64,
    /// Seed of the night
    #[arg(long, default_value_t = 1)]
    seed: u64,
    /// Address of the stand-in receiver of webhooks
    #[arg(long, default_value = "127.0.0.1:8438")]
    receiver_http: String,
    /// Address of the stand-in for a sign-on provider
    #[arg(long, default_value = "127.0.0.1:8439")]
    provider: String,
    /// Encrypt every way in, with a certificate made for the demo
    #[arg(long)]
    tls: bool,
    /// Address of the stand-in receiver of mail
    #[arg(long, default_value = "127.0.0.1:8425")]
    receiver_smtp: String,
}

#[derive(Subcommand)]
enum Act {
    /// Begin a fresh failure in the demo that runs, or end it
    Incident(incident::IncidentArgs),
    /// Print the night as NDJSON instead of running the demo
    Night {
        /// When the slot lease is changed (RFC 3339); 02:10 of the last night that is over if not given
        #[arg(long)]
        at: Option<String>,
        /// Events of the night
        #[arg(long, default_value_t = 200_000)]
        events: u64,
        /// Seed of the night
        #[arg(long, default_value_t = 1)]
        seed: u64,
        /// Only this service's events
        #[arg(long)]
        service: Option<String>,
    },
}

/// What a second start needs to know.
#[derive(Serialize, Deserialize)]
struct Kept {
    password: String,
    token: String,
    keys: BTreeMap<String, String>,
    webhook_secrets: Vec<String>,
    change_ns: i64,
    loaded: bool,
}

fn now_ns() -> i64 {
    i64::try_from(jiff::Timestamp::now().as_nanosecond()).unwrap_or(i64::MAX)
}

/// 02:10 UTC of the last night whose whole length is over.
fn last_change_ns(now_ns: i64) -> i64 {
    let day = 86_400 * calvex_demo::SECOND_NS;
    let length = (calvex_demo::CHANGED_MIN + calvex_demo::AFTER_MIN + 1) * calvex_demo::MINUTE_NS;
    let in_day = (2 * 60 + 10) * calvex_demo::MINUTE_NS;
    (now_ns - length - in_day).div_euclid(day) * day + in_day
}

impl Demo {
    /// Runs the demo until it is asked to stop, or starts an incident in one that runs.
    ///
    /// # Errors
    /// Where its folder, an address or the service fails.
    pub fn run(self) -> Work {
        Box::pin(self.work())
    }

    async fn work(self) -> Result<Ended> {
        if let Some(Act::Incident(asked)) = self.act {
            return asked.run().await;
        }
        if let Some(Act::Night { at, events, seed, service }) = &self.act {
            let change_ns = match at {
                Some(text) => calvex_language::model::time::parse_time(text)
                    .with_context(|| format!("`{text}` is no time; try 2026-10-04T02:10:00Z"))?,
                None => last_change_ns(now_ns()),
            };
            let wanted = |e: &Sent| service.as_ref().is_none_or(|s| s == e.service);
            Night::new(*seed, change_ns, *events).filter(wanted).try_for_each(|e| output::line(&e.json))?;
            return Ok(Ended::Well);
        }
        self.serve().await
    }

    async fn serve(self) -> Result<Ended> {
        let (hook, smtp) = (listen(&self.receiver_http).await?, listen(&self.receiver_smtp).await?);
        let hook_url = format!("http://{}/hook", hook.local_addr()?);
        let smtp_address = smtp.local_addr()?.to_string();
        let provider = listen(&self.provider).await?;
        let issuer = format!("http://{}", provider.local_addr()?);
        let mut sources = self.sources.clone();
        sources.data_dir.get_or_insert_with(|| PathBuf::from(".demo"));
        let dir = sources.data_dir.clone().unwrap_or_default();
        std::fs::create_dir_all(&dir).with_context(|| format!("cannot make {}", dir.display()))?;
        let file = dir.join("demo.json");
        let kept: Option<Kept> = std::fs::read(&file).ok().and_then(|b| serde_json::from_slice(&b).ok());
        let tls = dir.join("tls");
        if self.tls {
            crate::certificate::make(&tls, &[])?;
            calvex_client::client::trust(&tls.join("ca.pem"))?;
        }
        let scheme = if self.tls { "https" } else { "http" };
        let settings = {
            let pem = |name: &str| self.tls.then(|| tls.join(name).display().to_string());
            let listen = sources.listen.clone().unwrap_or_else(|| "127.0.0.1:8437".into());
            let given = |name: &str| match name {
                "CALVEX_NOTIFY_MAIL_SERVER" => Some(smtp_address.clone()),
                "CALVEX_NOTIFY_WEBHOOK_LOCAL" => Some("true".into()),
                "CALVEX_NOTIFY_MAIL_FROM" => Some("calvex@fennmark.test".into()),
                "CALVEX_NOTIFY_CONSOLE_URL" => Some(format!("{scheme}://{listen}")),
                "CALVEX_TLS_CERT" => pem("cert.pem").or_else(|| std::env::var(name).ok()),
                "CALVEX_TLS_KEY" => pem("key.pem").or_else(|| std::env::var(name).ok()),
                "CALVEX_OIDC_ISSUER" => Some(issuer.clone()),
                "CALVEX_OIDC_CLIENT_SECRET" => Some("stand-in".into()),
                "CALVEX_OIDC_LABEL" => Some("Sign in at Fennmark".into()),
                "CALVEX_LOG_LEVEL" => Some(std::env::var(name).unwrap_or_else(|_| "warn".into())),
                name => std::env::var(name).ok(),
            };
            sources.read_with(&given)?
        };
        start_log(&settings);
        let password = kept.as_ref().map_or_else(|| "fennmark-night".to_owned(), |k| k.password.clone());
        let receiver = tokio::spawn(calvex_service::notify::fake_receiver::serve(hook, smtp, show));
        let provider = tokio::spawn(calvex_service::stand_in_provider::serve(provider, people::at_the_provider()));
        let running = calvex_service::start(settings, Some(password.clone())).await?;
        let url = format!("{scheme}://{}", running.addresses.http);
        let reported = tokio::select! {
            reported = self.play(&url, &file, kept, &password, &hook_url) => reported,
            asked = asked_to_stop() => asked,
        };
        eprintln!("stopping");
        stop(running).await?;
        receiver.abort();
        provider.abort();
        reported.map(|()| Ended::Well)
    }

    /// Sets up and loads what is missing, says where to look, and keeps the trickle flowing until asked to stop.
    async fn play(&self, url: &str, file: &Path, kept: Option<Kept>, password: &str, hook_url: &str) -> Result<()> {
        let mut kept = match kept {
            Some(kept) => kept,
            None => {
                let kept = set_up(url, password, hook_url, self.events).await?;
                keep(file, &kept)?;
                kept
            }
        };
        for secret in &kept.webhook_secrets {
            let reported = http_client(Duration::from_secs(10))?
                .post(hook_url.replace("/hook", "/secret"))
                .body(secret.clone())
                .send();
            reported.await.context("the stand-in receiver does not answer")?;
        }
        let from_ns = now_ns();
        if !kept.loaded {
            // What comes live follows on what was loaded, however long loading took.
            load(url, &kept, self.seed, self.events, from_ns).await?;
            // Only now, so that the night itself is whole.
            let why = "belt speeds help nobody".to_owned();
            let dial = NewDial { when: "service=sorter".into(), least: "info".into(), why, ..NewDial::default() };
            let client = sign_in(url, password).await?;
            for service in SERVICES {
                client.put(&format!("/api/keys/{service}-prod/limits"), &KeyLimits::default()).await?;
            }
            let _: Dial = client.post("/api/dials", &dial).await?;
            apply(&client, rules::documents(self.events).filter(|(_, looks_back)| !looks_back)).await?;
            kept.loaded = true;
            keep(file, &kept)?;
        }
        let at = calvex_language::model::time::format_utc(kept.change_ns, 0);
        output::line(&format!("console    {url}"))?;
        output::line(&format!(
            "sign in    admin / {}; olle, ines, tore, noor and vera have the same password",
            kept.password
        ))?;
        output::line("           or at Fennmark, a stand-in for a company's sign-on")?;
        output::line(&format!("messages   http://{} shows what arrived by mail and webhook", self.receiver_http))?;
        output::line(&format!("the night  the slot lease was changed at {at}"))?;
        let ca = if self.tls {
            format!(" CALVEX_CA={}", file.with_file_name("tls").join("ca.pem").display())
        } else {
            String::new()
        };
        output::line(&format!("in a shell export CALVEX_URL={url} CALVEX_TOKEN={}{ca}", kept.token))?;
        output::line("stop       Ctrl-C")?;
        let dir = file.parent().unwrap_or(Path::new("."));
        live::live(url, dir, &kept, (self.seed, self.events), from_ns).await
    }
}

fn keep(file: &Path, kept: &Kept) -> Result<()> {
    use std::io::Write;
    let mut out = std::fs::File::options().create(true).truncate(true).write(true).mode(0o600).open(file)?;
    out.write_all(&serde_json::to_vec_pretty(kept)?)?;
    Ok(())
}

/// The events for which the thresholds of the night's rules are written; others are in proportion.
const USUAL_EVENTS: u64 = 400_000;

/// Lanes, routes, a key for each service, a token, and the night's rules.
async fn set_up(url: &str, password: &str, hook_url: &str, events: u64) -> Result<Kept> {
    let client = sign_in(url, password).await?;
    let lane = |name: &str, retention_days| Lane {
        name: name.into(),
        retention_days,
        listed: true,
        day_events: None,
        day_bytes: None,
        owner: None,
        audited: None,
        sealed_events: 0,
        sealed_bytes: 0,
    };
    let lanes = [lane("devices", 14), lane("audit", 400)];
    for lane in &lanes {
        client.put(&format!("/api/lanes/{}", lane.name), lane).await?;
    }
    people::set_up(&client, password, &lanes).await?;
    let route = |filter: &str, lane: &str| Route { filter: filter.into(), lane: lane.into(), team: None };
    client
        .put("/api/routes", &vec![route("service=access", "audit"), route("service=locker-agent", "devices")])
        .await?;
    let mut keys = BTreeMap::new();
    for service in SERVICES {
        let fixed = BTreeMap::from([("environment".to_owned(), "night".to_owned())]);
        // Until the past is loaded.
        let limits = KeyLimits { past: true, ..KeyLimits::default() };
        let ask = NewKey { name: format!("{service}-prod"), fixed, limits, ..NewKey::default() };
        let made: MadeSecret = client.post("/api/keys", &ask).await?;
        keys.insert(service.to_owned(), made.secret);
    }
    let token: MadeSecret = client
        .post(
            "/api/tokens",
            &NewToken { name: "demo".into(), purpose: Some("administer".into()), ..NewToken::default() },
        )
        .await?;
    for (name, spelling) in [("parcel", "parcel_id"), ("bank", "slot.bank")] {
        let tie = TieListed { name: name.into(), spellings: vec![spelling.into()] };
        client.put(&format!("/api/ties/{name}"), &tie).await?;
    }
    let belts = [
        "belt {number belt} photo eye {word eye}, reading {number reading}",
        "belt {number belt} at {number speed} m/s",
    ];
    let transforms = [
        Rule {
            name: "belts".into(),
            when: "service=sorter".into(),
            act: Does::Cut(Cutting { field: "message".into(), patterns: belts.map(str::to_owned).to_vec() }),
        },
        Rule {
            name: "secrets".into(),
            when: String::new(),
            act: Does::Mask(Masking { detectors: Detector::ALL.to_vec(), hash: true, ..Masking::default() }),
        },
    ];
    client.put("/api/transforms", &transforms).await?;
    let mut webhook_secrets = Vec::new();
    for contact in rules::contacts(hook_url) {
        let made: MadeContact = client.post("/api/contacts", &contact).await?;
        webhook_secrets.extend(made.webhook_secret);
    }
    // Those that look back judge the night itself; the others begin when there is a past to learn from.
    apply(&client, rules::documents(events).filter(|(_, looks_back)| *looks_back)).await?;
    let change_ns = last_change_ns(now_ns());
    Ok(Kept { password: password.to_owned(), token: token.secret, keys, webhook_secrets, change_ns, loaded: false })
}

/// Makes rules of documents.
async fn apply(client: &Client, documents: impl Iterator<Item = (String, bool)>) -> Result<()> {
    for (document, _) in documents {
        let _: AppliedRule =
            client.post("/api/rules/apply", &ApplyRule { document, dry_run: false, team: None }).await?;
    }
    Ok(())
}

async fn sign_in(url: &str, password: &str) -> Result<Client> {
    Connection::with_password(url, "admin", password).await
}

/// Sends the days up to `until_ns` and the night, each service by its own key, in the order of sending.
async fn load(url: &str, kept: &Kept, seed: u64, events: u64, until_ns: i64) -> Result<()> {
    let bar = ProgressBar::new(events);
    let style = ProgressStyle::with_template("the night  {bar:40} {human_pos} of about {human_len} events, {per_sec}");
    bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_bar()));
    let http = http_client(Duration::from_secs(60))?;
    let mut waiting: BTreeMap<(&'static str, bool), Vec<Sent>> = BTreeMap::new();
    let (days, night) = days_and_night(seed, kept.change_ns, events, until_ns);
    for event in days.chain(night) {
        let way = (event.service, event.is_span);
        // A change is sent as it is made, so that what follows finds it.
        let is_mark = event.json.contains("\"mark\":");
        let batch = waiting.entry(way).or_default();
        batch.push(event);
        if batch.len() >= BATCH || is_mark {
            let batch = std::mem::take(batch);
            post(&http, url, kept, &batch).await?;
            bar.inc(batch.len() as u64);
        }
    }
    for batch in waiting.into_values().filter(|batch| !batch.is_empty()) {
        post(&http, url, kept, &batch).await?;
        bar.inc(batch.len() as u64);
    }
    bar.finish_and_clear();
    Ok(())
}

/// The days and the night of about so many spans and events together: the night has nearly half of them.
fn days_and_night(seed: u64, change_ns: i64, events: u64, until_ns: i64) -> (Days, Night) {
    // Of three spans and events of the night two are spans or one is an event, about.
    let night = Night::new(seed, change_ns, events / 5).with_spans();
    (Days::new(seed, change_ns, events / 5 * 3, until_ns), night)
}

/// Sends events of one service, either lines or spans.
async fn post(http: &reqwest::Client, url: &str, kept: &Kept, batch: &[Sent]) -> Result<()> {
    let Some(Sent { service, is_span, .. }) = batch.first().cloned() else { return Ok(()) };
    let all: Vec<&str> = batch.iter().map(|event| event.json.as_str()).collect();
    let (path, kind, body) = if is_span {
        ("v1/traces", "application/json", format!("{{\"resourceSpans\":[{}]}}", all.join(",")))
    } else {
        ("v1/events", "application/x-ndjson", all.join("\n") + "\n")
    };
    let key =
        kept.keys.get(service).with_context(|| format!("the demo has no key for {service}; run ./run demo --fresh"))?;
    let idempotency = format!("{:032x}", rand::random::<u128>());
    for attempt in 0..60 {
        let request = http
            .post(format!("{url}/{path}"))
            .bearer_auth(key)
            .header(reqwest::header::CONTENT_TYPE, kind)
            .header(IDEMPOTENCY_HEADER, &idempotency)
            .body(body.clone());
        let response = request.send().await?;
        if response.status().is_success() {
            return Ok(());
        }
        if !calvex_client::client::is_passing(response.status()) {
            calvex_client::client::good(response).await?;
        }
        tokio::time::sleep(Duration::from_millis(100 * (attempt + 1))).await;
    }
    bail!("the service does not take the demo's events")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_last_night_is_over() {
        let at = |text: &str| calvex_language::model::time::parse_time(text).unwrap();
        assert_eq!(last_change_ns(at("2026-10-04T12:00:00Z")), at("2026-10-04T02:10:00Z"));
        assert_eq!(last_change_ns(at("2026-10-04T03:00:00Z")), at("2026-10-03T02:10:00Z"));
    }
}
