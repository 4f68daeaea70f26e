//! `calvex mark`: a change worth seeing on every time axis, sent by the key of whoever makes it.

use super::send::key_or_env;
use crate::Ended;
use crate::client::{DEFAULT_URL, good, http_client};
use crate::now_ns;
use crate::options::Form;
use anyhow::{Context, Result, bail};
use calvex_language::model::time::format_utc;
use calvex_language::query::{Context as Reading, read_moment};
use clap::{Args, ValueEnum};
use serde_json::json;
use std::time::Duration;

/// What kind of change it was.
#[derive(Clone, Copy, Debug, ValueEnum)]
enum Kind {
    /// Another version runs.
    Release,
    /// A setting was changed.
    Setting,
    /// Somebody did something.
    Action,
}

/// Mark a change: a release, a setting, what somebody did. It is pinned to every time axis, and compared ranges name it.
#[derive(Args)]
pub struct Mark {
    /// What was done: `release 41.2 of slots`
    what: String,
    /// Of this service
    #[arg(long)]
    service: Option<String>,
    /// When: RFC 3339, or now-5m
    #[arg(long, value_name = "TIME", default_value = "now")]
    at: String,
    /// What kind of change it was
    #[arg(long, value_enum, default_value = "release")]
    kind: Kind,
    /// Address of the service
    #[arg(long, env = "CALVEX_URL", default_value = DEFAULT_URL)]
    url: String,
    /// Key for sending [env: CALVEX_KEY]
    #[arg(long)]
    key: Option<String>,
    #[command(flatten)]
    form: Form,
}

impl Mark {
    pub async fn run(self) -> Result<Ended> {
        if self.what.trim().is_empty() || self.what.len() > 200 {
            bail!("a mark has 1 to 200 bytes; write what was done, as in `release 41.2 of slots`");
        }
        let key = key_or_env(self.key.as_deref())?;
        let at_ns = read_moment(&self.at, &Reading::utc(now_ns())).map_err(anyhow::Error::msg)?;
        let kind = match self.kind {
            Kind::Release => "release",
            Kind::Setting => "setting",
            Kind::Action => "action",
        };
        let mut event = json!({
            "time": format_utc(at_ns, 9),
            "level": "info",
            "msg": self.what,
            "mark": self.what,
            "mark_kind": kind,
        });
        if let Some(service) = &self.service {
            event["service"] = json!(service);
        }
        let request = http_client(Duration::from_secs(30))?
            .post(format!("{}/v1/events", self.url.trim_end_matches('/')))
            .bearer_auth(key)
            .body(event.to_string());
        good(request.send().await.with_context(|| format!("no service answers at {}", self.url))?).await?;
        self.form.one(&event, |_| format!("marked at {}: {}", format_utc(at_ns, 0), self.what))
    }
}
