//! Pauses between tries of what may work later.

use std::time::Duration;

/// The longest pause that a service may ask for.
const MAX_ASKED: Duration = Duration::from_secs(60);

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

    /// As [`Backoff::pause`] shortened by up to half, or `asked` lengthened by up to half where that is more: a service
    /// asks many at once for the same pause. `share`, from 0 to 1, is random, so that they do not come back at once.
    pub fn pause_apart(&mut self, share: f64, asked: Duration) -> Duration {
        let share = share.clamp(0.0, 1.0) / 2.0;
        self.pause().mul_f64(0.5 + share).max(asked.min(MAX_ASKED).mul_f64(1.0 + share))
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
        let none = Duration::ZERO;
        assert_eq!([backoff.pause_apart(0.0, none), backoff.pause_apart(1.0, none)], [seconds(5) / 2, seconds(5)]);
        assert_eq!(
            [backoff.pause_apart(0.0, seconds(8)), backoff.pause_apart(1.0, seconds(8))],
            [seconds(8), seconds(12)]
        );
        assert_eq!(backoff.pause_apart(0.0, Duration::MAX), MAX_ASKED, "whatever is asked");
        backoff.reset();
        assert_eq!(backoff.pause(), seconds(2));
        let mut backoff = Backoff::new(seconds(9), seconds(5));
        assert_eq!([backoff.pause(), backoff.pause()], [seconds(9); 2], "a long first one stays as it is");
    }
}
