//! A regular expression of a query, and what can be known of its matches before any text is at hand.

use super::words::{fold, is_word_char, words_of};
use regex::Regex;
use regex_automata::hybrid::dfa::{Cache, DFA};
use regex_automata::util::syntax;
use regex_automata::{Anchored, Input};
use std::sync::Arc;

/// A regular expression with its text, compiled within bounds.
#[derive(Debug, Clone)]
pub struct RegexTest {
    /// Between the slashes, as typed.
    pub pattern: String,
    /// Written with `i` behind the closing slash.
    pub any_case: bool,
    /// Ready to run; linear in the text always.
    pub regex: Regex,
    /// The texts with one of which every match begins; none where nothing of the sort is known.
    pub begins: Option<Vec<String>>,
    /// Whole words (folded) of which one list stands in every text that matches; none where nothing of the sort is
    /// known. What lacks them is not looked at.
    pub words: Option<Vec<Vec<String>>>,
    /// Steps through a text from where a match could begin.
    automaton: Option<Arc<DFA>>,
}

impl RegexTest {
    /// With what can be known of `regex` beforehand.
    pub fn new(pattern: String, any_case: bool, regex: Regex) -> Self {
        let begins = beginnings(&pattern, any_case);
        let words = begins.as_deref().and_then(required_words);
        let syntax = syntax::Config::new().case_insensitive(any_case);
        let automaton = begins.as_ref().and_then(|_| DFA::builder().syntax(syntax).build(&pattern).ok());
        RegexTest { pattern, any_case, regex, begins, words, automaton: automaton.map(Arc::new) }
    }

    /// Follows matches through texts; none where the expression has no known beginning.
    pub fn progress(&self) -> Option<Progress> {
        let automaton = self.automaton.clone()?;
        let cache = automaton.create_cache();
        Some(Progress { automaton, cache })
    }
}

impl PartialEq for RegexTest {
    fn eq(&self, other: &Self) -> bool {
        self.pattern == other.pattern && self.any_case == other.any_case
    }
}

fn beginnings(pattern: &str, any_case: bool) -> Option<Vec<String>> {
    let hir = regex_syntax::ParserBuilder::new().case_insensitive(any_case).build().parse(pattern).ok()?;
    let begins = regex_syntax::hir::literal::Extractor::new().extract(&hir);
    let texts = begins.literals()?.iter().map(|l| std::str::from_utf8(l.as_bytes()).ok().map(str::to_owned));
    texts.collect::<Option<Vec<_>>>().filter(|list| !list.is_empty() && list.iter().all(|t| !t.is_empty()))
}

/// The whole words of each beginning. A word counts where signs stand on both sides of it within the text, so that it is
/// whole wherever the match stands.
fn required_words(begins: &[String]) -> Option<Vec<Vec<String>>> {
    let lists = begins.iter().map(|text| {
        // Without its first and last run of word characters, which may go on outside.
        let inner = text.trim_start_matches(is_word_char).trim_end_matches(is_word_char);
        let words: Vec<String> = words_of(inner).map(|w| fold(w).into_owned()).collect();
        (!words.is_empty()).then_some(words)
    });
    lists.collect()
}

/// A walk of the expression's automaton over pieces of text.
pub struct Progress {
    automaton: Arc<DFA>,
    cache: Cache,
}

impl Progress {
    /// Whether no match that begins at `from` can reach `to` in `text`, and none ends before it; where `to` is the end of
    /// the text, none ends there either. "Yes" is certain.
    pub fn dies(&mut self, text: &str, from: usize, to: usize) -> bool {
        let input = Input::new(text).span(from..to).anchored(Anchored::Yes);
        let Ok(mut state) = self.automaton.start_state_forward(&mut self.cache, &input) else { return false };
        for byte in text.as_bytes().get(from..to).unwrap_or(&[]) {
            match self.automaton.next_state(&mut self.cache, state, *byte) {
                Ok(next) if next.is_dead() => return true,
                Ok(next) if next.is_match() || next.is_quit() => return false,
                Ok(next) => state = next,
                Err(_) => return false,
            }
        }
        if to < text.len() {
            return false;
        }
        let last = self.automaton.next_eoi_state(&mut self.cache, state);
        last.is_ok_and(|last| !last.is_match() && !last.is_quit())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn test(pattern: &str) -> RegexTest {
        RegexTest::new(pattern.to_owned(), false, Regex::new(pattern).unwrap())
    }

    #[test]
    fn what_every_match_begins_with() {
        let known = test(r"torn (again|quiet) \w+ dim");
        assert_eq!(known.begins, Some(vec!["torn again ".to_owned(), "torn quiet ".to_owned()]));
        assert_eq!(known.words, Some(vec![vec!["again".to_owned()], vec!["quiet".to_owned()]]));
        assert_eq!(test(r"\w+ dim").begins, None);
        assert!(test(r"\w+ dim").progress().is_none());
    }

    #[test]
    fn a_match_is_followed_until_it_dies() {
        let mut progress = test(r"torn (again|quiet) \w+ dim").progress().unwrap();
        let mut dies = |text: &str, to: usize| progress.dies(text, 0, to);
        assert!(dies("torn again slow hinge, and more", 24));
        for open in ["torn again ", "torn again slow", "torn again slow d"] {
            assert!(!dies(&format!("{open}17"), open.len()), "{open}");
            assert!(dies(open, open.len()), "{open} ends there");
        }
        assert!(!dies("torn again slow dim", 19));
        assert!(!dies("torn again slow dim, and more", 29));
    }
}
