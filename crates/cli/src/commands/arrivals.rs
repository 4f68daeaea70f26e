//! `calvex arrivals`: did mine arrive, and if not, why.

use crate::client::{Connection, segment};
use crate::figures::bars;
use crate::{Ended, output};
use anyhow::Result;
use calvex_wire::api::{Arrival, ArrivalsAnswer, Refused, SetAside};
use clap::Args;
use std::collections::BTreeMap;

/// Rows of one answer, and of all answers together.
const ROWS: usize = 5000;
const MAX_ROWS: usize = 50_000;

/// What came from each sender, service and host, and what became of it.
#[derive(Args)]
pub struct Arrivals {
    /// Only of this service
    service: Option<String>,
    /// How many hours back, this one included
    #[arg(long, default_value_t = 24, value_parser = clap::value_parser!(u32).range(1..=192))]
    hours: u32,
    /// As NDJSON
    #[arg(long)]
    json: bool,
    #[command(flatten)]
    connection: Connection,
}

impl Arrivals {
    pub async fn run(self) -> Result<Ended> {
        let client = self.connection.open().await?;
        let service = self.service.as_deref().map_or_else(String::new, |s| format!("&service={}", segment(s)));
        let asked = format!("/api/arrivals?hours={}{service}&limit={ROWS}", self.hours);
        let mut reported: ArrivalsAnswer = client.get(&asked).await?;
        while reported.more && reported.arrivals.len() < MAX_ROWS {
            let next: ArrivalsAnswer = client.get(&format!("{asked}&from={}", reported.arrivals.len())).await?;
            reported.more = next.more && !next.arrivals.is_empty();
            reported.arrivals.extend(next.arrivals);
        }
        let found = !reported.arrivals.is_empty();
        if self.json {
            output::ndjson(&reported.arrivals)?;
            output::ndjson(&reported.refused)?;
            output::ndjson(&reported.set_aside)?;
            return Ok(if found { Ended::Well } else { Ended::Nothing });
        }
        if found {
            let head = ["service", "host", "sender", "lane", "stored", "late", "last", "by hour", ""];
            // Every service in one look; the hosts of one when it is asked for.
            let rows = if self.service.is_some() { reported.arrivals.clone() } else { folded(&reported.arrivals) };
            output::table(&head, rows.iter().map(stored).collect())?;
        } else {
            let of = self.service.as_deref().map_or_else(String::new, |s| format!(" of service `{s}`"));
            output::line(&format!(
                "Nothing{of} arrived in the last {} hours, in the lanes you may read.",
                reported.hours
            ))?;
        }
        if reported.more {
            eprintln!(
                "calvex arrivals: there are more than {} rows; name a service, or fewer hours",
                reported.arrivals.len()
            );
        }
        if !reported.set_aside.is_empty() {
            output::line("")?;
            let head = ["set aside", "by", "service", "host", "sender", "last"];
            output::table(&head, reported.set_aside.iter().map(set_aside).collect())?;
        }
        if !reported.refused.is_empty() {
            output::line("")?;
            let head = ["refused", "why", "sender", "last", "the latest"];
            output::table(&head, reported.refused.iter().map(refused).collect())?;
        }
        Ok(if found { Ended::Well } else { Ended::Nothing })
    }
}

/// The hosts of a service and sender as one row.
fn folded(arrivals: &[Arrival]) -> Vec<Arrival> {
    let mut rows: BTreeMap<(&str, &str, &str), Vec<&Arrival>> = BTreeMap::new();
    for a in arrivals {
        rows.entry((&a.service, &a.sender, &a.lane)).or_default().push(a);
    }
    let fold = |hosts: Vec<&Arrival>| {
        let mut all = hosts.first().map(|first| (*first).clone())?;
        for host in hosts.iter().skip(1) {
            all.stored += host.stored;
            all.late += host.late;
            all.untimed += host.untimed;
            all.clock_ahead_ms = all.clock_ahead_ms.max(host.clock_ahead_ms);
            all.silent &= host.silent;
            if host.last > all.last {
                all.last.clone_from(&host.last);
            }
            all.per_hour.iter_mut().zip(&host.per_hour).for_each(|(sum, n)| *sum += n);
        }
        if hosts.len() > 1 {
            all.host = format!("{} hosts", hosts.len());
        }
        Some(all)
    };
    rows.into_values().filter_map(fold).collect()
}

fn or_dash(text: &str) -> String {
    if text.is_empty() { "–".to_owned() } else { text.to_owned() }
}

/// Date and time without fraction and zone.
fn moment(rfc3339: &str) -> String {
    rfc3339.get(..19).unwrap_or(rfc3339).replace('T', " ")
}

fn stored(a: &Arrival) -> Vec<String> {
    let mut notes = Vec::new();
    if a.silent {
        notes.push("fell silent".to_owned());
    }
    if a.clock_ahead_ms > 0 {
        notes.push(format!("clock {:.1} s ahead", a.clock_ahead_ms as f64 / 1000.0));
    }
    if a.untimed > 0 {
        notes.push("some without a time".to_owned());
    }
    vec![
        or_dash(&a.service),
        or_dash(&a.host),
        a.sender.clone(),
        a.lane.clone(),
        a.stored.to_string(),
        a.late.to_string(),
        moment(&a.last),
        bars(&a.per_hour.iter().map(|n| *n as f64).collect::<Vec<_>>()),
        notes.join(", "),
    ]
}

fn set_aside(a: &SetAside) -> Vec<String> {
    let who = [or_dash(&a.service), or_dash(&a.host), a.sender.clone(), moment(&a.last)];
    [vec![a.events.to_string(), a.cause.clone()], who.to_vec()].concat()
}

fn refused(r: &Refused) -> Vec<String> {
    let sample = r.sample.as_deref().unwrap_or("").replace(['\n', '\r'], " ");
    let short: String = sample.chars().take(80).collect();
    vec![r.refused.to_string(), r.reason.clone(), r.sender.clone(), moment(&r.last), short]
}
