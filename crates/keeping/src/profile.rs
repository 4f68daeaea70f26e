//! `calvex profile`: services by name, each with its address and token.

use anyhow::{Result, bail};
use calvex_client::client::{Connection, DEFAULT_URL};
use calvex_client::options::Form;
use calvex_client::profiles::{Kept, Profiles};
use calvex_client::{Ended, output};
use clap::{Args, Subcommand};
use std::io::IsTerminal;

/// Services by name, with their addresses and tokens.
#[derive(Args)]
pub struct Profile {
    #[command(subcommand)]
    act: Act,
}

#[derive(Subcommand)]
enum Act {
    /// Keep a service's address and token under a name; the token comes from CALVEX_TOKEN or standard input
    Set {
        /// What it is called here
        name: String,
        /// Its address
        address: String,
        /// Without a token: it is asked for a password each time
        #[arg(long)]
        no_token: bool,
    },
    /// The services kept, the chosen one marked
    List {
        #[command(flatten)]
        form: Form,
    },
    /// Ask this one where nothing else is said
    Use {
        /// As it is called here
        name: String,
    },
    /// Forget one
    Remove {
        /// As it is called here
        name: String,
    },
}

/// The token, from the environment or standard input.
fn token() -> Result<String> {
    if let Ok(token) = std::env::var("CALVEX_TOKEN")
        && !token.is_empty()
    {
        return Ok(token);
    }
    if std::io::stdin().is_terminal() {
        eprint!("token (`calvex token new` makes one): ");
    }
    let mut line = String::new();
    std::io::stdin().read_line(&mut line)?;
    let token = line.trim().to_owned();
    if token.is_empty() {
        bail!("no token; set CALVEX_TOKEN, write it to standard input, or say --no-token");
    }
    Ok(token)
}

impl Profile {
    pub async fn run(self) -> Result<Ended> {
        let mut all = Profiles::load()?;
        match self.act {
            Act::Set { name, address, no_token } => {
                if name.is_empty() || name.len() > 64 {
                    bail!("a profile needs a name of 1 to 64 characters");
                }
                let url = address.trim_end_matches('/').to_owned();
                if !url.starts_with("http://") && !url.starts_with("https://") {
                    bail!("`{address}` is no address; it begins with http:// or https://, as in {DEFAULT_URL}");
                }
                let kept = Kept { url, token: if no_token { None } else { Some(token()?) } };
                // What does not let in is reported now, not at three in the morning.
                if let Some(token) = &kept.token {
                    let connection = Connection::to(&kept.url, token);
                    let _: serde_json::Value = connection.open().await?.get("/api/me").await?;
                }
                all.keep(name, kept);
            }
            Act::List { form } => {
                let chosen = |name: &str| all.chosen() == Some(name);
                let none = all.iter().len() == 0;
                if form.is_json() {
                    for (name, kept) in all.iter() {
                        let row = serde_json::json!({ "name": name, "url": kept.url, "token": kept.token.is_some(), "chosen": chosen(name) });
                        output::line(&row.to_string())?;
                    }
                } else if !none {
                    let row = |(name, kept): (&String, &Kept)| {
                        let mark = if chosen(name) { "●" } else { "" };
                        let token = if kept.token.is_some() { "kept" } else { "none" };
                        vec![mark.to_owned(), name.clone(), kept.url.clone(), token.to_owned()]
                    };
                    output::table(&["", "name", "address", "token"], all.iter().map(row).collect())?;
                }
                return Ok(if none { Ended::Nothing } else { Ended::Well });
            }
            Act::Use { name } => all.choose(name)?,
            Act::Remove { name } => all.remove(&name)?,
        }
        all.save()?;
        Ok(Ended::Well)
    }
}
