//! Step 9, sealing: a head that is full, old, or in the way of memory becomes a chunk.

use super::view::Head;
use crate::error::Result;
use crate::state::App;
use calvex_core::batch::HeadKey;
use calvex_core::chunk::{BuiltChunk, build_chunks};
use calvex_core::columns::PageRead;
use calvex_core::event::time::day_of;
use calvex_core::retention::{bucket_day, visible_until_ns};
use calvex_store::{ChunkRow, Seal, StoreError, chunk_id};
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Duration;

/// The catalogue row of a chunk of one head.
pub(crate) fn catalogued(chunk: &BuiltChunk, key: HeadKey, bucket: i32, visible_until_ns: i64) -> ChunkRow {
    ChunkRow {
        id: chunk.id,
        lane: key.lane,
        day: key.day,
        bucket,
        visible_until_ns,
        time_min: chunk.time_min,
        time_max: chunk.time_max,
        rows: chunk.rows as u32,
        bytes: chunk.bytes() as u64,
        parts: chunk.parts.len() as u16,
        late: key.late,
        rollup: None,
    }
}

/// Seals heads as they come due.
pub struct Sealer {
    app: Arc<App>,
    /// Numbers this epoch's chunks.
    number: AtomicU32,
    /// The journal table written to now; older ones are dropped once empty.
    table: Arc<AtomicU32>,
    /// All tables below this one are dropped.
    dropped_below: AtomicU32,
}

impl Sealer {
    /// For a running service.
    pub fn new(app: Arc<App>, table: Arc<AtomicU32>) -> Self {
        Sealer { app, number: AtomicU32::new(1), table, dropped_below: AtomicU32::new(0) }
    }

    /// Ids for chunks of this epoch, each given once.
    pub fn numbers(&self, count: u32) -> impl Iterator<Item = u64> + Send + use<> {
        let first = self.number.fetch_add(count, Ordering::SeqCst);
        let (node, epoch) = (self.app.claim.node, self.app.claim.epoch);
        (first..first + count).map(move |n| chunk_id(node, epoch, n))
    }

    /// Seals every head that is due; with `all`, every head. How many were sealed.
    ///
    /// # Errors
    /// Where the database fails; the events are then still in the journal and in memory.
    pub async fn run(&self, all: bool) -> Result<usize> {
        let app = &self.app;
        let (rows, age_ns) =
            (app.settings.number("head.seal_rows"), app.settings.number("head.seal_age_s") as i64 * 1_000_000_000);
        let now_ns = (app.clock)();
        let mut sealed = 0;
        loop {
            let over_budget = app.view.head_size().1 > app.settings.mib("head.budget_mib");
            let heaviest = if over_budget { app.view.heaviest() } else { None };
            let due = |key: &HeadKey, head: &Head| {
                all || head.events as u64 >= rows || now_ns - head.born_ns >= age_ns || Some(*key) == heaviest
            };
            let Some((key, head)) = app.view.begin_seal(due) else { break };
            self.seal(key, head).await?;
            sealed += 1;
        }
        if sealed > 0 || self.dropped_below.load(Ordering::SeqCst) < self.table.load(Ordering::SeqCst) {
            self.drop_empty_tables().await?;
        }
        Ok(sealed)
    }

    async fn seal(&self, key: HeadKey, head: Head) -> Result<()> {
        let app = &self.app;
        let pages = head.pages.clone();
        // More chunks than one are so rare that their numbers may leave a gap.
        let mut ids = self.numbers(64);
        let building = tokio::task::spawn_blocking(move || {
            let sources: Vec<&dyn PageRead> = pages.iter().map(|p| p.as_ref() as &dyn PageRead).collect();
            build_chunks(&sources, || ids.next().unwrap_or(0))
        });
        let built = building.await.map_err(|e| StoreError::Server(format!("a chunk could not be built: {e}")))?;
        let built = built.map_err(StoreError::Core)?;
        let retention = app.catalogue.get().lane(key.lane).map_or(0, |l| l.retention_days);
        let visible = visible_until_ns(key.day, retention);
        let mut pause = Duration::from_millis(50);
        loop {
            let bucket = bucket_day(visible, day_of((app.clock)()));
            let rows: Vec<ChunkRow> = built.iter().map(|c| catalogued(c, key, bucket, visible)).collect();
            match self.store(&built, &rows, &head).await {
                Ok(()) => {
                    app.cache.filters.keep(&built);
                    app.view.finish_seal(key, &head, &rows);
                    app.metrics.seals.inc_by(rows.len() as u64);
                    return Ok(());
                }
                Err(StoreError::Fenced(name)) => return Err(StoreError::Fenced(name).into()),
                Err(e) => {
                    app.metrics.seal_failures.inc();
                    tracing::warn!("a seal is tried again: {e}");
                    tokio::time::sleep(pause).await;
                    pause = (pause * 2).min(Duration::from_secs(5));
                }
            }
        }
    }

    async fn store(&self, built: &[BuiltChunk], rows: &[ChunkRow], head: &Head) -> std::result::Result<(), StoreError> {
        let app = &self.app;
        let parts: Vec<(ChunkRow, &[Vec<u8>])> =
            rows.iter().cloned().zip(built.iter().map(|c| c.parts.as_slice())).collect();
        app.store.write_chunks(&parts).await?;
        app.store.seal(&app.claim, &Seal { chunks: rows.to_vec(), covers: head.rows.clone() }).await
    }

    async fn drop_empty_tables(&self) -> Result<()> {
        let current = self.table.load(Ordering::SeqCst);
        let mut all = true;
        for table in self.app.store.journal_tables().await? {
            if table < current {
                all &= self.app.store.drop_journal_table(table).await?;
            }
        }
        if all {
            self.dropped_below.store(current, Ordering::SeqCst);
        }
        Ok(())
    }
}
