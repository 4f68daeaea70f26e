//! What was looked up or counted lately: so many entries at most, each for so long. One that is new takes the place of
//! the one that was not used for longest.

use lru::LruCache;
use parking_lot::Mutex;
use std::borrow::Borrow;
use std::hash::Hash;
use std::num::NonZeroUsize;
use std::time::{Duration, Instant};

/// A bounded number of entries that end.
pub struct Remembered<K, V> {
    /// With the time from which an entry holds no more.
    entries: Mutex<LruCache<K, (Instant, V)>>,
    keep: Duration,
}

impl<K: Hash + Eq, V: Clone> Remembered<K, V> {
    /// Nothing yet; at most `most` entries (at least one), each for `keep` after it was last written.
    pub fn new(most: usize, keep: Duration) -> Self {
        // Room is made as entries come.
        let mut entries = LruCache::unbounded();
        entries.resize(NonZeroUsize::new(most).unwrap_or(NonZeroUsize::MIN));
        Remembered { entries: Mutex::new(entries), keep }
    }

    /// The entry of `key`, where it holds at `now`.
    pub fn get<Q: Hash + Eq + ?Sized>(&self, key: &Q, now: Instant) -> Option<V>
    where
        K: Borrow<Q>,
    {
        let mut entries = self.entries.lock();
        let (ends, value) = entries.get(key)?;
        if now < *ends {
            return Some(value.clone());
        }
        entries.pop(key);
        None
    }

    /// Writes an entry at `now`.
    pub fn insert(&self, key: K, value: V, now: Instant) {
        self.update(key, now, |_| value);
    }

    /// Writes an entry at `now`, made from what it was; returns it.
    pub fn update(&self, key: K, now: Instant, change: impl FnOnce(Option<V>) -> V) -> V {
        let mut entries = self.entries.lock();
        let before = entries.pop(&key).filter(|(ends, _)| now < *ends);
        let value = change(before.map(|(_, value)| value));
        entries.put(key, (now + self.keep, value.clone()));
        value
    }

    /// Takes an entry away and returns it, where it held at `now`.
    pub fn remove<Q: Hash + Eq + ?Sized>(&self, key: &Q, now: Instant) -> Option<V>
    where
        K: Borrow<Q>,
    {
        self.entries.lock().pop(key).filter(|(ends, _)| now < *ends).map(|(_, value)| value)
    }

    /// Forgets all.
    pub fn clear(&self) {
        self.entries.lock().clear();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn entries_end_and_the_least_used_gives_way() {
        let kept = Remembered::new(3, Duration::from_secs(10));
        let began = Instant::now();
        let after = |s| began + Duration::from_secs(s);
        let count =
            |name: &str, s| kept.update(name.to_owned(), after(s), |before: Option<u32>| before.unwrap_or(0) + 1);
        assert_eq!([count("dock", 0), count("dock", 0), count("bank", 0), count("door", 0)], [1, 2, 1, 1]);
        assert_eq!(kept.get("dock", after(0)), Some(2));
        // The fourth takes the place of the one that nobody asked for.
        kept.insert("seal".to_owned(), 9, after(0));
        let all = ["dock", "bank", "door", "seal"].map(|name| kept.get(name, after(0)));
        assert_eq!(all, [Some(2), None, Some(1), Some(9)]);
        assert_eq!([kept.remove("seal", after(0)), kept.remove("seal", after(0))], [Some(9), None]);
        assert_eq!(count("dock", 6), 3, "whose time begins anew");
        assert_eq!(["dock", "door"].map(|name| kept.get(name, after(12))), [Some(3), None]);
        assert_eq!((kept.remove("dock", after(16)), count("dock", 16)), (None, 1), "it ended");
        kept.clear();
        assert_eq!(kept.get("dock", after(16)), None);
    }
}
