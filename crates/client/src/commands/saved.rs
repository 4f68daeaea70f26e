//! `calvex saved`: searches that were saved, by name.

use super::search::Search;
use crate::Ended;
use crate::client::{Connection, segment};
use crate::options::{Form, Link, Range};
use crate::shown::Shown;
use anyhow::{Context, Result, bail};
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
        #[command(flatten)]
        form: Form,
    },
    /// Search as saved; exits as `calvex search` does
    Run {
        /// Its name
        name: String,
        /// Events at most
        #[arg(long, short = 'n', default_value_t = 100)]
        limit: usize,
        #[command(flatten)]
        range: Range,
        #[command(flatten)]
        form: Form,
        #[command(flatten)]
        shown: Shown,
        #[command(flatten)]
        link: Link,
    },
    /// Save a search, or put another in its place
    Set {
        /// What it is called
        name: String,
        /// The query
        query: Vec<String>,
        /// What it is good for
        #[arg(long, default_value = "", hide_default_value = true)]
        note: String,
        /// Columns of its list, joined by commas
        #[arg(long)]
        columns: Option<String>,
        #[command(flatten)]
        range: Range,
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
            Act::List { form } => {
                let all: Vec<SavedSearch> = client.get("/api/saved").await?;
                let row = |s: &SavedSearch| vec![s.name.clone(), s.query.clone(), s.note.clone(), s.owner.clone()];
                form.list(&all, &["name", "query", "for", "owner"], row)
            }
            Act::Run { name, limit, range, form, mut shown, link } => {
                let all: Vec<SavedSearch> = client.get("/api/saved").await?;
                let known = all.iter().map(|s| s.name.as_str()).collect::<Vec<_>>().join(", ");
                let saved = all.iter().find(|s| s.name == name);
                let saved = saved.with_context(|| format!("no saved search `{name}`; there are: {known}"))?.clone();
                if shown.columns.is_empty() {
                    // The console keeps widths beside the names.
                    let columns = saved.columns.as_deref().unwrap_or("").split(',').filter(|c| !c.is_empty());
                    shown.columns = columns.map(|c| c.split('~').next().unwrap_or(c).to_owned()).collect();
                }
                let own = Range { from: saved.from, to: range.to.clone().or(saved.to) };
                let range = if range.from.is_some() { range } else { own };
                Search::of(vec![saved.query], range, limit, form, shown, link, self.connection).run().await
            }
            Act::Set { name, query, note, columns, range } => {
                let Range { from, to } = range;
                if from.is_none() && to.is_some() {
                    bail!("--to needs --from");
                }
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
