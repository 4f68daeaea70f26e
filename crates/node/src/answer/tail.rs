//! Step 11, tail: events as they are admitted, to those who follow. Each page is asked for matching rows once it is in its
//! head; one who cannot keep up, or asks for more than [`MAX_PER_SECOND`], misses some and learns how many.

use crate::answer::reads::{record_read, record_shown};
use crate::answer::search::plan;
use crate::auth::{LaneAccess, Reader};
use crate::error::{Result, ServiceError};
use crate::pipeline::Fresh;
use crate::state::Reading;
use axum::body::Bytes;
use calvex_language::model::time::format_utc;
use calvex_language::model::{Value, answer_json};
use calvex_language::query::{Filter, TimeRange};
use calvex_storage::columns::{Page, PageRead, RestrictedPage, materialise, select};
use calvex_wire::api::{SearchRequest, TailLine};
use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::sync::broadcast::Receiver;
use tokio::sync::broadcast::error::RecvError;
use tokio::sync::{OwnedSemaphorePermit, mpsc};

/// Those who follow at once.
pub const AT_ONCE: usize = 64;
/// Events sent to one in a second at most.
const MAX_PER_SECOND: usize = 2000;
/// How often one who hears of nothing learns that there is nothing.
const BEAT: Duration = Duration::from_secs(5);

/// How often it is looked whether one who follows still may, and may read which lanes. What was looked up is kept for two
/// seconds unless it changes on this node, which is seen at once.
const STILL_EVERY: Duration = Duration::from_secs(1);

/// What one who follows is shown where rights change.
const CHANGED: &str = "what you may read has changed; other events pass from now on, or none";

/// One who follows.
pub struct Tail {
    reading: Arc<Reading>,
    reader: Reader,
    filter: Arc<Filter>,
    fresh: Receiver<Fresh>,
    canonical: String,
    /// Events that were shown, by lane.
    passed: HashMap<String, u64>,
    _place: OwnedSemaphorePermit,
}

impl Tail {
    /// Begins to follow what passes the query.
    ///
    /// # Errors
    /// Mistakes in the query, or too many that follow; or where it cannot be recorded that a lane is read which asks for it.
    pub async fn begin(reading: &Arc<Reading>, reader: Reader, ask: &SearchRequest) -> Result<Self> {
        let plan = plan(reading, ask)?;
        if plan.query.measure.is_some() || plan.query.over.is_some() {
            let reported = "what comes has no range and no figures yet; leave `over` and `measure` out";
            return Err(ServiceError::BadRequest(reported.into()));
        }
        let place = reading.tail_slots.clone().try_acquire_owned();
        let place = place.map_err(|_| ServiceError::Busy(format!("{AT_ONCE} follow already; try again later"), 10))?;
        let canonical = plan.query.canonical();
        let scope = reader.scope().asking("follow", &canonical, &TimeRange::ALL);
        record_shown(reading, &scope, "").await?;
        Ok(Tail {
            reading: reading.clone(),
            reader,
            canonical,
            passed: HashMap::new(),
            filter: Arc::new(plan.query.filter),
            fresh: reading.view.follow(),
            _place: place,
        })
    }

    /// Writes lines until nobody reads them any more, or the service stops.
    pub async fn run(mut self, lines: mpsc::Sender<Bytes>) {
        self.follow(lines).await;
        let scope = self.reader.scope().asking("followed", &self.canonical, &TimeRange::ALL);
        if let Err(e) = record_read(&self.reading, &scope, &self.passed).await {
            tracing::warn!("how much was followed could not be recorded: {e}");
        }
    }

    async fn follow(&mut self, lines: mpsc::Sender<Bytes>) {
        let ready = TailLine::Ready { query: self.canonical.clone() };
        if lines.send(line(&ready)).await.is_err() {
            return;
        }
        let (mut second, mut reported, mut missed) = (Instant::now(), 0, 0);
        let mut look_again = tokio::time::interval(STILL_EVERY);
        let mut beat = tokio::time::interval(BEAT);
        beat.reset();
        loop {
            let next = tokio::select! {
                next = self.fresh.recv() => {
                    beat.reset();
                    Ok(next)
                }
                now = beat.tick() => Err(now),
                _ = look_again.tick() => match self.reader.still(&self.reading.auth).await {
                    Ok(Some(reader)) => {
                        let changed = reader.scope().key() != self.reader.scope().key();
                        self.reader = reader;
                        if changed && lines.send(line(&TailLine::Rights { note: CHANGED.to_owned() })).await.is_err() {
                            return;
                        }
                        continue;
                    }
                    // The session or token is gone.
                    Ok(None) => {
                        let note = "the session or token by which this is followed has ended".to_owned();
                        return drop(lines.try_send(line(&TailLine::Rights { note })));
                    }
                    // A database that is away says nothing about rights; the next look will.
                    Err(_) => continue,
                },
                () = lines.closed() => return,
            };
            let mut of_lane = None;
            let events = match next {
                Ok(Ok(Fresh::Page(lane, page))) if self.reader.may_read(lane) => {
                    of_lane = Some(lane);
                    self.passing(lane, page).await
                }
                Ok(Ok(Fresh::Page(..))) => continue,
                Ok(Ok(Fresh::End) | Err(RecvError::Closed)) => return,
                // How many events the pages held that were missed is not known; each held at least one.
                Ok(Err(RecvError::Lagged(pages))) => {
                    missed += pages as usize;
                    Vec::new()
                }
                Err(_) => {
                    let now = format_utc((self.reading.base.clock)(), 3);
                    if lines.send(line(&TailLine::Beat { now })).await.is_err() {
                        return;
                    }
                    Vec::new()
                }
            };
            if second.elapsed() >= Duration::from_secs(1) {
                (second, reported) = (Instant::now(), 0);
            }
            let room = MAX_PER_SECOND.saturating_sub(reported);
            missed += events.len().saturating_sub(room);
            let events: Vec<Value> = events.into_iter().take(room).collect();
            reported += events.len();
            if missed > 0 && lines.try_send(line(&TailLine::Missed { at_least: missed })).is_ok() {
                missed = 0;
            }
            if events.is_empty() {
                continue;
            }
            let count = events.len();
            match lines.try_send(line(&TailLine::Events { events })) {
                Ok(()) => {
                    let lane = of_lane.map(|lane| self.reading.base.config.get().name(lane).to_string());
                    *self.passed.entry(lane.unwrap_or_default()).or_default() += count as u64;
                }
                Err(mpsc::error::TrySendError::Full(_)) => missed += count,
                Err(mpsc::error::TrySendError::Closed(_)) => return,
            }
        }
    }

    /// The events of a page that pass, as they are answered.
    async fn passing(&self, lane: u32, page: Arc<Page>) -> Vec<Value> {
        let config = self.reading.base.config.get();
        let (filter, name) = (self.filter.clone(), config.name(lane));
        let access = self.reader.scope().access(lane, &config);
        let found = tokio::task::spawn_blocking(move || match access {
            LaneAccess::None => Ok(Vec::new()),
            LaneAccess::Whole => passing_of(page.as_ref(), &filter, &name),
            LaneAccess::Part(parts) => {
                let mut events = Vec::new();
                for part in parts {
                    let admitted = part.admitted(page.as_ref())?;
                    let seen = RestrictedPage::new(page.as_ref(), &part, &admitted)?;
                    if seen.rows() > 0 {
                        events.extend(passing_of(&seen, &filter, &name)?);
                    }
                }
                Ok(events)
            }
        });
        match found.await {
            Ok(Ok(events)) => events,
            Ok(Err(e)) => {
                tracing::error!("a page cannot be followed: {e}");
                Vec::new()
            }
            Err(_) => Vec::new(),
        }
    }
}

/// The events of a page that pass, as they are answered.
fn passing_of(page: &dyn PageRead, filter: &Filter, lane: &str) -> calvex_language::error::Result<Vec<Value>> {
    let rows: Vec<usize> = select(filter, page, lane)?.iter().take(MAX_PER_SECOND).collect();
    Ok(materialise(page, &rows)?.iter().map(|e| answer_json(e, lane)).collect())
}

fn line(reported: &TailLine) -> Bytes {
    let mut bytes = serde_json::to_vec(reported).unwrap_or_default();
    bytes.push(b'\n');
    bytes.into()
}
