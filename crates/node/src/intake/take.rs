//! One body from a sender to its answer, the same for every way in: admitted, decoded, stored once, accounted for.

use super::account::{ToStore, not_stored, refuse};
use super::body;
use super::idempotency::{Mark, Once, by_body, by_key, given_key};
use super::prepare::{Taken, event_limits, prepare};
use super::sender::Sender;
use crate::admission::behind::ahead;
use crate::admission::budget::{Charge, Owner};
use crate::error::{Result, ServiceError};
use crate::pipeline::{Submission, Wait};
use crate::state::Receiving;
use axum::http::HeaderMap;
use calvex_intake::batch::{BatchBuilder, Reading};
use calvex_storage::columns::PageRead;
use calvex_wire::api::SendAnswer;
use std::sync::Arc;
use std::sync::atomic::Ordering;

/// Bytes of memory that the pages of a body take for each of its bytes, before it is known, and those of any body.
const PAGES_PER_BYTE: usize = 3;
const MIN_PAGES: usize = 64 << 10;

/// Puts the events of a body into a batch. Boxed, so that what follows is compiled once and not for each way in.
pub(super) type Decode = Box<dyn FnOnce(&mut BatchBuilder, &mut Reading) -> Result<()> + Send>;

/// A body to be decoded, and what distinguishes it from others.
pub(super) struct Body {
    /// None where the same bytes may rightly come twice: on streams and datagrams, which nobody repeats.
    pub(super) hash: Option<[u8; 32]>,
    /// What it holds of the intake's budget.
    pub(super) charge: Charge,
    /// Bytes that are held while it is decoded.
    pub(super) bytes: usize,
    pub(super) decode: Decode,
}

impl Body {
    /// A body that was received whole.
    pub(super) fn received(
        received: body::Received,
        decode: impl FnOnce(&mut BatchBuilder, &mut Reading) -> Result<()> + Send + 'static,
    ) -> Self {
        let decode = Box::new(decode);
        Body { hash: Some(received.hash), bytes: received.bytes.len(), charge: received.charge, decode }
    }
}

/// Whether this node takes what can go to another one.
///
/// # Errors
/// Where it is drained.
pub(super) fn not_drained(receiving: &Receiving) -> Result<()> {
    if receiving.base.nodes.is_draining() {
        return Err(ServiceError::Busy("this node is drained; send to another one".into(), 1));
    }
    Ok(())
}

/// Whether a sender may send at all now; asked before its body is read.
pub(super) fn admit(receiving: &Arc<Receiving>, sender: &Sender) -> Result<()> {
    if receiving.intake.disk_full.load(Ordering::Relaxed) {
        return Err(ServiceError::Busy("the disk is nearly full; free some, or shorten a lane's retention".into(), 60));
    }
    if let Err(e) = receiving.limits.check_rate(sender.key_id, sender.limits.rate, (receiving.base.clock)()) {
        refuse(&receiving.base, &sender.name, "rate", 1, "");
        return Err(e);
    }
    if receiving.view.head_size().1 > receiving.base.settings.mib("head.budget_mib") * 2 {
        return Err(ServiceError::Busy("events come in faster than they are sealed; slow down".into(), 1));
    }
    Ok(())
}

/// Takes a body: decodes, normalises, routes, stores, and answers.
///
/// # Errors
/// Where it is not let in now, cannot be read, or cannot be stored; nothing of it is stored then.
pub(super) async fn take(
    receiving: &Arc<Receiving>,
    headers: &HeaderMap,
    sender: Arc<Sender>,
    body: Body,
) -> Result<SendAnswer> {
    let Body { hash, mut charge, bytes, decode } = body;
    admit(receiving, &sender)?;
    // What was read of a stream is sent to no other node.
    if hash.is_some() {
        not_drained(receiving)?;
    }
    let mut once = match given_key(headers)?.zip(hash) {
        Some((key, hash)) => by_key(receiving, &sender, key, hash).await?,
        None => Once::Unnamed,
    };
    if let Once::Answered(answer) = once {
        receiving.base.metrics.repeated.inc();
        return Ok(SendAnswer { repeated: true, ..answer });
    }
    let mut batch = decoded(receiving, &sender, &mut charge, bytes, decode).await?;
    let answer = batch.answer.clone();
    if sender.limits.rate.is_some() {
        receiving.limits.sent(sender.key_id, (answer.stored + answer.set_aside + answer.refused) as u64);
    }
    // A body whose events all carry their own time is the same only when it is sent again; one without times may rightly
    // be sent twice, and is stored twice.
    if let (Once::Unnamed, Some(hash)) = (&once, hash)
        && batch.timed
        && !batch.pages.is_empty()
    {
        once = by_body(receiving, &sender, hash).await?;
    }
    let to_store = ToStore::of(&mut batch);
    let mark = match once {
        Once::Answered(answer) => {
            receiving.base.metrics.repeated.inc();
            to_store.give_back(receiving, &sender);
            return Ok(SendAnswer { repeated: true, ..answer });
        }
        Once::Marked(mark) => Some(mark),
        Once::Unnamed => None,
    };
    store(receiving, &sender, &mut batch, to_store, mark, charge).await?;
    not_stored(receiving, &sender, batch);
    Ok(answer)
}

/// Decodes a body: at once on this thread, or behind others where its sender took much lately.
async fn decoded(
    receiving: &Arc<Receiving>,
    sender: &Arc<Sender>,
    charge: &mut Charge,
    bytes: usize,
    decode: Decode,
) -> Result<Taken> {
    // The pages that the events become are charged before they are made: a small body makes small ones, and none make
    // more than `batch_bytes`.
    let limits = event_limits(receiving);
    let room = bytes.saturating_mul(PAGES_PER_BYTE).clamp(MIN_PAGES, limits.batch_bytes);
    charge.set_patiently(charge.bytes() + room).await?;
    let permit = receiving.decode_slots.acquire(Owner::Key(sender.key_id)).await;
    let (own, sender2) = (receiving.clone(), sender.clone());
    let decoding = move || {
        let _permit = permit;
        prepare(&own, &sender2, limits, decode)
    };
    let batch = if bytes <= receiving.decode_slots.bytes_ahead(Owner::Key(sender.key_id)) {
        ahead(decoding).await??
    } else {
        receiving.behind.run(decoding).await??
    };
    // The body is gone; its pages are held until they are committed.
    let weight: usize = batch.pages.iter().map(|p| p.page.weight_bytes()).sum();
    charge.set(weight.min(charge.bytes()))?;
    Ok(batch)
}

/// Commits the pages of a batch with its receipt, and accounts for them.
async fn store(
    receiving: &Arc<Receiving>,
    sender: &Sender,
    batch: &mut Taken,
    to_store: ToStore,
    mark: Option<Mark>,
    charge: Charge,
) -> Result<()> {
    // A sender that can ask again for the outcome is answered in time; any other waits until it is known, since it could
    // only send the same events again.
    let wait = if mark.is_some() { Wait::ForAnswer } else { Wait::ForOutcome };
    let receipt = mark.as_ref().map(|mark| mark.receipt(sender.key_id, &batch.answer));
    if batch.pages.is_empty() && receipt.is_none() {
        return Ok(());
    }
    let pages = std::mem::take(&mut batch.pages);
    let mark = mark.map(|mark| mark.in_flight);
    match receiving.intake.submit(Submission { pages, receipt, mark, charge }, wait).await {
        Ok(_) => {
            to_store.stored(receiving, sender);
            Ok(())
        }
        Err(e) => {
            to_store.give_back(receiving, sender);
            if matches!(e, ServiceError::NotStorable(_)) {
                refuse(&receiving.base, &sender.name, "not-storable", batch.answer.stored as u64, &e.to_string());
            }
            Err(e)
        }
    }
}
