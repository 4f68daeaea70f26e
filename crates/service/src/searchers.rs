//! The threads that searches scan on: few, apart from those that answer requests and take events in. A question over
//! many pages runs on threads of lower priority, so that it takes what intake and short questions leave.

use crate::error::{Result, ServiceError};
use calvex_core::search::Workers;
use rayon::prelude::*;
use std::sync::Arc;

/// Pages of a wave, for each thread, from which a question is a long one: what looks for events has waves of so many at most.
const LONG: usize = 16;
/// Steps of niceness (POSIX `nice`) that long questions stand behind all else.
const BEHIND: i32 = 10;

/// Bounded pools, shared by all searches.
#[derive(Clone)]
pub struct Searchers {
    short: Arc<rayon::ThreadPool>,
    long: Arc<rayon::ThreadPool>,
}

fn pool(threads: usize, name: &'static str, behind: i32) -> Result<Arc<rayon::ThreadPool>> {
    let built = rayon::ThreadPoolBuilder::new()
        .num_threads(threads.max(1))
        .thread_name(move |n| format!("{name}-{n}"))
        // On Linux niceness is each thread's own; a system that refuses it only leaves the priority as it is.
        .start_handler(move |_| {
            let _ = rustix::process::nice(behind);
        })
        .build();
    built.map(Arc::new).map_err(|e| ServiceError::Setting(format!("no threads for searching: {e}")))
}

impl Searchers {
    /// With so many threads for short questions, and as many for long ones.
    ///
    /// # Errors
    /// Where the system gives no threads.
    pub fn new(threads: usize) -> Result<Self> {
        Ok(Searchers { short: pool(threads, "search", 0)?, long: pool(threads, "search-long", BEHIND)? })
    }
}

impl Workers for Searchers {
    fn each(&self, tasks: usize, task: &(dyn Fn(usize) + Sync)) {
        // A single task is done sooner than another thread is woken.
        if tasks <= 1 {
            return (0..tasks).for_each(task);
        }
        let pool = if tasks < LONG * self.width() { &self.short } else { &self.long };
        pool.install(|| (0..tasks).into_par_iter().with_max_len(1).for_each(task));
    }

    fn width(&self) -> usize {
        self.short.current_num_threads()
    }
}
