//! `calvex dial`: how much of what a service says is kept, and for how long.

use anyhow::Result;
use calvex_client::Ended;
use calvex_client::client::Connection;
use calvex_client::options::{Form, duration_s};
use calvex_client::shown::ZoneArgs;
use calvex_wire::api::{Dial as DialSet, NewDial};
use clap::{Args, Subcommand};

/// Dials: the least severity kept for some events, for a while or until taken back.
#[derive(Args)]
pub struct Dial {
    #[command(subcommand)]
    act: DialAct,
    #[command(flatten)]
    connection: Connection,
}

#[derive(Subcommand)]
enum DialAct {
    /// Set a dial: `calvex dial set 'service=slots' debug --for 1h`
    Set {
        /// For which events, in the query language: service=slots logger^="slots.lease"
        when: String,
        /// The least severity kept of them: trace, debug, info, warn, error or fatal
        least: String,
        /// How long it works: 30m, 1h, 7d; until it is taken back if not given
        #[arg(long = "for", value_name = "DURATION", value_parser = duration_s)]
        span: Option<u64>,
        /// Why, for others
        #[arg(long, default_value = "", hide_default_value = true)]
        why: String,
        /// For what the keys of this team send alone
        #[arg(long)]
        team: Option<String>,
        #[command(flatten)]
        form: Form,
    },
    /// List dials; those that ended lately too
    List {
        #[command(flatten)]
        form: Form,
        #[command(flatten)]
        zone: ZoneArgs,
    },
    /// Take a dial back by its number
    Remove { id: u32 },
}

impl Dial {
    pub async fn run(self) -> Result<Ended> {
        let client = self.connection.open().await?;
        match self.act {
            DialAct::Set { when, least, span, why, team, form } => {
                let ask = NewDial { when, least, for_s: span, until: None, why, team };
                let set: DialSet = client.post("/api/dials", &ask).await?;
                form.one(&set, |set| {
                    let until = set.until.as_deref();
                    let ends = until.map_or_else(|| "until it is taken back".to_owned(), |t| format!("until {t}"));
                    format!("dial {}: {} and above of {} are kept, {ends}", set.id, set.least, whose(&set.when))
                })
            }
            DialAct::List { form, zone } => {
                let dials: Vec<DialSet> = client.get("/api/dials").await?;
                let zone = zone.zone();
                let row = |d: &DialSet| {
                    let state = match (&d.until, d.in_force) {
                        (None, _) => "until taken back".to_owned(),
                        (Some(until), true) => format!("until {}", zone.short(until)),
                        (Some(until), false) => format!("ended {}", zone.short(until)),
                    };
                    let team = d.team.clone().unwrap_or_default();
                    vec![d.id.to_string(), whose(&d.when), d.least.clone(), state, team, d.who.clone(), d.why.clone()]
                };
                form.list(&dials, &["dial", "events", "least kept", "works", "team", "by", "why"], row)
            }
            DialAct::Remove { id } => {
                client.delete(&format!("/api/dials/{id}")).await?;
                Ok(Ended::Well)
            }
        }
    }
}

fn whose(filter: &str) -> String {
    if filter.is_empty() { "every event".to_owned() } else { filter.to_owned() }
}
