//! Steps 3 to 6 of one body: decoded, normalised, transformed and routed, off the async threads.

use super::sender::Sender;
use crate::admission::behind::let_others_in;
use crate::error::Result;
use crate::intake::ledger::shortened;
use crate::pipeline::HeadPage;
use crate::state::Receiving;
use calvex_intake::arrivals::{Tally, tally};
use calvex_intake::batch::{Aside, BatchBuilder, Cause, Policy, Reading, Refused};
use calvex_intake::normalise::{Arrival, Limits};
use calvex_store::StoreError;
use calvex_wire::api::{RefusedEvent, SendAnswer};
use std::sync::Arc;

/// Bytes of one refusal's message in an answer.
const MAX_MESSAGE: usize = 500;

/// Limits of one event and one request, with the longest term of any lane.
pub(super) fn event_limits(receiving: &Arc<Receiving>) -> Limits {
    let keep_days = receiving.base.config.get().lanes().iter().map(|l| l.retention_days).max().unwrap_or(u32::MAX);
    Limits { keep_days, ..receiving.base.settings.event_limits() }
}

/// A batch, normalised, transformed, routed and encoded.
pub(super) struct Taken {
    /// By lane, day and lateness.
    pub(super) pages: Vec<HeadPage>,
    /// Lane, lateness and account of each page.
    pub(super) tallies: Vec<(u32, bool, Vec<Tally>)>,
    /// What was not stored on purpose, by its cause.
    pub(super) aside: Vec<(String, Aside)>,
    /// By transform rule, the events it was applied to.
    pub(super) held: Vec<(String, u64)>,
    /// What was refused: the reason, how many events, and a sample.
    pub(super) refused: Vec<(&'static str, usize, String)>,
    /// What the sender is answered once the batch is stored.
    pub(super) answer: SendAnswer,
    /// Whether every event carried its own time.
    pub(super) timed: bool,
}

/// Decodes, normalises, transforms and routes; what is refused is reported with its line.
pub(super) fn prepare(
    receiving: &Arc<Receiving>,
    sender: &Sender,
    limits: Limits,
    decode: impl FnOnce(&mut BatchBuilder, &mut Reading) -> Result<()>,
) -> Result<Taken> {
    let config = receiving.base.config.get();
    let now_ns = (receiving.base.clock)();
    let arrival =
        Arrival { arrived_ns: now_ns, sender: &sender.name, fixed: &sender.fixed, limits, ties: config.ties() };
    let mut builder = BatchBuilder::new(arrival).with_pauses(&let_others_in);
    let mut reading = Reading::default();
    decode(&mut builder, &mut reading)?;
    let policy = Policy {
        transforms: config.transforms(),
        dials: config.dials(),
        routes: config.routes(),
        services: &sender.limits.services,
        lanes: &sender.limits.lanes,
        term: &|lane| config.lane(lane).map_or(("", u32::MAX), |l| (l.name.as_str(), l.retention_days)),
        admit: &|lane, events, bytes| receiving.limits.admit(lane, sender, &config, now_ns, events, bytes),
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
