//! JSON lines over TCP, for what has a socket and no HTTP. The first line gives the key, the others are events; after each
//! commit one line comes back.
//!
//! ```text
//! sender   {"key":"calvex-key-..."}
//! service  {"ready":true}
//! sender   {"level":"info","msg":"door 17 opened"}
//! service  {"stored":1,"refused":0}
//! ```
//!
//! A wrong key is answered with a problem (RFC 9457) on one line, and the connection ends. What is not a line of events
//! is refused like any other bad line, with its number since the connection began.

use super::streams::take_patiently;
use super::{not_drained, refuse};
use crate::admission::accept::accept;
use crate::admission::budget::Owner;
use crate::admission::connections::{Connections, Tracked};
use crate::error::{Result, ServiceError};
use crate::intake::sender::sender_of;
use crate::state::Receiving;
use calvex_intake::batch::{BatchBuilder, Reading};
use calvex_store::StoreError;
use calvex_wire::ndjson;
use serde_json::{Value, json};
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::net::TcpListener;
use tokio::sync::watch;
use tokio_rustls::TlsAcceptor;

/// How long the first line may take.
const GREETING: Duration = Duration::from_secs(10);
/// How long a connection may rest.
const REST: Duration = Duration::from_secs(600);
/// How long lines are gathered before they are committed together.
const GATHER: Duration = Duration::from_millis(20);
/// Bytes of a line that every connection may hold.
const UNCHARGED: usize = 64 << 10;
/// Bytes gathered at most.
const BATCH_BYTES: usize = 1 << 20;

/// Serves until stopped.
pub async fn serve(
    receiving: Arc<Receiving>,
    listener: TcpListener,
    tls: Option<TlsAcceptor>,
    stopping: watch::Receiver<bool>,
) {
    let connections = Connections::new(receiving.base.connections_of("JSON lines"));
    let each = |stream: Tracked, from: SocketAddr| {
        let (receiving, stopping, tls) = (receiving.clone(), stopping.clone(), tls.clone());
        async move {
            let stream: Box<dyn Stream> = match tls {
                None => Box::new(stream),
                Some(tls) => match tokio::time::timeout(GREETING, tls.accept(stream)).await {
                    Ok(Ok(stream)) => Box::new(stream),
                    _ => {
                        let reported = format!("no TLS from {}", from.ip());
                        refuse(&receiving.base, "JSON lines", "wrong-protocol", 1, &reported);
                        return;
                    }
                },
            };
            let mut connection =
                Connection { stream, held: Vec::new(), limit: receiving.base.settings.event_limits().event_bytes };
            if let Err(e) = talk(&receiving, &mut connection, stopping).await {
                let problem = serde_json::to_string(&e.problem()).unwrap_or_default();
                let _ = connection.stream.write_all(format!("{problem}\n").as_bytes()).await;
                tracing::debug!("lines from {from}: {e}");
            }
        }
    };
    let running = accept(listener, connections, stopping.clone(), each).await;
    running.join_all().await;
}

/// Plain or encrypted.
trait Stream: AsyncRead + AsyncWrite + Unpin + Send {}
impl<T: AsyncRead + AsyncWrite + Unpin + Send> Stream for T {}

struct Connection {
    stream: Box<dyn Stream>,
    held: Vec<u8>,
    limit: usize,
}

fn broken(e: std::io::Error) -> ServiceError {
    ServiceError::BadRequest(format!("the connection broke: {e}"))
}

impl Connection {
    /// Reads more; false at the end of the stream.
    async fn more(&mut self) -> Result<bool> {
        Ok(self.stream.read_buf(&mut self.held).await.map_err(broken)? > 0)
    }

    /// Whole lines that are held, and what is left where the stream ended.
    fn lines(&mut self, ended: bool) -> Vec<u8> {
        let end = if ended { self.held.len() } else { memchr::memrchr(b'\n', &self.held).map_or(0, |at| at + 1) };
        let rest = self.held.split_off(end);
        std::mem::replace(&mut self.held, rest)
    }

    async fn say(&mut self, value: &Value) -> Result<()> {
        self.stream.write_all(format!("{value}\n").as_bytes()).await.map_err(broken)
    }
}

async fn talk(
    receiving: &Arc<Receiving>,
    connection: &mut Connection,
    mut stopping: watch::Receiver<bool>,
) -> Result<()> {
    let greeting = async {
        while memchr::memchr(b'\n', &connection.held).is_none() {
            if connection.held.len() > 4096 || !connection.more().await? {
                return Err(ServiceError::NotSignedIn(
                    "the first line must be {\"key\":\"calvex-key-...\"}; `calvex key new` makes one".into(),
                ));
            }
        }
        let at = memchr::memchr(b'\n', &connection.held).unwrap_or(0);
        Ok(connection.held.drain(..=at).collect::<Vec<u8>>())
    };
    let first = tokio::time::timeout(GREETING, greeting)
        .await
        .map_err(|_| ServiceError::NotSignedIn("no key came within ten seconds".into()))??;
    let key = serde_json::from_slice::<Value>(&first).ok().and_then(|v| v["key"].as_str().map(str::to_owned));
    let key = key.ok_or_else(|| {
        super::refuse(&receiving.base, "JSON lines port", "no-key", 1, "");
        ServiceError::NotSignedIn(
            "the first line must be {\"key\":\"calvex-key-...\"}; `calvex key new` makes one".into(),
        )
    })?;
    let mut charge = receiving.intake_budget.charge(Owner::Key(sender_of(&receiving.auth, &key).await?.key_id));
    not_drained(receiving)?;
    connection.say(&json!({ "ready": true })).await?;
    let mut line = 0;
    loop {
        // Lines may have come together with the first one.
        let mut ended = false;
        if memchr::memchr(b'\n', &connection.held).is_none() {
            let more = tokio::select! {
                _ = stopping.wait_for(|s| *s) => return Ok(()),
                // What was not answered is sent to another node.
                () = receiving.base.nodes.drained() => return not_drained(receiving),
                more = tokio::time::timeout(REST, connection.more()) => more,
            };
            ended = !more.map_err(|_| ServiceError::BadRequest("nothing came for ten minutes".into()))??;
        }
        let until = tokio::time::Instant::now() + GATHER;
        while !ended && connection.held.len() < BATCH_BYTES {
            match tokio::time::timeout_at(until, connection.more()).await {
                Ok(more) => ended = !more?,
                Err(_) => break,
            }
        }
        charge.set_patiently(connection.held.len().saturating_sub(UNCHARGED)).await?;
        let body: Arc<[u8]> = connection.lines(ended).into();
        charge.set(connection.held.len().saturating_sub(UNCHARGED))?;
        if connection.held.len() > connection.limit {
            return Err(ServiceError::TooLarge(format!("a line is longer than {} bytes", connection.limit)));
        }
        if !body.is_empty() {
            let decode = || {
                let body = body.clone();
                move |batch: &mut BatchBuilder, reading: &mut Reading| {
                    Ok(ndjson::decode_lines(&body, batch, reading).map_err(StoreError::Core)?)
                }
            };
            // A key that was revoked meanwhile ends the connection.
            let answer =
                take_patiently(receiving, || sender_of(&receiving.auth, &key), &stopping, body.len(), decode).await?;
            let refusals: Vec<Value> = answer
                .refusals
                .iter()
                .map(|r| json!({ "line": line + r.line, "reason": r.reason, "message": r.message }))
                .collect();
            let mut reported = json!({ "stored": answer.stored, "refused": answer.refused });
            if !refusals.is_empty() {
                reported["refusals"] = refusals.into();
            }
            connection.say(&reported).await?;
            line += memchr::memchr_iter(b'\n', &body).count();
        }
        if ended {
            return Ok(());
        }
    }
}
