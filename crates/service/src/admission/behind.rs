//! Threads of lower priority for work whose length an outsider decides: large bodies, passwords, patterns. On a machine
//! whose cores are all busy, short work of others (a small batch, a commit, an answer) goes before it.

use crate::error::{Result, ServiceError};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;
use tokio::sync::oneshot;

/// Steps of niceness (POSIX `nice`) that this work stands behind; fewer than those of long questions, so that intake goes
/// before them.
const STEPS: i32 = 10;

/// As many threads as there are cores; who asks for work bounds how much of it waits.
#[derive(Clone)]
pub struct Behind {
    threads: Arc<rayon::ThreadPool>,
}

/// A pool of threads that stand so many steps behind.
///
/// # Errors
/// Where the system gives no threads.
pub(crate) fn pool(threads: usize, name: &'static str, steps: i32) -> Result<Arc<rayon::ThreadPool>> {
    let built = rayon::ThreadPoolBuilder::new()
        .num_threads(threads.max(1))
        .thread_name(move |n| format!("{name}-{n}"))
        // On Linux niceness is each thread's own; a system that refuses it only leaves the priority as it is.
        .start_handler(move |_| {
            let _ = rustix::process::nice(steps);
        })
        .build();
    built.map(Arc::new).map_err(|e| ServiceError::Setting(format!("no threads `{name}`: {e}")))
}

impl Behind {
    /// With so many threads.
    ///
    /// # Errors
    /// Where the system gives no threads.
    pub fn new(threads: usize) -> Result<Self> {
        Ok(Behind { threads: pool(threads, "behind", STEPS)? })
    }

    /// Runs `work` and returns what it does. It is carried out also where nobody waits for it any more.
    ///
    /// # Errors
    /// [`ServiceError::BadRequest`] where the work broke off, which only a defect could cause.
    pub async fn run<T: Send + 'static>(&self, work: impl FnOnce() -> T + Send + 'static) -> Result<T> {
        let (give, given) = oneshot::channel();
        self.threads.spawn(move || {
            // A thread of the pool that breaks off would end the service.
            if let Ok(done) = catch_unwind(AssertUnwindSafe(work)) {
                let _ = give.send(done);
            }
        });
        given.await.map_err(|_| ServiceError::BadRequest("the work broke off; the service's log says why".into()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn work_that_breaks_off_breaks_nothing_else() {
        let behind = Behind::new(1).unwrap();
        let broken: Result<()> = behind.run(|| panic!("on purpose")).await;
        assert!(matches!(broken, Err(ServiceError::BadRequest(_))));
        let steps = behind.run(|| rustix::process::nice(0).unwrap()).await.unwrap();
        assert_eq!(steps, rustix::process::nice(0).unwrap() + STEPS, "behind the others");
    }
}
