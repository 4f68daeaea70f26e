//! A test that never ends would keep the whole run waiting, and nobody would learn which one it was: it ends the run, with
//! its name and with what was still running.

use std::sync::{Mutex, OnceLock, PoisonError};
use std::time::{Duration, Instant};

/// The longest that a test may take; the slowest take about five minutes beside others.
const LONGEST: Duration = Duration::from_secs(20 * 60);

/// A number, the test that holds it, and when it began.
type Began = (u64, String, Instant);

/// The tests that run now, and when the last of them began or ended.
struct Tests {
    running: Vec<Began>,
    changed: Instant,
}

static TESTS: OnceLock<Mutex<Tests>> = OnceLock::new();

/// Held while a test uses a service.
pub struct Running(u64);

impl Running {
    /// Notes the test of this thread, by the name that its runner gave to the thread. None on the main thread: benchmarks
    /// take as long as they take.
    pub fn begin() -> Option<Self> {
        let name = std::thread::current().name().filter(|name| *name != "main")?.to_owned();
        let mut number = 0;
        change(|running| {
            number = running.iter().map(|(number, ..)| number + 1).max().unwrap_or(0);
            running.push((number, name, Instant::now()));
        });
        Some(Running(number))
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        change(|running| running.retain(|(number, ..)| *number != self.0));
    }
}

fn change(how: impl FnOnce(&mut Vec<Began>)) {
    let tests = TESTS.get_or_init(|| {
        std::thread::spawn(watch);
        Mutex::new(Tests { running: Vec::new(), changed: Instant::now() })
    });
    let mut tests = tests.lock().unwrap_or_else(PoisonError::into_inner);
    how(&mut tests.running);
    tests.changed = Instant::now();
}

/// Looks every second for a test that has run for too long, or that does not end though its service is gone.
fn watch() {
    loop {
        std::thread::sleep(Duration::from_secs(1));
        let Some(tests) = TESTS.get() else { continue };
        let tests = tests.lock().unwrap_or_else(PoisonError::into_inner);
        let overdue = tests.running.iter().find(|(.., began)| began.elapsed() > LONGEST);
        let name = match overdue {
            Some((_, name, _)) => name.as_str(),
            None if tests.changed.elapsed() > LONGEST => "without a service",
            None => continue,
        };
        eprintln!("test {name} ... FAILED: it does not end within {LONGEST:?}. Of the run's processes these are left:");
        let ours = ["-o", "pid,etime,wchan:20,args", "--ppid", &std::process::id().to_string()];
        let _ = std::process::Command::new("ps").args(ours).stdout(std::io::stderr()).status();
        std::process::exit(101);
    }
}
