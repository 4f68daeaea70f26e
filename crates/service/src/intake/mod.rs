//! Steps 1 to 6: bytes from a sender to normalised events on their way to a lane.

mod body;
mod events;
mod grpc;
pub mod ledger;
pub mod limits;
mod lines;
mod otlp;
pub mod probe;
pub mod sender;
mod streams;
mod syslog;

pub use events::post_events;
pub use grpc::router as grpc_router;
pub use lines::serve as serve_lines;
pub use otlp::{post_logs, post_metrics, post_traces};
pub use syslog::{serve_tcp as serve_syslog_tcp, serve_tls as serve_syslog_tls, serve_udp as serve_syslog_udp};

use crate::admission::budget::{Charge, Owner};
use crate::error::{Result, ServiceError};
use crate::intake::ledger::shortened;
use crate::intake::sender::Sender;
use crate::metrics::LaneLabel;
use crate::pipeline::{HeadPage, Receipt, Submission, Wait};
use crate::state::Shared;
use axum::http::HeaderMap;
use calvex_intake::arrivals::{Tally, tally};
use calvex_intake::batch::{Aside, BatchBuilder, Cause, Policy, Reading, Refused};
use calvex_intake::normalise::{Arrival, Limits};
use calvex_storage::columns::PageRead;
use calvex_store::StoreError;
use calvex_wire::api::{IDEMPOTENCY_HEADER, RefusedEvent, SendAnswer};
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::Ordering;

/// Bytes of the answer that is kept with a receipt; what is beyond is given back without the refused events.
const MAX_KEPT_ANSWER: usize = 16 << 10;
/// Bytes of memory that the pages of a body take for each of its bytes, before it is known, and those of any body.
const PAGES_PER_BYTE: usize = 3;
const MIN_PAGES: usize = 64 << 10;
/// Bytes of one refusal's message in an answer.
const MAX_MESSAGE: usize = 500;

/// A body to be decoded, and what distinguishes it from others.
struct Body<D> {
    /// None where the same bytes may rightly come twice: on streams and datagrams, which nobody repeats.
    hash: Option<[u8; 32]>,
    /// What it holds of the intake's budget.
    charge: Charge,
    /// Bytes that are held while it is decoded.
    bytes: usize,
    /// Puts its events into a batch.
    decode: D,
}

impl<D> Body<D> {
    fn received(received: body::Received, decode: D) -> Self {
        Body { hash: Some(received.hash), bytes: received.bytes.len(), charge: received.charge, decode }
    }
}

/// Whether a sender may send at all now; asked before its body is read.
fn admit(app: &Shared, sender: &Sender) -> Result<()> {
    if app.intake.disk_full.load(Ordering::Relaxed) {
        return Err(ServiceError::Busy("the disk is nearly full; free some, or shorten a lane's retention".into(), 60));
    }
    if let Err(e) = app.limits.check_rate(sender.key_id, sender.limits.rate, (app.clock)()) {
        refuse(app, &sender.name, "rate", 1, "");
        return Err(e);
    }
    if app.view.head_size().1 > app.settings.mib("head.budget_mib") * 2 {
        return Err(ServiceError::Busy("events come in faster than they are sealed; slow down".into(), 1));
    }
    Ok(())
}

/// Takes a batch: decodes, normalises, routes, stores, and answers. The same for every way in.
async fn take(
    app: &Shared,
    headers: &HeaderMap,
    sender: Arc<Sender>,
    body: Body<impl FnOnce(&mut BatchBuilder, &mut Reading) -> Result<()> + Send + 'static>,
) -> Result<SendAnswer> {
    let Body { hash: body_hash, mut charge, bytes, decode } = body;
    admit(app, &sender)?;
    let given = idempotency_of(headers)?;
    let mark = match given.zip(body_hash) {
        Some((key, body_hash)) => {
            let mark = app.intake.mark(sender.key_id, key)?;
            if let Some(answer) = known_answer(app, &sender, key, body_hash).await? {
                return Ok(answer);
            }
            Some((key, Repeat::Mark(mark)))
        }
        None => None,
    };

    // The pages that the events become are charged before they are made: a small body makes small ones, and none make
    // more than `batch_bytes`.
    let limits = event_limits(app);
    let room = bytes.saturating_mul(PAGES_PER_BYTE).clamp(MIN_PAGES, limits.batch_bytes);
    charge.set_patiently(charge.bytes() + room).await?;
    let permit = app.decode_slots.acquire(Owner::Key(sender.key_id)).await;
    let (app2, sender2) = (app.clone(), sender.clone());
    let decoding = move || {
        let _permit = permit;
        prepare(&app2, &sender2, limits, decode)
    };
    let batch = if bytes <= app.decode_slots.bytes_ahead(Owner::Key(sender.key_id)) {
        let taken = tokio::task::spawn_blocking(decoding).await;
        taken.map_err(|e| ServiceError::BadRequest(format!("the body could not be decoded: {e}")))??
    } else {
        app.behind.run(decoding).await??
    };
    // The body is gone; its pages are held until they are committed.
    let weight: usize = batch.pages.iter().map(|p| p.page.weight_bytes()).sum();
    charge.set(weight.min(charge.bytes()))?;
    let answer = batch.answer;
    if sender.limits.rate.is_some() {
        app.limits.sent(sender.key_id, (answer.stored + answer.set_aside + answer.refused) as u64);
    }

    let mark = match mark {
        Some(mark) => Some(mark),
        // A body whose events all carry their own time is the same only when it is sent again; one without times may
        // rightly be sent twice, and is stored twice.
        None if batch.timed && !batch.pages.is_empty() => match body_hash {
            Some(body_hash) => repeat_mark(app, &sender, body_hash).await?,
            None => None,
        },
        None => None,
    };
    // A sender that can ask again for the outcome is answered in time; any other waits until it is known, since it could
    // only send the same events again.
    let wait = if mark.is_some() { Wait::ForAnswer } else { Wait::ForOutcome };
    if let Some((_, Repeat::Answered(answer))) = mark {
        app.metrics.repeated.inc();
        give_back(app, &sender, &batch.tallies);
        return Ok(SendAnswer { repeated: true, ..answer });
    }
    let stored = kept_answer(&answer);
    let (receipt, mark) = match mark {
        Some((idempotency, Repeat::Mark(mark))) => {
            let body = body_hash.unwrap_or_default();
            (Some(Receipt { key_id: sender.key_id, idempotency, body, answer: stored }), Some(mark))
        }
        _ => (None, None),
    };
    if !batch.pages.is_empty() || receipt.is_some() {
        let mut by_lane: BTreeMap<u32, u64> = BTreeMap::new();
        batch.pages.iter().for_each(|p| *by_lane.entry(p.key.lane).or_default() += p.page.rows() as u64);
        if let Err(e) = app.intake.submit(Submission { pages: batch.pages, receipt, mark, charge }, wait).await {
            give_back(app, &sender, &batch.tallies);
            if matches!(e, ServiceError::NotStorable(_)) {
                refuse(app, &sender.name, "not-storable", answer.stored as u64, &e.to_string());
            }
            return Err(e);
        }
        let now_ns = (app.clock)();
        for (lane, late, tallies) in batch.tallies {
            app.ledger.stored(now_ns, &sender.name, lane, late, batch.timed, tallies);
        }
        let config = app.config.get();
        for (lane, events) in by_lane {
            let label = LaneLabel { lane: config.name(lane).to_string() };
            app.metrics.stored.get_or_create(&label).inc_by(events);
        }
    }
    for (reason, count, sample) in batch.refused {
        refuse(app, &sender.name, reason, count as u64, &sample);
    }
    let now_ns = (app.clock)();
    app.ledger.used(now_ns, &sender.name);
    for (cause, aside) in batch.aside {
        app.metrics.set_aside.inc_by(aside.tallies.iter().map(|t| t.events).sum());
        app.ledger.set_aside(now_ns, &sender.name, &cause, aside.lane, aside.tallies);
    }
    app.ledger.held(now_ns, batch.held);
    Ok(answer)
}

/// What was admitted but not stored does not count against quotas.
fn give_back(app: &Shared, sender: &Sender, tallies: &[(u32, bool, Vec<Tally>)]) {
    for (lane, _, tallies) in tallies {
        let (events, bytes) = tallies.iter().fold((0, 0), |(n, b), t| (n + t.events, b + t.bytes));
        app.limits.give_back(&sender.name, *lane, (app.clock)(), events, bytes);
    }
}

/// Counts what was not taken, for the service's own figures and for arrivals.
pub(crate) fn refuse(app: &Shared, sender: &str, reason: &str, count: u64, sample: &str) {
    app.metrics.refuse(reason, count);
    let covered = app.config.get().transforms().cover(sample).into_owned();
    app.ledger.refused((app.clock)(), sender, reason, count, &covered);
}

enum Repeat {
    Mark(crate::pipeline::InFlightMark),
    Answered(SendAnswer),
}

fn idempotency_of(headers: &HeaderMap) -> Result<Option<[u8; 32]>> {
    let Some(value) = headers.get(IDEMPOTENCY_HEADER) else { return Ok(None) };
    let bytes = value.as_bytes();
    if bytes.is_empty() || bytes.len() > 256 {
        return Err(ServiceError::BadRequest(format!("{IDEMPOTENCY_HEADER} must have 1 to 256 characters")));
    }
    Ok(Some(Sha256::new().chain_update(b"key\0").chain_update(bytes).finalize().into()))
}

/// The answer given earlier under this idempotency key.
async fn known_answer(app: &Shared, sender: &Sender, key: [u8; 32], body: [u8; 32]) -> Result<Option<SendAnswer>> {
    let Some(receipt) = app.store.receipt(sender.key_id, &key).await? else { return Ok(None) };
    if receipt.body != body {
        refuse(app, &sender.name, "idempotency-misused", 1, "");
        return Err(ServiceError::Conflict(
            "this idempotency key came with another body before; use a new key for new events".into(),
        ));
    }
    app.metrics.repeated.inc();
    let answer: SendAnswer = serde_json::from_slice(&receipt.answer).unwrap_or_default();
    Ok(Some(SendAnswer { repeated: true, ..answer }))
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

/// Marks a body without an idempotency key. The mark lasts as long as the body is being stored, however long that
/// takes; then the receipt answers, for so long as the window says from the moment it was committed.
async fn repeat_mark(app: &Shared, sender: &Sender, body: [u8; 32]) -> Result<Option<([u8; 32], Repeat)>> {
    let window_s = app.settings.number("intake.repeat_window_s") as i64;
    if window_s == 0 {
        return Ok(None);
    }
    let (now_ns, window_ns) = ((app.clock)(), window_s * 1_000_000_000);
    let mark = app.intake.mark(sender.key_id, body)?;
    // The same body may rightly come again after the window, so a receipt of it is named by its time too.
    let window = (now_ns / window_ns).to_le_bytes();
    let named = Sha256::new().chain_update(b"body\0").chain_update(window).chain_update(body).finalize().into();
    if let Some(receipt) = app.store.receipt_of_body(sender.key_id, &body, now_ns.saturating_sub(window_ns)).await? {
        let answer = serde_json::from_slice(&receipt.answer).unwrap_or_default();
        return Ok(Some((named, Repeat::Answered(answer))));
    }
    Ok(Some((named, Repeat::Mark(mark))))
}

/// Limits of one event and one request, with the longest term of any lane.
fn event_limits(app: &Shared) -> Limits {
    let keep_days = app.config.get().lanes().iter().map(|l| l.retention_days).max().unwrap_or(u32::MAX);
    Limits { keep_days, ..app.settings.event_limits() }
}

/// A batch, normalised, transformed, routed and encoded.
struct Taken {
    pages: Vec<HeadPage>,
    /// Lane, lateness and account of each page.
    tallies: Vec<(u32, bool, Vec<Tally>)>,
    /// What was not stored on purpose, by its cause.
    aside: Vec<(String, Aside)>,
    /// By transform rule, the events it was applied to.
    held: Vec<(String, u64)>,
    /// What was refused: the reason, how many events, and a sample.
    refused: Vec<(&'static str, usize, String)>,
    answer: SendAnswer,
    timed: bool,
}

/// Decodes, normalises, transforms and routes; what is refused is reported with its line.
fn prepare(
    app: &Shared,
    sender: &Sender,
    limits: Limits,
    decode: impl FnOnce(&mut BatchBuilder, &mut Reading) -> Result<()>,
) -> Result<Taken> {
    let config = app.config.get();
    let now_ns = (app.clock)();
    let arrival =
        Arrival { arrived_ns: now_ns, sender: &sender.name, fixed: &sender.fixed, limits, ties: config.ties() };
    let mut builder = BatchBuilder::new(arrival);
    let mut reading = Reading::default();
    decode(&mut builder, &mut reading)?;
    let policy = Policy {
        transforms: config.transforms(),
        dials: config.dials(),
        routes: config.routes(),
        services: &sender.limits.services,
        lanes: &sender.limits.lanes,
        term: &|lane| config.lane(lane).map_or(("", u32::MAX), |l| (l.name.as_str(), l.retention_days)),
        admit: &|lane, events, bytes| app.limits.admit(lane, sender, &config, now_ns, events, bytes),
    };
    let batch = builder.finish(&reading, &policy).map_err(StoreError::Core)?;
    let set_aside = batch.aside.iter().flat_map(|a| &a.tallies).map(|t| t.events).sum::<u64>() as usize;
    let mut answer =
        SendAnswer { stored: batch.stored, refused: batch.refused.len(), set_aside, ..SendAnswer::default() };
    answer.refusals = batch
        .refused
        .iter()
        .map(|r| RefusedEvent {
            line: r.line,
            reason: r.refusal.reason().to_owned(),
            message: shortened(&r.refusal.to_string(), MAX_MESSAGE).to_owned(),
        })
        .collect();
    let sample_of = |first: Option<&Refused>| match first {
        Some(Refused { refusal, sample: Some(sample), .. }) => format!("{refusal}: {sample}"),
        Some(Refused { refusal, .. }) => refusal.to_string(),
        None => String::new(),
    };
    let refused = batch.refused.by_reason().map(|(reason, count, first)| (reason, count, sample_of(first))).collect();
    let tallies = batch.pages.iter().map(|(key, page)| Ok((key.lane, key.late, tally(page)?)));
    let tallies = tallies.collect::<std::result::Result<Vec<_>, _>>().map_err(StoreError::Core)?;
    let pages = batch.pages.into_iter().map(|(key, page)| HeadPage::new(key, page)).collect();
    let cause = |aside: &Aside| match aside.cause {
        Cause::Rule(rule) => format!("rule {}", config.transforms().name(rule)),
        Cause::Dial(dial) => format!("dial {dial}"),
        Cause::KeyQuota => "daily quota of the key".to_owned(),
        Cause::LaneQuota(lane) => format!("daily quota of lane {}", config.name(lane)),
    };
    let aside = batch.aside.into_iter().map(|a| (cause(&a), a)).collect();
    let held = batch.held.iter().enumerate().filter(|(_, n)| **n > 0);
    let held = held.map(|(rule, n)| (config.transforms().name(rule).to_owned(), *n)).collect();
    Ok(Taken { pages, tallies, aside, held, refused, answer, timed: batch.timed })
}
