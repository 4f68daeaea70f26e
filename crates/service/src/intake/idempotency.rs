//! The same body sent again is stored once: by the sender's own idempotency key, or, where its events carry their own
//! times, by the body's hash within a window. A mark in memory lasts while the body is being stored; the receipt that is
//! committed with it answers from then on.

use super::account::refuse;
use crate::error::{Result, ServiceError};
use crate::intake::sender::Sender;
use crate::pipeline::{InFlightMark, Receipt};
use crate::state::Receiving;
use axum::http::HeaderMap;
use calvex_wire::api::{IDEMPOTENCY_HEADER, SendAnswer};
use sha2::{Digest, Sha256};
use std::sync::Arc;

/// Bytes of the answer that is kept with a receipt; what is beyond is given back without the refused events.
const MAX_KEPT_ANSWER: usize = 16 << 10;

/// What is known of a body before it is stored.
pub(super) enum Once {
    /// It is new; nobody else stores it while the mark lives.
    Marked(Mark),
    /// It was stored; this was the answer.
    Answered(SendAnswer),
    /// It has no name: the same may rightly come twice.
    Unnamed,
}

/// A body that is being stored, and the name that its receipt gets.
pub(super) struct Mark {
    pub(super) in_flight: InFlightMark,
    idempotency: [u8; 32],
    body: [u8; 32],
}

impl Mark {
    /// The receipt to commit with the body's events, by which a repetition is answered.
    pub(super) fn receipt(&self, key_id: u32, answer: &SendAnswer) -> Receipt {
        Receipt { key_id, idempotency: self.idempotency, body: self.body, answer: kept_answer(answer) }
    }
}

/// The sender's idempotency key, hashed.
///
/// # Errors
/// Where it is empty or longer than 256 bytes.
pub(super) fn given_key(headers: &HeaderMap) -> Result<Option<[u8; 32]>> {
    let Some(value) = headers.get(IDEMPOTENCY_HEADER) else { return Ok(None) };
    let bytes = value.as_bytes();
    if bytes.is_empty() || bytes.len() > 256 {
        return Err(ServiceError::BadRequest(format!("{IDEMPOTENCY_HEADER} must have 1 to 256 characters")));
    }
    Ok(Some(Sha256::new().chain_update(b"key\0").chain_update(bytes).finalize().into()))
}

/// Looks a body up by its idempotency key.
///
/// # Errors
/// Where the key came with another body, is being stored right now, or the database fails.
pub(super) async fn by_key(receiving: &Arc<Receiving>, sender: &Sender, key: [u8; 32], body: [u8; 32]) -> Result<Once> {
    let in_flight = receiving.intake.mark(sender.key_id, key)?;
    let Some(receipt) = receiving.base.store.receipt(sender.key_id, &key).await? else {
        return Ok(Once::Marked(Mark { in_flight, idempotency: key, body }));
    };
    if receipt.body != body {
        refuse(&receiving.base, &sender.name, "idempotency-misused", 1, "");
        return Err(ServiceError::Conflict(
            "this idempotency key came with another body before; use a new key for new events".into(),
        ));
    }
    Ok(Once::Answered(serde_json::from_slice(&receipt.answer).unwrap_or_default()))
}

/// Looks a body without an idempotency key up by its hash. A receipt answers for so long as the window is set to, from
/// the moment it was committed.
///
/// # Errors
/// Where it is being stored right now, or the database fails.
pub(super) async fn by_body(receiving: &Arc<Receiving>, sender: &Sender, body: [u8; 32]) -> Result<Once> {
    let window_s = receiving.base.settings.number("intake.repeat_window_s") as i64;
    if window_s == 0 {
        return Ok(Once::Unnamed);
    }
    let (now_ns, window_ns) = ((receiving.base.clock)(), window_s * 1_000_000_000);
    let in_flight = receiving.intake.mark(sender.key_id, body)?;
    // The same body may rightly come again after the window, so a receipt of it is named by its time too.
    let window = (now_ns / window_ns).to_le_bytes();
    let idempotency = Sha256::new().chain_update(b"body\0").chain_update(window).chain_update(body).finalize().into();
    let earlier = receiving.base.store.receipt_of_body(sender.key_id, &body, now_ns.saturating_sub(window_ns)).await?;
    Ok(match earlier {
        Some(receipt) => Once::Answered(serde_json::from_slice(&receipt.answer).unwrap_or_default()),
        None => Once::Marked(Mark { in_flight, idempotency, body }),
    })
}

/// The answer as it is kept with a receipt: with as many of the refused events as fit.
fn kept_answer(answer: &SendAnswer) -> Vec<u8> {
    let mut answer = answer.clone();
    loop {
        let bytes = serde_json::to_vec(&answer).unwrap_or_default();
        if bytes.len() <= MAX_KEPT_ANSWER || answer.refusals.is_empty() {
            return bytes;
        }
        answer.refusals.truncate(answer.refusals.len() / 2);
    }
}
