//! `calvex key` and `calvex token`.

use super::serve::Sources;
use crate::client::{Connection, segment};
use crate::{Ended, output};
use anyhow::{Result, bail};
use calvex_service::new_secret;
use calvex_store::{Server, Store, StoreOptions};
use calvex_wire::api::{MadeSecret, NewSecret, SecretListed};
use clap::{Args, Subcommand};
use std::collections::BTreeMap;

/// Keys with which senders send.
#[derive(Args)]
pub struct Key {
    #[command(subcommand)]
    act: KeyAct,
    #[command(flatten)]
    connection: Connection,
}

/// Tokens with which clients read.
#[derive(Args)]
pub struct Token {
    #[command(subcommand)]
    act: TokenAct,
    #[command(flatten)]
    connection: Connection,
}

#[derive(Subcommand)]
enum KeyAct {
    /// Make a key; its secret is printed this once
    New {
        /// What it is called; made up if not given
        name: Option<String>,
        /// A field stamped on every event, name=value
        #[arg(long = "fixed", value_name = "NAME=VALUE")]
        fixed: Vec<String>,
        #[command(flatten)]
        how: How,
    },
    /// List keys
    List(Listing),
    /// Revoke a key at once
    Revoke { name: String },
}

#[derive(Subcommand)]
enum TokenAct {
    /// Make a token; its secret is printed this once
    New {
        /// What it is called; made up if not given
        name: Option<String>,
        /// The only lanes it may read; it cannot administer then
        #[arg(long = "lane", value_name = "LANE")]
        lanes: Vec<String>,
        #[command(flatten)]
        how: How,
    },
    /// List tokens
    List(Listing),
    /// Revoke a token at once
    Revoke { name: String },
}

#[derive(Args)]
struct Listing {
    /// As NDJSON
    #[arg(long)]
    json: bool,
}

#[derive(Args)]
struct How {
    /// As one JSON line
    #[arg(long)]
    json: bool,
    /// Go to the database of this data directory (of a running service) instead of asking the service
    #[arg(long, value_name = "DIR")]
    data_dir: Option<std::path::PathBuf>,
}

fn print(made: &MadeSecret, how: &How) -> Result<Ended> {
    output::line(&if how.json { serde_json::to_string(made)? } else { made.secret.clone() })?;
    Ok(Ended::Well)
}

fn named(name: Option<String>, sort: &str) -> String {
    name.unwrap_or_else(|| format!("{sort}-{:08x}", rand::random::<u32>()))
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

fn now_ns() -> i64 {
    i64::try_from(jiff::Timestamp::now().as_nanosecond()).unwrap_or(i64::MAX)
}

impl Key {
    pub async fn run(self) -> Result<Ended> {
        match self.act {
            KeyAct::New { name, fixed, how } => {
                let name = named(name, "key");
                let mut fields = BTreeMap::new();
                for pair in fixed {
                    let Some((k, v)) = pair.split_once('=').filter(|(k, _)| !k.is_empty()) else {
                        bail!("`{pair}` is no fixed field; write --fixed environment=night");
                    };
                    fields.insert(k.to_owned(), v.to_owned());
                }
                if let Some(dir) = &how.data_dir {
                    let store = running_store(dir).await?;
                    let (secret, hash, prefix) = new_secret("key", rand::random());
                    store.add_key(&name, &hash, &prefix, &serde_json::to_string(&fields)?, now_ns()).await?;
                    return print(&MadeSecret { name, secret }, &how);
                }
                let ask = NewSecret { name, fixed: fields, lanes: Vec::new() };
                print(&self.connection.open().await?.post("/api/keys", &ask).await?, &how)
            }
            KeyAct::List(listing) => list(&self.connection, "/api/keys", &listing).await,
            KeyAct::Revoke { name } => revoke(&self.connection, "/api/keys", &name).await,
        }
    }
}

impl Token {
    pub async fn run(self) -> Result<Ended> {
        match self.act {
            TokenAct::New { name, lanes, how } => {
                let name = named(name, "token");
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
                    store.add_token(&name, &hash, &prefix, user.id, only, now_ns()).await?;
                    return print(&MadeSecret { name, secret }, &how);
                }
                let ask = NewSecret { name, lanes, ..NewSecret::default() };
                print(&self.connection.open().await?.post("/api/tokens", &ask).await?, &how)
            }
            TokenAct::List(listing) => list(&self.connection, "/api/tokens", &listing).await,
            TokenAct::Revoke { name } => revoke(&self.connection, "/api/tokens", &name).await,
        }
    }
}

async fn list(connection: &Connection, path: &str, listing: &Listing) -> Result<Ended> {
    let all: Vec<SecretListed> = connection.open().await?.get(path).await?;
    if listing.json {
        output::ndjson(&all)?;
    } else {
        let row = |s: &SecretListed| {
            vec![
                s.name.clone(),
                format!("{}…", s.prefix),
                s.created.clone(),
                s.revoked.clone().unwrap_or_else(|| "in use".into()),
            ]
        };
        output::table(&["name", "begins", "made", "revoked"], all.iter().map(row).collect())?;
    }
    Ok(if all.is_empty() { Ended::Nothing } else { Ended::Well })
}

async fn revoke(connection: &Connection, path: &str, name: &str) -> Result<Ended> {
    connection.open().await?.delete(&format!("{path}/{}", segment(name))).await?;
    Ok(Ended::Well)
}
