//! Step 9, sealing: a head that is full, old, or in the way of memory becomes a chunk.

use super::View;
use super::view::Head;
use crate::admission::behind::Behind;
use crate::error::{Result, ServiceError};
use crate::state::Base;
use calvex_answer::retention::{bucket_day, visible_until_ns};
use calvex_intake::batch::HeadKey;
use calvex_language::backoff::Backoff;
use calvex_language::error::Result as CoreResult;
use calvex_language::model::time::day_of;
use calvex_storage::chunk::ChunkMeta;
use calvex_storage::chunk::{BuiltChunk, build_chunks};
use calvex_storage::columns::PageRead;
use calvex_store::{Seal, SegmentCache, StoreError};
use parking_lot::Mutex;
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, AtomicU64, Ordering};
use std::time::Duration;

/// The catalogue row of a chunk of one head.
pub fn catalogued(chunk: &BuiltChunk, key: HeadKey, bucket: i32, visible_until_ns: i64) -> ChunkMeta {
    ChunkMeta {
        id: chunk.id,
        lane: key.lane,
        day: key.day,
        bucket,
        visible_until_ns,
        time_min: chunk.time_min,
        time_max: chunk.time_max,
        rows: chunk.rows as u32,
        bytes: chunk.bytes() as u64,
        segments: chunk.segments.len() as u16,
        late: key.late,
        checksum: chunk.checksum(),
        bloom_set: None,
    }
}

/// Seals heads as they come due.
pub struct Sealer {
    base: Arc<Base>,
    view: Arc<View>,
    cache: Arc<SegmentCache>,
    /// The threads that build chunks.
    building: Behind,
    /// The next chunk's id.
    next_chunk: Arc<AtomicU64>,
    /// The journal table written to now; those before it are dropped once empty, but in a cluster.
    table: Arc<AtomicU32>,
    /// All tables below this one are dropped.
    dropped_below: AtomicU32,
    /// Heads that could not be sealed, and when they are tried again, nanoseconds from 1970.
    postponed: Mutex<Vec<(HeadKey, Head, i64)>>,
}

/// Tries of a seal whose error does not pass by itself.
const TRIES: u32 = 5;
/// Pause before a head that could not be sealed is tried again.
const POSTPONED_NS: i64 = 60_000_000_000;

impl Sealer {
    /// For a running service.
    pub fn new(
        base: Arc<Base>,
        view: Arc<View>,
        cache: Arc<SegmentCache>,
        building: Behind,
        table: Arc<AtomicU32>,
    ) -> Self {
        let next = base.claim.first_chunk;
        Sealer {
            base,
            view,
            cache,
            building,
            next_chunk: Arc::new(AtomicU64::new(next)),
            table,
            dropped_below: AtomicU32::new(0),
            postponed: Mutex::default(),
        }
    }

    /// Ids for chunks, each given once; as many as are asked for.
    pub fn numbers(&self) -> impl Iterator<Item = u64> + Send + use<> {
        let next = self.next_chunk.clone();
        std::iter::repeat_with(move || next.fetch_add(1, Ordering::SeqCst))
    }

    /// Runs `work`, which builds chunks or their filters, on the threads for that.
    ///
    /// # Errors
    /// What `work` returns, or where it broke off, which only a defect could cause.
    pub async fn build<T: Send + 'static>(&self, work: impl FnOnce() -> CoreResult<T> + Send + 'static) -> Result<T> {
        let built = self.building.run(work).await;
        let built = built.map_err(|e| StoreError::Server(format!("chunks or filters could not be built: {e}")))?;
        Ok(built.map_err(StoreError::Core)?)
    }

    /// Seals every head that is due; with `all`, every head. How many were sealed.
    ///
    /// # Errors
    /// Where the database fails; the events are then still in the journal and in memory.
    pub async fn run(&self, all: bool) -> Result<usize> {
        let base = &self.base;
        let (rows, age_ns) =
            (base.settings.number("head.seal_rows"), base.settings.number("head.seal_age_s") as i64 * 1_000_000_000);
        let now_ns = (base.clock)();
        let mut sealed = self.seal_again(all).await?;
        let mut table = self.table.load(Ordering::SeqCst);
        loop {
            let over_budget = self.view.head_size().1 > base.settings.mib("head.budget_mib");
            let heaviest = if over_budget { self.view.heaviest() } else { None };
            let due = |key: &HeadKey, head: &Head| {
                all || head.events as u64 >= rows || now_ns - head.born_ns >= age_ns || Some(*key) == heaviest
            };
            let Some((key, head)) = self.view.begin_seal(due) else { break };
            sealed += usize::from(self.seal(key, head).await?);
            // While events come faster than heads are sealed, one is always due, and this does not end: once a journal table
            // the rest is done too.
            let current = self.table.load(Ordering::SeqCst);
            if table != current {
                table = current;
                self.drop_empty_tables().await?;
                sealed += self.seal_again(false).await?;
            }
        }
        if sealed > 0 || self.dropped_below.load(Ordering::SeqCst) < self.table.load(Ordering::SeqCst) {
            self.drop_empty_tables().await?;
        }
        Ok(sealed)
    }

    /// Whether the node is to keep nothing in memory.
    pub fn is_draining(&self) -> bool {
        self.base.nodes.is_draining()
    }

    /// Whether a head could not be sealed when it was tried last.
    pub fn is_failing(&self) -> bool {
        !self.postponed.lock().is_empty()
    }

    /// Seals a head, however long the database is away. One that cannot be sealed for another reason is set aside for a
    /// while, so that the others go on; its events stay searchable, and its journal rows stay. Whether it was sealed.
    async fn seal(&self, key: HeadKey, head: Head) -> Result<bool> {
        match self.seal_surely(key, &head).await {
            Err(ServiceError::Store(StoreError::Fenced(name))) => Err(StoreError::Fenced(name).into()),
            Err(e) => {
                self.base.metrics.seal_failures.inc();
                tracing::error!(
                    lane = key.lane,
                    day = key.day,
                    "a head cannot be sealed and is tried again later: {e}"
                );
                self.postponed.lock().push((key, head, (self.base.clock)() + POSTPONED_NS));
                Ok(false)
            }
            Ok(()) => Ok(true),
        }
    }

    async fn seal_surely(&self, key: HeadKey, head: &Head) -> Result<()> {
        let base = &self.base;
        let pages = head.pages.clone();
        let mut ids = self.numbers();
        let building = move || {
            let sources: Vec<&dyn PageRead> = pages.iter().map(|p| p.as_ref() as &dyn PageRead).collect();
            build_chunks(&sources, || ids.next().unwrap_or(0))
        };
        let built = self.build(building).await?;
        let retention = base.config.get().lane(key.lane).map_or(0, |l| l.retention_days);
        let visible = visible_until_ns(key.day, retention);
        let mut backoff = Backoff::new(Duration::from_millis(50), Duration::from_secs(5));
        let mut left = TRIES;
        loop {
            let bucket = bucket_day(visible, day_of((base.clock)()));
            let rows: Vec<ChunkMeta> = built.iter().map(|c| catalogued(c, key, bucket, visible)).collect();
            match self.store(&built, &rows, head).await {
                Ok(()) => {
                    self.cache.filters.keep(&built);
                    self.view.finish_seal(key, head, &rows);
                    base.metrics.seals.inc_by(rows.len() as u64);
                    return Ok(());
                }
                Err(e) => {
                    // A bucket that is closing is another one at the next try; anything else that does not pass is not.
                    left = if e.is_passing() { TRIES } else { left - 1 };
                    if left == 0 || matches!(e, StoreError::Fenced(_)) {
                        return Err(e.into());
                    }
                    base.metrics.seal_failures.inc();
                    base.metrics.retries.note("seal", &e);
                    tracing::warn!("a seal is tried again: {e}");
                    tokio::time::sleep(backoff.pause()).await;
                }
            }
        }
    }

    /// Seals heads that were set aside and are due again; how many were sealed.
    async fn seal_again(&self, all: bool) -> Result<usize> {
        let mut sealed = 0;
        for (key, head) in self.due_again(all) {
            sealed += usize::from(self.seal(key, head).await?);
        }
        Ok(sealed)
    }

    /// Heads that were set aside and are due again.
    fn due_again(&self, all: bool) -> Vec<(HeadKey, Head)> {
        let now_ns = (self.base.clock)();
        let mut postponed = self.postponed.lock();
        let due = postponed.extract_if(.., |(_, _, at_ns)| all || *at_ns <= now_ns);
        due.map(|(key, head, _)| (key, head)).collect()
    }

    async fn store(
        &self,
        built: &[BuiltChunk],
        rows: &[ChunkMeta],
        head: &Head,
    ) -> std::result::Result<(), StoreError> {
        let base = &self.base;
        let segments: Vec<(ChunkMeta, &[Vec<u8>])> =
            rows.iter().cloned().zip(built.iter().map(|c| c.segments.as_slice())).collect();
        base.store.write_chunks(&segments).await?;
        base.store.seal(&base.claim, &Seal { chunks: rows.to_vec(), covers: head.rows.clone() }).await
    }

    async fn drop_empty_tables(&self) -> Result<()> {
        let current = self.table.load(Ordering::SeqCst);
        let mut all = true;
        for table in self.base.store.journal_tables().await? {
            let (own, alone) = (table.slot == self.base.claim.slot, self.base.nodes.is_alone());
            // Tables of other slots are theirs to drop; alone, they were left by nodes that are dead.
            if own && self.base.store.is_past(table, current) || !own && alone {
                all &= self.base.store.drop_journal_table(table).await?;
            }
        }
        if all {
            self.dropped_below.store(current, Ordering::SeqCst);
        }
        Ok(())
    }
}
