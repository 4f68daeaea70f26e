//! Several addresses of one service, joined by commas: nodes of one database, each of which takes events and answers.

use crate::client::http_client;
use anyhow::{Result, bail};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

/// Addresses at most.
const MOST: usize = 64;
/// How long a node may take to say whether it is ready, where several are named.
const ANSWERS: Duration = Duration::from_secs(3);

/// Addresses that are tried in turn.
#[derive(Debug)]
pub struct Addresses {
    all: Vec<String>,
    current: AtomicUsize,
}

impl Addresses {
    /// Those of a text, beginning with one that a random number picks, so that many senders spread.
    pub fn of(text: &str, random: u64) -> Result<Self> {
        let all: Vec<String> =
            text.split(',').map(|a| a.trim().trim_end_matches('/').to_owned()).filter(|a| !a.is_empty()).collect();
        if all.is_empty() || all.len() > MOST {
            bail!("--url takes 1 to {MOST} addresses, joined by commas; this has {}", all.len());
        }
        let current = AtomicUsize::new((random % all.len() as u64) as usize);
        Ok(Addresses { all, current })
    }

    /// The one that is in use.
    pub fn current(&self) -> &str {
        self.all.get(self.current.load(Ordering::SeqCst)).map_or("", String::as_str)
    }

    /// Leaves this one, which did not take something, for the next.
    pub fn leave(&self, left: &str) {
        // Of several that leave the same one at once, one moves on.
        if let Some(n) = self.all.iter().position(|a| a == left) {
            let next = (n + 1) % self.all.len();
            let _ = self.current.compare_exchange(n, next, Ordering::SeqCst, Ordering::SeqCst);
        }
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.all.len()
    }

    /// The first that is ready; else the first that answers; else the first.
    pub async fn ready(&self) -> Result<String> {
        let first = self.all.first().cloned().unwrap_or_default();
        if self.all.len() == 1 {
            return Ok(first);
        }
        let http = http_client(ANSWERS)?;
        let mut answered = None;
        for address in &self.all {
            match http.get(format!("{address}/readyz")).send().await {
                Ok(answer) if answer.status().is_success() => return Ok(address.clone()),
                Ok(_) => answered = answered.or_else(|| Some(address.clone())),
                Err(_) => {}
            }
        }
        Ok(answered.unwrap_or(first))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_are_tried_in_turn() {
        let named = Addresses::of(" http://a/, http://b ,,http://c", 4).unwrap();
        assert_eq!((named.len(), named.current()), (3, "http://b"));
        named.leave("http://b");
        // One that was under way to the same address does not pass over the next.
        named.leave("http://b");
        assert_eq!(named.current(), "http://c");
        named.leave("http://c");
        assert_eq!(named.current(), "http://a");
        let single = Addresses::of("http://a/", 9).unwrap();
        single.leave("http://a");
        assert_eq!(single.current(), "http://a");
        assert!(Addresses::of(" ,", 0).is_err());
        assert!(Addresses::of(&"http://a,".repeat(65), 0).is_err());
    }
}
