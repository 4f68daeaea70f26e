//! Step 9, sealing: a head that is full, old, or in the way of memory becomes a chunk.

use super::view::{Head, HeadKey};
use crate::error::Result;
use crate::state::App;
use calvex_core::chunk::build_chunks;
use calvex_core::columns::gather_all;
use calvex_core::event::time::day_of;
use calvex_core::retention::{bucket_day, visible_until_ns};
use calvex_store::{ChunkRow, Seal, StoreError, chunk_id};
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Duration;

/// Seals heads as they come due.
pub struct Sealer {
    app: Arc<App>,
    /// Numbers this epoch's chunks.
    number: AtomicU32,
    /// The journal table written to now; older ones are dropped once empty.
    table: Arc<AtomicU32>,
}

impl Sealer {
    /// For a running service.
    pub fn new(app: Arc<App>, table: Arc<AtomicU32>) -> Self {
        Sealer { app, number: AtomicU32::new(1), table }
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
        if sealed > 0 {
            self.drop_empty_tables().await?;
        }
        Ok(sealed)
    }

    async fn seal(&self, key: HeadKey, head: Head) -> Result<()> {
        let app = &self.app;
        let first = self.number.fetch_add(1, Ordering::SeqCst);
        let (node, epoch) = (app.claim.node, app.claim.epoch);
        let pages = head.pages.clone();
        // More chunks than one are so rare that their numbers may leave a gap.
        let spare = self.number.fetch_add(64, Ordering::SeqCst);
        let building = tokio::task::spawn_blocking(move || {
            let mut events = Vec::new();
            for page in &pages {
                events.extend(gather_all(page.as_ref())?);
            }
            let mut numbers = std::iter::once(first).chain(spare..);
            build_chunks(events, || chunk_id(node, epoch, numbers.next().unwrap_or(first)))
        });
        let built = building.await.map_err(|e| StoreError::Server(format!("a chunk could not be built: {e}")))?;
        let built = built.map_err(StoreError::Core)?;
        let retention = app.catalogue.get().lane(key.lane).map_or(0, |l| l.retention_days);
        let visible = visible_until_ns(key.day, retention);
        let mut pause = Duration::from_millis(50);
        loop {
            let bucket = bucket_day(visible, day_of((app.clock)()));
            let rows: Vec<ChunkRow> = built
                .iter()
                .map(|c| ChunkRow {
                    id: c.id,
                    lane: key.lane,
                    day: key.day,
                    bucket,
                    visible_until_ns: visible,
                    time_min: c.time_min,
                    time_max: c.time_max,
                    rows: c.rows as u32,
                    bytes: c.bytes() as u64,
                    parts: c.parts.len() as u16,
                    late: key.late,
                })
                .collect();
            match self.store(&built, &rows, &head).await {
                Ok(()) => {
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

    async fn store(
        &self,
        built: &[calvex_core::chunk::BuiltChunk],
        rows: &[ChunkRow],
        head: &Head,
    ) -> std::result::Result<(), StoreError> {
        let app = &self.app;
        for (chunk, row) in built.iter().zip(rows) {
            app.store.open_bucket(row.bucket).await?;
            for (n, part) in chunk.parts.iter().enumerate() {
                app.store.write_part(row.bucket, chunk.id, n as u16, part).await?;
            }
        }
        app.store.seal(&app.claim, &Seal { chunks: rows.to_vec(), covers: head.rows.clone() }).await
    }

    async fn drop_empty_tables(&self) -> Result<()> {
        let current = self.table.load(Ordering::SeqCst);
        for table in self.app.store.journal_tables().await? {
            if table < current {
                self.app.store.drop_journal_table(table).await?;
            }
        }
        Ok(())
    }
}
