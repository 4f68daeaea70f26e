//! The threads that searches scan on: few, apart from those that answer requests and take events in. A question over
//! many pages, or one that has run for a while, runs where intake and short questions leave the processors free. If it
//! comes to no end like that, some threads of low priority help, so that it goes on however busy the machine is.

use crate::admission::behind::{Standing, pool};
use crate::error::Result;
use calvex_answer::scan::Workers;
use parking_lot::{Condvar, Mutex};
use rayon::prelude::*;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

/// Pages of a wave, for each thread, from which a question is a long one: what looks for events has waves of so many at most.
const LONG: usize = 16;
/// A question that has run for so long is a long one, whatever its waves.
const WHILE: Duration = Duration::from_millis(30);
/// A question that has run for so long is helped.
const HELPED_AFTER: Duration = Duration::from_millis(300);
/// How the threads that help stand to others.
const HELPING: Standing = Standing::Behind(15);

/// Bounded pools, shared by all searches.
#[derive(Clone)]
pub struct SearchPool {
    short: Arc<rayon::ThreadPool>,
    long: Arc<rayon::ThreadPool>,
    helping: Arc<rayon::ThreadPool>,
}

impl SearchPool {
    /// With so many threads for short questions, as many for long ones, and half as many that help these.
    ///
    /// # Errors
    /// Where the system gives no threads.
    pub fn new(threads: usize) -> Result<Self> {
        Ok(SearchPool {
            short: pool(threads, "search", Standing::Beside)?,
            long: pool(threads, "search-long", Standing::InGaps)?,
            helping: pool(threads / 2, "search-helping", HELPING)?,
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
        let is_long = tasks >= LONG * self.width() || self.began.elapsed() >= WHILE;
        if is_long {
            self.each_in_gaps(tasks, task);
        } else if tasks <= 1 {
            // A single task is done sooner than another thread is woken.
            (0..tasks).for_each(task);
        } else {
            self.search_pool.short.install(|| (0..tasks).into_par_iter().with_max_len(1).for_each(task));
        }
    }

    fn width(&self) -> usize {
        self.search_pool.short.current_num_threads()
    }
}

impl Question<'_> {
    fn each_in_gaps(&self, tasks: usize, task: &(dyn Fn(usize) + Sync)) {
        let SearchPool { long, helping, .. } = self.search_pool;
        let next = AtomicUsize::new(0);
        let work = || {
            while let Some(n) = Some(next.fetch_add(1, Ordering::Relaxed)).filter(|n| *n < tasks) {
                task(n);
            }
        };
        // A task of its own that asks for more must not wait for its own thread.
        if long.current_thread_index().is_some() || helping.current_thread_index().is_some() {
            return work();
        }
        let threads = tasks.min(long.current_num_threads());
        let (working, ended) = (Mutex::new(threads), Condvar::new());
        long.in_place_scope(|scope| {
            for _ in 0..threads {
                scope.spawn(|_| {
                    work();
                    *working.lock() -= 1;
                    ended.notify_one();
                });
            }
            let mut left = working.lock();
            let waited = ended.wait_while_until(&mut left, |left| *left > 0, self.began + HELPED_AFTER);
            drop(left);
            if waited.timed_out() {
                helping.in_place_scope(|scope| {
                    (0..helping.current_num_threads()).for_each(|_| scope.spawn(|_| work()));
                });
            }
        });
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Each task runs once, on whatever threads.
    #[test]
    fn short_and_long_questions_do_each_task_once() {
        let threads = SearchPool::new(2).unwrap();
        for (tasks, ran_for) in [(0, 0), (1, 0), (5, 0), (500, 0), (1, 1), (5, 11), (0, 11)] {
            let question = Question { search_pool: &threads, began: Instant::now() - Duration::from_secs(ran_for) };
            let done: Vec<AtomicUsize> = (0..tasks).map(|_| AtomicUsize::new(0)).collect();
            question.each(tasks, &|n| {
                done[n].fetch_add(1, Ordering::SeqCst);
            });
            assert!(done.iter().all(|n| n.load(Ordering::SeqCst) == 1), "{tasks} tasks after {ran_for} s");
        }
    }

    /// What finds no gap goes on all the same: here, since another question's task has the only thread.
    #[test]
    fn a_question_that_finds_no_gap_is_helped() {
        let threads = SearchPool::new(1).unwrap();
        let long_ago = Instant::now() - HELPED_AFTER;
        let (hold, held) = std::sync::mpsc::channel::<()>();
        let held = Mutex::new(held);
        std::thread::scope(|scope| {
            let (began, has_begun) = std::sync::mpsc::channel();
            let first = Question { search_pool: &threads, began: Instant::now() };
            scope.spawn(move || {
                let task = |_| {
                    let _ = began.send(());
                    let _ = held.lock().recv();
                };
                first.search_pool.long.install(|| task(0));
            });
            has_begun.recv().unwrap();
            let (done, are_done) = std::sync::mpsc::channel();
            let second = Question { search_pool: &threads, began: long_ago };
            scope.spawn(move || {
                second.each(7, &|n| {
                    let _ = done.send(n);
                });
            });
            let mut each: Vec<usize> = are_done.iter().take(7).collect();
            each.sort_unstable();
            assert_eq!(each, Vec::from_iter(0..7));
            drop(hold);
        });
    }
}
