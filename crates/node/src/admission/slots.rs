//! Places for work that takes a core, given out by owner: while more than one owner sends, none holds more than half of
//! them, and a place that becomes free goes to the owner that holds the fewest. So long work of one never stands in line
//! before short work of another. Who takes much of a core while others send works behind them, on threads of lower
//! priority: how much of whose work is done at full priority is [`Slots::bytes_ahead`].

use crate::admission::budget::Owner;
use parking_lot::Mutex;
use std::collections::{HashMap, VecDeque};
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::oneshot;
use tokio::time::Instant;

/// An owner that asked within this time counts as one that sends; what it worked fades over as long.
const LATELY: Duration = Duration::from_secs(1);
/// The share of one core up to which an owner is a light one.
const LIGHT: f64 = 0.25;
/// Bytes of a body that a light owner has unpacked or decoded at full priority while others send.
const SHORT: usize = 256 << 10;

/// What is known of an owner that sends.
struct Sending {
    asked: Instant,
    /// Seconds that it held places for, fading since `counted`: in the long run its share of a core.
    held_s: f64,
    counted: Instant,
}

impl Sending {
    fn add(&mut self, now: Instant, held: Duration) {
        let gone = now.duration_since(self.counted).as_secs_f64() / LATELY.as_secs_f64();
        self.held_s = self.held_s * (-gone).exp() + held.as_secs_f64();
        self.counted = now;
    }
}

#[derive(Default)]
struct State {
    free: usize,
    held: HashMap<Owner, usize>,
    waiting: VecDeque<(Owner, oneshot::Sender<Slot>)>,
    /// Those that send; who asked a while ago and holds nothing is forgotten.
    sending: HashMap<Owner, Sending>,
}

/// A number of places.
pub struct Slots {
    count: usize,
    state: Mutex<State>,
}

/// A place, given back when it goes.
pub struct Slot {
    of: Option<(Arc<Slots>, Owner, Instant)>,
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
            let State { held, sending, .. } = &mut *state;
            sending.retain(|owner, s| now.duration_since(s.asked) < LATELY || held.contains_key(owner));
            let fresh = Sending { asked: now, held_s: 0.0, counted: now };
            sending.entry(owner).or_insert(fresh).asked = now;
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

    /// How many bytes of a body of this owner are worked on at full priority: all while nobody else sends, short ones
    /// while it takes little, else none.
    pub fn bytes_ahead(&self, owner: Owner) -> usize {
        let now = Instant::now();
        let mut state = self.state.lock();
        if is_alone(&state, owner, now) {
            return usize::MAX;
        }
        let heavy = state.sending.get_mut(&owner).is_some_and(|s| {
            s.add(now, Duration::ZERO);
            s.held_s > LIGHT
        });
        if heavy { 0 } else { SHORT }
    }

    /// Gives free places to those who wait.
    fn give_out(self: &Arc<Self>, state: &mut State, now: Instant) {
        while state.free > 0 {
            let share = |owner: &Owner| {
                if is_alone(state, *owner, now) { self.count } else { (self.count / 2).max(1) }
            };
            let held = |owner: &Owner| state.held.get(owner).copied().unwrap_or(0);
            let waiting = state.waiting.iter().enumerate().map(|(n, (owner, _))| (held(owner), n, owner));
            let next = waiting.filter(|(held, _, owner)| *held < share(owner)).min_by_key(|(held, n, _)| (*held, *n));
            let Some((_, n, _)) = next else { return };
            let Some((owner, give)) = state.waiting.remove(n) else { return };
            match give.send(Slot { of: Some((self.clone(), owner, now)) }) {
                Ok(()) => {
                    state.free -= 1;
                    *state.held.entry(owner).or_default() += 1;
                }
                // Who waited has gone; nothing was taken.
                Err(mut unused) => unused.of = None,
            }
        }
    }

    fn give_back(self: &Arc<Self>, owner: Owner, since: Instant) {
        let mut state = self.state.lock();
        let now = Instant::now();
        if let Some(sending) = state.sending.get_mut(&owner) {
            sending.add(now, now.duration_since(since));
        }
        state.free += 1;
        if let Some(held) = state.held.get_mut(&owner) {
            *held -= 1;
            if *held == 0 {
                state.held.remove(&owner);
            }
        }
        self.give_out(&mut state, now);
    }
}

/// Whether nobody else sends.
fn is_alone(state: &State, owner: Owner, now: Instant) -> bool {
    state.sending.iter().all(|(other, s)| *other == owner || now.duration_since(s.asked) >= LATELY)
}

impl Drop for Slot {
    fn drop(&mut self) {
        if let Some((slots, owner, since)) = self.of.take() {
            slots.give_back(owner, since);
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
        assert_eq!([slots.bytes_ahead(A), slots.bytes_ahead(B)], [SHORT, SHORT]);
        // As after a while without B.
        slots.state.lock().sending.remove(&B);
        assert_eq!(slots.bytes_ahead(A), usize::MAX, "alone, its long work gives way to nobody");
        assert!(at_once(&slots, A).await.is_some(), "all again");
        drop(of_a);
        assert_eq!(slots.state.lock().free, 2);
    }

    #[tokio::test]
    async fn who_takes_much_works_behind_who_takes_little() {
        let slots = Slots::new(2);
        drop((slots.acquire(A).await, slots.acquire(B).await));
        let now = Instant::now();
        let held = |owner: Owner, at: Instant, ms: u64| {
            slots.state.lock().sending.get_mut(&owner).unwrap().add(at, Duration::from_millis(ms));
        };
        for _ in 0..20 {
            held(A, now, 40);
            held(B, now, 5);
        }
        assert_eq!([slots.bytes_ahead(A), slots.bytes_ahead(B)], [0, SHORT]);
        held(A, now + Duration::from_secs(3), 0);
        assert_eq!(slots.bytes_ahead(A), SHORT, "what it took is long ago");
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
