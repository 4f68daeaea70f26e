//! Memory that one question may take. Every step that keeps something for the answer charges the budget with it; between
//! pages, a question that has spent its budget stops and says so.

use std::sync::atomic::{AtomicUsize, Ordering};

/// The budget of one question.
#[derive(Debug)]
pub struct Budget {
    bytes: usize,
    used: AtomicUsize,
}

impl Budget {
    /// Of so many bytes.
    pub fn new(bytes: usize) -> Self {
        Budget { bytes, used: AtomicUsize::new(0) }
    }

    /// All that may be taken.
    pub fn bytes(&self) -> usize {
        self.bytes
    }

    /// What is charged now.
    pub fn used(&self) -> usize {
        self.used.load(Ordering::Relaxed)
    }

    /// Charges `bytes` that are kept; false where the budget is spent then.
    pub fn charge(&self, bytes: usize) -> bool {
        self.used.fetch_add(bytes, Ordering::Relaxed).saturating_add(bytes) <= self.bytes
    }

    /// Takes back what was charged and is kept no more.
    pub fn release(&self, bytes: usize) {
        self.used.fetch_sub(bytes, Ordering::Relaxed);
    }

    /// Whether more was charged than there is.
    pub fn is_spent(&self) -> bool {
        self.used() > self.bytes
    }

    /// Whether more than a quarter is spent, so that what can wait should.
    pub fn is_low(&self) -> bool {
        self.used() > self.bytes / 4
    }

    /// Why a question stops that has spent its budget, and the cure.
    pub fn reason(&self) -> String {
        format!(
            "the question needs more than the {} bytes of memory that one may take (search.memory_mib); ask for fewer groups, fields or events, or a shorter range",
            self.bytes
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_kept_is_charged() {
        let budget = Budget::new(100);
        assert!(budget.charge(25) && !budget.is_low() && budget.charge(1) && budget.is_low());
        budget.release(26);
        assert!(budget.charge(100) && !budget.is_spent());
        assert!(!budget.charge(1) && budget.is_spent());
        budget.release(50);
        assert!(!budget.is_spent() && budget.reason().contains("search.memory_mib"));
    }
}
