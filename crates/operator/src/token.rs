//! `calvex token`: who may read.

use crate::serve::Sources;
use anyhow::{Result, bail};
use calvex_client::client::{Connection, segment};
use calvex_client::options::{Form, duration_s};
use calvex_client::shown::ZoneArgs;
use calvex_client::{Ended, Work, now_ns};
use calvex_language::domain::access::{Actor, NewToken as StoredToken, Purpose};
use calvex_service::new_secret;
use calvex_store::records::Act;
use calvex_store::{Server, Store, StoreOptions};
use calvex_wire::api::{MadeSecret, NewToken, TokenListed};
use clap::{Args, Subcommand};

/// Tokens with which clients read.
#[derive(Args)]
pub struct Token {
    #[command(subcommand)]
    act: TokenAct,
    #[command(flatten)]
    connection: Connection,
}

#[derive(Subcommand)]
enum TokenAct {
    /// Make a token; its secret is printed this once
    New {
        /// What it is called; made up if not given
        name: Option<String>,
        /// The only lanes it may read; it can only read then
        #[arg(long = "lane", value_name = "LANE")]
        lanes: Vec<String>,
        /// What it may do: `read`, `configure` what may be configured in lanes, or `administer` all that its owner may
        #[arg(long = "for", value_name = "PURPOSE", default_value = "read", value_parser = purpose)]
        purpose: Purpose,
        /// The team whose token it is, of those that you are in; yours if not given
        #[arg(long, value_name = "TEAM")]
        team: Option<String>,
        /// How long it is good: 8h, 30d; until it is revoked if not given
        #[arg(long = "lasts", value_name = "DURATION", value_parser = duration_s)]
        length: Option<u64>,
        #[command(flatten)]
        how: How,
    },
    /// List tokens
    List {
        #[command(flatten)]
        form: Form,
        #[command(flatten)]
        zone: ZoneArgs,
    },
    /// Revoke a token at once
    Revoke { name: String },
}

/// How a secret just made is reported.
#[derive(Args)]
pub struct How {
    #[command(flatten)]
    pub form: Form,
    /// Go to the database of this data directory (of a running service) instead of asking the service
    #[arg(long, value_name = "DIR")]
    pub data_dir: Option<std::path::PathBuf>,
}

/// Prints a secret that is shown this once.
pub fn print(made: &MadeSecret, form: Form) -> Result<Ended> {
    form.one(made, |made| made.secret.clone())
}

/// The store of a service that runs in `dir`.
pub async fn running_store(dir: &std::path::Path) -> Result<Store> {
    let sources =
        Sources { settings: None, data_dir: Some(dir.to_owned()), listen: None, otlp_listen: None, database_url: None };
    let settings = sources.read()?;
    let socket = Server::socket_of(&settings.data_dir());
    if !socket.exists() {
        bail!("no service runs in {}; start it with `calvex serve --data-dir`", dir.display());
    }
    Ok(Store::open(StoreOptions::socket(&socket, "calvex")).await?)
}

/// An act done through the data directory, by whoever may read it; the trail says so.
pub fn by_data_dir(act: &'static str, what: &str) -> Act<'static> {
    let by = Actor { name: "--data-dir", token: None };
    Act { at_ns: now_ns(), by, act, what: what.to_owned(), before: None, chain: (0, 0) }
}

fn purpose(name: &str) -> std::result::Result<Purpose, String> {
    Purpose::from_name(name).ok_or_else(|| "use read, configure or administer".to_owned())
}

impl Token {
    /// Does what the subcommand names: over HTTP, or where a folder is given, in its database.
    ///
    /// # Errors
    /// Where the service or the database refuses it.
    pub fn run(self) -> Work {
        Box::pin(self.work())
    }

    async fn work(self) -> Result<Ended> {
        match self.act {
            TokenAct::New { name, lanes, purpose, team, length, how } => {
                let name = name.unwrap_or_else(|| format!("token-{:08x}", rand::random::<u32>()));
                if let Some(dir) = &how.data_dir {
                    let store = running_store(dir).await?;
                    let Some(user) = store.user(&self.connection.user).await? else {
                        bail!("there is no user `{}`", self.connection.user)
                    };
                    let known = store.lanes().await?;
                    let mut ids = Vec::new();
                    for lane in &lanes {
                        let Some(row) = known.iter().find(|l| l.name == *lane) else {
                            bail!("there is no lane `{lane}`")
                        };
                        ids.push(row.id);
                    }
                    let (secret, hash, prefix) = new_secret("token", rand::random());
                    let only = (!ids.is_empty()).then_some(ids.as_slice());
                    let act = by_data_dir("add token", &name);
                    let ends_ns = length.map(|s| act.at_ns + i64::try_from(s).unwrap_or(0) * 1_000_000_000);
                    let team = match &team {
                        Some(team) => Some(store.team_id(team).await?),
                        None => None,
                    };
                    let token = StoredToken {
                        name: &name,
                        hash,
                        prefix: &prefix,
                        user_id: user.id,
                        team,
                        lanes: only,
                        purpose,
                        ends_ns,
                    };
                    store.add_token(&token, &act).await?;
                    return print(&MadeSecret { name, secret }, how.form);
                }
                let ends = |s| jiff::Timestamp::now() + jiff::SignedDuration::from_secs(i64::try_from(s).unwrap_or(0));
                let until = length.map(|s| format!("{:.0}", ends(s)));
                let ask = NewToken { name, lanes, purpose: Some(purpose.name().to_owned()), team, until };
                print(&self.connection.open().await?.post("/api/tokens", &ask).await?, how.form)
            }
            TokenAct::List { form, zone } => {
                let all: Vec<TokenListed> = self.connection.open().await?.get("/api/tokens").await?;
                let zone = zone.zone();
                let row = |t: &TokenListed| {
                    let until =
                        t.until.as_deref().map_or_else(|| "in use".into(), |t| format!("until {}", zone.short(t)));
                    let state = t.revoked.as_deref().map_or(until, |t| format!("revoked {}", zone.short(t)));
                    let begins = format!("{}…", t.prefix);
                    vec![t.name.clone(), t.owner.clone(), begins, t.purpose.clone(), zone.short(&t.created), state]
                };
                form.list(&all, &["name", "of", "begins", "for", "made", "state"], row)
            }
            TokenAct::Revoke { name } => {
                self.connection.open().await?.delete(&format!("/api/tokens/{}", segment(&name))).await?;
                Ok(Ended::Well)
            }
        }
    }
}
