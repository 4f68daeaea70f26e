//! The loop that takes connections from a listener.

use crate::admission::connections::{Connections, Tracked};
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;
use tokio::net::TcpListener;
use tokio::sync::watch;
use tokio::task::JoinSet;

/// Pause after a connection could not be accepted.
const PAUSE: Duration = Duration::from_millis(100);

/// Runs `each` for every connection until `stopping`; which of them stay is for [`Connections`] to decide. Returns those
/// that still run, the listener closed.
pub async fn accept<F>(
    listener: TcpListener,
    connections: Arc<Connections>,
    mut stopping: watch::Receiver<bool>,
    each: impl Fn(Tracked, SocketAddr) -> F,
) -> JoinSet<()>
where
    F: Future<Output = ()> + Send + 'static,
{
    let mut running = JoinSet::new();
    loop {
        let accepted = tokio::select! {
            _ = stopping.wait_for(|s| *s) => return running,
            accepted = listener.accept() => accepted,
        };
        while running.try_join_next().is_some() {}
        let (stream, from) = match accepted {
            Ok(accepted) => accepted,
            Err(e) => {
                // Out of file handles, most likely; others may end meanwhile.
                tracing::warn!("a connection was not accepted: {e}");
                tokio::time::sleep(PAUSE).await;
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
}
