//! `calvex whoami`: as whom a command asks, and what that may read.

use crate::Ended;
use crate::client::Connection;
use crate::options::Form;
use anyhow::Result;
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
        self.form.one(&me, |me| format!("{}, {}, reads {}", me.name, me.role, me.lanes.join(", ")))
    }
}
