//! Step 2: the bytes of a request, bounded as sent and as decompressed, and charged to the intake's budget before they
//! are held. A body is decompressed in a decoding slot, so that no more are unpacked at once than there are cores.

use super::{admit, not_drained};
use crate::admission::behind::{ahead, let_others_in};
use crate::admission::budget::{Charge, Owner};
use crate::error::{Result, ServiceError};
use crate::intake::sender::Sender;
use crate::state::Receiving;
use axum::body::{Body, BodyDataStream, Bytes};
use axum::http::{HeaderMap, header};
use futures_util::StreamExt;
use std::io::{Cursor, Read};
use std::sync::Arc;
use std::time::Duration;

/// Bytes unpacked between two looks at the budget.
const STEP: usize = 256 << 10;
/// Bytes of a refused body that are read on, and for how long.
const DRAINED: usize = 32 << 20;
const DRAIN: Duration = Duration::from_secs(5);
/// Largest window that a zstd body may ask for: what RFC 8878 (3.1.1.1.2) wants every decoder to support, 8 MiB.
const ZSTD_WINDOW_LOG: u32 = 23;

/// A body at hand, and what it holds of the budget.
pub(super) struct Received {
    pub bytes: Bytes,
    /// Knows the body from others. It keeps no secret; it must be quick and must not collide.
    pub hash: [u8; 32],
    pub charge: Charge,
}

/// The encodings of a body.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum Packing {
    None,
    Gzip,
    Zstd,
}

impl Packing {
    /// By its name in `content-encoding` or `grpc-encoding`.
    pub(super) fn named(name: &str) -> Option<Self> {
        Some(match name.trim().to_ascii_lowercase().as_str() {
            "" | "identity" => Packing::None,
            "gzip" => Packing::Gzip,
            "zstd" => Packing::Zstd,
            _ => return None,
        })
    }
}

/// Reads and decompresses a body (`identity`, `gzip`, `zstd`).
pub(super) async fn read(
    receiving: &Arc<Receiving>,
    sender: &Arc<Sender>,
    headers: &HeaderMap,
    body: Body,
) -> Result<Received> {
    let encoding = headers.get(header::CONTENT_ENCODING).and_then(|v| v.to_str().ok()).unwrap_or("");
    let Some(packing) = Packing::named(encoding) else {
        super::refuse(&receiving.base, &sender.name, "unknown-encoding", 1, encoding);
        drain(body.into_data_stream()).await;
        let reported = format!("content-encoding `{encoding}` is not known; use gzip, zstd or none");
        return Err(ServiceError::Unsupported(reported));
    };
    let (packed, charge) = read_packed(receiving, sender, body).await?;
    unpack(receiving, sender, packed.into(), packing, charge).await
}

/// Reads on and forgets what comes, for a while: a client that is still writing when its connection closes sees that
/// close, and not the answer.
pub(super) async fn drain(mut body: BodyDataStream) {
    let reading = async {
        let mut left = DRAINED;
        while let Some(Ok(frame)) = body.next().await {
            match left.checked_sub(frame.len()) {
                Some(less) => left = less,
                None => return,
            }
        }
    };
    // One that is slower than this finds out by the close.
    let _ = tokio::time::timeout(DRAIN, reading).await;
}

/// Reads a body as it is sent, within its limit and its time, from a sender that may send now.
pub(super) async fn read_packed(receiving: &Arc<Receiving>, sender: &Sender, body: Body) -> Result<(Vec<u8>, Charge)> {
    if let Err(e) = not_drained(receiving).and_then(|()| admit(receiving, sender)) {
        drain(body.into_data_stream()).await;
        return Err(e);
    }
    let limit = receiving.base.settings.mib("limits.body_mib");
    let mut charge = receiving.intake_budget.charge(Owner::Key(sender.key_id));
    let (mut out, mut body) = (Vec::new(), body.into_data_stream());
    let reading = async {
        while let Some(frame) = body.next().await {
            let frame =
                frame.map_err(|e| ("broken-body", ServiceError::BadRequest(format!("the body broke off: {e}"))))?;
            if out.len() + frame.len() > limit {
                let reported =
                    format!("the body is larger than {limit} bytes; send smaller batches, or raise limits.body_mib");
                return Err(("body-too-large", ServiceError::TooLarge(reported)));
            }
            let needed = out.len() + frame.len();
            if needed > out.capacity() {
                // As a vector grows, but asked for before it does.
                let capacity = needed.max(out.capacity() * 2).min(limit);
                charge.set_patiently(capacity).await.map_err(|e| ("no-memory", e))?;
                out.reserve_exact(capacity - out.len());
            }
            out.extend_from_slice(&frame);
        }
        Ok(())
    };
    let patience = receiving.base.settings.seconds("limits.request_s");
    let read = tokio::time::timeout(patience, reading).await.unwrap_or_else(|_| {
        let reported = format!("the body did not come within {} s; send smaller batches", patience.as_secs());
        Err(("slow-body", ServiceError::TooSlow(reported)))
    });
    if let Err((reason, error)) = read {
        super::refuse(&receiving.base, &sender.name, reason, 1, &error.to_string());
        drop((out, charge));
        drain(body).await;
        return Err(error);
    }
    Ok((out, charge))
}

/// Decompresses and hashes a body, in a decoding slot. What is long is unpacked at a lower priority from where it proves
/// to be so, where others send too.
pub(super) async fn unpack(
    receiving: &Arc<Receiving>,
    sender: &Arc<Sender>,
    packed: Bytes,
    packing: Packing,
    charge: Charge,
) -> Result<Received> {
    let limit = receiving.base.settings.mib("limits.unpacked_mib");
    let permit = receiving.decode_slots.acquire(Owner::Key(sender.key_id)).await;
    let bytes_ahead = receiving.decode_slots.bytes_ahead(Owner::Key(sender.key_id));
    let begin = move |until: usize| {
        let mut unpacking = Unpacking::new(packed, packing, limit, charge)?;
        let whole = unpacking.go_on(until)?;
        match whole && unpacking.bytes() <= until {
            true => Ok(Ok(unpacking.finish())),
            false => Ok(Err((unpacking, permit))),
        }
    };
    let begun = if bytes_ahead > 0 {
        ahead(move || begin(bytes_ahead)).await?
    } else {
        receiving.behind.run(move || begin(usize::MAX)).await?
    };
    let unpacked = match begun {
        Ok(Ok(received)) => Ok(received),
        Ok(Err((mut unpacking, permit))) => {
            let going_on = move || {
                let _permit = permit;
                unpacking.go_on(usize::MAX)?;
                Ok(unpacking.finish())
            };
            receiving.behind.run(going_on).await?
        }
        Err(e) => Err(e),
    };
    unpacked.map_err(|e| {
        let (reason, error) = match e {
            Unpack::NoMemory(e) => ("no-memory", e),
            Unpack::TooLarge => {
                let reported = format!(
                    "the body is larger than {limit} bytes when decompressed; send smaller batches, or raise limits.unpacked_mib"
                );
                ("body-too-large", ServiceError::TooLarge(reported))
            }
            Unpack::Broken(e) => {
                let name = if packing == Packing::Gzip { "gzip" } else { "zstd" };
                ("broken-encoding", ServiceError::BadRequest(format!("the body is not {name}: {e}")))
            }
        };
        super::refuse(&receiving.base, &sender.name, reason, 1, &error.to_string());
        error
    })
}

/// A charge is lowered, which never fails.
fn drop_to(charge: &mut Charge, bytes: usize) {
    if bytes < charge.bytes() {
        let _ = charge.set(bytes);
    }
}

/// Why a body was not decompressed.
enum Unpack {
    NoMemory(ServiceError),
    TooLarge,
    Broken(String),
}

/// A body on its way from packed to whole.
struct Unpacking {
    /// What is left to read; none of a body that came as it is.
    from: Option<Box<dyn Read + Send>>,
    out: Vec<u8>,
    /// A body that came as it is.
    plain: Bytes,
    /// Bytes in memory beside `out`.
    held: usize,
    limit: usize,
    charge: Charge,
}

impl Unpacking {
    fn new(packed: Bytes, packing: Packing, limit: usize, charge: Charge) -> std::result::Result<Self, Unpack> {
        let broken = |e: std::io::Error| Unpack::Broken(e.to_string());
        let window = if packing == Packing::Zstd { 1 << ZSTD_WINDOW_LOG } else { 0 };
        let held = packed.len() + window;
        let mut plain = Bytes::new();
        let from: Option<Box<dyn Read + Send>> = match packing {
            Packing::None => {
                plain = packed;
                None
            }
            Packing::Gzip => Some(Box::new(flate2::bufread::MultiGzDecoder::new(Cursor::new(packed)))),
            Packing::Zstd => {
                let mut decoder = zstd::Decoder::with_buffer(Cursor::new(packed)).map_err(broken)?;
                decoder.window_log_max(ZSTD_WINDOW_LOG).map_err(broken)?;
                Some(Box::new(decoder))
            }
        };
        Ok(Unpacking { from, out: Vec::new(), plain, held, limit, charge })
    }

    /// Reads what the decompressor gives, until there are more than `until` bytes; whether that was all.
    fn go_on(&mut self, until: usize) -> std::result::Result<bool, Unpack> {
        let Some(from) = &mut self.from else { return Ok(true) };
        loop {
            if self.out.len() + STEP > self.out.capacity() {
                let capacity = (self.out.capacity() * 2).clamp(STEP, self.limit + STEP);
                self.charge.set(self.held + capacity).map_err(Unpack::NoMemory)?;
                self.out.reserve_exact(capacity.saturating_sub(self.out.len()));
            }
            let read = from.take(STEP as u64).read_to_end(&mut self.out).map_err(|e| Unpack::Broken(e.to_string()))?;
            let_others_in();
            if self.out.len() > self.limit {
                return Err(Unpack::TooLarge);
            }
            if read < STEP {
                self.from = None;
                return Ok(true);
            }
            if self.out.len() > until {
                return Ok(false);
            }
        }
    }

    /// The bytes as they were sent or unpacked so far.
    fn bytes(&self) -> usize {
        self.out.len().max(self.plain.len())
    }

    /// The whole body, hashed, and charged for what it is.
    fn finish(mut self) -> Received {
        let bytes = if self.plain.is_empty() { Bytes::from(self.out) } else { self.plain };
        drop_to(&mut self.charge, bytes.len());
        Received { hash: blake3::hash(&bytes).into(), bytes, charge: self.charge }
    }
}
