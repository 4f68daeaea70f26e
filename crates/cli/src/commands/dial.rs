//! `calvex dial`: how much of what a service says is kept, and for how long.

use super::key::span;
use crate::client::Connection;
use crate::{Ended, output};
use anyhow::Result;
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
        #[arg(long = "for", value_name = "SPAN", value_parser = span)]
        span: Option<u64>,
        /// Why, for others
        #[arg(long, default_value = "")]
        why: String,
    },
    /// List dials; those that ended lately too
    List {
        /// As NDJSON
        #[arg(long)]
        json: bool,
    },
    /// Take a dial back by its number
    Remove { id: u32 },
}

impl Dial {
    pub async fn run(self) -> Result<Ended> {
        let client = self.connection.open().await?;
        match self.act {
            DialAct::Set { when, least, span, why } => {
                let ask = NewDial { when, least, for_s: span, until: None, why };
                let set: DialSet = client.post("/api/dials", &ask).await?;
                let ends = set.until.map_or_else(|| "until it is taken back".to_owned(), |t| format!("until {t}"));
                output::line(&format!(
                    "dial {}: {} and above of {} are kept, {ends}",
                    set.id,
                    set.least,
                    whose(&set.when)
                ))?;
                Ok(Ended::Well)
            }
            DialAct::List { json } => {
                let dials: Vec<DialSet> = client.get("/api/dials").await?;
                if json {
                    output::ndjson(&dials)?;
                } else {
                    let row = |d: &DialSet| {
                        let state = match (&d.until, d.in_force) {
                            (None, _) => "until taken back".to_owned(),
                            (Some(until), true) => format!("until {until}"),
                            (Some(until), false) => format!("ended {until}"),
                        };
                        vec![d.id.to_string(), whose(&d.when), d.least.clone(), state, d.who.clone(), d.why.clone()]
                    };
                    output::table(
                        &["dial", "events", "least kept", "works", "by", "why"],
                        dials.iter().map(row).collect(),
                    )?;
                }
                Ok(if dials.is_empty() { Ended::Nothing } else { Ended::Well })
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
