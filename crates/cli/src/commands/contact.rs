//! `calvex contact`: whom rules notify, and how.

use crate::client::{Connection, segment};
use crate::options::Form;
use crate::{Ended, output};
use anyhow::Result;
use calvex_wire::api::{ContactListed, MadeContact, Notified};
use clap::{Args, Subcommand};

/// Contacts: whom rules notify, by mail, by a signed webhook, or both.
#[derive(Args)]
pub struct Contacts {
    #[command(subcommand)]
    act: ContactAct,
    #[command(flatten)]
    connection: Connection,
}

#[derive(Subcommand)]
enum ContactAct {
    /// List contacts
    List {
        #[command(flatten)]
        form: Form,
    },
    /// Make a contact, or change one. Prints the secret that signs its webhooks where it is new, this once
    Set {
        /// What rules call it
        name: String,
        /// Address of a signed webhook
        #[arg(long)]
        webhook: Option<String>,
        /// Whom mail goes to
        #[arg(long)]
        mail: Option<String>,
        #[command(flatten)]
        form: Form,
    },
    /// Send a contact a test message by each of its ways. Exits 2 where one does not arrive
    Test {
        name: String,
        #[command(flatten)]
        form: Form,
    },
    /// Remove a contact; rules that name it notify it no more
    Remove { name: String },
}

impl Contacts {
    pub async fn run(self) -> Result<Ended> {
        let client = self.connection.open().await?;
        match self.act {
            ContactAct::List { form } => {
                let contacts: Vec<ContactListed> = client.get("/api/contacts").await?;
                let row = |c: &ContactListed| {
                    vec![c.name.clone(), c.mail.clone().unwrap_or_default(), c.webhook.clone().unwrap_or_default()]
                };
                form.list(&contacts, &["contact", "mail", "webhook"], row)
            }
            ContactAct::Set { name, webhook, mail, form } => {
                let made: MadeContact = client.post("/api/contacts", &ContactListed { name, webhook, mail }).await?;
                if made.webhook_secret.is_none() && !form.is_json() {
                    output::line(&made.name)?;
                    return Ok(Ended::Well);
                }
                form.one(&made, |made| made.webhook_secret.clone().unwrap_or_default())
            }
            ContactAct::Test { name, form } => {
                let sent: Vec<Notified> = client.post(&format!("/api/contacts/{}/test", segment(&name)), &()).await?;
                let row = |n: &Notified| vec![n.kind.clone(), n.target.clone(), n.state.clone()];
                form.list(&sent, &["way", "to", "state"], row)?;
                let failed = sent.iter().find(|n| n.state != "sent");
                anyhow::ensure!(failed.is_none(), "a message did not arrive: {}", failed.map_or("", |n| &n.state));
                Ok(Ended::Well)
            }
            ContactAct::Remove { name } => {
                client.delete(&format!("/api/contacts/{}", segment(&name))).await?;
                Ok(Ended::Well)
            }
        }
    }
}
