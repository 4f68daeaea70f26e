//! The threads that searches scan on: few, apart from those that answer requests and take events in. A question over
//! many pages, or one that has run for a while, runs on threads of lower priority, so that it takes what intake and
//! short questions leave.

use crate::admission::behind::{let_others_in, pool};
use crate::admission::priority::Priority;
use crate::error::Result;
use calvex_answer::scan::Workers;
use rayon::prelude::*;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// Pages of a wave, for each thread, from which a question is a long one: what looks for events has waves of so many at most.
const LONG: usize = 16;
/// A question that has run for so long is a long one, whatever its waves.
const WHILE: Duration = Duration::from_millis(30);
/// Long questions.
const BEHIND: Priority = Priority::Leavings(15);

/// Bounded pools, shared by all searches.
#[derive(Clone)]
pub struct SearchPool {
    short: Arc<rayon::ThreadPool>,
    long: Arc<rayon::ThreadPool>,
}

impl SearchPool {
    /// With so many threads for short questions, and as many for long ones.
    ///
    /// # Errors
    /// Where the system gives no threads.
    pub fn new(threads: usize) -> Result<Self> {
        Ok(SearchPool {
            short: pool(threads, "search", Priority::Normal)?,
            long: pool(threads, "search-long", BEHIND)?,
        })
    }
}

impl SearchPool {
    /// The threads for a question that begins now.
    pub fn for_question(&self) -> Question<'_> {
        Question { search_pool: self, began: Instant::now() }
    }
}

/// The threads that a question scans on.
pub struct Question<'s> {
    search_pool: &'s SearchPool,
    began: Instant,
}

impl Workers for Question<'_> {
    fn each(&self, tasks: usize, task: &(dyn Fn(usize) + Sync)) {
        let SearchPool { short, long } = self.search_pool;
        let is_long = tasks >= LONG * self.width() || self.began.elapsed() >= WHILE;
        // A single task is done sooner than another thread is woken.
        if tasks <= 1 && !is_long {
            return (0..tasks).for_each(task);
        }
        if !is_long {
            return short.install(|| (0..tasks).into_par_iter().with_max_len(1).for_each(task));
        }
        long.install(|| {
            (0..tasks).into_par_iter().with_max_len(1).for_each(|n| {
                task(n);
                let_others_in();
            });
        });
    }

    fn width(&self) -> usize {
        self.search_pool.short.current_num_threads()
    }
}
