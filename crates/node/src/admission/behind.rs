//! Threads for work whose length an outsider decides (large bodies, passwords, patterns) and for building chunks. On a
//! machine whose cores are all busy, short work of others (a small batch, a commit, an answer) goes before it.

use super::priority::Priority;
use crate::error::{Result, ServiceError};
use std::cell::Cell;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;
use tokio::runtime::{Handle, RuntimeFlavor};
use tokio::sync::oneshot;
use tokio::task::{block_in_place, spawn_blocking};

/// Work whose length an outsider decides; before long questions, so that intake goes before them.
const OUTSIDERS: Priority = Priority::Leavings(4);
/// Building chunks: no step of niceness, since it has to keep up with intake.
const BUILDING: Priority = Priority::GivingWay(0);

/// Threads that stand behind others; who asks for work bounds how much of it waits.
#[derive(Clone)]
pub struct Behind {
    threads: Arc<rayon::ThreadPool>,
}

/// A pool of threads of this priority, on Linux each thread's own; a system that refuses it leaves it as it is.
///
/// # Errors
/// Where the system gives no threads.
pub fn pool(threads: usize, name: &'static str, priority: Priority) -> Result<Arc<rayon::ThreadPool>> {
    let no_threads = |e: &dyn std::fmt::Display| ServiceError::Setting(format!("no threads `{name}`: {e}"));
    let lifting = priority.lifting(name).map_err(|e| no_threads(&e))?;
    let (begins, ends) = (lifting.clone(), lifting.clone());
    let built = rayon::ThreadPoolBuilder::new()
        .num_threads(threads.max(1))
        .thread_name(move |n| format!("{name}-{n}"))
        .start_handler(move |_| match &begins {
            Some(lifting) => {
                lifting.begin();
                LETS_OTHERS_IN.set(true);
            }
            None => priority.take(),
        })
        .exit_handler(move |_| ends.iter().for_each(|lifting| lifting.end()))
        .build();
    built.map(Arc::new).map_err(|e| {
        lifting.iter().for_each(|lifting| lifting.end());
        no_threads(&e)
    })
}

thread_local! {
    /// Whether the thread works in what all others leave.
    static LETS_OTHERS_IN: Cell<bool> = const { Cell::new(false) };
}

/// Lets in who waits for the processor, from within long work. A thread that works in what all others leave is due a
/// three-hundredth of the processor all the same, and takes it a whole tick at a time (4 ms, 250 times a second), also
/// where others wake in that tick. So such work does this every half a millisecond or so; on other threads it does
/// nothing.
pub fn let_others_in() {
    if LETS_OTHERS_IN.get() {
        std::thread::yield_now();
    }
}

impl Behind {
    /// So many threads for work whose length an outsider decides.
    ///
    /// # Errors
    /// Where the system gives no threads.
    pub fn for_outsiders(threads: usize) -> Result<Self> {
        Ok(Behind { threads: pool(threads, "behind", OUTSIDERS)? })
    }

    /// So many threads that build chunks and their filters.
    ///
    /// # Errors
    /// Where the system gives no threads.
    pub fn for_building(threads: usize) -> Result<Self> {
        Ok(Behind { threads: pool(threads, "building", BUILDING)? })
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

/// Runs work at full priority on the thread that asks, whose other tasks move to another one meanwhile: no thread has to be
/// woken before it begins, nor when it is done.
///
/// # Errors
/// [`ServiceError::BadRequest`] where the work broke off, which only a defect could cause.
pub async fn ahead<T: Send + 'static>(work: impl FnOnce() -> T + Send + 'static) -> Result<T> {
    let broke_off = || ServiceError::BadRequest("the work broke off; the service's log says why".into());
    match Handle::current().runtime_flavor() {
        RuntimeFlavor::CurrentThread => spawn_blocking(work).await.map_err(|_| broke_off()),
        _ => catch_unwind(AssertUnwindSafe(|| block_in_place(work))).map_err(|_| broke_off()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn work_ahead_runs_on_any_runtime() {
        assert_eq!(ahead(|| 7).await.unwrap(), 7);
        let broken: Result<()> = ahead(|| panic!("on purpose")).await;
        assert!(matches!(broken, Err(ServiceError::BadRequest(_))));
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn work_ahead_runs_where_it_was_asked_for() {
        let asked = tokio::spawn(async {
            let own = std::thread::current().id();
            assert_eq!(ahead(|| std::thread::current().id()).await.unwrap(), own);
            let broken: Result<()> = ahead(|| panic!("on purpose")).await;
            assert!(matches!(broken, Err(ServiceError::BadRequest(_))));
        });
        asked.await.unwrap();
    }

    #[tokio::test]
    async fn work_that_breaks_off_breaks_nothing_else() {
        let behind = Behind::for_outsiders(1).unwrap();
        let broken: Result<()> = behind.run(|| panic!("on purpose")).await;
        assert!(matches!(broken, Err(ServiceError::BadRequest(_))));
        assert_eq!(behind.run(|| 7).await.unwrap(), 7);
    }
}
