//! `calvex rule` and `calvex alerts`.

use crate::client::Connection;
use crate::{Ended, output};
use anyhow::Result;
use calvex_wire::api::{self, MadeRule, NewRule};
use clap::{Args, Subcommand};

/// Alert rules: raised when a query's count in a window is above a number.
#[derive(Args)]
pub struct Rule {
    #[command(subcommand)]
    act: RuleAct,
    #[command(flatten)]
    connection: Connection,
}

#[derive(Subcommand)]
enum RuleAct {
    /// List rules with their states
    List {
        /// As NDJSON
        #[arg(long)]
        json: bool,
    },
    /// Make a rule; it is on at once. Prints its id, and the secret that signs its webhooks this once
    New {
        /// What it is called
        name: String,
        /// Which events are counted: a filter
        #[arg(long)]
        query: String,
        /// Seconds of the window
        #[arg(long, default_value_t = 300)]
        window_s: u32,
        /// Raised when the count is above
        #[arg(long)]
        above: u64,
        /// Seconds the condition must hold first
        #[arg(long, default_value_t = 0)]
        hold_s: u32,
        /// Seconds after a window's end until it is judged
        #[arg(long)]
        delay_s: Option<u32>,
        /// How many seconds back late events have windows judged again
        #[arg(long)]
        late_s: Option<u32>,
        /// Address of a signed webhook
        #[arg(long)]
        webhook: Option<String>,
        /// Whom mail goes to
        #[arg(long)]
        mail: Option<String>,
        /// As one JSON line
        #[arg(long)]
        json: bool,
    },
    /// Remove a rule with its history
    Remove { id: u64 },
}

impl Rule {
    pub async fn run(self) -> Result<Ended> {
        let client = self.connection.open().await?;
        match self.act {
            RuleAct::List { json } => {
                let rules: Vec<api::Rule> = client.get("/api/rules").await?;
                if json {
                    output::ndjson(&rules)?;
                } else {
                    let row = |r: &api::Rule| {
                        let condition = format!("{} in {} s above {}", r.count, r.window_s, r.above);
                        vec![
                            r.id.to_string(),
                            r.name.clone(),
                            r.state.clone(),
                            condition,
                            r.query.clone(),
                            r.note.clone(),
                        ]
                    };
                    output::table(&["id", "rule", "state", "count", "query", "note"], rules.iter().map(row).collect())?;
                }
                Ok(if rules.is_empty() { Ended::Nothing } else { Ended::Well })
            }
            RuleAct::New { name, query, window_s, above, hold_s, delay_s, late_s, webhook, mail, json } => {
                let ask = NewRule { name, query, window_s, above, hold_s, delay_s, late_s, webhook, mail };
                let made: MadeRule = client.post("/api/rules", &ask).await?;
                if json {
                    output::line(&serde_json::to_string(&made)?)?;
                } else {
                    output::line(&made.id.to_string())?;
                    made.webhook_secret.iter().try_for_each(|s| output::line(s))?;
                }
                Ok(Ended::Well)
            }
            RuleAct::Remove { id } => {
                client.delete(&format!("/api/rules/{id}")).await?;
                Ok(Ended::Well)
            }
        }
    }
}

/// Alerts, the latest first. Exits 1 where there is none.
#[derive(Args)]
pub struct Alerts {
    #[command(flatten)]
    connection: Connection,
    /// As NDJSON
    #[arg(long)]
    json: bool,
    /// Take the alert of this id on
    #[arg(long, value_name = "ID")]
    take: Option<u64>,
}

impl Alerts {
    pub async fn run(self) -> Result<Ended> {
        let client = self.connection.open().await?;
        if let Some(id) = self.take {
            client.post_only(&format!("/api/alerts/{id}/take"), &()).await?;
            return Ok(Ended::Well);
        }
        let alerts: Vec<api::Alert> = client.get("/api/alerts").await?;
        if self.json {
            output::ndjson(&alerts)?;
        } else {
            let row = |a: &api::Alert| {
                let brief = |t: &str| t.get(..19).unwrap_or(t).replace('T', " ");
                let reported = a
                    .notified
                    .iter()
                    .map(|n| format!("{} {}: {}", n.kind, n.what, n.state))
                    .collect::<Vec<_>>()
                    .join("; ");
                let late = if a.late { " (seen late)" } else { "" };
                let ended = a.ended.as_deref().map_or_else(|| "raised".into(), brief);
                vec![
                    a.id.to_string(),
                    a.rule.clone(),
                    brief(&a.raised) + late,
                    ended,
                    a.peak.to_string(),
                    a.taken_by.clone().unwrap_or_default(),
                    reported,
                ]
            };
            output::table(
                &["id", "rule", "raised", "until", "peak", "taken by", "notified"],
                alerts.iter().map(row).collect(),
            )?;
        }
        Ok(if alerts.is_empty() { Ended::Nothing } else { Ended::Well })
    }
}
