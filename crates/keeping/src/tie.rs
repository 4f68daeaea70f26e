//! `calvex tie`: kinds of ids that tie events together, and the spellings that mean them.

use anyhow::{Result, bail};
use calvex_answer::ties::Proposal;
use calvex_client::client::{Client, Connection, segment};
use calvex_client::options::Form;
use calvex_client::{Ended, output};
use calvex_wire::api::TieListed;
use clap::{Args, Subcommand};

/// Ties: in a query, a tie's name stands for every spelling of it.
#[derive(Args)]
pub struct Tie {
    #[command(subcommand)]
    act: TieAct,
    #[command(flatten)]
    connection: Connection,
}

#[derive(Subcommand)]
enum TieAct {
    /// List ties and their spellings
    List {
        #[command(flatten)]
        form: Form,
    },
    /// Make a tie, or add spellings to it; case, dots, dashes and an x- before it make no difference
    Add {
        /// parcel, request …
        name: String,
        /// Fields that mean it beside its name
        spellings: Vec<String>,
    },
    /// Remove a tie, or some of its spellings
    Remove {
        name: String,
        /// Only these
        spellings: Vec<String>,
    },
    /// Fields that seem to be ties: their values are known ids
    Propose {
        #[command(flatten)]
        form: Form,
    },
}

async fn find(client: &Client, name: &str) -> Result<Option<TieListed>> {
    let ties: Vec<TieListed> = client.get("/api/ties").await?;
    Ok(ties.into_iter().find(|t| t.name == name))
}

impl Tie {
    pub async fn run(self) -> Result<Ended> {
        let client = self.connection.open().await?;
        match self.act {
            TieAct::List { form } => {
                let ties: Vec<TieListed> = client.get("/api/ties").await?;
                form.list(&ties, &["tie", "also spelled"], |t| vec![t.name.clone(), t.spellings.join(", ")])
            }
            TieAct::Add { name, spellings } => {
                let known = find(&client, &name).await?;
                let mut tie = known.unwrap_or_else(|| TieListed { name: name.clone(), spellings: Vec::new() });
                for spelling in spellings {
                    if !tie.spellings.contains(&spelling) {
                        tie.spellings.push(spelling);
                    }
                }
                client.put(&format!("/api/ties/{}", segment(&name)), &tie).await?;
                Ok(Ended::Well)
            }
            TieAct::Remove { name, spellings } if spellings.is_empty() => {
                client.delete(&format!("/api/ties/{}", segment(&name))).await?;
                Ok(Ended::Well)
            }
            TieAct::Remove { name, spellings } => {
                let Some(mut tie) = find(&client, &name).await? else {
                    bail!("there is no tie `{name}`; `calvex tie list` shows them")
                };
                if let Some(unknown) = spellings.iter().find(|s| !tie.spellings.contains(s)) {
                    bail!("`{unknown}` is no spelling of the tie `{name}`; `calvex tie list` shows them");
                }
                tie.spellings.retain(|s| !spellings.contains(s));
                client.put(&format!("/api/ties/{}", segment(&name)), &tie).await?;
                Ok(Ended::Well)
            }
            TieAct::Propose { form } => {
                let proposals: Vec<Proposal> = client.get("/api/ties/proposals").await?;
                if proposals.is_empty() && !form.is_json() {
                    output::line("No field that is not a tie yet has values that are known ids.")?;
                }
                let row = |p: &Proposal| {
                    vec![
                        p.spelling.clone(),
                        p.tie.clone(),
                        format!("{} of {} values", p.shared, p.distinct),
                        p.example.clone(),
                        format!("calvex tie add {} {}", p.tie, p.spelling),
                    ]
                };
                form.list(&proposals, &["field", "seems to be", "known ids", "as", "to make it so"], row)
            }
        }
    }
}
