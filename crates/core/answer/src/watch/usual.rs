//! What is usual: the middle of some numbers, and the gap between the times a group was seen.

/// How many gaps there must be.
const LEAST_GAPS: usize = 20;

/// The middle of some numbers; they are put in order.
pub(super) fn median(numbers: &mut [f64]) -> f64 {
    numbers.sort_by(f64::total_cmp);
    numbers.get(numbers.len() / 2).copied().unwrap_or(f64::NAN)
}

/// The gaps between the steps in which a group was seen.
#[derive(Default)]
pub(super) struct Gaps {
    pub last: Option<i64>,
    /// When each gap ended, the oldest first, and how long it was.
    ended: std::collections::VecDeque<(i64, i64)>,
    /// The lengths in order.
    sorted: Vec<i64>,
}

impl Gaps {
    pub fn seen(&mut self, step: i64) {
        if let Some(last) = self.last {
            let gap = step - last;
            self.ended.push_back((step, gap));
            self.sorted.insert(self.sorted.partition_point(|g| *g < gap), gap);
        }
        self.last = Some(step);
    }

    /// Forgets gaps that ended before a step.
    pub fn forget(&mut self, before: i64) {
        while let Some((_, gap)) = self.ended.front().copied().filter(|(at, _)| *at < before) {
            self.ended.pop_front();
            let at = self.sorted.partition_point(|g| *g < gap);
            if at < self.sorted.len() {
                self.sorted.remove(at);
            }
        }
    }

    /// The gap that nineteen of twenty are not longer than; none where there are few.
    pub fn usual(&self) -> Option<i64> {
        let at = self.sorted.len() * 19 / 20;
        (self.sorted.len() >= LEAST_GAPS).then(|| self.sorted.get(at).copied().unwrap_or(1).max(1))
    }
}
