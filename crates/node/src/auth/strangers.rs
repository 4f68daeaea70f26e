//! Refusals of those who prove to be nobody are answered at once only so often; the others wait a while for theirs. Who
//! guesses or floods without a key is slowed by that, while whoever has a good key or session never waits here.

use parking_lot::Mutex;
use std::time::{Duration, Instant};

/// Refusals of a second that are answered at once.
const AT_ONCE: u32 = 50;
const SECOND: Duration = Duration::from_secs(1);
/// How long the others wait; their connections are bounded meanwhile, as all are.
const WAIT: Duration = Duration::from_millis(500);

/// Counts refusals.
#[derive(Default)]
pub struct Strangers {
    /// When the second began, and the refusals in it.
    second: Mutex<Option<(Instant, u32)>>,
}

impl Strangers {
    /// Waits until a refusal may be answered.
    pub async fn refused(&self) {
        if self.must_wait(Instant::now()) {
            tokio::time::sleep(WAIT).await;
        }
    }

    /// Counts a refusal; whether it is one too many in its second.
    fn must_wait(&self, now: Instant) -> bool {
        let mut second = self.second.lock();
        let (began, count) = second.filter(|(began, _)| now.duration_since(*began) < SECOND).unwrap_or((now, 0));
        *second = Some((began, count.saturating_add(1)));
        count >= AT_ONCE
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_flood_of_refusals_is_slowed_and_a_few_are_not() {
        let (strangers, began) = (Strangers::default(), Instant::now());
        let slowed = |at: Instant, n: u32| (0..n).filter(|_| strangers.must_wait(at)).count();
        assert_eq!(slowed(began, AT_ONCE), 0);
        assert_eq!(slowed(began + SECOND / 2, 10), 10);
        assert_eq!(slowed(began + SECOND, 1), 0, "another second");
    }
}
