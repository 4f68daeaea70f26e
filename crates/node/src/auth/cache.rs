//! Who stands behind a secret, for a while: negative results are cached too, so that a wrong secret does not ask the
//! database each time.

use crate::admission::remembered::Remembered;
use crate::error::Result;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

/// Secrets that are remembered.
const SECRETS: usize = 10_000;

/// Who stands behind secrets looked up lately. A sender that goes on with a wrong key asks the database once in a while
/// only. A change made on this node clears the cache, as does the look that finds one made on another; a lookup that was
/// under way meanwhile is not kept.
pub struct AuthCache<T> {
    known: Remembered<[u8; 32], Option<Arc<T>>>,
    /// Counts the changes.
    turn: AtomicU64,
}

impl<T: Send + Sync + 'static> AuthCache<T> {
    /// Empty; entries end after `keep`.
    pub fn new(keep: Duration) -> Self {
        AuthCache { known: Remembered::new(SECRETS, keep), turn: AtomicU64::new(0) }
    }

    /// Forgets all.
    pub fn clear(&self) {
        self.turn.fetch_add(1, Ordering::SeqCst);
        self.known.clear();
    }

    /// Who stands behind `hash`, by `look` where it is not known.
    pub async fn get(&self, hash: [u8; 32], look: impl Future<Output = Result<Option<T>>>) -> Result<Option<Arc<T>>> {
        if let Some(known) = self.known.get(&hash, Instant::now()) {
            return Ok(known);
        }
        let turn = self.turn.load(Ordering::SeqCst);
        let found = look.await?.map(Arc::new);
        if self.turn.load(Ordering::SeqCst) == turn {
            self.known.insert(hash, found.clone(), Instant::now());
            // A change in between did not see this entry.
            if self.turn.load(Ordering::SeqCst) != turn {
                self.known.remove(&hash, Instant::now());
            }
        }
        Ok(found)
    }
}
