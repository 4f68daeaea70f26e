//! What a test says of each value of a dictionary: of those that pages share it is found out once for a chunk.

use super::super::dictionary::{Dictionary, Joined};
use super::{Column, Rows, set_passing};
use calvex_language::query::{Test, WordsTest};
use std::sync::Arc;

/// A byte for each value; which means what is up to the test, but 0 always that it does not pass.
pub(super) struct Verdicts {
    shared: Arc<[u8]>,
    own: Vec<u8>,
}

impl Verdicts {
    /// By `judge`; `asked` names in full what it depends on besides the value.
    pub(super) fn of<T: Joined>(
        dictionary: &Dictionary<T>,
        asked: impl FnOnce() -> String,
        mut judge: impl FnMut(&T::Item) -> u8,
    ) -> Self {
        let own = (dictionary.shared_len()..dictionary.len()).map(|code| judge(dictionary.get(code))).collect();
        Verdicts::beside(own, dictionary, asked, judge)
    }

    /// As [`Verdicts::of`], where those of the values that are not shared are known.
    pub(super) fn beside<T: Joined>(
        own: Vec<u8>,
        dictionary: &Dictionary<T>,
        asked: impl FnOnce() -> String,
        judge: impl FnMut(&T::Item) -> u8,
    ) -> Self {
        let shared = dictionary.shared.as_ref().map(|shared| of_shared(shared, &asked(), judge)).unwrap_or_default();
        Verdicts { shared, own }
    }

    /// Marks the rows whose code passes.
    pub(super) fn mark(&self, rows: &mut Rows, column: &Column, codes: &[u32]) {
        if self.contain(1) {
            set_passing(rows, column, codes, |code| self.of_code(*code) == 1);
        }
    }

    /// Whether any value may have this verdict.
    pub(super) fn contain(&self, verdict: u8) -> bool {
        self.own.contains(&verdict) || self.shared.contains(&verdict)
    }

    #[inline]
    pub(super) fn of_code(&self, code: u32) -> u8 {
        let code = code as usize;
        let known = self.shared.get(code).or_else(|| self.own.get(code.checked_sub(self.shared.len())?));
        known.copied().unwrap_or(0)
    }
}

/// What a test says of each value that pages share.
pub(super) fn of_shared<T: Joined>(
    shared: &Dictionary<T>,
    asked: &str,
    judge: impl FnMut(&T::Item) -> u8,
) -> Arc<[u8]> {
    shared.noted.answers(asked, || shared.iter().map(judge).collect())
}

/// Marks the rows whose code passes, testing each distinct value once. As [`Verdicts::of`].
pub(super) fn by_code<T: Joined>(
    rows: &mut Rows,
    column: &Column,
    (dictionary, codes): (&Dictionary<T>, &[u32]),
    asked: impl FnOnce() -> String,
    passes: impl Fn(&T::Item) -> bool,
) {
    Verdicts::of(dictionary, asked, |item| u8::from(passes(item))).mark(rows, column, codes);
}

/// What a test depends on, `sort` being what of a value is tested.
pub(super) fn asked(sort: &str, test: &Test) -> String {
    match test {
        // Its automaton would be printed too.
        Test::Regex(regex) => format!("{sort} ~{}{}", if regex.any_case { "i" } else { "" }, regex.pattern),
        test => format!("{sort} {test:?}"),
    }
}

/// As [`asked`] for words.
pub(super) fn asked_words(sort: &str, test: &WordsTest) -> String {
    // Words hold no blanks.
    format!("{sort} {} {:?} {}", test.prefix, test.number, test.words.join(" "))
}
