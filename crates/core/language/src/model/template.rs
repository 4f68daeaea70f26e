//! A message cut into its template and its variables, as chunks keep it. The event's shape ([`super::shape`]) is made of
//! the template.
//!
//! The cut is pure, and never changes, so that equal messages have equal templates on every node and for ever:
//!
//! 1. A *word* is a run of letters, digits and `_`, as in the query language.
//! 2. A word with an ASCII digit in it is a variable, whole.
//! 3. Words joined by single `-` that all consist of hexadecimal digits, hold a decimal digit somewhere and measure at
//!    least eight characters together are one variable, whole (an id in groups must not split where a group happens to
//!    have letters only).
//! 4. After [`MAX_HOLES`] variables or [`MAX_LITERAL_BYTES`] bytes of template, the rest is one variable.
//! 5. The hole mark itself, should a message hold it, is a variable.
//!
//! In a template each variable is replaced by [`HOLE`].
#![cfg_attr(not(test), expect(clippy::indexing_slicing, reason = "a table of all bytes, indexed by bytes"))]

/// Stands for a variable in a template (U+001A, "substitute").
pub const HOLE: char = '\u{1a}';
/// Variables of one template at most, the rest of the message after them not counted.
pub const MAX_HOLES: usize = 64;
/// Bytes of one template after which the rest of the message is one variable.
pub const MAX_LITERAL_BYTES: usize = 2048;
/// Shortest id in groups that is one variable.
const MIN_GROUPED: usize = 8;

const OTHER: u8 = 0;
const LETTER: u8 = 1;
const HEX_LETTER: u8 = 2;
const DIGIT: u8 = 3;
const WIDE: u8 = 4;

const CLASS: [u8; 256] = {
    let mut class = [OTHER; 256];
    let mut b = 0;
    while b < 256 {
        class[b] = match b as u8 {
            b'0'..=b'9' => DIGIT,
            b'a'..=b'f' | b'A'..=b'F' => HEX_LETTER,
            b'a'..=b'z' | b'A'..=b'Z' | b'_' => LETTER,
            0x80.. => WIDE,
            _ => OTHER,
        };
        b += 1;
    }
    class
};

struct Word {
    end: usize,
    digit: bool,
    hex: bool,
}

/// The word that begins at `from`, which must be at one of its characters.
fn word_at(text: &str, from: usize) -> Word {
    let bytes = text.as_bytes();
    let mut word = Word { end: from, digit: false, hex: true };
    while let Some(byte) = bytes.get(word.end) {
        match CLASS[usize::from(*byte)] {
            DIGIT => word.digit = true,
            HEX_LETTER => {}
            LETTER => word.hex = false,
            WIDE => match text[word.end..].chars().next() {
                Some(c) if c.is_alphanumeric() => {
                    word.hex = false;
                    word.end += c.len_utf8();
                    continue;
                }
                _ => return word,
            },
            _ => return word,
        }
        word.end += 1;
    }
    word
}

/// The end of the id in groups that begins with `first` at `from`, if one does.
fn grouped(text: &str, from: usize, first: &Word) -> Option<usize> {
    let bytes = text.as_bytes();
    let (mut end, mut digit, mut groups) = (first.end, first.digit, 1);
    if !first.hex {
        return None;
    }
    while bytes.get(end) == Some(&b'-') {
        let next = word_at(text, end + 1);
        if next.end == end + 1 {
            break;
        }
        if !next.hex {
            return None;
        }
        (end, digit, groups) = (next.end, digit || next.digit, groups + 1);
    }
    (groups > 1 && digit && end - from >= MIN_GROUPED).then_some(end)
}

/// Appends the template of `text` to `template` and hands each variable to `variable`, in order.
pub fn split<'a>(text: &'a str, template: &mut String, mut variable: impl FnMut(&'a str)) {
    let bytes = text.as_bytes();
    let (mut at, mut copied, mut holes) = (0, 0, 0);
    let before = template.len();
    while let Some(byte) = bytes.get(at) {
        let class = CLASS[usize::from(*byte)];
        let hole_end = if class == OTHER {
            (*byte == HOLE as u8).then_some(at + 1)
        } else {
            let word = word_at(text, at);
            if word.end == at {
                // A wide character that is no letter.
                at += text[at..].chars().next().map_or(1, char::len_utf8);
                continue;
            }
            let end = if word.hex && bytes.get(word.end) == Some(&b'-') { grouped(text, at, &word) } else { None };
            let end = end.or(word.digit.then_some(word.end));
            if end.is_none() {
                at = word.end;
            }
            end
        };
        // Bytes of template, not of message: a long variable must not end the template.
        let room = template.len() - before + (at - copied) < MAX_LITERAL_BYTES;
        match hole_end {
            Some(end) if holes < MAX_HOLES && room => {
                template.push_str(&text[copied..at]);
                template.push(HOLE);
                variable(&text[at..end]);
                holes += 1;
                (at, copied) = (end, end);
            }
            Some(_) => {
                template.push_str(&text[copied..at]);
                template.push(HOLE);
                return variable(&text[at..]);
            }
            None if !room => {
                template.push_str(&text[copied..at]);
                if at < text.len() {
                    template.push(HOLE);
                    variable(&text[at..]);
                }
                return;
            }
            None if class == OTHER => at += 1,
            None => {}
        }
    }
    template.push_str(&text[copied..]);
}

/// Appends the message that `template` and `variables` were cut from.
pub fn join<'a>(template: &str, mut variables: impl Iterator<Item = &'a str>, out: &mut String) {
    let mut rest = template;
    while let Some(at) = rest.find(HOLE) {
        out.push_str(&rest[..at]);
        out.push_str(variables.next().unwrap_or(""));
        rest = &rest[at + 1..];
    }
    out.push_str(rest);
}

/// How many variables a template has.
pub fn holes(template: &str) -> usize {
    memchr::memchr_iter(HOLE as u8, template.as_bytes()).count()
}

/// The template as shown to people.
pub fn shown(template: &str) -> String {
    template.replace(HOLE, "‹›")
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn cut(text: &str) -> (String, Vec<&str>) {
        let (mut template, mut variables) = (String::new(), Vec::new());
        split(text, &mut template, |v| variables.push(v));
        (template.replace(HOLE, "‹›"), variables)
    }

    #[test]
    fn words_with_digits_vary() {
        for (message, template, variables) in [
            (
                "lease LS-90817 ran out 14.2 s before door 17 confirmed",
                "lease LS-‹› ran out ‹›.‹› s before door ‹› confirmed",
                vec!["90817", "14", "2", "17"],
            ),
            (
                "id 5b8aa5a2-cafe-beef-21cf-37308d69df2c taken",
                "id ‹› taken",
                vec!["5b8aa5a2-cafe-beef-21cf-37308d69df2c"],
            ),
            ("added dead-beef face", "added dead-beef face", vec![]),
            ("Schließfach 17 öffnet nicht: ½ offen", "Schließfach ‹› öffnet nicht: ½ offen", vec!["17"]),
            ("", "", vec![]),
            ("a\u{1a}b", "a‹›b", vec!["\u{1a}"]),
        ] {
            assert_eq!(cut(message), (template.to_owned(), variables), "{message}");
        }
    }

    #[test]
    fn long_messages_have_bounded_templates() {
        let numbers = (0..500).map(|n| n.to_string()).collect::<Vec<_>>().join(" ");
        let (template, variables) = cut(&numbers);
        assert_eq!((variables.len(), holes(&template.replace("‹›", "\u{1a}"))), (MAX_HOLES + 1, MAX_HOLES + 1));
        let long = format!("{} torn again", "9".repeat(3 * MAX_LITERAL_BYTES));
        assert_eq!(cut(&long).0, "‹› torn again", "a long variable does not end the template");
        let words = "word ".repeat(2000);
        assert_eq!(cut(&words).1.len(), 1);
        assert!(cut(&words).0.len() <= MAX_LITERAL_BYTES + 16);
    }

    proptest! {
        #[test]
        fn joined_again_it_is_the_message(message in "[a-f0-9\\- \u{1a}xé½.]{0,60}|.{0,200}") {
            let (mut template, mut variables, mut back) = (String::new(), Vec::new(), String::new());
            split(&message, &mut template, |v| variables.push(v));
            prop_assert_eq!(holes(&template), variables.len());
            join(&template, variables.iter().copied(), &mut back);
            prop_assert_eq!(back, message);
        }
    }
}
