//! Parts and directories near at hand: in memory within one budget, on the node's disk within another, read through to
//! MariaDB when missing. Forgetting any of them changes no answer.

use crate::disk_cache::{DiskCache, weigh};
use crate::{ChunkBlooms, Store};
use calvex_language::CoreError;
use calvex_storage::chunk::{ChunkBloom, ChunkSource, ColumnAt, Directory, KeptColumns, VerifiedSegment};
use calvex_storage::columns::Column;
use moka::sync::Cache;
use parking_lot::Mutex;
use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;

/// How often a segment is asked for again while the database is away, and the pause between.
const AWAY_TRIES: u32 = 10;
const AWAY_PAUSE: Duration = Duration::from_millis(200);

/// Segments that one statement reads, and bytes of them that a question holds beside the shared cache.
const AT_ONCE: usize = 64;
const MAX_PREFETCHED: usize = 16 << 20;

/// The segment of memory that directories get.
const DIRECTORY_SHARE: u64 = 4;

/// The shared caches.
#[derive(Clone)]
pub struct SegmentCache {
    segments: Cache<(u64, u16), VerifiedSegment>,
    directories: Cache<u64, Arc<Directory>>,
    disk: Option<DiskCache>,
    /// ChunkBlooms of whole chunks.
    pub filters: Arc<ChunkBlooms>,
}

impl SegmentCache {
    /// With `bytes` of memory, and in `disk` a folder and how many bytes it may hold. Files of this `installation` that
    /// are already there are kept, those of any other are removed.
    pub fn new(bytes: u64, installation: &str, disk: Option<(PathBuf, u64)>) -> Self {
        let directories = bytes / DIRECTORY_SHARE;
        SegmentCache {
            segments: Cache::builder()
                .max_capacity(bytes - directories)
                .weigher(|_, p: &VerifiedSegment| weigh(p.len()))
                .build(),
            directories: Cache::builder()
                .max_capacity(directories)
                .weigher(|_, d: &Arc<Directory>| weigh(d.weight_bytes()))
                .build(),
            disk: disk.and_then(|(folder, bytes)| DiskCache::open(&folder, installation, bytes)),
            filters: Arc::default(),
        }
    }

    /// A reader for one search; `location_of` returns where a chunk's segments stand now.
    pub fn reader<'a>(
        &'a self,
        store: &'a Store,
        runtime: tokio::runtime::Handle,
        location_of: &'a (dyn Fn(u64) -> Option<BucketRef> + Sync),
    ) -> SegmentReader<'a> {
        SegmentReader {
            cache: self,
            store,
            runtime,
            location_of,
            columns: None,
            segments_read: AtomicU64::new(0),
            fetched_bytes: AtomicU64::new(0),
            is_cold: AtomicBool::new(false),
            prefetched: Mutex::default(),
        }
    }

    /// Bytes of what is kept in memory.
    pub fn bytes(&self) -> u64 {
        self.segments.weighted_size() + self.directories.weighted_size()
    }

    /// Forgets a chunk of so many segments, on disk too: it expired or was merged.
    pub fn forget(&self, chunk: u64, checksum: u32, segments: u16) {
        self.directories.invalidate(&chunk);
        self.filters.forget([chunk]);
        (0..segments).for_each(|segment| self.segments.invalidate(&(chunk, segment)));
        if let Some(disk) = &self.disk {
            disk.forget(chunk, checksum, segments);
        }
    }

    /// Forgets what is in memory; with `disk`, the files too. For measuring what a search costs after a restart.
    pub fn clear(&self, disk: bool) {
        self.filters.clear();
        self.segments.invalidate_all();
        self.directories.invalidate_all();
        match &self.disk {
            Some(files) if disk => files.clear(),
            Some(files) => files.settle(),
            None => {}
        }
    }
}

/// Where the segments of a chunk or bloom set stand, and what they are.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct BucketRef {
    /// The bucket of their table.
    pub bucket: i32,
    /// Their checksum, as catalogued.
    pub checksum: u32,
}

/// Gets chunks for one search. Must be used off the async threads: a missing segment blocks until it is fetched.
pub struct SegmentReader<'a> {
    cache: &'a SegmentCache,
    store: &'a Store,
    runtime: tokio::runtime::Handle,
    location_of: &'a (dyn Fn(u64) -> Option<BucketRef> + Sync),
    columns: Option<&'a ColumnCache>,
    segments_read: AtomicU64,
    fetched_bytes: AtomicU64,
    /// Whether a segment was not at hand.
    is_cold: AtomicBool,
    prefetched: Mutex<Prefetched>,
}

/// What was prefetched and may not have found a place in the shared cache.
#[derive(Default)]
struct Prefetched {
    segments: HashMap<(u64, u16), VerifiedSegment>,
    bytes: usize,
}

/// Columns that are kept decoded, within so many bytes; those that are used seldom go first.
pub struct ColumnCache {
    columns: Cache<ColumnAt, Arc<Column>>,
    /// Nothing where each column is kept that is asked for.
    asked_for: Option<Cache<ColumnAt, ()>>,
}

/// Columns of which is remembered that they were asked for.
const ASKED_FOR: u64 = 65_536;

impl ColumnCache {
    /// Of so many bytes: a column of which few rows are asked for is kept when it is asked for again.
    pub fn new(bytes: u64) -> Self {
        ColumnCache { asked_for: Some(Cache::new(ASKED_FOR)), ..ColumnCache::of_all(bytes) }
    }

    /// Of so many bytes: each column is kept that is asked for, since many questions of it are sure to come.
    pub fn of_all(bytes: u64) -> Self {
        let weigher = |_: &ColumnAt, column: &Arc<Column>| weigh(column.weight_bytes());
        ColumnCache { columns: Cache::builder().max_capacity(bytes).weigher(weigher).build(), asked_for: None }
    }

    /// Bytes of those that are kept.
    pub fn bytes(&self) -> u64 {
        self.columns.weighted_size()
    }

    /// Forgets all of them.
    pub fn clear(&self) {
        self.columns.invalidate_all();
        self.asked_for.iter().for_each(Cache::invalidate_all);
    }
}

impl KeptColumns for ColumnCache {
    fn get(&self, at: ColumnAt) -> Option<Arc<Column>> {
        self.columns.get(&at)
    }

    fn keep(&self, at: ColumnAt, column: &Arc<Column>) {
        self.columns.insert(at, column.clone());
    }

    fn was_asked_for(&self, at: ColumnAt) -> bool {
        let Some(asked_for) = &self.asked_for else { return true };
        let before = asked_for.contains_key(&at);
        if !before {
            asked_for.insert(at, ());
        }
        before
    }
}

impl<'a> SegmentReader<'a> {
    /// The same, with columns that stay decoded for others.
    pub fn keeping(mut self, columns: Option<&'a ColumnCache>) -> Self {
        self.columns = columns;
        self
    }

    /// Parts read so far, and bytes of those that came from the database.
    pub fn reads(&self) -> (u64, u64) {
        (self.segments_read.load(Ordering::Relaxed), self.fetched_bytes.load(Ordering::Relaxed))
    }

    /// Reads a segment; a database that is just coming back is waited for a little, so that an answer is whole.
    async fn read(&self, bucket: i32, chunk: u64, segment: u16) -> crate::Result<Vec<u8>> {
        let mut tries = 0;
        loop {
            match self.store.read_segment(bucket, chunk, segment).await {
                Err(e) if e.is_passing() && tries < AWAY_TRIES => tries += 1,
                read => return read,
            }
            tokio::time::sleep(AWAY_PAUSE).await;
        }
    }

    fn fetch(&self, bucket: i32, chunk: u64, segment: u16) -> calvex_language::error::Result<VerifiedSegment> {
        let read = self.runtime.block_on(self.read(bucket, chunk, segment));
        let bytes = read
            .map_err(|e| CoreError::Unavailable(format!("chunk {chunk:x} segment {segment} could not be read: {e}")))?;
        self.fetched_bytes.fetch_add(bytes.len() as u64, Ordering::Relaxed);
        VerifiedSegment::check(bytes, chunk, segment)
    }

    /// Keeps a segment for other questions, in memory and on disk.
    fn keep(&self, at: BucketRef, (chunk, segment): (u64, u16), fetched: &VerifiedSegment) {
        if let Some(disk) = &self.cache.disk {
            disk.write((chunk, at.checksum, segment), fetched.clone());
        }
        self.cache.segments.insert((chunk, segment), fetched.clone());
    }
}

impl Prefetched {
    fn add(&mut self, key: (u64, u16), segment: VerifiedSegment) {
        if self.bytes + segment.len() > MAX_PREFETCHED {
            self.segments.clear();
            self.bytes = 0;
        }
        self.bytes += segment.len();
        let replaced = self.segments.insert(key, segment);
        self.bytes -= replaced.map_or(0, |segment| segment.len());
    }
}

impl ChunkSource for SegmentReader<'_> {
    fn columns(&self) -> Option<&dyn KeptColumns> {
        self.columns.map(|columns| columns as &dyn KeptColumns)
    }

    fn chunk_bloom(&self, chunk: u64) -> Option<Arc<ChunkBloom>> {
        self.cache.filters.get(chunk)
    }

    fn directory(&self, chunk: u64) -> calvex_language::error::Result<Arc<Directory>> {
        if let Some(directory) = self.cache.directories.get(&chunk) {
            return Ok(directory);
        }
        let directory = Arc::new(Directory::read(chunk, &self.segment(chunk, 0)?)?);
        self.cache.directories.insert(chunk, directory.clone());
        // The directory is kept decoded; its segment would take the room of one that is read again.
        self.cache.segments.invalidate(&(chunk, 0));
        Ok(directory)
    }

    fn segment(&self, chunk: u64, segment: u16) -> calvex_language::error::Result<VerifiedSegment> {
        let key = (chunk, segment);
        self.segments_read.fetch_add(1, Ordering::Relaxed);
        if let Some(segment) = self.cache.segments.get(&key) {
            return Ok(segment);
        }
        if let Some(segment) = self.prefetched.lock().segments.get(&key) {
            return Ok(segment.clone());
        }
        let gone = || CoreError::Unavailable(format!("chunk {chunk:x} has expired while it was searched"));
        let at = (self.location_of)(chunk).ok_or_else(gone)?;
        if let Some(segment) = self.cache.disk.as_ref().and_then(|d| d.read((chunk, at.checksum, segment))) {
            self.cache.segments.insert(key, segment.clone());
            return Ok(segment);
        }
        self.is_cold.store(true, Ordering::Relaxed);
        let fetched = self.fetch(at.bucket, chunk, segment)?;
        self.keep(at, key, &fetched);
        Ok(fetched)
    }

    fn is_cold(&self) -> bool {
        self.is_cold.load(Ordering::Relaxed)
    }

    fn prefetch(&self, chunk: u64, segments: &[u16]) {
        let Some(at) = (self.location_of)(chunk) else { return };
        let missing: Vec<u16> = {
            let prefetched = self.prefetched.lock();
            let on_disk = |n| self.cache.disk.as_ref().is_some_and(|d| d.has((chunk, at.checksum, n)));
            let is_near = |key: &(u64, u16)| {
                prefetched.segments.contains_key(key) || self.cache.segments.contains_key(key) || on_disk(key.1)
            };
            segments.iter().copied().filter(|n| !is_near(&(chunk, *n))).collect()
        };
        // One alone is fetched when it is asked for.
        for some in missing.chunks(AT_ONCE).filter(|_| missing.len() > 1) {
            // What is missing or does not hold is found out by whoever asks for it.
            let read = self.runtime.block_on(self.store.read_segments(at.bucket, chunk, some)).unwrap_or_default();
            for (n, bytes) in read {
                self.fetched_bytes.fetch_add(bytes.len() as u64, Ordering::Relaxed);
                let Ok(segment) = VerifiedSegment::check(bytes, chunk, n) else { continue };
                self.keep(at, (chunk, n), &segment);
                self.prefetched.lock().add((chunk, n), segment);
            }
        }
    }
}
