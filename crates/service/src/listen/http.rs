//! HTTP connections: bounded in number, in the time to their first byte and to a request's head, and in the requests
//! under way on one of them. What is no HTTP is recognised.

use crate::admission::accept::accept;
use crate::admission::connections::{Connections, Tracked};
use crate::auth::peer::Peer;
use crate::intake::refuse;
use crate::state::Base;
use axum::Router;
use axum::http::Request;
use hyper::body::Incoming;
use hyper_util::rt::{TokioExecutor, TokioIo, TokioTimer};
use hyper_util::server::conn::auto::Builder;
use hyper_util::server::graceful::{GracefulShutdown, Watcher};
use hyper_util::service::TowerToHyperService;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;
use tokio::net::TcpListener;
use tokio::sync::watch;
use tower::util::MapRequest;

/// The first byte of a TLS record that begins a handshake (RFC 8446, 5.1).
const TLS_HANDSHAKE: u8 = 22;
/// Requests worked on at once on one HTTP/2 connection (RFC 9113, 5.1.2).
const STREAMS: u32 = 64;
/// Bytes of a request's head.
const MAX_HEAD: usize = 32 << 10;

/// Serves until `stopping`, then lets requests under way end.
pub(crate) async fn serve(
    base: Arc<Base>,
    name: &'static str,
    listener: TcpListener,
    router: Router,
    stopping: watch::Receiver<bool>,
) {
    let patience = base.settings.seconds("limits.request_s");
    let mut builder = Builder::new(TokioExecutor::new());
    builder.http1().timer(TokioTimer::new()).header_read_timeout(patience).max_buf_size(MAX_HEAD);
    builder
        .http2()
        .timer(TokioTimer::new())
        .keep_alive_interval(patience)
        .keep_alive_timeout(patience)
        .max_concurrent_streams(STREAMS)
        .max_header_list_size(MAX_HEAD as u32);
    let (builder, graceful) = (Arc::new(builder), GracefulShutdown::new());
    let connections = Connections::new(base.connections_of(name));
    let each = |stream: Tracked, from| {
        let (base, builder, router, watcher) = (base.clone(), builder.clone(), router.clone(), graceful.watcher());
        async move { connection(&base, name, stream, from, &builder, router, watcher, patience).await }
    };
    // Those that ask for nothing yet end when this goes.
    let _running = accept(listener, connections, stopping, each).await;
    graceful.shutdown().await;
}

async fn connection(
    base: &Base,
    name: &'static str,
    stream: Tracked,
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
        refuse(base, name, "wrong-protocol", 1, &format!("TLS from {}", from.ip()));
        tracing::warn!("{from} speaks TLS on the plain {name}");
        return;
    }
    stream.set_nodelay();
    // Who asks is bounded by its address where nothing else is known of it.
    let peer = Peer(from.ip().to_canonical());
    let router = MapRequest::new(router, move |mut request: Request<Incoming>| {
        request.extensions_mut().insert(peer);
        request
    });
    let served = builder.serve_connection(TokioIo::new(stream), TowerToHyperService::new(router)).into_owned();
    if let Err(e) = watcher.watch(served).await {
        tracing::debug!("the connection of {from} ended: {e}");
    }
}
