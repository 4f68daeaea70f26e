//! `calvex contact`: whom rules notify, and how.

use anyhow::Result;
use calvex_client::client::{Connection, segment};
use calvex_client::options::Form;
use calvex_client::shown::ZoneArgs;
use calvex_client::{Ended, output};
use calvex_wire::api::{ContactListed, MadeContact, Message, Notified};
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
    /// Make a contact, or change what is given of one. Prints the secret that signs its webhooks where it is new, this once
    Set(Box<SetContact>),
    /// Send a contact a test message by each of its ways. Exits 2 where one does not arrive
    Test {
        name: String,
        #[command(flatten)]
        form: Form,
    },
    /// List the latest messages to all contacts, with each try. Exits 1 where there is none
    Messages {
        #[command(flatten)]
        form: Form,
        #[command(flatten)]
        zone: ZoneArgs,
    },
    /// Remove a contact; rules that name it notify it no more
    Remove { name: String },
}

/// What is set of a contact.
#[derive(Args)]
struct SetContact {
    /// What rules call it
    name: String,
    /// Address of a signed webhook; empty for none
    #[arg(long)]
    webhook: Option<String>,
    /// Whom mail goes to; empty for nobody
    #[arg(long)]
    mail: Option<String>,
    /// When it is notified, as `mon-fri 08:00-18:00, sat 10:00-12:00`; empty for always
    #[arg(long = "on-duty", value_name = "HOURS")]
    hours: Option<String>,
    /// The time zone of the hours: Europe/Oslo, UTC
    #[arg(long = "in-zone", value_name = "ZONE")]
    zone: Option<String>,
    /// The contact that is notified outside of the hours, and where nobody takes an alert in time; empty for none
    #[arg(long, value_name = "CONTACT")]
    next: Option<String>,
    /// How long somebody has to take an alert: 15m
    #[arg(long, value_name = "DURATION")]
    after: Option<String>,
    /// How often an alert that nobody took is repeated: 1h; empty for never
    #[arg(long, value_name = "DURATION")]
    repeat: Option<String>,
    /// Messages an hour at most; one message then says how many were held back
    #[arg(long, value_name = "N")]
    hourly: Option<u32>,
    /// The team whose it is, of those that you are in: rules of this team alone notify it
    #[arg(long, value_name = "TEAM")]
    team: Option<String>,
    /// How often it hears that Calvex works: 5m; empty for never
    #[arg(long, value_name = "DURATION")]
    heartbeat: Option<String>,
    /// Make a new secret; the old one signs too for a day
    #[arg(long)]
    rotate: bool,
    #[command(flatten)]
    form: Form,
}

impl Contacts {
    pub async fn run(self) -> Result<Ended> {
        let client = self.connection.open().await?;
        match self.act {
            ContactAct::List { form } => {
                let contacts: Vec<ContactListed> = client.get("/api/contacts").await?;
                let row = |c: &ContactListed| {
                    let ways = [c.mail.clone().unwrap_or_default(), c.webhook.clone().unwrap_or_default()];
                    let next = c.next.as_ref().map(|next| format!("{next} after {}", c.after)).unwrap_or_default();
                    let failing = c.failing_since.as_ref().map(|at| format!("cannot be reached since {at}"));
                    let hours =
                        if c.hours.is_empty() { "always".to_owned() } else { format!("{} {}", c.hours, c.zone) };
                    vec![c.name.clone(), ways.join(" ").trim().to_owned(), hours, next, failing.unwrap_or_default()]
                };
                form.list(&contacts, &["contact", "ways", "hours", "next", "note"], row)
            }
            ContactAct::Set(set) => {
                let SetContact {
                    name,
                    webhook,
                    mail,
                    hours,
                    zone,
                    next,
                    after,
                    repeat,
                    hourly,
                    heartbeat,
                    team,
                    rotate,
                    form,
                } = *set;
                let contacts: Vec<ContactListed> = client.get("/api/contacts").await?;
                let known = contacts.into_iter().find(|contact| contact.name == name).unwrap_or_default();
                let given =
                    |text: Option<String>, known: Option<String>| text.or(known).filter(|text| !text.is_empty());
                let ask = ContactListed {
                    name,
                    webhook: given(webhook, known.webhook),
                    mail: given(mail, known.mail),
                    hours: hours.unwrap_or(known.hours),
                    zone: zone.unwrap_or(known.zone),
                    next: given(next, known.next),
                    after: after.unwrap_or(known.after),
                    repeat: repeat.unwrap_or(known.repeat),
                    hourly: hourly.or(known.hourly),
                    heartbeat: heartbeat.unwrap_or(known.heartbeat),
                    rotate,
                    team: team.or(known.team),
                    ..ContactListed::default()
                };
                let made: MadeContact = client.post("/api/contacts", &ask).await?;
                if made.webhook_secret.is_none() && !form.is_json() {
                    output::line(&made.name)?;
                    return Ok(Ended::Well);
                }
                form.one(&made, |made| made.webhook_secret.clone().unwrap_or_default())
            }
            ContactAct::Messages { form, zone } => {
                let messages: Vec<Message> = client.get("/api/messages").await?;
                let zone = zone.zone();
                let row = |m: &Message| {
                    let to = if m.contact.is_empty() { &m.target } else { &m.contact };
                    let tries = m.tries.len().to_string();
                    vec![
                        zone.short(&m.due),
                        m.rule.clone(),
                        m.what.clone(),
                        to.clone(),
                        m.kind.clone(),
                        tries,
                        m.state.clone(),
                    ]
                };
                form.list(&messages, &["due", "about", "what", "to", "way", "tries", "state"], row)
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
