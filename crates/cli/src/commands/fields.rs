//! `calvex fields`: which fields the events of a lane have.

use crate::client::{Connection, segment};
use crate::{Ended, output};
use anyhow::Result;
use calvex_wire::api::FieldListed;
use clap::Args;

/// The fields of a lane: types, how often, roughly how many values, and some of them.
#[derive(Args)]
pub struct Fields {
    /// Only of this lane
    lane: Option<String>,
    /// From when on: RFC 3339, or now-7d
    #[arg(long, default_value = "now-7d")]
    from: String,
    /// Until when
    #[arg(long, default_value = "now")]
    to: String,
    /// Only fields that come as values that do not compare with one another
    #[arg(long)]
    conflicts: bool,
    /// As NDJSON
    #[arg(long)]
    json: bool,
    #[command(flatten)]
    connection: Connection,
}

impl Fields {
    pub async fn run(self) -> Result<Ended> {
        let lane = self.lane.as_deref().map_or_else(String::new, |l| format!("&lane={}", segment(l)));
        let path = format!("/api/fields?from={}&to={}{lane}", segment(&self.from), segment(&self.to));
        let mut fields: Vec<FieldListed> = self.connection.open().await?.get(&path).await?;
        fields.retain(|f| f.conflicting || !self.conflicts);
        if self.json {
            output::ndjson(&fields)?;
        } else {
            let head = ["lane", "field", "types", "in", "values", "last", "some of them", ""];
            output::table(&head, fields.iter().map(row).collect())?;
        }
        Ok(if fields.is_empty() { Ended::Nothing } else { Ended::Well })
    }
}

fn row(f: &FieldListed) -> Vec<String> {
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
        f.last.get(..19).unwrap_or(&f.last).replace('T', " "),
        f.examples.join(" · ").chars().take(60).collect(),
        notes.join(", "),
    ]
}
