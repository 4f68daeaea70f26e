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
use tokio::io::{AsyncRead, AsyncWrite, AsyncWriteExt};
use tokio::net::TcpListener;
use tokio::sync::watch;
use tokio_rustls::TlsAcceptor;
use tower::util::MapRequest;

/// The first byte of a TLS record that begins a handshake (RFC 8446, 5.1).
const TLS_HANDSHAKE: u8 = 22;
/// Requests worked on at once on one HTTP/2 connection (RFC 9113, 5.1.2).
const STREAMS: u32 = 64;
/// Bytes of a request's head.
const MAX_HEAD: usize = 32 << 10;

/// A way in over HTTP.
pub struct Door {
    /// As it is reported.
    pub name: &'static str,
    pub listener: TcpListener,
    /// Where it is encrypted.
    pub tls: Option<TlsAcceptor>,
    pub router: Router,
}

/// Serves until `stopping`, then lets requests under way end.
pub async fn serve(base: Arc<Base>, door: Door, stopping: watch::Receiver<bool>) {
    let Door { name, listener, tls, router } = door;
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
        let tls = tls.clone();
        async move { connection(&base, (name, tls), (stream, from), &builder, router, watcher, patience).await }
    };
    // Those that ask for nothing yet end when this goes.
    let _running = accept(listener, connections, stopping, each).await;
    graceful.shutdown().await;
}

async fn connection(
    base: &Base,
    (name, tls): (&'static str, Option<TlsAcceptor>),
    (mut stream, from): (Tracked, SocketAddr),
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
    stream.set_nodelay();
    match (tls, first[0] == TLS_HANDSHAKE) {
        (None, false) => requests(stream, from, builder, router, watcher).await,
        (Some(tls), true) => match tokio::time::timeout(patience, tls.accept(stream)).await {
            Ok(Ok(stream)) => requests(stream, from, builder, router, watcher).await,
            Ok(Err(e)) => tracing::debug!("{from} did not begin TLS on the {name}: {e}"),
            Err(_) => tracing::debug!("{from} took too long to begin TLS on the {name}"),
        },
        (None, true) => {
            refuse(base, name, "wrong-protocol", 1, &format!("TLS from {}", from.ip()));
            tracing::warn!("{from} speaks TLS on the plain {name}");
        }
        (Some(_), false) => {
            refuse(base, name, "wrong-protocol", 1, &format!("no TLS from {}", from.ip()));
            tracing::warn!("{from} speaks without TLS on the {name}, which is encrypted");
            // Whoever sees it learns what to do; a client that speaks another protocol is none the worse.
            let _ = tokio::time::timeout(patience, stream.write_all(PLAIN)).await;
        }
    }
}

/// What a request without TLS gets where it is needed.
const PLAIN: &[u8] = b"HTTP/1.1 400 Bad Request\r\ncontent-type: text/plain\r\ncontent-length: 53\r\nconnection: close\r\n\r\nthis port speaks TLS; begin the address with https://";

async fn requests(
    stream: impl AsyncRead + AsyncWrite + Unpin + Send + 'static,
    from: SocketAddr,
    builder: &Builder<TokioExecutor>,
    router: Router,
    watcher: Watcher,
) {
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
