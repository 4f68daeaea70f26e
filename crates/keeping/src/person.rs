//! `calvex person`: who signs in.

use anyhow::Result;
use calvex_client::client::{Connection, segment};
use calvex_client::options::Form;
use calvex_client::shown::ZoneArgs;
use calvex_client::{Ended, output};
use calvex_wire::api::{ChangePerson, NewPerson, PasswordCode, PersonListed};
use clap::{Args, Subcommand};

/// People who sign in.
#[derive(Args)]
pub struct Person {
    #[command(subcommand)]
    act: PersonAct,
    #[command(flatten)]
    connection: Connection,
}

#[derive(Subcommand)]
enum PersonAct {
    /// List everybody: role, teams, lanes, open sessions, when last seen
    List {
        #[command(flatten)]
        form: Form,
        #[command(flatten)]
        zone: ZoneArgs,
    },
    /// Add a person, and print the code by which that person sets a password; it is good for a day, and once. With
    /// CALVEX_USER_PASSWORD set, that is the password, and no code is made
    Add {
        name: String,
        /// admin, auditor or reader
        #[arg(long, default_value = "reader")]
        role: String,
        /// A lane that the person may read, of those that you manage
        #[arg(long = "lane", value_name = "LANE")]
        lanes: Vec<String>,
        #[command(flatten)]
        form: Form,
    },
    /// Change what a person may do; what is not given stays
    Change {
        name: String,
        /// admin, auditor or reader
        #[arg(long)]
        role: Option<String>,
    },
    /// Let a person sign in no more: signed out everywhere, tokens revoked
    Disable { name: String },
    /// Let a person sign in again
    Enable { name: String },
    /// Print a code by which a person sets another password; it is good for a day, and once
    Code {
        name: String,
        #[command(flatten)]
        form: Form,
    },
    /// Sign a person out everywhere
    SignOut { name: String },
}

fn print(made: &PasswordCode, form: Form) -> Result<Ended> {
    form.one(made, |made| made.code.clone().unwrap_or_default())
}

impl Person {
    pub async fn run(self) -> Result<Ended> {
        let client = self.connection.open().await?;
        let of = |name: &str| format!("/api/people/{}", segment(name));
        let disabled = |disabled| ChangePerson { disabled: Some(disabled), ..ChangePerson::default() };
        match self.act {
            PersonAct::List { form, zone } => {
                let (people, zone) = (client.get::<Vec<PersonListed>>("/api/people").await?, zone.zone());
                let row = |p: &PersonListed| {
                    let seen = p.seen.as_deref().map(|at| zone.short(at)).unwrap_or_default();
                    let state = p.disabled.as_deref().map(|at| format!("disabled since {}", zone.short(at)));
                    let state = state.unwrap_or_else(|| format!("{} sessions", p.sessions));
                    let lanes = p.lanes.join(", ");
                    vec![p.name.clone(), p.role.clone(), p.teams.join(", "), lanes, state, output::faint(&seen)]
                };
                return form.list(&people, &["name", "role", "teams", "reads", "state", "last seen"], row);
            }
            PersonAct::Add { name, role, lanes, form } => {
                let password = std::env::var("CALVEX_USER_PASSWORD").ok();
                let has_password = password.is_some();
                let made = client.post("/api/people", &NewPerson { name, password, role, lanes }).await?;
                return if has_password { Ok(Ended::Well) } else { print(&made, form) };
            }
            PersonAct::Change { name, role } => {
                client.put(&of(&name), &ChangePerson { role, disabled: None }).await?;
            }
            PersonAct::Disable { name } => client.put(&of(&name), &disabled(true)).await?,
            PersonAct::Enable { name } => client.put(&of(&name), &disabled(false)).await?,
            PersonAct::Code { name, form } => {
                return print(&client.post(&format!("{}/code", of(&name)), &()).await?, form);
            }
            PersonAct::SignOut { name } => client.delete(&format!("{}/sessions", of(&name))).await?,
        }
        Ok(Ended::Well)
    }
}
