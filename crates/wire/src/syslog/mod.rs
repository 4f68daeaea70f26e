//! Syslog, RFC 5424 and RFC 3164, over datagrams and streams.

mod frame;
mod message;
mod old;

pub use frame::{Frame, Framer};
pub use message::{Decoded, decode};

use calvex_intake::batch::{BatchBuilder, Reading};
use calvex_intake::normalise::RawEvent;
use calvex_language::CoreError;
use calvex_language::model::Refusal;

/// Takes messages, each with the address it came from, into `batch`, numbered from 1.
///
/// # Errors
/// Only for a defect of the engine; a message that breaks a limit refuses itself.
pub fn take(messages: &[(Frame, String)], batch: &mut BatchBuilder, reading: &mut Reading) -> Result<(), CoreError> {
    let limits = batch.limits();
    let arrived_ns = batch.arrived_ns();
    for (number, (frame, from)) in (1..).zip(messages) {
        let event = match frame {
            Frame::TooLarge(bytes) => Err(Refusal::TooLarge(*bytes, limits.event_bytes)),
            Frame::Message(bytes) if bytes.len() > limits.event_bytes => {
                Err(Refusal::TooLarge(bytes.len(), limits.event_bytes))
            }
            Frame::Message(bytes) => {
                let (known, object) = decode(bytes, from, arrived_ns).into_raw();
                let fields = reading.flattener.entries(object, &mut reading.paths, &limits);
                fields.map(|fields| RawEvent { fields, known })
            }
        };
        match (event, frame) {
            (Err(refusal), Frame::Message(bytes)) => batch.refuse(number, refusal, bytes),
            (event, _) => batch.push(number, event, reading)?,
        }
    }
    Ok(())
}
