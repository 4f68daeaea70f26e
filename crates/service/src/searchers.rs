//! The threads that searches scan on: few, apart from those that answer requests and take events in.

use crate::error::{Result, ServiceError};
use calvex_core::search::Workers;
use rayon::prelude::*;
use std::sync::Arc;

/// A bounded pool, shared by all searches.
#[derive(Clone)]
pub struct Searchers {
    pool: Arc<rayon::ThreadPool>,
}

impl Searchers {
    /// With so many threads.
    ///
    /// # Errors
    /// Where the system gives no threads.
    pub fn new(threads: usize) -> Result<Self> {
        let pool = rayon::ThreadPoolBuilder::new()
            .num_threads(threads.max(1))
            .thread_name(|n| format!("search-{n}"))
            .build()
            .map_err(|e| ServiceError::Setting(format!("no threads for searching: {e}")))?;
        Ok(Searchers { pool: Arc::new(pool) })
    }
}

impl Workers for Searchers {
    fn each(&self, tasks: usize, task: &(dyn Fn(usize) + Sync)) {
        // A single task is done sooner than another thread is woken.
        if tasks <= 1 {
            return (0..tasks).for_each(task);
        }
        self.pool.install(|| (0..tasks).into_par_iter().with_max_len(1).for_each(task));
    }

    fn width(&self) -> usize {
        self.pool.current_num_threads()
    }
}
