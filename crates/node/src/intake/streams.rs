//! What the ways in over sockets share: batches that wait while the service cannot take them.

use super::{Body, take};
use crate::admission::budget::Owner;
use crate::error::{Result, ServiceError};
use crate::intake::sender::Sender;
use crate::state::Receiving;
use axum::http::HeaderMap;
use calvex_intake::batch::{BatchBuilder, Reading};
use calvex_language::backoff::Backoff;
use calvex_wire::api::SendAnswer;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::watch;

/// Pauses before a batch that could not be taken is tried again, the shortest and the longest.
const PAUSES: (Duration, Duration) = (Duration::from_millis(100), Duration::from_secs(5));

/// Takes a batch of `bytes` that nobody will send again: while the service cannot take it, it waits. What was handed to
/// the committer is never handed to it again: its outcome is waited for. Gives up when `stopping`.
pub(super) async fn take_patiently<D, S>(
    receiving: &Arc<Receiving>,
    sender: impl Fn() -> S,
    stopping: &watch::Receiver<bool>,
    bytes: usize,
    decode: impl Fn() -> D,
) -> Result<SendAnswer>
where
    S: Future<Output = Result<Arc<Sender>>>,
    D: FnOnce(&mut BatchBuilder, &mut Reading) -> Result<()> + Send + 'static,
{
    let mut backoff = Backoff::new(PAUSES.0, PAUSES.1);
    loop {
        let tried = async {
            let sender = sender().await?;
            let mut charge = receiving.intake_budget.charge(Owner::Key(sender.key_id));
            charge.set_patiently(bytes).await?;
            take(receiving, &HeaderMap::new(), sender, Body { hash: None, charge, bytes, decode: Box::new(decode()) })
                .await
        };
        match tried.await {
            Err(e) if is_passing(&e) && !*stopping.borrow() => {
                tracing::debug!("a batch waits: {e}");
                tokio::time::sleep(backoff.pause()).await;
            }
            done => return done,
        }
    }
}

fn is_passing(error: &ServiceError) -> bool {
    matches!(error.problem().status, 429 | 503)
}
