//! `calvex provider`: a stand-in for a company's sign-on.

use crate::receiver::listen;
use anyhow::{Context, Result};
use calvex_client::{Ended, Work, output};
use calvex_service::stand_in_provider::{Known, serve};
use clap::Args;

/// Stand in for a sign-on provider: whoever comes picks who they are. For trials and tests alone
#[derive(Args)]
pub struct Provider {
    /// Its address
    #[arg(long, default_value = "127.0.0.1:8439")]
    http: String,
    /// Somebody it knows, with groups: olle=locker-people,drivers
    #[arg(long = "person", value_name = "NAME=GROUP,…", required = true, value_parser = known)]
    people: Vec<Known>,
}

fn known(text: &str) -> Result<Known, String> {
    let (name, groups) = text.split_once('=').unwrap_or((text, ""));
    if name.is_empty() {
        return Err("write a name, and groups behind `=`".to_owned());
    }
    let groups = groups.split(',').filter(|group| !group.is_empty()).map(str::to_owned).collect();
    Ok(Known { name: name.to_owned(), groups })
}

impl Provider {
    /// Answers sign-ons until it is asked to stop.
    ///
    /// # Errors
    /// Where the address cannot be listened on.
    pub fn run(self) -> Work {
        Box::pin(self.work())
    }

    async fn work(self) -> Result<Ended> {
        let http = listen(&self.http).await?;
        output::line(&format!("provider at http://{}", http.local_addr()?))?;
        tokio::select! {
            ended = serve(http, self.people) => ended.context("the stand-in provider")?,
            asked = calvex_client::asked_to_stop() => asked?,
        }
        Ok(Ended::Well)
    }
}
