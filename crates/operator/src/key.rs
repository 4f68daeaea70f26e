//! `calvex key`: who may send, and how much.

use crate::token::{How, by_data_dir, print, running_store};
use anyhow::{Result, bail};
use calvex_client::client::{Connection, segment};
use calvex_client::options::{Form, duration_s};
use calvex_client::shown::{Zone, ZoneArgs};
use calvex_client::{Ended, Work, now_ns};
use calvex_language::domain::key::KeyLimits as StoredLimits;
use calvex_service::new_secret;
use calvex_wire::api::{Key as KeyListed, KeyLimits, MadeSecret, NewKey, Rotation};
use clap::{Args, Subcommand};
use std::collections::BTreeMap;

/// Keys with which senders send.
#[derive(Args)]
pub struct Key {
    #[command(subcommand)]
    act: KeyAct,
    #[command(flatten)]
    connection: Connection,
}

#[derive(Subcommand)]
enum KeyAct {
    /// Make a key; its secret is printed this once
    New {
        /// What it is called; made up if not given
        name: Option<String>,
        /// A field stamped on every event, name=value
        #[arg(long = "fixed", value_name = "NAME=VALUE")]
        fixed: Vec<String>,
        #[command(flatten)]
        limits: Limits,
        /// The team that it belongs to: its people may limit, rotate and revoke it
        #[arg(long, value_name = "TEAM")]
        team: Option<String>,
        #[command(flatten)]
        how: How,
    },
    /// List keys: what they may send, when they were last used
    List {
        #[command(flatten)]
        form: Form,
        #[command(flatten)]
        zone: ZoneArgs,
    },
    /// Set what a key may send; what is not named is unlimited from then on
    Limit {
        name: String,
        #[command(flatten)]
        limits: Limits,
    },
    /// Give a key another secret, printed this once; the earlier one works a while longer
    Rotate {
        name: String,
        /// How long the earlier secret still works: 30m, 24h, 7d; 0 ends it at once
        #[arg(long, value_name = "DURATION", default_value = "24h", value_parser = duration_s)]
        overlap: u64,
        #[command(flatten)]
        form: Form,
    },
    /// Revoke a key at once
    Revoke { name: String },
}

/// What a key may send; anything where nothing is said.
#[derive(Args)]
struct Limits {
    /// The only services it may send for
    #[arg(long = "service", value_name = "SERVICE")]
    services: Vec<String>,
    /// The only lanes it may send to
    #[arg(long = "lane", value_name = "LANE")]
    lanes: Vec<String>,
    /// Events a second; twice as many may come at once
    #[arg(long, value_name = "EVENTS")]
    per_second: Option<u32>,
    /// Events a day; what comes beyond is set aside
    #[arg(long, value_name = "EVENTS")]
    day_events: Option<u64>,
    /// Bytes a day, as arrivals count them
    #[arg(long, value_name = "BYTES")]
    day_bytes: Option<u64>,
    /// How long from now it is good: 12h, 30d
    #[arg(long, value_name = "DURATION", value_parser = duration_s)]
    expires_in: Option<u64>,
    /// What it sends is a past that is moved in: old events do not count as late
    #[arg(long)]
    past: bool,
}

/// The time so many seconds from now, RFC 3339.
pub fn from_now(seconds: u64) -> String {
    calvex_language::model::time::format_utc(now_ns().saturating_add((seconds as i64).saturating_mul(1_000_000_000)), 0)
}

impl Limits {
    fn reported(self) -> KeyLimits {
        KeyLimits {
            services: self.services,
            lanes: self.lanes,
            per_second: self.per_second,
            day_events: self.day_events,
            day_bytes: self.day_bytes,
            until: self.expires_in.map(from_now),
            past: self.past,
        }
    }
}

impl Key {
    /// Does what the subcommand names: over HTTP, or where a folder is given, in its database.
    ///
    /// # Errors
    /// Where the service or the database refuses it.
    pub fn run(self) -> Work {
        Box::pin(self.work())
    }

    async fn work(self) -> Result<Ended> {
        match self.act {
            KeyAct::New { name, fixed, limits, team, how } => {
                let name = name.unwrap_or_else(|| format!("key-{:08x}", rand::random::<u32>()));
                let mut fields = BTreeMap::new();
                for pair in fixed {
                    let Some((k, v)) = pair.split_once('=').filter(|(k, _)| !k.is_empty()) else {
                        bail!("`{pair}` is no fixed field; write --fixed environment=night");
                    };
                    fields.insert(k.to_owned(), v.to_owned());
                }
                let limits = limits.reported();
                if let Some(dir) = &how.data_dir {
                    if limits != KeyLimits::default() {
                        bail!("limits are set through the service; leave out --data-dir, or use `calvex key limit`");
                    }
                    let store = running_store(dir).await?;
                    let (secret, hash, prefix) = new_secret("key", rand::random());
                    let fixed = serde_json::to_string(&fields)?;
                    let act = by_data_dir("add key", &name);
                    store.add_key(&name, &hash, &prefix, &fixed, &StoredLimits::default(), None, &act).await?;
                    return print(&MadeSecret { name, secret }, how.form);
                }
                let ask = NewKey { name, fixed: fields, limits, team };
                print(&self.connection.open().await?.post("/api/keys", &ask).await?, how.form)
            }
            KeyAct::List { form, zone } => {
                let all: Vec<KeyListed> = self.connection.open().await?.get("/api/keys").await?;
                let zone = zone.zone();
                let head = ["name", "begins", "state", "last used", "stored today", "may send"];
                form.list(&all, &head, |key| row(key, &zone))
            }
            KeyAct::Limit { name, limits } => {
                let path = format!("/api/keys/{}/limits", segment(&name));
                self.connection.open().await?.put(&path, &limits.reported()).await?;
                Ok(Ended::Well)
            }
            KeyAct::Rotate { name, overlap, form } => {
                let ask = Rotation { overlap_s: u32::try_from(overlap).unwrap_or(u32::MAX) };
                let path = format!("/api/keys/{}/rotate", segment(&name));
                print(&self.connection.open().await?.post(&path, &ask).await?, form)
            }
            KeyAct::Revoke { name } => {
                self.connection.open().await?.delete(&format!("/api/keys/{}", segment(&name))).await?;
                Ok(Ended::Well)
            }
        }
    }
}

fn row(key: &KeyListed, zone: &Zone) -> Vec<String> {
    let begins: Vec<String> = key
        .secrets
        .iter()
        .map(|s| match &s.until {
            Some(until) => format!("{}… until {}", s.prefix, zone.short(until)),
            None => format!("{}…", s.prefix),
        })
        .collect();
    vec![
        key.name.clone(),
        begins.join(", "),
        key.state.clone(),
        key.last_used.as_deref().map_or_else(|| "never".into(), |t| zone.short(t)),
        if key.used_today.0 == 0 { "–".into() } else { key.used_today.0.to_string() },
        allowed(&key.limits, zone),
    ]
}

fn allowed(limits: &KeyLimits, zone: &Zone) -> String {
    let mut reported = Vec::new();
    if !limits.services.is_empty() {
        reported.push(format!("for {}", limits.services.join(", ")));
    }
    if !limits.lanes.is_empty() {
        reported.push(format!("to {}", limits.lanes.join(", ")));
    }
    reported.extend(limits.per_second.map(|n| format!("{n} a second")));
    reported.extend(limits.day_events.map(|n| format!("{n} events a day")));
    reported.extend(limits.day_bytes.map(|n| format!("{n} bytes a day")));
    reported.extend(limits.past.then(|| "a past".to_owned()));
    reported.extend(limits.until.as_ref().map(|t| format!("until {}", zone.short(t))));
    if reported.is_empty() { "anything".into() } else { reported.join("; ") }
}
