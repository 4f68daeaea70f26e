//! What the ways in over sockets share: connections that are bounded in number and time, and batches that
//! wait while the service cannot take them.

use super::{Body, take};
use crate::access::Sender;
use crate::budget::Owner;
use crate::connections::{Connections, Tracked};
use crate::error::{Result, ServiceError};
use crate::state::Shared;
use axum::http::HeaderMap;
use calvex_core::batch::{BatchBuilder, Reading};
use calvex_wire::api::SendAnswer;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;
use tokio::net::TcpListener;
use tokio::sync::watch;
use tokio::task::JoinSet;

/// Pause before a batch that could not be taken is tried again, at first and at most.
const PAUSE: (Duration, Duration) = (Duration::from_millis(100), Duration::from_secs(5));

/// Takes a batch of `bytes` that nobody will send again: while the service cannot take it, it waits. What was handed to
/// the committer is never handed to it again: its outcome is waited for. Gives up when `stopping`.
pub(super) async fn take_patiently<D, S>(
    app: &Shared,
    sender: impl Fn() -> S,
    stopping: &watch::Receiver<bool>,
    bytes: usize,
    decode: impl Fn() -> D,
) -> Result<SendAnswer>
where
    S: Future<Output = Result<Arc<Sender>>>,
    D: FnOnce(&mut BatchBuilder, &mut Reading) -> Result<()> + Send + 'static,
{
    let mut pause = PAUSE.0;
    loop {
        let tried = async {
            let sender = sender().await?;
            let mut charge = app.intake_budget.charge(Owner::Key(sender.key_id));
            charge.set_patiently(bytes).await?;
            take(app, &HeaderMap::new(), sender, Body { hash: None, charge, bytes, decode: decode() }).await
        };
        match tried.await {
            Err(e) if is_passing(&e) && !*stopping.borrow() => {
                tracing::debug!("a batch waits: {e}");
                tokio::time::sleep(pause).await;
                pause = (pause * 2).min(PAUSE.1);
            }
            done => return done,
        }
    }
}

fn is_passing(error: &ServiceError) -> bool {
    matches!(error.problem().status, 429 | 503)
}

/// Accepts connections until stopped and runs `each`; [`Connections`] says which of them stay.
pub(super) async fn accept<F>(
    listener: TcpListener,
    connections: Arc<Connections>,
    mut stopping: watch::Receiver<bool>,
    each: impl Fn(Tracked, SocketAddr) -> F,
) where
    F: Future<Output = ()> + Send + 'static,
{
    let mut running = JoinSet::new();
    loop {
        let accepted = tokio::select! {
            _ = stopping.wait_for(|s| *s) => break,
            accepted = listener.accept() => accepted,
        };
        while running.try_join_next().is_some() {}
        let (stream, from) = match accepted {
            Ok(accepted) => accepted,
            Err(e) => {
                // Out of file handles, most likely; others may end meanwhile.
                tracing::warn!("a connection was not accepted: {e}");
                tokio::time::sleep(PAUSE.0).await;
                continue;
            }
        };
        let (stream, held) = connections.admit(stream, from);
        let served = each(stream, from);
        running.spawn(async move {
            tokio::select! {
                () = served => {}
                () = held.evicted() => tracing::debug!("{from} was silent for longest and gave way to another"),
            }
        });
    }
    while running.join_next().await.is_some() {}
}
