//! `calvex audit`: what was done, by whom, and what it was before.

use anyhow::{Result, bail};
use calvex_client::client::Connection;
use calvex_client::options::{Form, address};
use calvex_client::shown::ZoneArgs;
use calvex_client::{Ended, output};
use calvex_wire::api::{TrailEntry, TrailVerified};
use clap::Args;

/// The audit trail, the latest first: who did what, and what it was before.
#[derive(Args)]
pub struct Audit {
    /// Only with this in the words of an entry
    word: Option<String>,
    /// Only of this person, team or program
    #[arg(long, value_name = "NAME")]
    who: Option<String>,
    /// From this time on
    #[arg(long, value_name = "TIME")]
    from: Option<String>,
    /// Before this time
    #[arg(long, value_name = "TIME")]
    to: Option<String>,
    /// Entries at most, up to 1000
    #[arg(long, default_value_t = 50)]
    limit: u32,
    #[command(flatten)]
    form: Form,
    #[command(flatten)]
    zone: ZoneArgs,
    #[command(flatten)]
    connection: Connection,
}

impl Audit {
    pub async fn run(self) -> Result<Ended> {
        let limit = self.limit.to_string();
        let asked = [
            ("word", self.word.as_deref()),
            ("who", self.who.as_deref()),
            ("from", self.from.as_deref()),
            ("to", self.to.as_deref()),
            ("limit", Some(limit.as_str())),
        ];
        let path = address("/api", "trail", &asked);
        let entries: Vec<TrailEntry> = self.connection.open().await?.get(&path).await?;
        let zone = self.zone.zone();
        let row = |e: &TrailEntry| {
            let by = e.token.as_deref().map(|token| format!("{} by token {token}", e.who));
            let before = e.before.as_deref().map(|before| format!("before: {before}")).unwrap_or_default();
            let who = by.unwrap_or_else(|| e.who.clone());
            vec![zone.short(&e.at), who, e.act.clone(), e.what.clone(), output::faint(&before)]
        };
        self.form.list(&entries, &["when", "who", "did", "to", ""], row)
    }
}

/// `calvex admin audit verify`: checks every link of the trail. A broken one is an error.
pub async fn verify(connection: &Connection, form: Form) -> Result<Ended> {
    let verified: TrailVerified = connection.open().await?.post("/api/trail/verify", &()).await?;
    if let Some(broken) = &verified.broken {
        bail!("the audit trail is broken: {broken}; compare with a backup, and with the heads in the service's log");
    }
    form.one(&verified, |v| {
        let older = if v.unchained > 0 { format!(", {} older than the chains", v.unchained) } else { String::new() };
        let heads: String = v.heads.iter().map(|head| format!("\n{head}")).collect();
        format!("{} entries hold{older}{heads}", v.entries)
    })
}
