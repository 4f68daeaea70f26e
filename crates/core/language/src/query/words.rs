//! Words: runs of letters, digits and `_`, compared in any case.

/// The words of a text, as they stand.
#[inline]
pub fn words_of(text: &str) -> Words<'_> {
    Words { rest: text }
}

/// Iterator of [`words_of`].
#[derive(Clone)]
pub struct Words<'a> {
    rest: &'a str,
}

/// Whether a character belongs to words.
#[inline]
pub fn is_word_char(c: char) -> bool {
    c == '_' || c.is_alphanumeric()
}

/// How far the characters at the start of `text` all are of a word, or all are none. Most are ASCII, and are known by a
/// table byte by byte.
#[inline]
#[cfg_attr(not(test), expect(clippy::indexing_slicing, reason = "a table of 128, filled by a loop to 128"))]
fn reach(text: &str, of_word: bool) -> usize {
    const OF_WORD: [bool; 128] = {
        let mut of_word = [false; 128];
        let mut b = 0;
        while b < 128 {
            of_word[b] = (b as u8).is_ascii_alphanumeric() || b as u8 == b'_';
            b += 1;
        }
        of_word
    };
    let mut at = 0;
    while let Some(byte) = text.as_bytes().get(at) {
        match OF_WORD.get(usize::from(*byte)) {
            Some(of) if *of == of_word => at += 1,
            Some(_) => return at,
            None => match text[at..].chars().next() {
                Some(c) if is_word_char(c) == of_word => at += c.len_utf8(),
                _ => return at,
            },
        }
    }
    at
}

impl<'a> Iterator for Words<'a> {
    type Item = &'a str;
    #[inline]
    fn next(&mut self) -> Option<&'a str> {
        let from = &self.rest[reach(self.rest, false)..];
        if from.is_empty() {
            return None;
        }
        let (word, rest) = from.split_at(reach(from, true));
        self.rest = rest;
        Some(word)
    }
}

/// Lower case as used for comparing and for blooms. Borrowed where nothing changes.
#[inline]
pub fn fold(word: &str) -> std::borrow::Cow<'_, str> {
    if word.bytes().all(|b| b.is_ascii() && !b.is_ascii_uppercase()) { word.into() } else { word.to_lowercase().into() }
}

fn same(word: &str, folded: &str) -> bool {
    if word.is_ascii() { word.eq_ignore_ascii_case(folded) } else { word.to_lowercase() == folded }
}

fn begins(word: &str, folded: &str) -> bool {
    if word.is_ascii() {
        word.as_bytes().get(..folded.len()).is_some_and(|w| w.eq_ignore_ascii_case(folded.as_bytes()))
    } else {
        word.to_lowercase().starts_with(folded)
    }
}

/// Whether `words` (folded) stand in a row in `text`; with `prefix`, the last is only how a word begins.
pub fn contains_words(text: &str, words: &[String], prefix: bool) -> bool {
    let Some((first, rest)) = words.split_first() else { return true };
    // Most texts lack the word, which is found out sooner without taking them apart. Letters beyond ASCII may fold to ASCII.
    if text.is_ascii() && first.is_ascii() && !holds_ascii(text.as_bytes(), first.as_bytes()) {
        return false;
    }
    let matches_at = |i: usize, word: &str, wanted: &str| {
        if prefix && i == words.len() - 1 { begins(word, wanted) } else { same(word, wanted) }
    };
    let mut at = words_of(text);
    while let Some(word) = at.next() {
        if matches_at(0, word, first) {
            let mut following = at.clone();
            if rest.iter().enumerate().all(|(i, w)| following.next().is_some_and(|f| matches_at(i + 1, f, w))) {
                return true;
            }
        }
    }
    false
}

/// Whether `word` (folded) stands anywhere in `text`, in any case.
fn holds_ascii(text: &[u8], word: &[u8]) -> bool {
    let Some(first) = word.first() else { return true };
    let Some(last) = text.len().checked_sub(word.len()) else { return false };
    let begins = memchr::memchr2_iter(*first, first.to_ascii_uppercase(), text.get(..last + 1).unwrap_or(text));
    begins.into_iter().any(|at| text.get(at..at + word.len()).is_some_and(|t| t.eq_ignore_ascii_case(word)))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn has(text: &str, words: &str, prefix: bool) -> bool {
        contains_words(text, &words_of(words).map(|w| fold(w).into_owned()).collect::<Vec<_>>(), prefix)
    }

    #[test]
    fn whole_words_in_any_case_in_a_row() {
        let text = "Lease LS-90817 ran out 14.2 s before door 17 confirmed; ÄNDERUNG";
        for yes in ["lease", "LEASE", "ls-90817", "ran out", "14.2", "änderung", "before door 17"] {
            assert!(has(text, yes, false), "{yes}");
        }
        for no in ["leas", "ran before", "90817 lease", "dooor", "out door"] {
            assert!(!has(text, no, false), "{no}");
        }
        assert!(has(text, "ran before ran out 14", true) || has(text, "ran ou", true));
        assert!(!has(text, "ease", true));
        assert!(has("a a b", "a b", false), "a false start does not hide the true one");
    }
}
