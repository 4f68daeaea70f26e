//! Questions that are being answered, and the memory that they hold together.

use calvex_answer::scan::Budget;
use parking_lot::Mutex;
use std::sync::{Arc, Weak};

/// The budgets of the questions that are being answered.
#[derive(Debug, Default)]
pub struct Budgets {
    budgets: Mutex<Vec<Weak<Budget>>>,
}

impl Budgets {
    /// The budget of a question that begins; it is counted for as long as it is held.
    pub fn begin(&self, bytes: usize) -> Arc<Budget> {
        let budget = Arc::new(Budget::new(bytes));
        let mut budgets = self.budgets.lock();
        budgets.retain(|other| other.strong_count() > 0);
        budgets.push(Arc::downgrade(&budget));
        budget
    }

    /// Bytes that all of them are charged with now.
    pub fn used(&self) -> usize {
        self.budgets.lock().iter().filter_map(Weak::upgrade).map(|budget| budget.used()).sum()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_has_ended_is_not_counted() {
        let budgets = Budgets::default();
        let (first, second) = (budgets.begin(100), budgets.begin(100));
        first.charge(30);
        second.charge(20);
        assert_eq!(budgets.used(), 50);
        drop(first);
        assert_eq!(budgets.used(), 20);
        drop(second);
        let _third = budgets.begin(100);
        assert_eq!((budgets.used(), budgets.budgets.lock().len()), (0, 1), "those that ended are forgotten");
    }
}
