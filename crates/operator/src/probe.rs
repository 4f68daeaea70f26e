//! `calvex probe`: a marked event through each way in, proved to be found by search.

use anyhow::{Result, bail};
use calvex_client::client::Connection;
use calvex_client::options::Form;
use calvex_client::{Ended, Work, key_or_env, now_ns, output};
use calvex_service::probe;
use calvex_wire::api::{Probed, SearchAnswer, SearchRequest, WayIn};
use clap::Args;

/// Send a marked event by each way in and report each step, up to found by search.
#[derive(Args)]
pub struct Probe {
    /// Key for sending [env: CALVEX_KEY]
    #[arg(long)]
    key: Option<String>,
    #[command(flatten)]
    form: Form,
    #[command(flatten)]
    connection: Connection,
}

impl Probe {
    /// Sends by each way in and waits until search finds it.
    ///
    /// # Errors
    /// Where an event did not arrive by one of them.
    pub fn run(self) -> Work {
        Box::pin(self.work())
    }

    async fn work(self) -> Result<Ended> {
        let key = key_or_env(self.key.as_deref())?;
        let client = self.connection.open().await?;
        let ways: Vec<WayIn> = client.get("/api/ways-in").await?;
        let find = |mark: String| {
            let client = &client;
            async move {
                let ask = SearchRequest { query: mark, from: Some("now-1h".to_owned()), ..SearchRequest::default() };
                let answer: Result<SearchAnswer> = client.post("/api/search", &ask).await;
                answer.map(|a| !a.events.is_empty()).map_err(|e| format!("{e:#}"))
            }
        };
        let reported = probe(&ways, &self.connection.first()?, &key, now_ns, find).await;
        let failed = reported.iter().filter(|t| t.wrong.is_some()).count();
        if self.form.is_json() {
            output::ndjson(&reported)?;
        } else {
            let ms = |n: Option<f64>| n.map_or_else(|| "–".to_owned(), |n| format!("{n:.0} ms"));
            let row = |t: &Probed| {
                let outcome = t.wrong.clone().unwrap_or_else(|| "found".to_owned());
                vec![t.way.clone(), t.address.clone(), ms(t.answered_ms), ms(t.found_ms), outcome]
            };
            output::table(&["way in", "address", "answered", "found", ""], reported.iter().map(row).collect())?;
        }
        match failed {
            0 => Ok(Ended::Well),
            n => bail!("{n} of {} ways in failed; `calvex arrivals` shows what was refused", reported.len()),
        }
    }
}
