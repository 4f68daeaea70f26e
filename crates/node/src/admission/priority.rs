//! How the system schedules a thread: as any other, giving way to others, or in what all others leave.

use super::lifting::Lifting;
use std::io::Result;
use std::sync::Arc;
use std::time::Duration;

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
    /// In what all others leave (`SCHED_IDLE`): whoever wakes is let in at once, or at the next
    /// tick where the little that such a thread is due anyway has come due. Where others leave nothing, threads are
    /// [lifted](Lifting) to [giving way](Priority::GivingWay) with so many steps for a while. A system that would not let
    /// them be lifted has them give way at all times.
    Leavings(i32),
}

/// Slices of the processor that work behind others asks for: longer than those of all other threads. A thread that wakes is
/// let in before the end of a longer slice, and does not wait it out (Linux since 6.12:
/// `Documentation/scheduler/sched-eevdf.rst`).
pub(super) const SLICE: Duration = Duration::from_millis(20);

impl Priority {
    /// Gives it to the own thread, as far as the system does; without anybody to lift it.
    pub(super) fn take(self) {
        if let Priority::GivingWay(steps) | Priority::Leavings(steps) = self
            && let Ok(nice) = rustix::process::nice(steps)
        {
            // Where the kernel knows no slices, niceness is all there is.
            let _ = give_way(OWN_THREAD, nice);
        }
    }

    /// Who lifts the threads of a pool that has this priority, where they need it and the system lets them be lifted.
    ///
    /// # Errors
    /// Where the system gives no thread.
    pub(super) fn lifting(self, name: &str) -> Result<Option<Arc<Lifting>>> {
        match self {
            Priority::Leavings(steps) if can_come_back(steps) => Lifting::start(name, steps).map(Some),
            _ => Ok(None),
        }
    }
}

/// The thread that asks, wherever the system takes a thread's number.
pub(super) const OWN_THREAD: i32 = 0;

/// Whether a thread with so many steps of niceness more than this one leaves idle priority again: with `RLIMIT_NICE`, or the
/// right to (`CAP_SYS_NICE`). A thread of its own tries it, since one that does not stays there.
pub(super) fn can_come_back(steps: i32) -> bool {
    let tries = move || {
        let Ok(nice) = rustix::process::nice(steps) else { return false };
        take_leavings(OWN_THREAD, nice).and_then(|()| give_way(OWN_THREAD, nice)).is_ok()
    };
    std::thread::Builder::new().spawn(tries).is_ok_and(|thread| thread.join().unwrap_or(false))
}

/// Gives a thread of this niceness [long slices](SLICE).
///
/// # Errors
/// Where the system refuses it.
pub(super) fn give_way(thread: i32, nice: i32) -> Result<()> {
    schedule(thread, nix::libc::SCHED_OTHER, nice, SLICE)
}

/// Gives a thread what all others leave; it keeps this niceness for when it is lifted.
///
/// # Errors
/// Where the system refuses it.
pub(super) fn take_leavings(thread: i32, nice: i32) -> Result<()> {
    schedule(thread, nix::libc::SCHED_IDLE, nice, Duration::ZERO)
}

#[allow(unsafe_code)]
fn schedule(thread: i32, policy: i32, nice: i32, slice: Duration) -> Result<()> {
    use nix::libc::{SYS_sched_setattr, sched_attr, syscall};
    let attributes = sched_attr {
        size: size_of::<sched_attr>() as u32,
        sched_policy: policy as u32,
        sched_flags: 0,
        sched_nice: nice,
        sched_priority: 0,
        sched_runtime: slice.as_nanos() as u64,
        sched_deadline: 0,
        sched_period: 0,
    };
    // SAFETY: the system reads `size` bytes of a structure that lives until the call returns.
    let refused = unsafe { syscall(SYS_sched_setattr, thread, &raw const attributes, 0) } != 0;
    if refused { Err(std::io::Error::last_os_error()) } else { Ok(()) }
}

#[cfg(test)]
mod tests {
    use crate::admission::behind::pool;
    use crate::admission::priority::{Priority, SLICE};

    #[test]
    fn threads_that_give_way_have_their_steps_and_long_slices() {
        let pool = pool(1, "test", Priority::GivingWay(4)).unwrap();
        let steps = pool.install(|| rustix::process::nice(0).unwrap()) - rustix::process::nice(0).unwrap();
        assert_eq!(steps, 4);
        // Kernels that know of slices may show them; those before 6.12 show what they give to all.
        let kernel = std::fs::read_to_string("/proc/sys/kernel/osrelease").unwrap_or_default();
        let mut version = kernel.split('.').map(|part| part.parse::<u32>().unwrap_or(0));
        if (version.next(), version.next()) < (Some(6), Some(12)) {
            return;
        }
        let shown = pool.install(|| std::fs::read_to_string("/proc/thread-self/sched").unwrap_or_default());
        if let Some(slice) = shown.lines().find(|line| line.starts_with("se.slice")) {
            assert!(slice.ends_with(&SLICE.as_nanos().to_string()), "{slice}");
        }
    }
}
