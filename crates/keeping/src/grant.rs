//! `calvex grant`: who may do what in a lane, and why.

use anyhow::Result;
use calvex_client::client::{Connection, segment};
use calvex_client::options::{Form, duration_s};
use calvex_client::shown::{Zone, ZoneArgs};
use calvex_client::{Ended, output};
use calvex_wire::api::{BreakGlass, GrantListed, LaneReaderListed, NewGrant};
use clap::{Args, Subcommand};

/// Who may do what in a lane.
#[derive(Args)]
pub struct Grant {
    #[command(subcommand)]
    act: GrantAct,
    #[command(flatten)]
    connection: Connection,
}

#[derive(Subcommand)]
enum GrantAct {
    /// List grants to you and your teams, and those on lanes that you manage
    List {
        /// On this lane alone
        #[arg(long, value_name = "LANE")]
        lane: Option<String>,
        #[command(flatten)]
        form: Form,
        #[command(flatten)]
        zone: ZoneArgs,
    },
    /// Let a team or a person read, configure or manage a lane
    Give {
        lane: String,
        /// To everybody in this team
        #[arg(long, value_name = "NAME", conflicts_with = "person", required_unless_present = "person")]
        team: Option<String>,
        /// To this person
        #[arg(long, value_name = "NAME")]
        person: Option<String>,
        /// read, configure or manage
        #[arg(long, default_value = "read", value_name = "RIGHT")]
        may: String,
        /// Only events that pass this filter, as in `service=slots`
        #[arg(long, default_value = "", value_name = "FILTER")]
        rows: String,
        /// A field that is as absent, by its dotted name
        #[arg(long = "hide", value_name = "FIELD")]
        hidden: Vec<String>,
        /// For how long: 8h, 30d; until it is ended if not given
        #[arg(long = "for", value_name = "DURATION", value_parser = duration_s)]
        length: Option<u64>,
        /// Why it is given; both sides see it
        #[arg(long, default_value = "", value_name = "TEXT")]
        why: String,
        #[command(flatten)]
        form: Form,
    },
    /// End a grant; either side may
    End {
        /// Its number, as listed
        id: u64,
    },
    /// Show who can read a lane, and by what
    Readers {
        lane: String,
        #[command(flatten)]
        form: Form,
        #[command(flatten)]
        zone: ZoneArgs,
    },
    /// On call, read a lane for an hour; whoever owns it is notified
    BreakGlass {
        lane: String,
        /// Why this cannot wait
        #[arg(long, value_name = "TEXT")]
        why: String,
        #[command(flatten)]
        form: Form,
        #[command(flatten)]
        zone: ZoneArgs,
    },
}

/// Over which part of the lane a grant is, and until when.
fn extent(grant: &GrantListed, zone: &Zone) -> String {
    let mut parts = vec![if grant.rows.is_empty() { "every event".to_owned() } else { format!("`{}`", grant.rows) }];
    if !grant.hidden.is_empty() {
        parts.push(format!("without {}", grant.hidden.join(", ")));
    }
    parts.extend(grant.until.as_deref().map(|until| format!("until {}", zone.short(until))));
    parts.extend(grant.broken.as_ref().map(|why| format!("gives nothing: {why}")));
    parts.join(", ")
}

fn to(grant: &GrantListed) -> String {
    match (&grant.team, &grant.person) {
        (Some(team), _) => format!("team {team}"),
        (None, person) => person.clone().unwrap_or_default(),
    }
}

fn by(grant: &GrantListed) -> String {
    let glass = if grant.break_glass { "glass broken by" } else { "by" };
    let why = if grant.why.is_empty() { String::new() } else { format!(": {}", grant.why) };
    format!("{glass} {}{why}", grant.by)
}

impl Grant {
    pub async fn run(self) -> Result<Ended> {
        let client = self.connection.open().await?;
        match self.act {
            GrantAct::List { lane, form, zone } => {
                let query = lane.map_or_else(String::new, |lane| format!("?lane={}", segment(&lane)));
                let grants: Vec<GrantListed> = client.get(&format!("/api/grants{query}")).await?;
                let zone = zone.zone();
                let row = |g: &GrantListed| {
                    let id = g.id.to_string();
                    vec![id, g.lane.clone(), to(g), g.may.clone(), extent(g, &zone), output::faint(&by(g))]
                };
                form.list(&grants, &["grant", "lane", "to", "may", "over", ""], row)
            }
            GrantAct::Give { lane, team, person, may, rows, hidden, length, why, form } => {
                let ends = |s| jiff::Timestamp::now() + jiff::SignedDuration::from_secs(i64::try_from(s).unwrap_or(0));
                let until = length.map(|s| format!("{:.0}", ends(s)));
                let ask = NewGrant { lane, team, person, may, rows, hidden, until, why };
                let given: GrantListed = client.post("/api/grants", &ask).await?;
                form.one(&given, |given| given.id.to_string())
            }
            GrantAct::End { id } => {
                client.delete(&format!("/api/grants/{id}")).await?;
                Ok(Ended::Well)
            }
            GrantAct::Readers { lane, form, zone } => {
                let path = format!("/api/lanes/{}/readers", segment(&lane));
                let (readers, zone) = (client.get::<Vec<LaneReaderListed>>(&path).await?, zone.zone());
                let row = |r: &LaneReaderListed| {
                    let through = r.team.as_deref().map(|team| format!("in team {team}")).unwrap_or_default();
                    let over = r.grant.as_ref().map_or_else(|| "every event".to_owned(), |g| extent(g, &zone));
                    let because = match &r.grant {
                        Some(grant) => format!("grant {} {}", grant.id, by(grant)),
                        None => "the team owns the lane".to_owned(),
                    };
                    vec![r.person.clone(), through, over, output::faint(&because)]
                };
                form.list(&readers, &["person", "through", "reads", "because"], row)
            }
            GrantAct::BreakGlass { lane, why, form, zone } => {
                let given: GrantListed = client.post("/api/break-glass", &BreakGlass { lane, why }).await?;
                let zone = zone.zone();
                let until = |g: &GrantListed| g.until.as_deref().map(|at| zone.short(at)).unwrap_or_default();
                form.one(&given, |g| format!("you read {} until {}; grant {}", g.lane, until(g), g.id))
            }
        }
    }
}
