//! Threads for work whose length an outsider decides (large bodies, passwords, patterns) and for building chunks. On a
//! machine whose cores are all busy, short work of others (a small batch, a commit, an answer) goes before it.

use crate::error::{Result, ServiceError};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;
use tokio::runtime::{Handle, RuntimeFlavor};
use tokio::sync::oneshot;
use tokio::task::{block_in_place, spawn_blocking};

/// How the system schedules threads.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Priority {
    /// As any other.
    Normal,
    /// In [long slices](SLICE), and with so many more steps of niceness (POSIX `nice`). More steps take less of a busy core,
    /// but let others in later: the time that a thread used before it slept counts against it when it wakes, and counts for
    /// more, the less weight the running threads have (Stoica, Abdel-Wahab: "Earliest eligible virtual deadline first",
    /// 1995; `place_entity` in Linux).
    GivingWay(i32),
}

/// Work whose length an outsider decides; before long questions, so that intake goes before them.
const OUTSIDERS: Priority = Priority::GivingWay(4);
/// Building chunks: no step of niceness, since it has to keep up with intake.
const BUILDING: Priority = Priority::GivingWay(0);

/// Threads that stand behind others; who asks for work bounds how much of it waits.
#[derive(Clone)]
pub struct Behind {
    threads: Arc<rayon::ThreadPool>,
}

/// A pool of threads of this priority. On Linux it is each thread's own; a system that refuses it leaves it as it is.
///
/// # Errors
/// Where the system gives no threads.
pub fn pool(threads: usize, name: &'static str, priority: Priority) -> Result<Arc<rayon::ThreadPool>> {
    let built = rayon::ThreadPoolBuilder::new()
        .num_threads(threads.max(1))
        .thread_name(move |n| format!("{name}-{n}"))
        .start_handler(move |_| set_priority(priority))
        .build();
    built.map(Arc::new).map_err(|e| ServiceError::Setting(format!("no threads `{name}`: {e}")))
}

fn set_priority(priority: Priority) {
    if let Priority::GivingWay(steps) = priority
        && let Ok(nice) = rustix::process::nice(steps)
    {
        // Where the kernel knows no slices, niceness is all there is.
        let _ = give_way(nice);
    }
}

/// Slices of the processor that work behind others asks for: longer than those of all other threads. A thread that wakes is
/// let in before the end of a longer slice, and does not wait it out (Linux since 6.12:
/// `Documentation/scheduler/sched-eevdf.rst`).
const SLICE: std::time::Duration = std::time::Duration::from_millis(20);

/// Gives the own thread, whose niceness is `nice`, [long slices](SLICE).
///
/// # Errors
/// Where the system refuses it.
#[cfg(target_os = "linux")]
#[allow(unsafe_code)]
fn give_way(nice: i32) -> std::io::Result<()> {
    use nix::libc::{SCHED_OTHER, SYS_sched_setattr, sched_attr, syscall};
    let attributes = sched_attr {
        size: size_of::<sched_attr>() as u32,
        sched_policy: SCHED_OTHER as u32,
        sched_flags: 0,
        sched_nice: nice,
        sched_priority: 0,
        sched_runtime: SLICE.as_nanos() as u64,
        sched_deadline: 0,
        sched_period: 0,
    };
    // SAFETY: the system reads `size` bytes of a structure that lives until the call returns; 0 is the own thread.
    let refused = unsafe { syscall(SYS_sched_setattr, 0, &raw const attributes, 0) } != 0;
    if refused { Err(std::io::Error::last_os_error()) } else { Ok(()) }
}

/// Niceness is all there is.
#[cfg(not(target_os = "linux"))]
fn give_way(_: i32) -> std::io::Result<()> {
    Ok(())
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
        let nice = behind.run(|| rustix::process::nice(0).unwrap()).await.unwrap();
        let steps = nice - rustix::process::nice(0).unwrap();
        assert_eq!(Priority::GivingWay(steps), OUTSIDERS, "behind the others");
        // Kernels that know of slices may show them; those before 6.12 show what they give to all.
        let kernel = std::fs::read_to_string("/proc/sys/kernel/osrelease").unwrap_or_default();
        let mut version = kernel.split('.').map(|part| part.parse::<u32>().unwrap_or(0));
        if (version.next(), version.next()) < (Some(6), Some(12)) {
            return;
        }
        let shown =
            behind.run(|| std::fs::read_to_string("/proc/thread-self/sched").unwrap_or_default()).await.unwrap();
        if let Some(slice) = shown.lines().find(|line| line.starts_with("se.slice")) {
            assert!(slice.ends_with(&SLICE.as_nanos().to_string()), "{slice}");
        }
    }
}
