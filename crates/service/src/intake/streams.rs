//! What the ways in over sockets share: connections that are bounded in number and time, and batches that
//! wait while the service cannot take them.

use super::{Body, take};
use crate::access::Sender;
use crate::error::{Result, ServiceError};
use crate::state::Shared;
use axum::http::HeaderMap;
use calvex_core::batch::{BatchBuilder, Reading};
use calvex_wire::api::SendAnswer;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::{Semaphore, watch};
use tokio::task::JoinSet;

/// Connections of one listener at once.
const MAX_CONNECTIONS: usize = 512;
/// Pause before a batch that could not be taken is tried again, at first and at most.
const PAUSE: (Duration, Duration) = (Duration::from_millis(100), Duration::from_secs(5));

/// Takes a batch that nobody will send again: while the service cannot take it, it waits. Gives up when `stopping`.
pub(super) async fn take_patiently<D, S>(
    app: &Shared,
    sender: impl Fn() -> S,
    stopping: &watch::Receiver<bool>,
    decode: impl Fn() -> D,
) -> Result<SendAnswer>
where
    S: Future<Output = Result<Arc<Sender>>>,
    D: FnOnce(&mut BatchBuilder, &mut Reading) -> Result<()> + Send + 'static,
{
    let mut pause = PAUSE.0;
    loop {
        let tried = async {
            let body = Body { hash: None, decode: decode() };
            take(app, &HeaderMap::new(), sender().await?, body).await
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

/// Accepts connections until stopped, a bounded number at once, and runs `each`.
pub(super) async fn accept<F>(
    listener: TcpListener,
    mut stopping: watch::Receiver<bool>,
    each: impl Fn(TcpStream, SocketAddr) -> F,
) where
    F: Future<Output = ()> + Send + 'static,
{
    let room = Arc::new(Semaphore::new(MAX_CONNECTIONS));
    let mut connections = JoinSet::new();
    loop {
        let accepted = tokio::select! {
            _ = stopping.wait_for(|s| *s) => break,
            accepted = listener.accept() => accepted,
        };
        while connections.try_join_next().is_some() {}
        let (stream, from) = match accepted {
            Ok(accepted) => accepted,
            Err(e) => {
                // Out of file handles, most likely; others may end meanwhile.
                tracing::warn!("a connection was not accepted: {e}");
                tokio::time::sleep(PAUSE.0).await;
                continue;
            }
        };
        let Ok(permit) = room.clone().try_acquire_owned() else {
            tracing::warn!("{from} was turned away: {MAX_CONNECTIONS} connections are open");
            continue;
        };
        let running = each(stream, from);
        connections.spawn(async move {
            let _permit = permit;
            running.await;
        });
    }
    while connections.join_next().await.is_some() {}
}
