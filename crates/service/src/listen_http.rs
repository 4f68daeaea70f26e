//! HTTP connections: bounded in number and in the time that a request's head may take, and what is no HTTP told apart.

use crate::intake::refuse;
use crate::state::Shared;
use axum::Router;
use hyper_util::rt::{TokioExecutor, TokioIo, TokioTimer};
use hyper_util::server::conn::auto::Builder;
use hyper_util::server::graceful::{GracefulShutdown, Watcher};
use hyper_util::service::TowerToHyperService;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::{Semaphore, watch};

/// Connections of one listener at once; further ones wait to be accepted.
const MAX_CONNECTIONS: usize = 4096;
/// Pause after a connection could not be accepted.
const PAUSE: Duration = Duration::from_millis(100);
/// The first byte of a TLS record that begins a handshake (RFC 8446, 5.1).
const TLS_HANDSHAKE: u8 = 22;

/// Serves until `stopping`, then lets requests under way end.
pub(crate) async fn serve(app: Shared, listener: TcpListener, router: Router, mut stopping: watch::Receiver<bool>) {
    let patience = app.settings.seconds("limits.request_s");
    let mut builder = Builder::new(TokioExecutor::new());
    builder.http1().timer(TokioTimer::new()).header_read_timeout(patience);
    builder.http2().timer(TokioTimer::new()).keep_alive_interval(patience);
    let (builder, room, graceful) =
        (Arc::new(builder), Arc::new(Semaphore::new(MAX_CONNECTIONS)), GracefulShutdown::new());
    loop {
        let accepted = tokio::select! {
            _ = stopping.wait_for(|s| *s) => break,
            accepted = async {
                let permit = room.clone().acquire_owned().await;
                (listener.accept().await, permit)
            } => accepted,
        };
        let (stream, from) = match accepted.0 {
            Ok(accepted) => accepted,
            Err(e) => {
                // Out of file handles, most likely; others may end meanwhile.
                tracing::warn!("a connection was not accepted: {e}");
                tokio::time::sleep(PAUSE).await;
                continue;
            }
        };
        let (app, builder, router, watcher) = (app.clone(), builder.clone(), router.clone(), graceful.watcher());
        tokio::spawn(async move {
            let _permit = accepted.1;
            connection(&app, stream, from, &builder, router, watcher, patience).await;
        });
    }
    drop(listener);
    graceful.shutdown().await;
}

async fn connection(
    app: &Shared,
    stream: TcpStream,
    from: SocketAddr,
    builder: &Builder<TokioExecutor>,
    router: Router,
    watcher: Watcher,
    patience: Duration,
) {
    let mut first = [0u8; 1];
    // One that says nothing is let go; a client keeps connections for later only once it used them.
    if !matches!(tokio::time::timeout(patience, stream.peek(&mut first)).await, Ok(Ok(1..))) {
        return;
    }
    if first[0] == TLS_HANDSHAKE {
        refuse(app, "HTTP port", "wrong-protocol", 1, &format!("TLS from {}", from.ip()));
        tracing::warn!("{from} speaks TLS on the plain HTTP port");
        return;
    }
    let _ = stream.set_nodelay(true);
    let served = builder.serve_connection(TokioIo::new(stream), TowerToHyperService::new(router)).into_owned();
    if let Err(e) = watcher.watch(served).await {
        tracing::debug!("the connection of {from} ended: {e}");
    }
}
