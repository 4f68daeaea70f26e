//! Threads that work in what all others leave, and are lifted where these leave nothing.
//!
//! Linux shows of each thread whether it would run (`/proc/self/task/N/stat`) and how long it ran
//! (`/proc/self/task/N/schedstat`), both in proc(5) and `Documentation/scheduler/sched-stats.rst`. One that would have run at
//! two looks and did not run at all in between is lifted for a while. It may hold what others wait for, so a look comes
//! often.

use super::priority::{give_way, take_leavings};
use parking_lot::{Condvar, Mutex};
use std::sync::Arc;
use std::time::{Duration, Instant};

/// From one look at the threads to the next.
const LOOK: Duration = Duration::from_millis(200);
/// For how long a thread is lifted before it is tried again whether others leave it something.
const LIFTED: Duration = Duration::from_millis(1000);

/// Looks after the threads of a pool.
pub(super) struct Lifting {
    threads: Mutex<Threads>,
    over: Condvar,
    steps: i32,
}

#[derive(Default)]
struct Threads {
    all: Vec<Thread>,
    over: bool,
}

struct Thread {
    id: i32,
    nice: i32,
    standing: Standing,
}

/// What is known of a thread since the last look.
#[derive(Default)]
struct Standing {
    last: Option<Look>,
    lifted: Option<Instant>,
}

/// What the system shows of a thread.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Look {
    at: Instant,
    /// It runs, or would.
    wants: bool,
    /// For how long it ran since it began.
    ran: Duration,
}

#[derive(Debug, PartialEq)]
enum Change {
    Lift,
    Lower,
}

impl Standing {
    /// What to change of a thread that is seen so now.
    fn judge(&mut self, now: Look) -> Option<Change> {
        let before = self.last.replace(now);
        if let Some(since) = self.lifted {
            let again = now.at.duration_since(since) >= LIFTED || !now.wants;
            return again.then(|| {
                // What it ran as a lifted one is no sign of what others leave.
                (self.lifted, self.last) = (None, None);
                Change::Lower
            });
        }
        let before = before.filter(|before| before.wants && now.wants)?;
        (now.ran == before.ran).then(|| {
            self.lifted = Some(now.at);
            Change::Lift
        })
    }
}

impl Lifting {
    /// Begins to look after threads that are still to come.
    ///
    /// # Errors
    /// Where the system gives no thread.
    pub(super) fn start(name: &str, steps: i32) -> std::io::Result<Arc<Self>> {
        let lifting = Arc::new(Lifting { threads: Mutex::default(), over: Condvar::new(), steps });
        let looking = lifting.clone();
        std::thread::Builder::new().name(format!("{name}-lift")).spawn(move || looking.look_until_over())?;
        Ok(lifting)
    }

    /// The own thread begins in what all others leave.
    pub(super) fn begin(&self) {
        let Ok(nice) = rustix::process::nice(self.steps) else { return };
        let thread = Thread { id: nix::unistd::gettid().as_raw(), nice, standing: Standing::default() };
        thread.change(&Change::Lower);
        self.threads.lock().all.push(thread);
    }

    /// The pool ends.
    pub(super) fn end(&self) {
        self.threads.lock().over = true;
        self.over.notify_all();
    }

    fn look_until_over(&self) {
        let mut threads = self.threads.lock();
        while !threads.over {
            self.over.wait_for(&mut threads, LOOK);
            for thread in &mut threads.all {
                let Some(look) = look_at(thread.id) else { continue };
                if let Some(change) = thread.standing.judge(look) {
                    thread.change(&change);
                }
            }
        }
    }
}

impl Thread {
    /// A thread that ended meanwhile is left as it is.
    fn change(&self, change: &Change) {
        let _ = match change {
            Change::Lift => give_way(self.id, self.nice),
            Change::Lower => take_leavings(self.id, self.nice),
        };
    }
}

/// What the system shows of a thread of this process, if it is there.
fn look_at(id: i32) -> Option<Look> {
    let of = |file: &str| std::fs::read_to_string(format!("/proc/self/task/{id}/{file}")).ok();
    let (stat, ran) = (of("stat")?, of("schedstat")?);
    // The name before it may hold blanks and brackets.
    let wants = stat.rsplit_once(')')?.1.trim_start().starts_with('R');
    let ran = ran.split_whitespace().next()?.parse().ok()?;
    Some(Look { at: Instant::now(), wants, ran: Duration::from_nanos(ran) })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::admission::behind::pool;
    use crate::admission::priority::{OWN_THREAD, Priority, can_come_back};
    use nix::libc::{SCHED_IDLE, SCHED_OTHER, sched_getscheduler};
    use std::sync::atomic::{AtomicBool, Ordering};

    fn ms(ms: u64) -> Duration {
        Duration::from_millis(ms)
    }

    /// What was changed at each look: after so many ms, whether the thread would run, and for how long it ran since it began.
    fn changes(looks: &[(u64, bool, u64)]) -> Vec<Option<Change>> {
        let (began, mut standing) = (Instant::now(), Standing::default());
        let look = |(at, wants, ran): &(u64, bool, u64)| Look { at: began + ms(*at), wants: *wants, ran: ms(*ran) };
        looks.iter().map(|seen| standing.judge(look(seen))).collect()
    }

    #[test]
    fn a_thread_that_gets_nothing_is_lifted_for_a_while() {
        use Change::{Lift, Lower};
        let (lift, lower) = (Some(Lift), Some(Lower));
        assert_eq!(changes(&[(0, true, 0), (50, true, 0), (100, true, 9)]), [None, lift, None]);
        assert_eq!(
            changes(&[(0, true, 0), (50, true, 0), (1049, true, 90), (1050, true, 90)]),
            [None, Some(Lift), None, lower]
        );
        // Lowered again, it has to get nothing for two looks, whatever it ran while it was lifted.
        let again = [(0, true, 0), (50, true, 0), (1050, true, 90), (1100, true, 90), (1150, true, 90)];
        assert_eq!(changes(&again)[2..], [Some(Lower), None, Some(Lift)]);
        // Who sleeps is lowered at once.
        assert_eq!(changes(&[(0, true, 0), (50, true, 0), (100, false, 1)])[1..], [Some(Lift), Some(Lower)]);
    }

    #[test]
    fn a_thread_that_gets_a_little_or_sleeps_stays_where_it_is() {
        assert_eq!(changes(&[(0, true, 0), (200, true, 1), (400, true, 2), (600, true, 3)]), [None, None, None, None]);
        assert_eq!(
            changes(&[(0, false, 0), (50, false, 0), (100, true, 0), (150, false, 0)]),
            [None, None, None, None]
        );
        // One that has only just begun to want is looked at once more.
        assert_eq!(changes(&[(0, false, 0), (50, true, 0), (100, true, 5)]), [None, None, None]);
    }

    /// The policy of a thread of this process.
    #[allow(unsafe_code)]
    fn policy(thread: i32) -> i32 {
        // SAFETY: takes and returns numbers.
        unsafe { sched_getscheduler(thread) }
    }

    #[test]
    fn work_gets_on_where_others_keep_all_cores_busy() {
        if !can_come_back(15) {
            let pool = pool(1, "test", Priority::Leavings(15)).unwrap();
            assert_eq!(pool.install(|| policy(OWN_THREAD)), SCHED_OTHER, "gives way where nobody could lift it");
            return;
        }
        let pool = pool(2, "test", Priority::Leavings(15)).unwrap();
        let ids = pool.broadcast(|_| nix::unistd::gettid().as_raw());
        let in_leavings = || ids.iter().all(|id| policy(*id) == SCHED_IDLE);
        assert!(in_leavings());
        let stop = AtomicBool::new(false);
        std::thread::scope(|scope| {
            for _ in 0..2 * std::thread::available_parallelism().map_or(2, usize::from) {
                scope.spawn(|| {
                    while !stop.load(Ordering::Relaxed) {
                        std::hint::spin_loop();
                    }
                });
            }
            // It works on until it is lifted.
            let seen = pool.install(|| {
                while policy(OWN_THREAD) == SCHED_IDLE {
                    std::hint::spin_loop();
                }
                rustix::process::nice(0).unwrap()
            });
            stop.store(true, Ordering::Relaxed);
            assert_eq!(seen - rustix::process::nice(0).unwrap(), 15);
        });
        while !in_leavings() {
            std::thread::yield_now();
        }
    }

    #[test]
    fn nobody_looks_after_threads_that_are_gone() {
        let lifting = Lifting::start("test", 0).unwrap();
        lifting.end();
        while Arc::strong_count(&lifting) > 1 {
            std::thread::yield_now();
        }
    }
}
