//! `calvex team`: people who share lanes, rules and contacts.

use anyhow::Result;
use calvex_client::client::{Connection, segment};
use calvex_client::options::Form;
use calvex_client::{Ended, output};
use calvex_wire::api::{PutTeam, TeamListed};
use clap::{Args, Subcommand};

/// Teams: people who share lanes, rules and contacts.
#[derive(Args)]
pub struct Team {
    #[command(subcommand)]
    act: TeamAct,
    #[command(flatten)]
    connection: Connection,
}

#[derive(Subcommand)]
enum TeamAct {
    /// List your teams, or as an administrator every team
    List {
        #[command(flatten)]
        form: Form,
    },
    /// Make a team, or change it; what is not given stays
    Set {
        name: String,
        /// Somebody in it, in place of those before
        #[arg(long = "person", value_name = "NAME")]
        members: Vec<String>,
        /// The group of the sign-on provider whose people are in it; empty for none
        #[arg(long, value_name = "GROUP")]
        group: Option<String>,
        /// Whether its people may break the glass
        #[arg(long, value_name = "yes|no", value_parser = yes_or_no)]
        on_call: Option<bool>,
        /// The contact that is notified of what is done to its lanes; empty for none
        #[arg(long, value_name = "NAME")]
        contact: Option<String>,
    },
    /// Remove a team: its grants and tokens end, what it owned is nobody's
    Remove { name: String },
}

/// `yes` or `no`.
pub fn yes_or_no(text: &str) -> Result<bool, String> {
    match text {
        "yes" => Ok(true),
        "no" => Ok(false),
        _ => Err("write yes or no".to_owned()),
    }
}

impl Team {
    pub async fn run(self) -> Result<Ended> {
        let client = self.connection.open().await?;
        let of = |name: &str| format!("/api/teams/{}", segment(name));
        match self.act {
            TeamAct::List { form } => {
                let teams: Vec<TeamListed> = client.get("/api/teams").await?;
                let row = |t: &TeamListed| {
                    let group = t.claim.as_deref().map(|group| format!("group {group}"));
                    let contact = t.contact.as_deref().map(|contact| format!("notifies {contact}"));
                    let on_call = t.on_call.then(|| "on call".to_owned());
                    let about: Vec<String> = on_call.into_iter().chain(group).chain(contact).collect();
                    vec![t.name.clone(), t.members.join(", "), t.lanes.join(", "), output::faint(&about.join(", "))]
                };
                form.list(&teams, &["team", "people", "owns", ""], row)
            }
            TeamAct::Set { name, members, group, on_call, contact } => {
                let members = (!members.is_empty()).then_some(members);
                client.put(&of(&name), &PutTeam { members, claim: group, on_call, contact }).await?;
                Ok(Ended::Well)
            }
            TeamAct::Remove { name } => {
                client.delete(&of(&name)).await?;
                Ok(Ended::Well)
            }
        }
    }
}
