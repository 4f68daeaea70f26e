//! `calvex tail`: events as they come.

use crate::asked_to_stop;
use crate::client::Connection;
use crate::options::{Form, Link, address};
use crate::shown::Shown;
use crate::{Ended, output};
use anyhow::{Context, Result, bail};
use calvex_wire::api::{SearchRequest, TailLine};
use clap::Args;

/// Show events as they come, until stopped. Exits 0 when something came, 1 when nothing.
#[derive(Args)]
pub struct Tail {
    /// Which events: words and comparisons (docs/query-language.md)
    #[arg(add = crate::proposed::query())]
    query: Vec<String>,
    /// End after so many events
    #[arg(long, short = 'n')]
    limit: Option<usize>,
    #[command(flatten)]
    form: Form,
    #[command(flatten)]
    shown: Shown,
    #[command(flatten)]
    link: Link,
    #[command(flatten)]
    connection: Connection,
}

impl Tail {
    pub async fn run(self) -> Result<Ended> {
        if self.link.link {
            let query = self.query.join(" ");
            output::line(&address(&self.connection.first()?, "tail", &[("q", Some(&query))]))?;
            return Ok(Ended::Well);
        }
        let client = self.connection.open().await?;
        let ask = SearchRequest { query: self.query.join(" "), ..SearchRequest::default() };
        let mut response = client.stream("/api/tail", &ask).await?;
        let as_json = self.form.is_json();
        let stopped = asked_to_stop();
        tokio::pin!(stopped);
        let (mut held, mut shown) = (Vec::new(), 0);
        let ended = |shown: usize| if shown > 0 { Ended::Well } else { Ended::Nothing };
        loop {
            let chunk = tokio::select! {
                chunk = response.chunk() => chunk.context("the connection to the service broke off")?,
                asked = &mut stopped => { asked?; return Ok(ended(shown)) }
            };
            let Some(chunk) = chunk else { bail!("the service ended; start it again and follow anew") };
            held.extend_from_slice(&chunk);
            while let Some(end) = memchr::memchr(b'\n', &held) {
                let line: Vec<u8> = held.drain(..=end).collect();
                match serde_json::from_slice(&line).context("the service's answer is not understood")? {
                    TailLine::Ready { query } if !as_json => {
                        let what = if query.is_empty() { "every event".to_owned() } else { query };
                        eprintln!("following {what}; Ctrl-C ends");
                    }
                    TailLine::Ready { .. } | TailLine::Beat { .. } => {}
                    TailLine::Missed { at_least } => {
                        eprintln!("at least {at_least} events passed unseen: too many at once")
                    }
                    TailLine::Rights { note } => eprintln!("{note}"),
                    TailLine::Events { events } => {
                        for event in &events {
                            if as_json {
                                output::json_line(&serde_json::to_string(event)?)?;
                            } else {
                                output::line(&self.shown.line(event))?;
                            }
                            shown += 1;
                            if self.limit.is_some_and(|limit| shown >= limit) {
                                return Ok(ended(shown));
                            }
                        }
                    }
                }
            }
        }
    }
}
