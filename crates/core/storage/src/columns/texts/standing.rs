//! In which of many texts a word stands. Few texts hold it, so all of them are passed over at once, and only those in which
//! its letters stand somewhere are taken apart.

use calvex_language::query::{contains_words, is_word_char};
use std::ops::Range;

/// A word, or how a word begins, that is sought in texts.
#[derive(Debug, Clone, Copy)]
pub struct Sought<'a> {
    word: &'a String,
    is_beginning: bool,
    /// The word as a number, where it is all digits.
    number: Option<u64>,
}

/// Digits of the largest number that texts are kept as.
const MAX_DIGITS: usize = 18;

impl<'a> Sought<'a> {
    /// `word` is folded.
    pub fn new(word: &'a String, is_beginning: bool) -> Self {
        let is_number = word.len() <= MAX_DIGITS && word.bytes().all(|b| b.is_ascii_digit());
        let number = if is_number { word.parse().ok() } else { None };
        Sought { word, is_beginning, number }
    }

    /// The word, folded.
    pub fn word(&self) -> &'a str {
        self.word
    }

    /// Whether it stands in `text`.
    pub fn stands_in(&self, text: &str) -> bool {
        // Folding changes the length of few letters, and never to less than a third.
        let shortest = if self.word.is_ascii() { self.word.len() } else { self.word.len() / 3 };
        text.len() >= shortest && contains_words(text, std::slice::from_ref(self.word), self.is_beginning)
    }

    /// Whether it stands in each of these texts, joined and ended as dictionaries are; `None` where in none.
    pub fn stands_in_each(&self, joined: &str, ends: &[u32]) -> Option<Vec<bool>> {
        let mut standing: Option<Vec<bool>> = None;
        for n in candidates(joined, ends, self.word) {
            let from = if n == 0 { 0 } else { ends.get(n - 1).copied().unwrap_or(0) as usize };
            let to = ends.get(n).copied().unwrap_or(0) as usize;
            if self.stands_in(joined.get(from..to).unwrap_or(""))
                && let Some(stands) = standing.get_or_insert_with(|| vec![false; ends.len()]).get_mut(n)
            {
                *stands = true;
            }
        }
        standing
    }

    /// What decides whether it stands in texts that are a number, of at least `width` digits, between two texts without any
    /// digits: the number alone; none where it must be looked for in the text.
    pub(super) fn in_numbers(&self, prefix: &str, suffix: &str, width: usize) -> Option<impl Fn(u64) -> bool> {
        let number = self.number?;
        let begins_word = !prefix.chars().next_back().is_some_and(is_word_char);
        let ends_word = self.is_beginning || !suffix.chars().next().is_some_and(is_word_char);
        let spans = if begins_word && ends_word { self.spans(number, width.max(1)) } else { Vec::new() };
        Some(move |value: u64| spans.iter().take_while(|span| span.start <= value).any(|span| value < span.end))
    }

    /// The numbers of at least `width` digits that the word is, or that it begins, in order: a span for each length.
    fn spans(&self, number: u64, width: usize) -> Vec<Range<u64>> {
        let word = self.word.len();
        let power = |digits: usize| u32::try_from(digits).ok().and_then(|n| 10u64.checked_pow(n)).unwrap_or(u64::MAX);
        let longest = if self.is_beginning { MAX_DIGITS } else { word };
        let span = |digits: usize| {
            let unit = power(digits - word);
            // Only what is filled up to `width` digits begins with 0.
            let least = if digits > width { power(digits - 1) } else { 0 };
            number.saturating_mul(unit).max(least)..number.saturating_add(1).saturating_mul(unit).min(power(digits))
        };
        (word.max(width)..=longest).map(span).filter(|span| !span.is_empty()).collect()
    }
}

/// Letters by how often texts hold them, the most frequent first. Digits and what else words hold are taken to be rarer.
const FREQUENT: &[u8] = b"etaoinsrhldcumfpgwybvkxjqz";

/// The numbers of the texts, in order, in which `word` (folded) may stand: the ASCII ones that hold its letters in a row, in
/// any case, and those with letters beyond ASCII, some of which fold to ASCII.
pub(in crate::columns) fn candidates(joined: &str, ends: &[u32], word: &str) -> Vec<usize> {
    let rarity = |byte: &u8| FREQUENT.iter().position(|f| f == byte).unwrap_or(FREQUENT.len());
    let rarest = word.bytes().enumerate().max_by_key(|(_, byte)| rarity(byte));
    let Some((anchor, rarest)) = rarest.filter(|_| word.is_ascii()) else { return (0..ends.len()).collect() };
    let mut found = holding(joined.as_bytes(), ends, word.as_bytes(), (anchor, rarest));
    if !joined.is_ascii() {
        let mut from = 0;
        for (n, end) in ends.iter().enumerate() {
            let to = *end as usize;
            if !joined.as_bytes().get(from..to).is_some_and(<[u8]>::is_ascii) {
                found.push(n);
            }
            from = to;
        }
        found.sort_unstable();
        found.dedup();
    }
    found
}

/// The texts that hold `word` in any case. What stands at `anchor` in it is looked for first.
fn holding(joined: &[u8], ends: &[u32], word: &[u8], (anchor, rarest): (usize, u8)) -> Vec<usize> {
    let mut found = Vec::new();
    let (mut n, mut from) = (0, 0);
    for at in memchr::memchr2_iter(rarest, rarest.to_ascii_uppercase(), joined) {
        while let Some(end) = ends.get(n).filter(|end| **end as usize <= at) {
            (n, from) = (n + 1, *end as usize);
        }
        let end = ends.get(n).map_or(joined.len(), |end| *end as usize);
        let Some(start) = at.checked_sub(anchor).filter(|start| *start >= from) else { continue };
        let stands = start + word.len() <= end
            && joined.get(start..start + word.len()).is_some_and(|text| text.eq_ignore_ascii_case(word));
        if stands && n < ends.len() && found.last() != Some(&n) {
            found.push(n);
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn joined(texts: &[String]) -> (String, Vec<u32>) {
        let ends = texts.iter().scan(0, |end, text| {
            *end += text.len() as u32;
            Some(*end)
        });
        (texts.concat(), ends.collect())
    }

    proptest! {
        /// As each text by itself, whatever stands beside it.
        #[test]
        fn a_word_stands_where_it_does_in_each_text(
            texts in prop::collection::vec("[a-cA-C1-2é _\u{212a}-]{0,9}", 0..30),
            word in "[a-c1-2_]{1,3}|é|k", is_beginning: bool,
        ) {
            let sought = Sought::new(&word, is_beginning);
            let (all, ends) = joined(&texts);
            let plain: Vec<bool> = texts.iter().map(|text| sought.stands_in(text)).collect();
            let found = sought.stands_in_each(&all, &ends);
            prop_assert_eq!(found.is_some(), plain.contains(&true));
            prop_assert_eq!(found.unwrap_or(vec![false; texts.len()]), plain);
        }

        /// By the number as by its text.
        #[test]
        fn a_number_is_not_written_to_be_looked_at(
            prefix in "([a-z_]{0,2}[ -]?)|é", suffix in "[ .]?[a-z]{0,2}|é", width in 0usize..9,
            value in prop_oneof![0u64..200, 0u64..10_000_000_000], word in "[0-9]{1,4}", is_beginning: bool,
        ) {
            let sought = Sought::new(&word, is_beginning);
            let text = format!("{prefix}{value:0width$}{suffix}");
            let by_number = sought.in_numbers(&prefix, &suffix, width).unwrap();
            prop_assert_eq!(by_number(value), sought.stands_in(&text), "{} in {}", word, text);
        }
    }
}
