//! Faults on purpose: each step of a seal and of a merge can be made to fail, so that tests can look at what is left.
//! A store that runs for real has none armed, and a step then costs one look at an empty list.

use crate::{Result, StoreError};
use parking_lot::Mutex;
use std::sync::Arc;

/// A step at which a fault can strike.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[allow(missing_docs)]
pub enum Step {
    /// Before the first segment is written.
    SegmentsBegin,
    /// Between two segments.
    SegmentsHalf,
    /// All segments stand, the catalogue does not name them yet.
    SegmentsDone,
    /// The fence holds, nothing else was done in the transaction.
    Fenced,
    /// The catalogue rows are added, what they cover is still there.
    Added,
    /// All is done but the commit.
    BeforeCommit,
    /// The commit is done, its answer is lost.
    AfterCommit,
}

impl Step {
    /// Every step, in order.
    pub const ALL: [Step; 7] = [
        Step::SegmentsBegin,
        Step::SegmentsHalf,
        Step::SegmentsDone,
        Step::Fenced,
        Step::Added,
        Step::BeforeCommit,
        Step::AfterCommit,
    ];
}

/// The faults that are armed.
#[derive(Debug, Clone, Default)]
pub struct Faults {
    armed: Arc<Mutex<Vec<Step>>>,
}

impl Faults {
    /// The next time `step` is reached, it fails.
    pub fn arm(&self, step: Step) {
        self.armed.lock().push(step);
    }

    /// Whether nothing is left that was armed.
    pub fn spent(&self) -> bool {
        self.armed.lock().is_empty()
    }

    /// Fails if `step` is armed.
    pub(crate) fn reach(&self, step: Step) -> Result<()> {
        let mut armed = self.armed.lock();
        match armed.iter().position(|s| *s == step) {
            Some(at) => {
                armed.remove(at);
                Err(StoreError::Injected(step))
            }
            None => Ok(()),
        }
    }
}
