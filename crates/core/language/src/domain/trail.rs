//! The audit trail: entries in chains, one for each node and epoch, so that one that was changed, taken out or put in is
//! found.
//!
//! ```text
//! hash of entry n = BLAKE3( "calvex trail 1" ‖ hash of entry n-1 (32 bytes; zeros before the first)
//!                           ‖ node u16 ‖ epoch u32 ‖ n u64 ‖ at_ns i64
//!                           ‖ for who, token, act, what, before: length u32, bytes )      numbers are little-endian
//! ```
//!
//! A token or an earlier state that there was none of has the length `u32::MAX` and no bytes. What was cut off the end of a
//! chain is found by comparing with its last hash, which the service writes into its own log every hour.

use blake3::Hasher;

/// What somebody did.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Entry {
    /// The node whose chain it stands in; 0 for what was done through the data directory.
    pub node: u16,
    /// The node's epoch.
    pub epoch: u32,
    /// Its place in the chain, from 1.
    pub n: u64,
    /// When, nanoseconds from 1970.
    pub at_ns: i64,
    /// Who.
    pub who: String,
    /// By which token.
    pub token: Option<String>,
    /// What was done, in a few words.
    pub act: String,
    /// To what, and what it is now.
    pub what: String,
    /// What it was before, where there was something.
    pub before: Option<String>,
}

impl Entry {
    /// Its hash, behind the one of the entry before it.
    pub fn hash(&self, earlier: &[u8; 32]) -> [u8; 32] {
        let mut hasher = Hasher::new();
        hasher.update(b"calvex trail 1").update(earlier);
        hasher.update(&self.node.to_le_bytes()).update(&self.epoch.to_le_bytes());
        hasher.update(&self.n.to_le_bytes()).update(&self.at_ns.to_le_bytes());
        for text in [Some(&self.who), self.token.as_ref(), Some(&self.act), Some(&self.what), self.before.as_ref()] {
            let length = text.map_or(u32::MAX, |t| u32::try_from(t.len()).unwrap_or(u32::MAX - 1));
            hasher.update(&length.to_le_bytes()).update(text.map_or(b"", |t| t.as_bytes()));
        }
        *hasher.finalize().as_bytes()
    }
}

/// Where a chain is broken.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub enum Broken {
    /// Entries are missing, or out of their order: the next is not the one that should follow.
    Missing { node: u16, epoch: u32, n: u64 },
    /// The entry is not the one that was written.
    Changed { node: u16, epoch: u32, n: u64 },
}

impl std::fmt::Display for Broken {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let (Broken::Missing { node, epoch, n } | Broken::Changed { node, epoch, n }) = self;
        let what = match self {
            Broken::Missing { .. } => "is missing",
            Broken::Changed { .. } => "is not as it was written",
        };
        write!(f, "entry {n} of node {node}, epoch {epoch}, {what}")
    }
}

/// Goes through the entries of one chain in their order.
#[derive(Debug, Clone, Default)]
pub struct Walk {
    /// The last entry's number and hash.
    pub head: (u64, [u8; 32]),
}

impl Walk {
    /// Checks the next entry against its stored hash.
    ///
    /// # Errors
    /// Where the chain is broken.
    pub fn next(&mut self, entry: &Entry, stored: &[u8]) -> Result<(), Broken> {
        let (node, epoch) = (entry.node, entry.epoch);
        let n = self.head.0 + 1;
        if entry.n != n {
            return Err(Broken::Missing { node, epoch, n });
        }
        let hash = entry.hash(&self.head.1);
        if hash != stored {
            return Err(Broken::Changed { node, epoch, n });
        }
        self.head = (n, hash);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn chain(length: u64) -> Vec<(Entry, [u8; 32])> {
        let (mut chain, mut earlier) = (Vec::new(), [0; 32]);
        for n in 1..=length {
            let (who, act, what) = ("mira".to_owned(), "put lane".to_owned(), format!("main, {n} days"));
            let entry = Entry { node: 1, epoch: 2, n, at_ns: n as i64, who, act, what, ..Entry::default() };
            earlier = entry.hash(&earlier);
            chain.push((entry, earlier));
        }
        chain
    }

    fn walk(chain: &[(Entry, [u8; 32])]) -> Result<u64, Broken> {
        let mut walk = Walk::default();
        for (entry, stored) in chain {
            walk.next(entry, stored)?;
        }
        Ok(walk.head.0)
    }

    #[test]
    fn what_was_taken_out_or_moved_is_found() {
        let whole = chain(5);
        assert_eq!(walk(&whole), Ok(5));
        let mut without = whole.clone();
        without.remove(2);
        assert_eq!(walk(&without), Err(Broken::Missing { node: 1, epoch: 2, n: 3 }));
        let mut moved = whole;
        moved.swap(1, 2);
        let found = walk(&moved).unwrap_err();
        assert_eq!(found.to_string(), "entry 2 of node 1, epoch 2, is missing");
    }

    proptest! {
        /// Whatever is changed of an entry, and even where its number and hash are made to fit, the chain is broken there or
        /// behind it.
        #[test]
        fn what_was_changed_is_found(at in 0usize..6, which in 0usize..6, forged in any::<bool>()) {
            let mut chain = chain(6);
            let before = if at == 0 { [0; 32] } else { chain[at - 1].1 };
            let entry = &mut chain[at].0;
            match which {
                0 => entry.who.push('x'),
                1 => entry.token = Some(String::new()),
                2 => entry.act.insert(0, ' '),
                3 => entry.what = entry.what.replace("main", "vault"),
                4 => entry.before = Some("x".into()),
                _ => entry.at_ns += 1,
            }
            if forged {
                chain[at].1 = chain[at].0.hash(&before);
            }
            let found = walk(&chain);
            if forged && at == 5 {
                // A chain that was written anew from here on fits; its head is another than the log has.
                prop_assert_eq!(found, Ok(6));
            } else {
                let n = at as u64 + 1 + u64::from(forged);
                prop_assert_eq!(found, Err(Broken::Changed { node: 1, epoch: 2, n }));
            }
        }
    }
}
