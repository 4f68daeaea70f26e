//! Limits on signing in. A try is counted before the password is looked at, so that many at once count as many:
//!
//! | by | tries a minute |
//! | --- | --- |
//! | name and address | 5 |
//! | address, whatever the name | 30 |
//! | name, from addresses that never signed in under it | 60 |
//!
//! An address that signed in under a name lately is not counted in the last row, so that strangers cannot lock anybody
//! out. Names count as the database compares them. Passwords are hashed by as many threads as there are cores: each
//! takes 19 MiB (argon2id, RFC 9106), and guessing must not take more.

use crate::admission::behind::Behind;
use crate::admission::remembered::Remembered;
use crate::error::{Result, ServiceError};
use std::net::IpAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::sync::Semaphore;

const MINUTE: Duration = Duration::from_secs(60);
/// How long an address is known for a name after it signed in.
const KNOWN: Duration = Duration::from_secs(30 * 86_400);
const OF_NAME_AND_ADDRESS: u32 = 5;
const OF_ADDRESS: u32 = 30;
const OF_NAME: u32 = 60;
/// How long a check of a password waits for its turn.
const PATIENCE: Duration = Duration::from_secs(2);
/// Names, addresses and pairs remembered.
const REMEMBERED: usize = 20_000;

/// Whose tries are counted: a name from an address; no address for a name wherever from, and no name for an address.
type Who = (String, Option<IpAddr>);

/// Counts tries to sign in.
pub struct SignIns {
    by_both: Remembered<Who, u32>,
    by_address: Remembered<Who, u32>,
    by_name: Remembered<Who, u32>,
    /// Who signed in lately; nothing is counted.
    known: Remembered<Who, u32>,
    /// Passwords that are hashed at once.
    hashing: Arc<Semaphore>,
}

fn remembered(keep: Duration) -> Remembered<Who, u32> {
    Remembered::new(REMEMBERED, keep)
}

/// Counts one more; the count.
fn count(tries: &Remembered<Who, u32>, by: Who) -> u32 {
    tries.update(by, Instant::now(), |before| before.unwrap_or(0).saturating_add(1))
}

fn bounded(too_many: bool) -> Result<()> {
    match too_many {
        true => Err(ServiceError::TooMany("too many tries to sign in; wait a minute".into(), 60)),
        false => Ok(()),
    }
}

impl SignIns {
    /// None tried yet; at most `at_once` passwords are hashed at once.
    pub fn new(at_once: usize) -> Self {
        SignIns {
            by_both: remembered(MINUTE),
            by_address: remembered(MINUTE),
            by_name: remembered(MINUTE),
            known: remembered(KNOWN),
            hashing: Arc::new(Semaphore::new(at_once)),
        }
    }

    /// Counts a try from an address, before the name is looked at.
    ///
    /// # Errors
    /// [`ServiceError::TooMany`] where it must wait.
    pub fn begin_from(&self, from: IpAddr) -> Result<()> {
        bounded(count(&self.by_address, (String::new(), Some(from))) > OF_ADDRESS)
    }

    /// Counts a try under a name (as the database compares it) from an address.
    ///
    /// # Errors
    /// [`ServiceError::TooMany`] where it must wait.
    pub fn begin(&self, name: &str, from: IpAddr) -> Result<()> {
        let (both, named) = ((name.to_owned(), Some(from)), (name.to_owned(), None));
        bounded(
            count(&self.by_both, both.clone()) > OF_NAME_AND_ADDRESS
                || (self.known.get(&both, Instant::now()).is_none() && count(&self.by_name, named) > OF_NAME),
        )
    }

    /// Forgets the tries of a name from an address, and knows the address from now on.
    pub fn succeeded(&self, name: &str, from: IpAddr) {
        let (both, now) = ((name.to_owned(), Some(from)), Instant::now());
        self.by_both.remove(&both, now);
        self.known.insert(both, 1, now);
    }

    /// Runs `work`, which hashes a password, when it is its turn.
    ///
    /// # Errors
    /// [`ServiceError::TooMany`] where too many are waiting.
    pub async fn hash<T: Send + 'static>(
        &self,
        behind: &Behind,
        work: impl FnOnce() -> T + Send + 'static,
    ) -> Result<T> {
        let busy = || ServiceError::TooMany("too many sign in at this moment; try again".into(), 2);
        let turn = tokio::time::timeout(PATIENCE, self.hashing.clone().acquire_owned()).await.map_err(|_| busy())?;
        let hashing = move || {
            let _turn = turn;
            work()
        };
        behind.run(hashing).await
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn address(n: u8) -> IpAddr {
        IpAddr::from([10, 4, 0, n])
    }

    #[test]
    fn guessing_is_slow_by_name_and_by_address() {
        let limits = SignIns::new(2);
        let begin =
            |name: &str, from| limits.begin_from(address(from)).and_then(|()| limits.begin(name, address(from)));
        let tries = |name: &str, from: u8, n: usize| (0..n).filter(|_| begin(name, from).is_ok()).count();
        assert_eq!(tries("anna", 1, 20), 5);
        assert_eq!(tries("bert", 1, 20), 5, "another name");
        // Many names from one address end too.
        assert_eq!((0..100).filter(|n| begin(&format!("n{n}"), 2).is_ok()).count(), 30);
    }

    #[test]
    fn nobody_locks_another_out() {
        let limits = SignIns::new(2);
        limits.begin("anna", address(1)).unwrap();
        limits.succeeded("anna", address(1));
        let strangers = (10..200).map(|n| (0..5).filter(|_| limits.begin("anna", address(n)).is_ok()).count());
        assert!(strangers.sum::<usize>() <= 60, "many addresses guess no faster");
        assert!(limits.begin("anna", address(1)).is_ok(), "where anna signed in before she still may");
    }

    #[tokio::test]
    async fn few_passwords_are_hashed_at_once() {
        let (limits, behind) = (Arc::new(SignIns::new(2)), Behind::for_outsiders(4).unwrap());
        let (running, most) = (Arc::new(Semaphore::new(2)), Arc::new(std::sync::atomic::AtomicUsize::new(0)));
        let tasks = (0..20).map(|_| {
            let (limits, behind, running, most) = (limits.clone(), behind.clone(), running.clone(), most.clone());
            tokio::spawn(async move {
                let work = move || match running.try_acquire() {
                    Ok(_) => std::thread::sleep(Duration::from_millis(2)),
                    Err(_) => drop(most.fetch_add(1, std::sync::atomic::Ordering::SeqCst)),
                };
                limits.hash(&behind, work).await
            })
        });
        for task in tasks.collect::<Vec<_>>() {
            task.await.unwrap().unwrap();
        }
        assert_eq!(most.load(std::sync::atomic::Ordering::SeqCst), 0, "a third was never hashed beside two");
    }
}
