//! Pauses between tries of what may work later.

use std::time::Duration;

/// Pauses, each twice as long as the last, up to a longest.
#[derive(Debug, Clone)]
pub struct Backoff {
    first: Duration,
    next: Duration,
    longest: Duration,
}

impl Backoff {
    /// Pauses from `first` to `longest`, or to `first` where that is more.
    pub fn new(first: Duration, longest: Duration) -> Self {
        Backoff { first, next: first, longest: longest.max(first) }
    }

    /// The pause before the next try.
    pub fn pause(&mut self) -> Duration {
        let pause = self.next;
        self.next = (pause * 2).min(self.longest);
        pause
    }

    /// As [`Backoff::pause`], shortened by up to half; `share`, from 0 to 1, is random, so that many who wait do not come
    /// back at once.
    pub fn pause_apart(&mut self, share: f64) -> Duration {
        self.pause().mul_f64(0.5 + share.clamp(0.0, 1.0) / 2.0)
    }

    /// Begins with the shortest pause again, after a try that worked.
    pub fn reset(&mut self) {
        self.next = self.first;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pauses_double_up_to_the_longest() {
        let seconds = Duration::from_secs;
        let mut backoff = Backoff::new(seconds(2), seconds(5));
        assert_eq!([backoff.pause(), backoff.pause(), backoff.pause()], [seconds(2), seconds(4), seconds(5)]);
        assert_eq!([backoff.pause_apart(0.0), backoff.pause_apart(1.0)], [seconds(5) / 2, seconds(5)]);
        backoff.reset();
        assert_eq!(backoff.pause(), seconds(2));
        let mut backoff = Backoff::new(seconds(9), seconds(5));
        assert_eq!([backoff.pause(), backoff.pause()], [seconds(9); 2], "a long first one stays as it is");
    }
}
