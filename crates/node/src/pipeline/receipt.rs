//! The receipt of a body, and the names under which a repetition finds it.

use calvex_store::StoredReceipt;
use sha2::{Digest, Sha256};

/// By what a repetition of a body is known.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Named {
    /// By the hash of its sender's idempotency key.
    Key([u8; 32]),
    /// By its own hash, for so many nanoseconds from its commit on.
    Body {
        /// For how long the same body counts as sent again.
        window_ns: i64,
    },
}

/// A receipt to be committed with a submission.
#[derive(Debug, Clone)]
pub struct Receipt {
    /// Whose batch.
    pub key_id: u32,
    /// Its name, by the sender or by its bytes.
    pub named: Named,
    /// The body's hash.
    pub body: [u8; 32],
    /// What was answered.
    pub answer: Vec<u8>,
}

impl Receipt {
    /// As it is stored at this moment.
    pub fn made_at(&self, now_ns: i64) -> StoredReceipt {
        let (name, body) = match self.named {
            Named::Key(name) => (name, Some(self.body)),
            Named::Body { window_ns } => (name_of_body(&self.body, window_ns, now_ns), None),
        };
        StoredReceipt { key_id: self.key_id, name, body, answer: self.answer.clone(), made_ns: now_ns }
    }
}

/// The names under which receipts of a body stand that were made within the window before now.
pub fn names_of_body(body: &[u8; 32], window_ns: i64, now_ns: i64) -> [[u8; 32]; 2] {
    [now_ns, now_ns.saturating_sub(window_ns)].map(|at_ns| name_of_body(body, window_ns, at_ns))
}

/// The same body may rightly come again after the window, so its name holds the time.
fn name_of_body(body: &[u8; 32], window_ns: i64, at_ns: i64) -> [u8; 32] {
    let window = at_ns.div_euclid(window_ns.max(1)).to_le_bytes();
    Sha256::new().chain_update(b"body\0").chain_update(window).chain_update(body).finalize().into()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn receipt(named: Named) -> Receipt {
        Receipt { key_id: 7, named, body: [3; 32], answer: Vec::new() }
    }

    proptest! {
        /// Whenever it was committed within the window, it is looked for under its name.
        #[test]
        fn a_repetition_finds_what_was_made_within_the_window(
            made_ns in 0..2_000_000_000_000_000_000i64, window_s in 1..100_000i64, part in 0.0..=1.0,
        ) {
            let window_ns = window_s * 1_000_000_000;
            let made = receipt(Named::Body { window_ns }).made_at(made_ns);
            let now_ns = made_ns + (window_ns as f64 * part) as i64;
            prop_assert!(names_of_body(&[3; 32], window_ns, now_ns).contains(&made.name));
            let late_ns = made_ns + 2 * window_ns;
            prop_assert!(!names_of_body(&[3; 32], window_ns, late_ns).contains(&made.name));
            prop_assert!(!names_of_body(&[4; 32], window_ns, now_ns).contains(&made.name));
        }
    }

    #[test]
    fn a_key_names_its_body_at_any_time() {
        let keyed = receipt(Named::Key([1; 32]));
        assert_eq!((keyed.made_at(1).name, keyed.made_at(i64::MAX).name), ([1; 32], [1; 32]));
    }
}
