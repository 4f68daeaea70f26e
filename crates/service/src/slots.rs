//! Places for work that takes a core, given out by owner: while more than one owner sends, none holds more than half of
//! them, and a place that becomes free goes to the owner that holds the fewest. So long work of one never stands in line
//! before short work of another.

use crate::budget::Owner;
use parking_lot::Mutex;
use std::collections::{HashMap, VecDeque};
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::oneshot;
use tokio::time::Instant;

/// An owner that asked within this time counts as one that sends.
const LATELY: Duration = Duration::from_secs(1);

#[derive(Default)]
struct State {
    free: usize,
    held: HashMap<Owner, usize>,
    waiting: VecDeque<(Owner, oneshot::Sender<Slot>)>,
    /// When each owner asked last; those of a while ago are forgotten.
    asked: HashMap<Owner, Instant>,
}

/// A number of places.
pub struct Slots {
    count: usize,
    state: Mutex<State>,
}

/// A place, given back when it goes.
pub struct Slot {
    of: Option<(Arc<Slots>, Owner)>,
}

impl Slots {
    /// So many, at least one.
    pub fn new(count: usize) -> Arc<Self> {
        let count = count.max(1);
        Arc::new(Slots { count, state: Mutex::new(State { free: count, ..State::default() }) })
    }

    /// Waits for a place.
    pub async fn acquire(self: &Arc<Self>, owner: Owner) -> Slot {
        let (give, given) = oneshot::channel();
        {
            let mut state = self.state.lock();
            let now = Instant::now();
            state.asked.retain(|_, at| now.duration_since(*at) < LATELY);
            state.asked.insert(owner, now);
            state.waiting.retain(|(_, give)| !give.is_closed());
            state.waiting.push_back((owner, give));
            self.give_out(&mut state, now);
        }
        match given.await {
            Ok(slot) => slot,
            // Never dropped unasked; work without a place is better than none.
            Err(_) => Slot { of: None },
        }
    }

    /// Whether another owner asked lately: then long work of this one gives way.
    pub fn is_shared(&self, owner: Owner) -> bool {
        let now = Instant::now();
        self.state.lock().asked.iter().any(|(other, at)| *other != owner && now.duration_since(*at) < LATELY)
    }

    /// Gives free places to those who wait.
    fn give_out(self: &Arc<Self>, state: &mut State, now: Instant) {
        while state.free > 0 {
            let share = |owner: &Owner| {
                let alone = state.asked.iter().all(|(o, at)| o == owner || now.duration_since(*at) >= LATELY);
                if alone { self.count } else { (self.count / 2).max(1) }
            };
            let held = |owner: &Owner| state.held.get(owner).copied().unwrap_or(0);
            let waiting = state.waiting.iter().enumerate().map(|(n, (owner, _))| (held(owner), n, owner));
            let next = waiting.filter(|(held, _, owner)| *held < share(owner)).min_by_key(|(held, n, _)| (*held, *n));
            let Some((_, n, _)) = next else { return };
            let Some((owner, give)) = state.waiting.remove(n) else { return };
            match give.send(Slot { of: Some((self.clone(), owner)) }) {
                Ok(()) => {
                    state.free -= 1;
                    *state.held.entry(owner).or_default() += 1;
                }
                // Who waited has gone; nothing was taken.
                Err(mut unused) => unused.of = None,
            }
        }
    }

    fn give_back(self: &Arc<Self>, owner: Owner) {
        let mut state = self.state.lock();
        state.free += 1;
        if let Some(held) = state.held.get_mut(&owner) {
            *held -= 1;
            if *held == 0 {
                state.held.remove(&owner);
            }
        }
        self.give_out(&mut state, Instant::now());
    }
}

impl Drop for Slot {
    fn drop(&mut self) {
        if let Some((slots, owner)) = self.of.take() {
            slots.give_back(owner);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const A: Owner = Owner::Key(1);
    const B: Owner = Owner::Key(2);

    /// Asks, and returns the place where one is given at once.
    async fn at_once(slots: &Arc<Slots>, owner: Owner) -> Option<Slot> {
        tokio::time::timeout(Duration::ZERO, slots.acquire(owner)).await.ok()
    }

    #[tokio::test]
    async fn one_who_is_alone_gets_all_and_two_get_half_each() {
        let slots = Slots::new(2);
        let (first, second) = (at_once(&slots, A).await.unwrap(), at_once(&slots, A).await.unwrap());
        assert!(at_once(&slots, A).await.is_none());
        let waits = tokio::spawn({
            let slots = slots.clone();
            async move { slots.acquire(B).await }
        });
        let behind = tokio::spawn({
            let slots = slots.clone();
            async move { slots.acquire(A).await }
        });
        tokio::task::yield_now().await;
        drop(first);
        let of_b = waits.await.unwrap();
        assert!(!behind.is_finished(), "who holds none comes before who holds one");
        drop(second);
        let of_a = behind.await.unwrap();
        drop(of_b);
        assert!(at_once(&slots, A).await.is_none(), "half, while another was there lately");
        assert!(slots.is_shared(A) && slots.is_shared(B));
        // As after a while without B.
        slots.state.lock().asked.remove(&B);
        assert!(!slots.is_shared(A), "alone, its long work gives way to nobody");
        assert!(at_once(&slots, A).await.is_some(), "all again");
        drop(of_a);
        assert_eq!(slots.state.lock().free, 2);
    }

    #[tokio::test]
    async fn who_stops_waiting_takes_no_place() {
        let slots = Slots::new(1);
        let held = slots.acquire(A).await;
        for _ in 0..3 {
            assert!(at_once(&slots, B).await.is_none());
        }
        drop(held);
        let again = at_once(&slots, B).await;
        assert!(again.is_some());
        drop(again);
        let state = slots.state.lock();
        assert!(state.free == 1 && state.held.is_empty() && state.waiting.is_empty());
    }
}
