//! The same body sent again is stored once: by the sender's own idempotency key, or, where its events carry their own
//! times, by the body's hash within a window. A mark in memory lasts while the body is being stored; the receipt that is
//! committed with it answers from then on.

use super::account::refuse;
use crate::error::{Result, ServiceError};
use crate::intake::sender::Sender;
use crate::pipeline::{InFlightMark, Named, Receipt, names_of_body};
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
    named: Named,
    body: [u8; 32],
}

impl Mark {
    /// The receipt to commit with the body's events, by which a repetition is answered.
    pub(super) fn receipt(&self, key_id: u32, answer: &SendAnswer) -> Receipt {
        Receipt { key_id, named: self.named, body: self.body, answer: kept_answer(answer) }
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
    let now_ns = (receiving.base.clock)();
    let Some(receipt) = receiving.base.store.receipt(sender.key_id, &[key], i64::MIN, now_ns).await? else {
        return Ok(Once::Marked(Mark { in_flight, named: Named::Key(key), body }));
    };
    if !receipt.is_of(&body) {
        refuse(&receiving.base, &sender.name, "idempotency-misused", 1, "");
        return Err(ServiceError::Conflict(
            "this idempotency key came with another body before; use a new key for new events".into(),
        ));
    }
    Ok(Once::Answered(read_answer(&receipt.answer)))
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
    let (names, since_ns) = (names_of_body(&body, window_ns, now_ns), now_ns.saturating_sub(window_ns));
    let earlier = receiving.base.store.receipt(sender.key_id, &names, since_ns, now_ns).await?;
    Ok(match earlier {
        Some(receipt) => Once::Answered(read_answer(&receipt.answer)),
        None => Once::Marked(Mark { in_flight, named: Named::Body { window_ns }, body }),
    })
}

/// The answer as it is kept with a receipt: of a body that was stored whole the number of its events, else JSON with as many
/// of the refused events as fit.
fn kept_answer(answer: &SendAnswer) -> Vec<u8> {
    if *answer == stored_whole(answer.stored) {
        return answer.stored.to_string().into_bytes();
    }
    let mut answer = answer.clone();
    loop {
        let bytes = serde_json::to_vec(&answer).unwrap_or_default();
        if bytes.len() <= MAX_KEPT_ANSWER || answer.refusals.is_empty() {
            return bytes;
        }
        answer.refusals.truncate(answer.refusals.len() / 2);
    }
}

fn stored_whole(stored: usize) -> SendAnswer {
    SendAnswer { stored, ..SendAnswer::default() }
}

/// Reads what [`kept_answer`] wrote.
fn read_answer(kept: &[u8]) -> SendAnswer {
    match std::str::from_utf8(kept).map(str::parse) {
        Ok(Ok(stored)) => stored_whole(stored),
        _ => serde_json::from_slice(kept).unwrap_or_default(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use calvex_wire::api::RefusedEvent;

    #[test]
    fn an_answer_is_kept_in_few_bytes_and_comes_back() {
        let whole = SendAnswer { stored: 2000, ..SendAnswer::default() };
        assert_eq!(kept_answer(&whole), b"2000");
        let refusal = |line| RefusedEvent { line, reason: "too-large".into(), message: "x".repeat(100) };
        let some = SendAnswer { stored: 1, refused: 1, refusals: vec![refusal(2)], ..SendAnswer::default() };
        for answer in [whole, some, SendAnswer { stored: 3, set_aside: 1, ..SendAnswer::default() }] {
            assert_eq!(read_answer(&kept_answer(&answer)), answer);
        }
        // As it was kept before there was a short form.
        assert_eq!(read_answer(br#"{"stored":7,"refused":0}"#).stored, 7);
        let many = SendAnswer { refused: 400, refusals: (1..=400).map(refusal).collect(), ..SendAnswer::default() };
        let kept = kept_answer(&many);
        assert!(kept.len() <= MAX_KEPT_ANSWER);
        assert_eq!(read_answer(&kept).refused, 400, "counted, though not all are listed");
    }
}
