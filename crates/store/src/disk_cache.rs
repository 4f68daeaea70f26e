//! Segments on the node's disk. One is one file, `CHUNK-CHECKSUM-PART`, with the segment's bytes as stored, in a folder named
//! after the installation. The checksum is that of the whole chunk as the catalogue has it, so that a file of another
//! database, or of the same one before a restore, is never taken for a segment of a chunk that got the same id. A file's own
//! checksum is verified whenever it is read, and one that does not hold is removed and fetched again. Files are read, not
//! mapped: a mapped file that is cut short under a reader ends the process, and what is read often is in memory anyway.
//!
//! A thread of its own writes them, so that no question waits for it.

use calvex_storage::chunk::VerifiedSegment;
use moka::notification::RemovalCause;
use moka::sync::Cache;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::mpsc::{Receiver, SyncSender, TrySendError, sync_channel};
use std::thread::JoinHandle;

/// Segments that may wait to be written, 64 KiB each; whoever has one more writes it.
const WAITING: usize = 256;

/// A weight for caches.
pub(crate) fn weigh(n: usize) -> u32 {
    u32::try_from(n).unwrap_or(u32::MAX)
}

/// What a file holds: chunk, checksum of the chunk, segment.
pub(crate) type FileKey = (u64, u32, u16);

/// Segments on the node's disk, within so many bytes; the least recently used go first.
#[derive(Clone)]
pub(crate) struct DiskCache {
    files: Files,
    writer: Arc<Writer>,
}

#[derive(Clone)]
struct Files {
    folder: Arc<Path>,
    /// Bytes of each file.
    sizes: Cache<FileKey, u32>,
}

enum Job {
    Write(FileKey, VerifiedSegment),
    /// The files of a chunk with this checksum and so many segments go.
    Forget(u64, u32, u16),
    /// Everything before it is done; whoever waits for that is let go.
    Done(SyncSender<()>),
}

/// Writes files until it goes, and what then still waits.
struct Writer {
    /// Always there but while it goes.
    jobs: Option<SyncSender<Job>>,
    thread: Option<JoinHandle<()>>,
}

impl Drop for Writer {
    fn drop(&mut self) {
        self.jobs = None;
        if let Some(thread) = self.thread.take() {
            // A thread that failed has said why.
            let _ = thread.join();
        }
    }
}

fn file_of(folder: &Path, (chunk, checksum, segment): FileKey) -> PathBuf {
    folder.join(format!("{chunk:016x}-{checksum:08x}-{segment}"))
}

fn key_of(name: &str) -> Option<FileKey> {
    let mut pieces = name.split('-');
    let (chunk, checksum, segment) = (pieces.next()?, pieces.next()?, pieces.next()?);
    let key = (u64::from_str_radix(chunk, 16).ok()?, u32::from_str_radix(checksum, 16).ok()?, segment.parse().ok()?);
    pieces.next().is_none().then_some(key)
}

impl DiskCache {
    /// Opens the folder and takes over what is in it; nothing where it cannot be made.
    pub(crate) fn open(cache: &Path, installation: &str, bytes: u64) -> Option<Self> {
        let files = Files::open(cache, installation, bytes)?;
        let (jobs, waiting) = sync_channel(WAITING);
        let of_thread = files.clone();
        let thread = std::thread::Builder::new().name("disk-cache".into()).spawn(move || of_thread.work(&waiting));
        match thread {
            Ok(thread) => {
                Some(DiskCache { files, writer: Arc::new(Writer { jobs: Some(jobs), thread: Some(thread) }) })
            }
            Err(e) => {
                tracing::warn!("no cache of chunks on disk: no thread for it: {e}");
                None
            }
        }
    }

    /// Whether a segment's file is there, as far as is known.
    pub(crate) fn has(&self, key: FileKey) -> bool {
        self.files.sizes.contains_key(&key)
    }

    /// A segment whose file is there and whole.
    pub(crate) fn read(&self, key: FileKey) -> Option<VerifiedSegment> {
        self.files.read(key)
    }

    /// Writes a segment soon.
    pub(crate) fn write(&self, key: FileKey, segment: VerifiedSegment) {
        match self.writer.jobs.as_ref().map(|jobs| jobs.try_send(Job::Write(key, segment))) {
            None | Some(Ok(())) => {}
            Some(Err(TrySendError::Full(job) | TrySendError::Disconnected(job))) => self.files.run(job),
        }
    }

    /// Removes the files of a chunk soon: after those of its segments that are still to be written.
    pub(crate) fn forget(&self, chunk: u64, checksum: u32, segments: u16) {
        // Where many wait, whoever forgets waits for one of them.
        if let Some(Err(e)) = self.writer.jobs.as_ref().map(|jobs| jobs.send(Job::Forget(chunk, checksum, segments))) {
            self.files.run(e.0);
        }
    }

    /// Removes all files.
    pub(crate) fn clear(&self) {
        self.settle();
        self.files.sizes.invalidate_all();
        self.files.sizes.run_pending_tasks();
    }

    /// Waits until what was to be written is written.
    pub(crate) fn settle(&self) {
        let (done, settled) = sync_channel(1);
        if self.writer.jobs.as_ref().is_some_and(|jobs| jobs.send(Job::Done(done)).is_ok()) {
            // A writer that ended has nothing more to do.
            let _ = settled.recv();
        }
    }
}

impl Files {
    fn work(&self, waiting: &Receiver<Job>) {
        waiting.iter().for_each(|job| self.run(job));
    }

    fn run(&self, job: Job) {
        match job {
            Job::Write(key, segment) => self.write(key, &segment),
            Job::Forget(chunk, checksum, segments) => {
                (0..segments).for_each(|segment| self.sizes.invalidate(&(chunk, checksum, segment)));
            }
            // Whoever waited may be gone.
            Job::Done(done) => drop(done.send(())),
        }
    }

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
        let sizes = Cache::builder()
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
                (Some(key), Ok(meta)) => sizes.insert(key, u32::try_from(meta.len()).unwrap_or(u32::MAX)),
                // A write that never ended.
                _ => drop(std::fs::remove_file(entry.path())),
            }
        }
        Some(Files { folder, sizes })
    }

    /// A segment whose file is there and whole.
    fn read(&self, key: FileKey) -> Option<VerifiedSegment> {
        self.sizes.get(&key)?;
        let read = std::fs::read(file_of(&self.folder, key)).ok();
        match read.map(|bytes| VerifiedSegment::check(bytes, key.0, key.2)) {
            Some(Ok(segment)) => Some(segment),
            damaged => {
                if let Some(Err(e)) = damaged {
                    tracing::warn!("a file of the cache is fetched again: {e}");
                }
                self.sizes.invalidate(&key);
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
            Ok(()) => self.sizes.insert(key, weigh(segment.len())),
            Err(e) => tracing::debug!("a segment was not cached on disk: {e}"),
        }
    }
}
