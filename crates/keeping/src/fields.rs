//! `calvex fields`: which fields the events of a lane have.

use anyhow::Result;
use calvex_client::Ended;
use calvex_client::client::{Connection, segment};
use calvex_client::options::{Form, Range};
use calvex_client::shown::{Zone, ZoneArgs};
use calvex_wire::api::FieldListed;
use clap::Args;

/// The fields of a lane: types, how often, roughly how many values, and some of them; of the last 7 days where no range
/// is given.
#[derive(Args)]
pub struct Fields {
    /// Only of this lane
    lane: Option<String>,
    /// Only fields that come as values that do not compare with one another
    #[arg(long)]
    conflicts: bool,
    #[command(flatten)]
    range: Range,
    #[command(flatten)]
    form: Form,
    #[command(flatten)]
    zone: ZoneArgs,
    #[command(flatten)]
    connection: Connection,
}

impl Fields {
    pub async fn run(self) -> Result<Ended> {
        let lane = self.lane.as_deref().map_or_else(String::new, |l| format!("&lane={}", segment(l)));
        let from = self.range.from.as_deref().unwrap_or("now-7d");
        let to = self.range.to.as_deref().unwrap_or("now");
        let path = format!("/api/fields?from={}&to={}{lane}", segment(from), segment(to));
        let mut fields: Vec<FieldListed> = self.connection.open().await?.get(&path).await?;
        fields.retain(|f| f.conflicting || !self.conflicts);
        let head = ["lane", "field", "types", "in", "values", "last", "some of them", ""];
        let zone = self.zone.zone();
        self.form.list(&fields, &head, |f| row(f, &zone))
    }
}

fn row(f: &FieldListed, zone: &Zone) -> Vec<String> {
    let mut notes = Vec::new();
    if f.conflicting {
        notes.push("types differ".to_owned());
    }
    notes.extend(f.tie.as_ref().map(|t| format!("tie {t}")));
    vec![
        f.lane.clone(),
        f.field.clone(),
        f.types.join(", "),
        format!("{:.1} %", f.share * 100.0),
        f.distinct.to_string(),
        zone.short(&f.last),
        f.examples.join(" · ").chars().take(60).collect(),
        notes.join(", "),
    ]
}
