//! `calvex lane` and `calvex route`.

use crate::client::{Connection, segment};
use crate::{Ended, output};
use anyhow::{Result, bail};
use calvex_wire::api;
use clap::{Args, Subcommand};

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
        /// As NDJSON
        #[arg(long)]
        json: bool,
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
    },
}

impl Lane {
    pub async fn run(self) -> Result<Ended> {
        let client = self.connection.open().await?;
        match self.act {
            LaneAct::List { json } => {
                let lanes: Vec<api::Lane> = client.get("/api/lanes").await?;
                if json {
                    output::ndjson(&lanes)?;
                } else {
                    let row = |l: &api::Lane| {
                        vec![
                            l.name.clone(),
                            l.retention_days.to_string(),
                            l.sealed_events.to_string(),
                            l.sealed_bytes.to_string(),
                            daily(l),
                        ]
                    };
                    let head = ["lane", "days", "sealed events", "sealed bytes", "takes a day"];
                    output::table(&head, lanes.iter().map(row).collect())?;
                }
                Ok(if lanes.is_empty() { Ended::Nothing } else { Ended::Well })
            }
            LaneAct::Set { name, days, unlisted, day_events, day_bytes } => {
                let lane = api::Lane {
                    name: name.clone(),
                    retention_days: days,
                    listed: !unlisted,
                    day_events,
                    day_bytes,
                    sealed_events: 0,
                    sealed_bytes: 0,
                };
                client.put(&format!("/api/lanes/{}", segment(&name)), &lane).await?;
                Ok(Ended::Well)
            }
        }
    }
}

/// What a lane takes a day.
fn daily(lane: &api::Lane) -> String {
    let events = lane.day_events.map(|n| format!("{n} events"));
    let bytes = lane.day_bytes.map(|n| format!("{n} bytes"));
    let reported: Vec<String> = events.into_iter().chain(bytes).collect();
    if reported.is_empty() { "any number".to_owned() } else { reported.join(", ") }
}

/// Routes to lanes: the first whose filter holds decides; the default lane takes the rest.
#[derive(Args)]
pub struct Route {
    #[command(subcommand)]
    act: RouteAct,
    #[command(flatten)]
    connection: Connection,
}

#[derive(Subcommand)]
enum RouteAct {
    /// List routes in order
    List {
        /// As NDJSON
        #[arg(long)]
        json: bool,
    },
    /// Add a route behind the others
    Add {
        /// Which events
        filter: String,
        /// Where they go
        lane: String,
    },
    /// Remove a route by its place, from 1
    Remove { place: usize },
}

impl Route {
    pub async fn run(self) -> Result<Ended> {
        let client = self.connection.open().await?;
        let mut routes: Vec<api::Route> = client.get("/api/routes").await?;
        match self.act {
            RouteAct::List { json } => {
                if json {
                    output::ndjson(&routes)?;
                } else {
                    let rows = routes
                        .iter()
                        .enumerate()
                        .map(|(i, r)| vec![(i + 1).to_string(), r.filter.clone(), r.lane.clone()]);
                    output::table(&["place", "filter", "lane"], rows.collect())?;
                }
                return Ok(if routes.is_empty() { Ended::Nothing } else { Ended::Well });
            }
            RouteAct::Add { filter, lane } => routes.push(api::Route { filter, lane }),
            RouteAct::Remove { place } => {
                if place == 0 || place > routes.len() {
                    bail!("there is no route {place}; `calvex route list` shows {}", routes.len());
                }
                routes.remove(place - 1);
            }
        }
        client.put("/api/routes", &routes).await?;
        Ok(Ended::Well)
    }
}
