//! `calvex lane` and `calvex route`.

use anyhow::{Result, bail};
use calvex_client::Ended;
use calvex_client::client::{Connection, segment};
use calvex_client::options::Form;
use calvex_wire::api;
use clap::{Args, Subcommand};
use serde::Serialize;

/// Lanes and their retention.
#[derive(Args)]
pub struct Lane {
    #[command(subcommand)]
    act: LaneAct,
    #[command(flatten)]
    connection: Connection,
}

#[derive(Subcommand)]
enum LaneAct {
    /// List the lanes you may read
    List {
        #[command(flatten)]
        form: Form,
    },
    /// Make a lane, or change its term
    Set {
        name: String,
        /// Days that events are kept
        #[arg(long)]
        days: u32,
        /// Keep its existence from those who may not read it
        #[arg(long)]
        unlisted: bool,
        /// Events it takes a day; what comes beyond is set aside
        #[arg(long, value_name = "EVENTS")]
        day_events: Option<u64>,
        /// Bytes it takes a day, as arrivals count them
        #[arg(long, value_name = "BYTES")]
        day_bytes: Option<u64>,
        /// The team that owns it; empty for none. What is not given stays
        #[arg(long, value_name = "TEAM")]
        owner: Option<String>,
        /// Whether each time that somebody reads it is recorded
        #[arg(long, value_name = "yes|no", value_parser = crate::team::yes_or_no)]
        audited: Option<bool>,
    },
}

impl Lane {
    pub async fn run(self) -> Result<Ended> {
        let client = self.connection.open().await?;
        match self.act {
            LaneAct::List { form } => {
                let lanes: Vec<api::Lane> = client.get("/api/lanes").await?;
                let row = |l: &api::Lane| {
                    vec![
                        l.name.clone(),
                        l.retention_days.to_string(),
                        l.sealed_events.to_string(),
                        l.sealed_bytes.to_string(),
                        daily(l),
                        l.owner.clone().unwrap_or_default(),
                        if l.audited == Some(true) { "reads recorded".to_owned() } else { String::new() },
                    ]
                };
                form.list(&lanes, &["lane", "days", "sealed events", "sealed bytes", "takes a day", "owner", ""], row)
            }
            LaneAct::Set { name, days, unlisted, day_events, day_bytes, owner, audited } => {
                let lane = api::Lane {
                    name: name.clone(),
                    retention_days: days,
                    listed: !unlisted,
                    day_events,
                    day_bytes,
                    owner,
                    audited,
                    sealed_events: 0,
                    sealed_bytes: 0,
                };
                client.put(&format!("/api/lanes/{}", segment(&name)), &lane).await?;
                Ok(Ended::Well)
            }
        }
    }
}

/// The address of settings of a team.
pub fn of_team(path: &str, team: Option<&str>) -> String {
    team.map_or_else(|| path.to_owned(), |team| format!("{path}?team={}", segment(team)))
}

/// What a lane takes a day.
fn daily(lane: &api::Lane) -> String {
    let events = lane.day_events.map(|n| format!("{n} events"));
    let bytes = lane.day_bytes.map(|n| format!("{n} bytes"));
    let reported: Vec<String> = events.into_iter().chain(bytes).collect();
    if reported.is_empty() { "any number".to_owned() } else { reported.join(", ") }
}

/// A route with its number in the order, from 1.
#[derive(Serialize)]
struct Numbered<'r> {
    n: usize,
    #[serde(flatten)]
    route: &'r api::Route,
}

/// Routes to lanes: the first whose filter holds decides; the default lane takes the rest.
#[derive(Args)]
pub struct Route {
    #[command(subcommand)]
    act: RouteAct,
    /// The routes of this team, for what its keys send; those of the service where it is left out
    #[arg(long, global = true)]
    team: Option<String>,
    #[command(flatten)]
    connection: Connection,
}

#[derive(Subcommand)]
enum RouteAct {
    /// List routes in order
    List {
        #[command(flatten)]
        form: Form,
    },
    /// Add a route behind the others
    Add {
        /// Which events
        filter: String,
        /// Where they go
        lane: String,
    },
    /// Remove a route by its number in the order, from 1
    Remove { n: usize },
}

impl Route {
    pub async fn run(self) -> Result<Ended> {
        let client = self.connection.open().await?;
        let mut routes: Vec<api::Route> = client.get("/api/routes").await?;
        if self.team.is_some() || !matches!(self.act, RouteAct::List { .. }) {
            routes.retain(|route| route.team == self.team);
        }
        match self.act {
            RouteAct::List { form } => {
                let numbered: Vec<Numbered> = (1..).zip(&routes).map(|(n, route)| Numbered { n, route }).collect();
                let team = |r: &Numbered| r.route.team.clone().unwrap_or_default();
                let row = |r: &Numbered| vec![r.n.to_string(), r.route.filter.clone(), r.route.lane.clone(), team(r)];
                return form.list(&numbered, &["n", "filter", "lane", "team"], row);
            }
            RouteAct::Add { filter, lane } => routes.push(api::Route { filter, lane, team: None }),
            RouteAct::Remove { n } => {
                if n == 0 || n > routes.len() {
                    bail!("there is no route {n}; `calvex route list` shows {}", routes.len());
                }
                routes.remove(n - 1);
            }
        }
        client.put(&of_team("/api/routes", self.team.as_deref()), &routes).await?;
        Ok(Ended::Well)
    }
}
