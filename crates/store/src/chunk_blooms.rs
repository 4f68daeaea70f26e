//! ChunkBlooms of whole chunks that no bloom set holds yet, at hand for searches and for the next bloom set. What a restart
//! loses is made again from the chunk's columns soon after; what does not fit, when its turn for a bloom set comes.

use calvex_storage::chunk::{BuiltChunk, ChunkBloom};
use parking_lot::Mutex;
use std::collections::HashMap;
use std::sync::Arc;

/// Bytes kept at most: sixteen chunks of some tens of lanes.
const MAX_BYTES: usize = 64 << 20;

/// The filters, by chunk.
#[derive(Debug, Default)]
pub struct ChunkBlooms {
    held: Mutex<HashMap<u64, Arc<ChunkBloom>>>,
}

impl ChunkBlooms {
    /// Keeps those of chunks just built.
    pub fn keep(&self, chunks: &[BuiltChunk]) {
        for chunk in chunks {
            self.put(chunk.id, Arc::new(chunk.bloom.clone()));
        }
    }

    /// Keeps one, if there is room; whether there was.
    pub fn put(&self, chunk: u64, filter: Arc<ChunkBloom>) -> bool {
        let mut held = self.held.lock();
        let fits = held.values().map(|f| f.len()).sum::<usize>() + filter.len() <= MAX_BYTES;
        if fits {
            held.insert(chunk, filter);
        }
        fits
    }

    /// That of a chunk, if it is at hand.
    pub fn get(&self, chunk: u64) -> Option<Arc<ChunkBloom>> {
        self.held.lock().get(&chunk).cloned()
    }

    /// Forgets all.
    pub fn clear(&self) {
        self.held.lock().clear();
    }

    /// Forgets those of chunks that are in a bloom set now, or gone.
    pub fn forget(&self, chunks: impl IntoIterator<Item = u64>) {
        let mut held = self.held.lock();
        chunks.into_iter().for_each(|c| drop(held.remove(&c)));
    }
}
