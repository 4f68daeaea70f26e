//! Memory that outside bytes decide, charged before it is taken. A [`Budget`] is a number of bytes that all requests
//! share; a [`Charge`] is what one of them holds, given back when it goes. One owner (a key, a person, an address) gets
//! at most half, so that nobody can use up all of it alone.

use crate::error::{Result, ServiceError};
use parking_lot::Mutex;
use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::Notify;

/// How long a charge waits for room before it is refused.
const PATIENCE: Duration = Duration::from_secs(1);

/// Whom a charge counts against.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Owner {
    /// A sender's key.
    Key(u32),
    /// An address, where nothing else is known of who sends.
    Address(std::net::IpAddr),
    /// A person who reads.
    Person(u32),
    /// Nobody that is known.
    Stranger,
}

#[derive(Default)]
struct Held {
    used: usize,
    by: HashMap<Owner, usize>,
}

/// Bytes that may be held at once.
pub struct Budget {
    /// What the budget is for, as an error names it.
    name: &'static str,
    bytes: usize,
    held: Mutex<Held>,
    freed: Notify,
}

impl Budget {
    /// Of so many bytes; `name` is the setting that holds them.
    pub fn new(name: &'static str, bytes: usize) -> Arc<Self> {
        Arc::new(Budget { name, bytes, held: Mutex::default(), freed: Notify::new() })
    }

    /// An empty charge.
    pub fn charge(self: &Arc<Self>, owner: Owner) -> Charge {
        Charge { budget: self.clone(), owner, bytes: 0 }
    }

    /// Bytes held now.
    pub fn used(&self) -> usize {
        self.held.lock().used
    }

    fn take(&self, owner: Owner, more: usize) -> bool {
        let mut held = self.held.lock();
        let own = held.by.get(&owner).copied().unwrap_or(0);
        if held.used.saturating_add(more) > self.bytes || own.saturating_add(more) > self.bytes / 2 {
            return false;
        }
        held.used += more;
        *held.by.entry(owner).or_default() += more;
        true
    }

    fn give_back(&self, owner: Owner, bytes: usize) {
        if bytes == 0 {
            return;
        }
        let mut held = self.held.lock();
        held.used = held.used.saturating_sub(bytes);
        if let Some(own) = held.by.get_mut(&owner) {
            *own = own.saturating_sub(bytes);
            if *own == 0 {
                held.by.remove(&owner);
            }
        }
        drop(held);
        self.freed.notify_waiters();
    }

    fn full(&self) -> ServiceError {
        ServiceError::Busy(format!("requests hold all the memory they may ({}); send again in a moment", self.name), 1)
    }
}

/// What one request holds of a budget.
pub struct Charge {
    budget: Arc<Budget>,
    owner: Owner,
    bytes: usize,
}

impl Charge {
    /// Bytes held.
    pub fn bytes(&self) -> usize {
        self.bytes
    }

    /// Holds exactly `bytes` from now on.
    ///
    /// # Errors
    /// [`ServiceError::Busy`] where there is no room for more.
    pub fn set(&mut self, bytes: usize) -> Result<()> {
        if bytes > self.bytes {
            if !self.budget.take(self.owner, bytes - self.bytes) {
                return Err(self.budget.full());
            }
        } else {
            self.budget.give_back(self.owner, self.bytes - bytes);
        }
        self.bytes = bytes;
        Ok(())
    }

    /// As [`Charge::set`], waiting a moment for room.
    ///
    /// # Errors
    /// As [`Charge::set`].
    pub async fn set_patiently(&mut self, bytes: usize) -> Result<()> {
        let until = tokio::time::Instant::now() + PATIENCE;
        loop {
            let budget = self.budget.clone();
            let freed = budget.freed.notified();
            tokio::pin!(freed);
            // Registered before the try, so that what is freed in between is not missed.
            freed.as_mut().enable();
            match self.set(bytes) {
                Ok(()) => return Ok(()),
                Err(e) if tokio::time::timeout_at(until, freed).await.is_err() => return Err(e),
                Err(_) => {}
            }
        }
    }
}

impl Drop for Charge {
    fn drop(&mut self) {
        self.budget.give_back(self.owner, self.bytes);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_owner_gets_half_and_all_together_the_whole() {
        let budget = Budget::new("intake.budget_mib", 100);
        let (mut a, mut b, mut c) =
            (budget.charge(Owner::Key(1)), budget.charge(Owner::Key(1)), budget.charge(Owner::Key(2)));
        assert!(a.set(30).is_ok() && b.set(20).is_ok());
        assert!(b.set(21).is_err(), "beyond the owner's half");
        assert_eq!(b.bytes(), 20, "a refused charge holds what it held");
        assert!(c.set(50).is_ok());
        assert!(budget.charge(Owner::Stranger).set(1).is_err(), "beyond the whole");
        a.set(10).unwrap();
        assert_eq!(budget.used(), 80);
        drop((a, b, c));
        assert_eq!(budget.used(), 0);
        assert!(budget.held.lock().by.is_empty(), "owners are forgotten");
    }

    #[tokio::test]
    async fn a_charge_waits_for_room_and_gives_up() {
        let budget = Budget::new("intake.budget_mib", 100);
        let mut first = budget.charge(Owner::Key(1));
        first.set(50).unwrap();
        let mut second = budget.charge(Owner::Key(1));
        assert!(second.set_patiently(10).await.is_err());
        let waits = tokio::spawn(async move { second.set_patiently(10).await.map(|()| second.bytes()) });
        tokio::task::yield_now().await;
        drop(first);
        assert_eq!(waits.await.unwrap().unwrap(), 10);
    }
}
