//! `calvex saved`: searches that were saved, by name.

use super::search::Search;
use crate::client::{Connection, segment};
use crate::shown::Shown;
use crate::{Ended, output};
use anyhow::{Context, Result};
use calvex_wire::api::SavedSearch;
use clap::{Args, Subcommand};

/// Searches worth keeping: everybody sees them, their owner changes them.
#[derive(Args)]
pub struct Saved {
    #[command(subcommand)]
    act: Act,
    #[command(flatten)]
    connection: Connection,
}

#[derive(Subcommand)]
enum Act {
    /// Those there are
    List {
        /// As NDJSON
        #[arg(long)]
        json: bool,
    },
    /// Search as saved; exits as `calvex search` does
    Run {
        /// Its name
        name: String,
        /// Another start of the range
        #[arg(long)]
        from: Option<String>,
        /// Another end of the range
        #[arg(long)]
        to: Option<String>,
        /// Events at most
        #[arg(long, short = 'n', default_value_t = 100)]
        limit: usize,
        /// As NDJSON (also when standard output is no terminal)
        #[arg(long)]
        json: bool,
        /// Lines for people, also into a pipe
        #[arg(long, conflicts_with = "json")]
        text: bool,
        #[command(flatten)]
        shown: Shown,
    },
    /// Save a search, or put another in its place
    Set {
        /// What it is called
        name: String,
        /// The query
        query: Vec<String>,
        /// Its start, where it has a range of its own
        #[arg(long)]
        from: Option<String>,
        /// Its end
        #[arg(long, requires = "from")]
        to: Option<String>,
        /// Columns of its list, joined by commas
        #[arg(long)]
        columns: Option<String>,
        /// What it is good for
        #[arg(long, default_value = "")]
        note: String,
    },
    /// Forget one
    Remove {
        /// Its name
        name: String,
    },
}

impl Saved {
    pub async fn run(self) -> Result<Ended> {
        let client = self.connection.open().await?;
        match self.act {
            Act::List { json } => {
                let all: Vec<SavedSearch> = client.get("/api/saved").await?;
                if json {
                    output::ndjson(&all)?;
                } else if !all.is_empty() {
                    let row = |s: &SavedSearch| vec![s.name.clone(), s.query.clone(), s.note.clone(), s.owner.clone()];
                    output::table(&["name", "query", "for", "owner"], all.iter().map(row).collect())?;
                }
                Ok(if all.is_empty() { Ended::Nothing } else { Ended::Well })
            }
            Act::Run { name, from, to, limit, json, text, mut shown } => {
                let all: Vec<SavedSearch> = client.get("/api/saved").await?;
                let known = all.iter().map(|s| s.name.as_str()).collect::<Vec<_>>().join(", ");
                let saved = all.iter().find(|s| s.name == name);
                let saved = saved.with_context(|| format!("no saved search `{name}`; there are: {known}"))?.clone();
                if shown.columns.is_empty() {
                    // The console keeps widths beside the names.
                    let columns = saved.columns.as_deref().unwrap_or("").split(',').filter(|c| !c.is_empty());
                    shown.columns = columns.map(|c| c.split('~').next().unwrap_or(c).to_owned()).collect();
                }
                let (from, to) = if from.is_some() { (from, to) } else { (saved.from, to.or(saved.to)) };
                Search::of(vec![saved.query], self.connection, from, to, limit, (json, text), shown).run().await
            }
            Act::Set { name, query, from, to, columns, note } => {
                let saved =
                    SavedSearch { name, query: query.join(" "), from, to, columns, note, ..SavedSearch::default() };
                client.put(&format!("/api/saved/{}", segment(&saved.name)), &saved).await?;
                Ok(Ended::Well)
            }
            Act::Remove { name } => {
                client.delete(&format!("/api/saved/{}", segment(&name))).await?;
                Ok(Ended::Well)
            }
        }
    }
}
