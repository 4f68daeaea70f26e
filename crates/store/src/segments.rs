//! Parts and directories near at hand: in memory within one budget, on the node's disk within another, read through to
//! MariaDB when missing. Forgetting any of them changes no answer.
//!
//! On disk a segment is one file, `CHUNK-CHECKSUM-PART`, with the segment's bytes as stored, in a folder named after the
//! installation. The checksum is that of the whole chunk as the catalogue has it, so that a file of another database, or
//! of the same one before a restore, is never taken for a segment of a chunk that got the same id. A file's own checksum is
//! verified whenever it is read, and one that does not hold is removed and fetched again. Files are read, not mapped: a mapped file that
//! is cut short under a reader ends the process, and what is read often is in memory anyway.

use crate::{ChunkBlooms, Store};
use calvex_language::CoreError;
use calvex_storage::chunk::{ChunkBloom, ChunkSource, ColumnAt, Directory, KeptColumns, VerifiedSegment};
use calvex_storage::columns::Column;
use moka::notification::RemovalCause;
use moka::sync::Cache;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

/// How often a segment is asked for again while the database is away, and the pause between.
const AWAY_TRIES: u32 = 10;
const AWAY_PAUSE: Duration = Duration::from_millis(200);

/// The segment of memory that directories get.
const DIRECTORY_SHARE: u64 = 4;

fn weigh(n: usize) -> u32 {
    u32::try_from(n).unwrap_or(u32::MAX)
}

/// The shared caches.
#[derive(Clone)]
pub struct SegmentCache {
    segments: Cache<(u64, u16), VerifiedSegment>,
    directories: Cache<u64, Arc<Directory>>,
    disk: Option<Disk>,
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
            disk: disk.and_then(|(folder, bytes)| Disk::open(&folder, installation, bytes)),
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
        }
    }

    /// Forgets a chunk of so many segments, on disk too: it expired or was merged.
    pub fn forget(&self, chunk: u64, checksum: u32, segments: u16) {
        self.directories.invalidate(&chunk);
        self.filters.forget([chunk]);
        for segment in 0..segments {
            self.segments.invalidate(&(chunk, segment));
            if let Some(disk) = &self.disk {
                disk.files.invalidate(&(chunk, checksum, segment));
            }
        }
    }

    /// Forgets what is in memory; with `disk`, the files too. For measuring what a search costs after a restart.
    pub fn clear(&self, disk: bool) {
        self.filters.clear();
        self.segments.invalidate_all();
        self.directories.invalidate_all();
        if let Some(files) = self.disk.as_ref().filter(|_| disk) {
            files.files.invalidate_all();
            files.files.run_pending_tasks();
        }
    }
}

/// Parts on the node's disk; the least recently used go first.
#[derive(Clone)]
struct Disk {
    folder: Arc<Path>,
    /// Bytes of each file.
    files: Cache<FileKey, u32>,
}

/// Where the segments of a chunk or bloom set stand, and what they are.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct BucketRef {
    /// The bucket of their table.
    pub bucket: i32,
    /// Their checksum, as catalogued.
    pub checksum: u32,
}

/// What a file holds: chunk, checksum of the chunk, segment.
type FileKey = (u64, u32, u16);

fn file_of(folder: &Path, (chunk, checksum, segment): FileKey) -> PathBuf {
    folder.join(format!("{chunk:016x}-{checksum:08x}-{segment}"))
}

fn key_of(name: &str) -> Option<FileKey> {
    let mut pieces = name.split('-');
    let (chunk, checksum, segment) = (pieces.next()?, pieces.next()?, pieces.next()?);
    let key = (u64::from_str_radix(chunk, 16).ok()?, u32::from_str_radix(checksum, 16).ok()?, segment.parse().ok()?);
    pieces.next().is_none().then_some(key)
}

impl Disk {
    /// Opens the folder and takes over what is in it; nothing where it cannot be made.
    fn open(cache: &Path, installation: &str, bytes: u64) -> Option<Self> {
        let folder = cache.join(installation);
        for entry in std::fs::read_dir(cache).into_iter().flatten().flatten() {
            let path = entry.path();
            // What is left of another installation, or of a calvex that kept its files here.
            let gone = match path.is_dir() {
                true if path == folder => continue,
                true => std::fs::remove_dir_all(&path),
                false => std::fs::remove_file(&path),
            };
            if let Err(e) = gone {
                tracing::warn!("{} is of no use and cannot be removed: {e}", path.display());
            }
        }
        if let Err(e) = std::fs::create_dir_all(&folder) {
            tracing::warn!("no cache of chunks on disk: {}: {e}", folder.display());
            return None;
        }
        let folder: Arc<Path> = folder.into();
        let evict = folder.clone();
        let files = Cache::builder()
            .max_capacity(bytes)
            .weigher(|_, size: &u32| *size)
            .eviction_listener(move |key: Arc<FileKey>, _, cause| {
                // A replaced entry is the same file, written anew.
                if cause != RemovalCause::Replaced {
                    let _ = std::fs::remove_file(file_of(&evict, *key));
                }
            })
            .build();
        for entry in std::fs::read_dir(&folder).into_iter().flatten().flatten() {
            let name = entry.file_name();
            match (name.to_str().and_then(key_of), entry.metadata()) {
                (Some(key), Ok(meta)) => files.insert(key, u32::try_from(meta.len()).unwrap_or(u32::MAX)),
                // A write that never ended.
                _ => drop(std::fs::remove_file(entry.path())),
            }
        }
        Some(Disk { folder, files })
    }

    /// A segment whose file is there and whole.
    fn read(&self, key: FileKey) -> Option<VerifiedSegment> {
        self.files.get(&key)?;
        let read = std::fs::read(file_of(&self.folder, key)).ok();
        match read.map(|bytes| VerifiedSegment::check(bytes, key.0, key.2)) {
            Some(Ok(segment)) => Some(segment),
            damaged => {
                if let Some(Err(e)) = damaged {
                    tracing::warn!("a file of the cache is fetched again: {e}");
                }
                self.files.invalidate(&key);
                None
            }
        }
    }

    /// Writes a segment beside and moves it in place, so that a file is whole or not there.
    fn write(&self, key: FileKey, segment: &VerifiedSegment) {
        let path = file_of(&self.folder, key);
        let beside = path.with_extension("new");
        let written = std::fs::write(&beside, segment.bytes()).and_then(|()| std::fs::rename(&beside, &path));
        match written {
            Ok(()) => self.files.insert(key, weigh(segment.len())),
            Err(e) => tracing::debug!("a segment was not cached on disk: {e}"),
        }
    }
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
        let gone = || CoreError::Unavailable(format!("chunk {chunk:x} has expired while it was searched"));
        let BucketRef { bucket, checksum } = (self.location_of)(chunk).ok_or_else(gone)?;
        let file = (chunk, checksum, segment);
        let verified = match self.cache.disk.as_ref().and_then(|d| d.read(file)) {
            Some(segment) => segment,
            None => {
                let fetched = self.fetch(bucket, chunk, segment)?;
                if let Some(disk) = &self.cache.disk {
                    disk.write(file, &fetched);
                }
                fetched
            }
        };
        self.cache.segments.insert(key, verified.clone());
        Ok(verified)
    }
}
