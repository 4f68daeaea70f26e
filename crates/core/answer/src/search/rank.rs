//! The order of events: by (time, id), either end first. Export and find compare ranks, never events.

use super::find::Order;
use calvex_language::error::Result;
use calvex_language::model::EventId;
use calvex_storage::columns::{OrderKeys, PageRead, Rows};
use std::collections::BinaryHeap;

/// Sorts so that the greatest is what comes last in the order asked.
#[derive(Debug, PartialEq, Eq, PartialOrd, Ord, Clone, Copy)]
pub(super) struct Rank(i128, i128, i128);

impl Rank {
    /// The time, of a rank by the oldest first.
    pub(super) fn time(self) -> i128 {
        self.0
    }
}

/// The rank of an event by its time and id.
pub(super) fn rank(order: Order, (time_ns, id): (i64, EventId)) -> Rank {
    let origin = i128::from(id.node) << 32 | i128::from(id.epoch);
    let within = i128::from(id.seq) << 32 | i128::from(id.ordinal);
    match order {
        Order::Oldest => Rank(i128::from(time_ns), origin, within),
        Order::Newest => Rank(-i128::from(time_ns), -origin, -within),
    }
}

/// The `rows` of a page, each with its rank by the oldest first.
pub(super) fn ranked_by_time(page: &dyn PageRead, rows: &Rows) -> Result<Vec<(Rank, usize)>> {
    if rows.is_empty() {
        return Ok(Vec::new());
    }
    let keys = OrderKeys::of(page)?;
    rows.iter().map(|row| Ok((rank(Order::Oldest, keys.get(row)?), row))).collect()
}

/// The `k` smallest of what is offered.
pub(super) struct TopK<T> {
    heap: BinaryHeap<T>,
    k: usize,
}

impl<T: Ord + Clone> TopK<T> {
    pub(super) fn new(k: usize) -> Self {
        TopK { heap: BinaryHeap::new(), k }
    }

    /// Keeps `value` where it is among the `k` smallest so far. Returns whether it took room that no other gave up.
    pub(super) fn offer(&mut self, value: T) -> bool {
        if self.heap.len() < self.k {
            self.heap.push(value);
            return true;
        }
        if let Some(mut worst) = self.heap.peek_mut()
            && value < *worst
        {
            *worst = value;
        }
        false
    }

    /// The largest that is kept, once there are `k`.
    pub(super) fn worst(&self) -> Option<&T> {
        self.heap.peek().filter(|_| self.heap.len() == self.k)
    }

    /// All that is kept, in no order.
    pub(super) fn into_vec(self) -> Vec<T> {
        self.heap.into_vec()
    }

    /// All that is kept, the smallest first.
    pub(super) fn sorted(&self) -> Vec<T> {
        self.heap.clone().into_sorted_vec()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn the_smallest_are_kept(values in proptest::collection::vec(any::<i16>(), 0..60), k in 0usize..20) {
            let mut top = TopK::new(k);
            let mut room = 0;
            for value in &values {
                room += usize::from(top.offer(*value));
            }
            let mut sorted = values.clone();
            sorted.sort_unstable();
            sorted.truncate(k);
            prop_assert_eq!(room, sorted.len());
            prop_assert_eq!(top.worst(), if values.len() >= k { sorted.last() } else { None });
            prop_assert_eq!(top.sorted(), sorted);
        }
    }
}
