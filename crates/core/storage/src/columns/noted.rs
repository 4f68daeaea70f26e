//! What is found out once about the values that the pages of a chunk share, not once for each page: which of them pass a
//! test, which streams the holes of templates belong to, and their hashes.

use super::streams::Leads;
use parking_lot::Mutex;
use std::sync::{Arc, OnceLock};

/// Tests whose answers are kept, and the bytes of what names one: a longer test is answered anew each time.
const TESTS: usize = 4;
const MAX_ASKED: usize = 256;

/// Beside the values of one dictionary. It says nothing that does not follow from them, so a copy begins without.
#[derive(Default)]
pub struct Noted {
    /// A byte for each value, by what was asked; the latest last.
    answers: Mutex<Vec<(String, Arc<[u8]>)>>,
    leads: OnceLock<Leads>,
    hashes: OnceLock<Vec<u64>>,
}

impl Noted {
    /// The answer for each value to what `asked` names in full; `answer` works it out where it is not kept.
    pub fn answers(&self, asked: &str, answer: impl FnOnce() -> Vec<u8>) -> Arc<[u8]> {
        if asked.len() > MAX_ASKED {
            return answer().into();
        }
        let kept = |answers: &[(String, Arc<[u8]>)]| {
            answers.iter().find(|(known, _)| known == asked).map(|(_, answer)| answer.clone())
        };
        if let Some(found) = kept(&self.answers.lock()) {
            return found;
        }
        // Not under the lock: others ask something else meanwhile.
        let found: Arc<[u8]> = answer().into();
        let mut answers = self.answers.lock();
        if kept(&answers).is_none() {
            if answers.len() >= TESTS {
                answers.remove(0);
            }
            answers.push((asked.to_owned(), found.clone()));
        }
        found
    }

    /// A hash for each value; `find` works them out where they are not kept. All who ask have one hash function.
    pub fn hashes(&self, find: impl FnOnce() -> Vec<u64>) -> &[u64] {
        self.hashes.get_or_init(find)
    }

    /// The leads of the values as templates.
    pub(super) fn leads(&self, find: impl FnOnce() -> Leads) -> &Leads {
        self.leads.get_or_init(find)
    }
}

impl Clone for Noted {
    fn clone(&self) -> Self {
        Noted::default()
    }
}

impl PartialEq for Noted {
    fn eq(&self, _: &Self) -> bool {
        true
    }
}

impl std::fmt::Debug for Noted {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Noted")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_last_few_are_kept() {
        let noted = Noted::default();
        let ask = |asked: &str, answer: u8| noted.answers(asked, || vec![answer]).to_vec();
        assert_eq!(ask("a", 1), [1]);
        assert_eq!(ask("a", 2), [1], "found out once");
        ["b", "c", "d", "e"].into_iter().for_each(|asked| drop(ask(asked, 3)));
        assert_eq!(ask("a", 2), [2], "another four were asked since");
        assert_eq!(noted.clone().answers("e", || vec![4]).to_vec(), [4], "a copy begins without");
        assert_eq!([noted.hashes(|| vec![7]), noted.hashes(|| vec![8])], [[7], [7]], "found out once");
        assert_eq!(noted.clone().hashes(|| vec![8]), [8]);
        let long = "x".repeat(MAX_ASKED + 1);
        assert_eq!([ask(&long, 5), ask(&long, 6)], [[5], [6]], "what is asked at length is not kept");
    }
}
