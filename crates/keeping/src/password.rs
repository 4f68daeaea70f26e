//! `calvex password`: one's own password.

use anyhow::{Result, bail};
use calvex_client::Ended;
use calvex_client::client::{Connection, typed};
use calvex_wire::api::{ChangePassword, Redeem};
use clap::Args;
use std::io::IsTerminal;

/// Change one's own password, which ends one's other sessions; or set it by a code that an administrator gave.
///
/// The present one comes from CALVEX_ADMIN_PASSWORD or the terminal, the new one from CALVEX_NEW_PASSWORD or the terminal.
#[derive(Args)]
pub struct Password {
    /// The code, where the present password is not known
    #[arg(long)]
    code: Option<String>,
    #[command(flatten)]
    connection: Connection,
}

/// The new password, from the environment or typed twice.
fn new_password() -> Result<String> {
    if let Ok(password) = std::env::var("CALVEX_NEW_PASSWORD") {
        return Ok(password);
    }
    if !std::io::stdin().is_terminal() {
        bail!("there is no terminal to ask for the new password; set CALVEX_NEW_PASSWORD");
    }
    let password = typed("new password: ")?;
    if typed("once more: ")? != password {
        bail!("the two differ; nothing was changed");
    }
    Ok(password)
}

impl Password {
    pub async fn run(self) -> Result<Ended> {
        match self.code {
            Some(code) => {
                let password = new_password()?;
                self.connection.post_as_nobody("/api/redeem", &Redeem { code, password }).await?;
            }
            None => {
                let (client, password) = self.connection.open_by_name().await?;
                let new_password = new_password()?;
                client.post_only("/api/me/password", &ChangePassword { password, new_password }).await?;
            }
        }
        Ok(Ended::Well)
    }
}
