//! `calvex receiver`: the stand-in for what lies outside.

use anyhow::{Context, Result};
use calvex_client::{Ended, Work, output};
use calvex_service::notify::fake_receiver::{Arrived, serve};
use clap::Args;
use tokio::net::TcpListener;

/// Receive webhooks (`POST /hook`) and mail, and show what arrives; all of it stands on the page `/`.
#[derive(Args)]
pub struct Receiver {
    /// Address for webhooks
    #[arg(long, default_value = "127.0.0.1:8438")]
    http: String,
    /// Address for mail
    #[arg(long, default_value = "127.0.0.1:8425")]
    smtp: String,
}

/// Shows one arrival in a line: a mail by its subject, a webhook by what it is about.
pub fn show(arrived: &Arrived) {
    let event: serde_json::Value = serde_json::from_str(&arrived.text).unwrap_or_default();
    let of_event = event["type"].as_str().zip(event["subject"].as_str()).map(|(kind, of)| format!("{kind} {of}"));
    let subject = arrived.text.lines().find(|l| l.starts_with("Subject:"));
    let text = of_event.as_deref().or(subject).unwrap_or(&arrived.text);
    let signature =
        if arrived.signature.is_empty() { String::new() } else { format!(", signature {}", arrived.signature) };
    println!("{} to {}{signature}: {text}", arrived.kind, arrived.to);
}

/// A listener, or one line with the cure.
pub async fn listen(address: &str) -> Result<TcpListener> {
    TcpListener::bind(address)
        .await
        .with_context(|| format!("cannot listen on {address}; stop what uses it, or choose another"))
}

impl Receiver {
    /// Shows what arrives until it is asked to stop.
    ///
    /// # Errors
    /// Where the address cannot be listened on.
    pub fn run(self) -> Work {
        Box::pin(self.work())
    }

    async fn work(self) -> Result<Ended> {
        let (http, smtp) = (listen(&self.http).await?, listen(&self.smtp).await?);
        output::line(&format!("webhooks at http://{}/hook, mail at {}", http.local_addr()?, smtp.local_addr()?))?;
        tokio::select! {
            ended = serve(http, smtp, show) => ended?,
            asked = calvex_client::asked_to_stop() => asked?,
        }
        Ok(Ended::Well)
    }
}
