//! `calvex arrivals`: did mine arrive, and if not, why.

use crate::client::{Connection, segment};
use crate::figures::bars;
use crate::options::{Form, Link, address, duration_s};
use crate::shown::{Zone, ZoneArgs};
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
    /// How far back, in whole hours with the present one: 24h, 3d; at most 8d
    #[arg(long, value_name = "DURATION", default_value = "24h", value_parser = hours)]
    back: u32,
    #[command(flatten)]
    form: Form,
    #[command(flatten)]
    zone: ZoneArgs,
    #[command(flatten)]
    link: Link,
    #[command(flatten)]
    connection: Connection,
}

impl Arrivals {
    pub async fn run(self) -> Result<Ended> {
        if self.link.link {
            let back = format!("{}h", self.back);
            let parameters = [("service", self.service.as_deref()), ("back", Some(back.as_str()))];
            output::line(&address(&self.connection.first()?, "intake", &parameters))?;
            return Ok(Ended::Well);
        }
        let client = self.connection.open().await?;
        let service = self.service.as_deref().map_or_else(String::new, |s| format!("&service={}", segment(s)));
        let asked = format!("/api/arrivals?hours={}{service}&limit={ROWS}", self.back);
        let mut reported: ArrivalsAnswer = client.get(&asked).await?;
        while reported.more && reported.arrivals.len() < MAX_ROWS {
            let next: ArrivalsAnswer = client.get(&format!("{asked}&from={}", reported.arrivals.len())).await?;
            reported.more = next.more && !next.arrivals.is_empty();
            reported.arrivals.extend(next.arrivals);
        }
        let found = !reported.arrivals.is_empty();
        let zone = self.zone.zone();
        if self.form.is_json() {
            output::ndjson(&reported.arrivals)?;
            output::ndjson(&reported.refused)?;
            output::ndjson(&reported.set_aside)?;
            return Ok(if found { Ended::Well } else { Ended::Nothing });
        }
        if found {
            let head = ["service", "host", "sender", "lane", "stored", "late", "last", "by hour", ""];
            // Every service in one look; the hosts of one when it is asked for.
            let rows = if self.service.is_some() { reported.arrivals.clone() } else { folded(&reported.arrivals) };
            output::table(&head, rows.iter().map(|a| stored(a, &zone)).collect())?;
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
            output::table(&head, reported.set_aside.iter().map(|s| set_aside(s, &zone)).collect())?;
        }
        if !reported.refused.is_empty() {
            output::line("")?;
            let head = ["refused", "why", "sender", "last", "the latest"];
            output::table(&head, reported.refused.iter().map(|r| refused(r, &zone)).collect())?;
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

/// Whole hours of a duration, the last begun one counted.
fn hours(text: &str) -> Result<u32, String> {
    let hours = duration_s(text)?.div_ceil(3600);
    u32::try_from(hours).ok().filter(|h| (1..=192).contains(h)).ok_or_else(|| "give between 1h and 8d".to_owned())
}

fn stored(a: &Arrival, zone: &Zone) -> Vec<String> {
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
        zone.short(&a.last),
        bars(&a.per_hour.iter().map(|n| *n as f64).collect::<Vec<_>>()),
        notes.join(", "),
    ]
}

fn set_aside(a: &SetAside, zone: &Zone) -> Vec<String> {
    let who = [or_dash(&a.service), or_dash(&a.host), a.sender.clone(), zone.short(&a.last)];
    [vec![a.events.to_string(), a.cause.clone()], who.to_vec()].concat()
}

fn refused(r: &Refused, zone: &Zone) -> Vec<String> {
    let sample = r.sample.as_deref().unwrap_or("").replace(['\n', '\r'], " ");
    let short: String = sample.chars().take(80).collect();
    vec![r.refused.to_string(), r.reason.clone(), r.sender.clone(), zone.short(&r.last), short]
}
