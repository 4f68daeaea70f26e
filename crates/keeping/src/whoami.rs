//! `calvex whoami`: as whom a command asks, and what that may read.

use anyhow::Result;
use calvex_client::Ended;
use calvex_client::client::Connection;
use calvex_client::options::Form;
use calvex_wire::api::Me;
use clap::Args;

/// Who asks, and what that may read.
#[derive(Args)]
pub struct WhoAmI {
    #[command(flatten)]
    form: Form,
    #[command(flatten)]
    connection: Connection,
}

impl WhoAmI {
    pub async fn run(self) -> Result<Ended> {
        let me: Me = self.connection.open().await?.get("/api/me").await?;
        let part = |lane: &String| {
            let Some(part) = me.parts.iter().find(|part| part.lane == *lane) else { return lane.clone() };
            let rows = part.rows.iter().map(|rows| format!("`{rows}`")).collect::<Vec<_>>().join(" or ");
            let rows = if rows.is_empty() { String::new() } else { format!(" where {rows}") };
            let without =
                if part.hidden.is_empty() { String::new() } else { format!(" without {}", part.hidden.join(", ")) };
            format!("{lane}{rows}{without}")
        };
        let reads: Vec<String> = me.lanes.iter().map(part).collect();
        self.form.one(&me, |me| {
            let teams = if me.teams.is_empty() { String::new() } else { format!(", in {}", me.teams.join(", ")) };
            let reads =
                if reads.is_empty() { "reads nothing".to_owned() } else { format!("reads {}", reads.join(", ")) };
            format!("{}, {}{teams}, {reads}", me.name, me.role)
        })
    }
}
