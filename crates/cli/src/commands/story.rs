//! `calvex story`.

use super::search::check_whole;
use crate::client::{Connection, segment};
use crate::shown::Shown;
use crate::{Ended, output};
use anyhow::Result;
use calvex_wire::api::StoryAnswer;
use clap::Args;
use std::io::IsTerminal;

/// Tell everything tied to one id (a trace id, a parcel …), oldest first.
#[derive(Args)]
pub struct Story {
    /// The id, as pasted
    id: String,
    #[command(flatten)]
    connection: Connection,
    /// Events as NDJSON (also when standard output is no terminal)
    #[arg(long)]
    json: bool,
    /// Lines for people, also into a pipe
    #[arg(long, conflicts_with = "json")]
    text: bool,
    /// Print the address in the console that shows the same, and ask nothing
    #[arg(long)]
    link: bool,
    #[command(flatten)]
    shown: Shown,
}

impl Story {
    pub async fn run(self) -> Result<Ended> {
        if self.link {
            output::line(&format!("{}/story/{}", self.connection.meant()?.0, segment(self.id.trim())))?;
            return Ok(Ended::Well);
        }
        let client = self.connection.open().await?;
        let answer: StoryAnswer = client.get(&format!("/api/story/{}", segment(self.id.trim()))).await?;
        if self.json || !self.text && !std::io::stdout().is_terminal() {
            output::ndjson(&answer.events)?;
        } else if !answer.events.is_empty() {
            let services: Vec<&str> = answer.services.iter().map(|s| s.service.as_str()).collect();
            output::line(&format!("{} events in {}", answer.events.len(), services.join(" → ")))?;
            answer.events.iter().try_for_each(|e| output::line(&self.shown.line(e)))?;
        }
        for lane in &answer.lanes_not_readable {
            eprintln!("lane `{lane}` was not searched: you may not read it");
        }
        check_whole(&answer.explain)?;
        if answer.more {
            eprintln!("the story goes on; only its first {} events are reported", answer.events.len());
        }
        if answer.events.is_empty() {
            eprintln!("no event is tied to `{}`; searched: {}", answer.id, answer.query);
            return Ok(Ended::Nothing);
        }
        Ok(Ended::Well)
    }
}
