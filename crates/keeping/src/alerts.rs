//! `calvex alerts`.

use crate::rule::rehearsed;
use anyhow::Result;
use calvex_client::client::Connection;
use calvex_client::options::{Form, Link, address};
use calvex_client::shown::ZoneArgs;
use calvex_client::{Ended, output};
use calvex_wire::api;
use clap::{Args, Subcommand};

/// Alerts, those that are raised first. Exits 1 where there is none.
#[derive(Args)]
#[command(args_conflicts_with_subcommands = true)]
pub struct Alerts {
    #[command(subcommand)]
    act: Option<AlertsAct>,
    #[command(flatten)]
    form: Form,
    #[command(flatten)]
    zone: ZoneArgs,
    #[command(flatten)]
    link: Link,
    #[command(flatten)]
    connection: Connection,
}

#[derive(Subcommand)]
enum AlertsAct {
    /// Take an alert on: nobody else is called, and it is not repeated
    Take {
        id: u64,
        #[command(flatten)]
        connection: Connection,
    },
    /// Write something down about an alert: whoever looks at it, or hears of it later, reads that
    Note {
        id: u64,
        text: String,
        #[command(flatten)]
        connection: Connection,
    },
    /// Show one alert: its groups, why it was raised, notes, each try to notify of it
    Show {
        id: u64,
        #[command(flatten)]
        form: Form,
        #[command(flatten)]
        zone: ZoneArgs,
        #[command(flatten)]
        connection: Connection,
    },
}

impl Alerts {
    pub async fn run(self) -> Result<Ended> {
        match self.act {
            Some(AlertsAct::Show { id, form, zone, connection }) => {
                let alert: api::AlertInFull = connection.open().await?.get(&format!("/api/alerts/{id}")).await?;
                return form.one(&alert, |alert| rehearsed::alert_text(alert, &zone.zone()));
            }
            Some(AlertsAct::Take { id, connection }) => {
                connection.open().await?.post_only(&format!("/api/alerts/{id}/take"), &()).await?;
                return Ok(Ended::Well);
            }
            Some(AlertsAct::Note { id, text, connection }) => {
                let note = api::NoteAlert { text };
                connection.open().await?.post_only(&format!("/api/alerts/{id}/notes"), &note).await?;
                return Ok(Ended::Well);
            }
            None => {}
        }
        if self.link.link {
            output::line(&address(&self.connection.first()?, "alerts", &[]))?;
            return Ok(Ended::Well);
        }
        let client = self.connection.open().await?;
        let alerts: Vec<api::Alert> = client.get("/api/alerts").await?;
        let zone = self.zone.zone();
        let row = |a: &api::Alert| {
            let notified = a.notified.iter().map(|n| format!("{} {}: {}", n.kind, n.what, n.state));
            let late = if a.late { " (seen late)" } else { "" };
            vec![
                a.id.to_string(),
                a.rule.clone(),
                zone.short(&a.raised) + late,
                match &a.ended {
                    _ if a.withdrawn => "withdrawn".to_owned(),
                    Some(at) => zone.short(at),
                    None => "raised".to_owned(),
                },
                a.peak.map_or_else(|| "–".to_owned(), rehearsed::figure),
                a.taken_by.clone().unwrap_or_default(),
                notified.collect::<Vec<_>>().join("; "),
            ]
        };
        self.form.list(&alerts, &["id", "rule", "raised", "until", "peak", "taken by", "notified"], row)
    }
}
