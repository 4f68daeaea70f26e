//! Parts and directories kept in memory within a budget, read through to MariaDB when missing. Forgetting any of them
//! changes no answer.

use crate::Store;
use calvex_core::CoreError;
use calvex_core::chunk::{ChunkSource, Directory, VerifiedPart};
use moka::sync::Cache;
use std::sync::Arc;
use std::time::Duration;

/// How often a part is asked for again while the database is away, and the pause between.
const AWAY_TRIES: u32 = 10;
const AWAY_PAUSE: Duration = Duration::from_millis(200);

/// The shared caches.
#[derive(Clone)]
pub struct PartCache {
    parts: Cache<(u64, u16), VerifiedPart>,
    directories: Cache<u64, Arc<Directory>>,
}

impl PartCache {
    /// With `bytes` for parts, and a quarter of that for directories.
    pub fn new(bytes: u64) -> Self {
        let weigh = |n: usize| u32::try_from(n).unwrap_or(u32::MAX);
        PartCache {
            parts: Cache::builder().max_capacity(bytes).weigher(move |_, p: &VerifiedPart| weigh(p.len())).build(),
            directories: Cache::builder()
                .max_capacity(bytes / 4)
                .weigher(move |_, d: &Arc<Directory>| weigh(d.weight_bytes()))
                .build(),
        }
    }

    /// A reader for one search; `bucket_of` tells where a chunk's parts stand now.
    pub fn reader<'a>(
        &'a self,
        store: &'a Store,
        runtime: tokio::runtime::Handle,
        bucket_of: &'a (dyn Fn(u64) -> Option<i32> + Sync),
    ) -> PartReader<'a> {
        PartReader { cache: self, store, runtime, bucket_of }
    }
}

/// Gets chunks for one search. Must be used off the async threads: a missing part blocks until it is fetched.
pub struct PartReader<'a> {
    cache: &'a PartCache,
    store: &'a Store,
    runtime: tokio::runtime::Handle,
    bucket_of: &'a (dyn Fn(u64) -> Option<i32> + Sync),
}

impl PartReader<'_> {
    /// Reads a part; a database that is just coming back is waited for a little, so that an answer is whole.
    async fn read(&self, bucket: i32, chunk: u64, part: u16) -> crate::Result<Vec<u8>> {
        let mut tries = 0;
        loop {
            match self.store.read_part(bucket, chunk, part).await {
                Err(e) if e.is_away() && tries < AWAY_TRIES => tries += 1,
                read => return read,
            }
            tokio::time::sleep(AWAY_PAUSE).await;
        }
    }
}

impl ChunkSource for PartReader<'_> {
    fn directory(&self, chunk: u64) -> calvex_core::error::Result<Arc<Directory>> {
        if let Some(directory) = self.cache.directories.get(&chunk) {
            return Ok(directory);
        }
        let directory = Arc::new(Directory::read(chunk, &self.part(chunk, 0)?)?);
        self.cache.directories.insert(chunk, directory.clone());
        // The directory is kept decoded; its part would take the room of one that is read again.
        self.cache.parts.invalidate(&(chunk, 0));
        Ok(directory)
    }

    fn part(&self, chunk: u64, part: u16) -> calvex_core::error::Result<VerifiedPart> {
        if let Some(part) = self.cache.parts.get(&(chunk, part)) {
            return Ok(part);
        }
        let gone = || CoreError::Unavailable(format!("chunk {chunk:x} has expired while it was searched"));
        let bucket = (self.bucket_of)(chunk).ok_or_else(gone)?;
        let read = self.runtime.block_on(self.read(bucket, chunk, part));
        let bytes =
            read.map_err(|e| CoreError::Unavailable(format!("chunk {chunk:x} part {part} could not be read: {e}")))?;
        let verified = VerifiedPart::check(bytes, chunk, part)?;
        self.cache.parts.insert((chunk, part), verified.clone());
        Ok(verified)
    }
}
