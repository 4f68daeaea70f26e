//! The **shape** of an event: its message with what varies left out. Equal messages have equal shapes on every node and
//! for ever, because the cut is a pure, versioned function of one message.
//!
//! A shape is cut from the message's template ([`super::template`]), in which words with digits are holes already. Version 2
//! adds as holes, in this order:
//!
//! 1. What stands in quotes (`"…"`, `'…'`, `` `…` ``, `“…”`, `«…»`). A quoted text behind `{` or `,` with `:` behind it is a
//!    key and stays; its value varies.
//! 2. What follows `=` or ` = ` up to a blank or one of `,;)]}&|`, or in quotes or brackets whole. After the keys of
//!    [`TEXT_KEYS`] stands a text, which is cut as one.
//! 3. What stands in `(…)` and `[…]`, and in `{…}` where it is a list or nothing; brackets around all of a message stay.
//! 4. Paths, web addresses and mail addresses, whole; the method before one.
//! 5. Dotted names (`edge.fennmark.test`, `doors.north`), but not before `: `, `=` or `(`. Words that a hole is part of
//!    (`slots-3`), where they hold a small letter: capitals as in `LS-3` name a kind of id and stay.
//! 6. Both words of `from A to B`; the name behind `user` or `group` that `(…)` or `from` follows (`user anna(uid=4)`).
//! 7. Behind a colon: `true`, `false`, `null`, `nil`, `None`; in a message that is no object, `{…}` whole.
//! 8. A sign before a hole belongs to it, and holes that only `.:-/_+,@` or `, ` joins are one.
//!
//! Shapes of version 1 were the templates themselves. Their ids are still known ([`id_of_version_1`]), so that links and
//! saved queries with one find the same events as before.

use super::template::{HOLE, join, split};
use std::ops::Range;
use xxhash_rust::xxh3::xxh3_64;

/// The version of the cut.
pub const SHAPE_VERSION: u8 = 2;
/// Keys whose value is a text with a shape of its own.
pub const TEXT_KEYS: [&str; 4] = ["msg", "message", "event", "event_name"];
/// Longest text in quotes, in bytes of template.
const MAX_QUOTED: usize = 1024;

/// Words behind which a name may stand.
const NAMED: [&str; 2] = ["user", "group"];
/// Words behind one of these that are no name.
const NO_NAMES: [&str; 14] = [
    "account", "agent", "and", "data", "error", "event", "events", "has", "input", "is", "name", "not", "session",
    "was",
];

/// What ends a value behind `=`.
const VALUE_ENDS: &[u8] = b",;)]}&|";
/// What may stand before a path, an opening quote or a sign, beside a blank and the beginning.
const BEFORE_TOKEN: &[u8] = b"([{<,:=\"'`>|;";
/// Joins holes to one where one or two of it stand between them.
const JOINS: &[u8] = b".:-/_+,@";
/// Opening marks of quotes with their closing ones.
const QUOTES: [(&str, &str); 6] = [("\"", "\""), ("'", "'"), ("`", "`"), ("“", "”"), ("«", "»"), ("„", "“")];
const WORDS_THAT_VARY: [&str; 7] = ["true", "false", "True", "False", "null", "nil", "None"];
/// Methods of HTTP (RFC 9110), before a path.
const METHODS: [&str; 7] = ["GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS"];

/// The shape of a message with this template: its text, with [`HOLE`] for what varies. `hole` gets the range of the
/// template that each hole stands for, in order.
pub fn of_template(template: &str, mut hole: impl FnMut(Range<usize>)) -> String {
    let mut shape = String::with_capacity(template.len());
    let mut copied = 0;
    for range in Cutter::new(template).holes() {
        shape.push_str(template.get(copied..range.start).unwrap_or(""));
        shape.push(HOLE);
        copied = range.end;
        hole(range);
    }
    shape.push_str(template.get(copied..).unwrap_or(""));
    shape
}

/// The shape of a message; `variable` gets what stands in each hole, in order.
pub fn of_message(message: &str, mut variable: impl FnMut(&str)) -> String {
    let (mut template, mut variables) = (String::with_capacity(message.len()), Vec::new());
    split(message, &mut template, |v| variables.push(v));
    let (mut at, mut used, mut text) = (0, 0, String::new());
    let skipped = |from: usize, to: usize| super::template::holes(template.get(from..to).unwrap_or(""));
    of_template(&template, |range| {
        used += skipped(at, range.start);
        let inner = template.get(range.clone()).unwrap_or("");
        text.clear();
        join(inner, variables.get(used..).unwrap_or_default().iter().copied(), &mut text);
        used += super::template::holes(inner);
        at = range.end;
        variable(&text);
    })
}

/// The stable id of a shape, as shown and compared: 16 hex digits of its hash (XXH3, 64 bits) with the version.
pub fn id(shape: &str) -> String {
    hashed(shape, SHAPE_VERSION)
}

/// The id of the shape of a message with this template.
pub fn id_of_template(template: &str) -> String {
    id(&of_template(template, |_| {}))
}

/// The id that the shape of a message with this template had in version 1.
pub fn id_of_version_1(template: &str) -> String {
    hashed(template, 1)
}

/// The id that a message's shape had in version 1.
pub fn old_id_of(message: &str) -> String {
    let mut template = String::with_capacity(message.len());
    split(message, &mut template, |_| {});
    id_of_version_1(&template)
}

/// The id of a message's shape.
pub fn id_of(message: &str) -> String {
    let mut template = String::with_capacity(message.len());
    split(message, &mut template, |_| {});
    id_of_template(&template)
}

fn hashed(text: &str, version: u8) -> String {
    format!("{:016x}", xxh3_64(text.as_bytes()) ^ u64::from(version).rotate_right(8))
}

/// Finds the holes of one template in one pass, and joins them in another. Whatever is looked for ahead is remembered, so
/// that the work is linear in the length of any text.
struct Cutter<'a> {
    text: &'a str,
    bytes: &'a [u8],
    /// For each opening bracket, where its partner stands.
    partners: Vec<(usize, usize)>,
    /// Where commas stand, and where colons and equals signs do.
    commas: Vec<usize>,
    keys: Vec<usize>,
    /// By kind of quotes: the last closing mark looked for and found; none where there is no further one.
    closing: [Option<usize>; QUOTES.len()],
    /// No path begins before.
    no_path_before: usize,
    found: Vec<Range<usize>>,
}

fn is_word(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || byte == b'_' || byte == HOLE as u8 || byte >= 0x80
}

impl<'a> Cutter<'a> {
    fn new(text: &'a str) -> Self {
        let bytes = text.as_bytes();
        let at = |wanted: &'static [u8]| {
            bytes.iter().enumerate().filter(|(_, b)| wanted.contains(b)).map(|(at, _)| at).collect::<Vec<_>>()
        };
        Cutter {
            text,
            bytes,
            partners: partners(bytes),
            commas: at(b","),
            keys: at(b":="),
            closing: [Some(0); QUOTES.len()],
            no_path_before: 0,
            found: Vec::new(),
        }
    }

    fn byte(&self, at: usize) -> Option<u8> {
        self.bytes.get(at).copied()
    }

    fn before(&self, at: usize) -> Option<u8> {
        at.checked_sub(1).and_then(|at| self.byte(at))
    }

    /// The holes, in order and apart.
    fn holes(mut self) -> Vec<Range<usize>> {
        let mut at = 0;
        while let Some(byte) = self.byte(at) {
            at = self.step(at, byte).max(at + 1);
        }
        let mut joined: Vec<Range<usize>> = Vec::with_capacity(self.found.len());
        for mut range in std::mem::take(&mut self.found) {
            if self.before(range.start).is_some_and(|b| b == b'-' || b == b'+')
                && range.start.checked_sub(2).and_then(|at| self.byte(at)).is_none_or(begins_token)
                && joined.last().is_none_or(|last| last.end < range.start)
            {
                range.start -= 1;
            }
            match joined.last_mut() {
                Some(last) if self.joins(last.end, range.start) => last.end = range.end,
                _ => joined.push(range),
            }
        }
        joined
    }

    /// Whether what stands between two holes makes one of them.
    fn joins(&self, from: usize, to: usize) -> bool {
        let between = self.bytes.get(from..to).unwrap_or_default();
        between == b", " || ((1..=2).contains(&between.len()) && between.iter().all(|b| JOINS.contains(b)))
    }

    /// Looks at what begins at `at`; returns where to go on.
    fn step(&mut self, at: usize, byte: u8) -> usize {
        match byte {
            _ if byte == HOLE as u8 => self.hole(at, at + 1),
            b'=' => self.assigned(at),
            b'(' | b'[' => match self.partner(at) {
                // An empty pair is part of a name.
                Some(close) if byte == b'(' && close == at + 1 => at + 1,
                Some(close) if at > 0 || close + 1 < self.bytes.len() => self.hole(at + 1, close),
                _ => at + 1,
            },
            b'{' => match self.partner(at) {
                Some(close) if self.is_list(at + 1, close) => self.hole(at + 1, close),
                _ => at + 1,
            },
            b':' => self.behind_colon(at),
            _ => {
                let begins = self.before(at).is_none_or(begins_token);
                if begins && let Some(close) = self.closing_quote(at) {
                    return self.quoted(at, close);
                }
                if begins && let Some(end) = self.path(at) {
                    return self.hole(at, end);
                }
                if begins && is_word(byte) { self.word(at) } else { at + 1 }
            }
        }
    }

    fn hole(&mut self, from: usize, to: usize) -> usize {
        self.found.push(from..to);
        to
    }

    fn partner(&self, open: usize) -> Option<usize> {
        let at = self.partners.binary_search_by_key(&open, |(open, _)| *open).ok()?;
        self.partners.get(at).map(|(_, close)| *close)
    }

    /// Where the quote that opens at `at` closes: the first byte of the closing mark, and its length.
    fn closing_quote(&mut self, at: usize) -> Option<(usize, usize)> {
        let opens = |(open, _): &(&str, &str)| self.bytes.get(at..).is_some_and(|b| b.starts_with(open.as_bytes()));
        let kind = QUOTES.iter().position(opens)?;
        let (open, close) = *QUOTES.get(kind)?;
        let from = at + open.len();
        let known = self.closing.get_mut(kind)?;
        if (*known)? < from {
            *known = closing_mark(self.bytes, from, close);
        }
        known.filter(|end| end - from <= MAX_QUOTED).map(|end| (end, close.len()))
    }

    /// A quoted text: a key stays, anything else varies.
    fn quoted(&mut self, open: usize, (close, length): (usize, usize)) -> usize {
        // The closing mark of a pair is as long as the opening one.
        let (from, behind) = (open + length, close + length);
        let stands_in = self.bytes.get(..open).and_then(|b| b.iter().rev().find(|b| **b != b' '));
        if self.byte(behind) != Some(b':') || !matches!(stands_in, Some(b'{' | b',')) {
            return self.hole(from, close).max(behind);
        }
        for at in (from..close).filter(|at| self.bytes.get(*at) == Some(&(HOLE as u8))).collect::<Vec<_>>() {
            self.hole(at, at + 1);
        }
        let value = if self.byte(behind + 1) == Some(b' ') { behind + 2 } else { behind + 1 };
        let key = self.text.get(from..close).unwrap_or("");
        self.value(key, value)
    }

    /// What stands behind a key from `at` on.
    fn value(&mut self, key: &str, at: usize) -> usize {
        let is_text = TEXT_KEYS.contains(&key);
        if let Some((close, length)) = self.closing_quote(at) {
            return match is_text && close > at + length {
                true => at + length,
                false => self.hole(at + length, close).max(close + length),
            };
        }
        if matches!(self.byte(at), Some(b'[' | b'(' | b'{')) {
            return match self.partner(at) {
                // An object behind a key of JSON has keys of its own.
                Some(_) if self.byte(at) == Some(b'{') && self.before(at) != Some(b'=') => at + 1,
                Some(close) => self.hole(at + 1, close).max(close + 1),
                None => at,
            };
        }
        if is_text {
            return at;
        }
        let ends = |b: &u8| b.is_ascii_whitespace() || VALUE_ENDS.contains(b);
        let rest = self.bytes.get(at..).unwrap_or_default();
        let mut end = at + rest.iter().position(ends).unwrap_or(rest.len());
        // The end of a sentence is not part of its last value.
        while end > at && self.before(end).is_some_and(|b| matches!(b, b'.' | b':' | b'!' | b'?')) {
            end -= 1;
        }
        self.hole(at, end)
    }

    /// At a `=`: its value, where it assigns one.
    fn assigned(&mut self, at: usize) -> usize {
        let (before, behind) = (self.before(at), self.byte(at + 1));
        if before == Some(b' ') && behind == Some(b' ') {
            let named = at.checked_sub(2).and_then(|at| self.byte(at)).is_some_and(is_word);
            let value = self.byte(at + 2).is_some_and(|b| !b.is_ascii_whitespace());
            return if named && value { self.value(self.key_before(at - 1), at + 2) } else { at + 1 };
        }
        let compares = behind.is_some_and(|b| matches!(b, b'=' | b'>' | b'~'));
        if compares || !before.is_some_and(|b| is_word(b) || matches!(b, b'"' | b'\'' | b')' | b']' | b'.' | b'-')) {
            return at + if compares { 2 } else { 1 };
        }
        self.value(self.key_before(at), at + 1)
    }

    /// The word that ends at `end`.
    fn key_before(&self, end: usize) -> &'a str {
        let head = self.bytes.get(..end).unwrap_or_default();
        let from = head.iter().rposition(|b| !is_word(*b)).map_or(0, |at| at + 1);
        self.text.get(from..end).unwrap_or("")
    }

    /// At a colon: a word behind it that is a value in every language, or an object in a text.
    fn behind_colon(&mut self, at: usize) -> usize {
        let is_object = self.bytes.first() != Some(&b'{') && self.bytes.get(at + 1..at + 3) == Some(b" {");
        if is_object && let Some(close) = self.partner(at + 2) {
            return self.hole(at + 2, close + 1);
        }
        let from = if self.byte(at + 1) == Some(b' ') { at + 2 } else { at + 1 };
        let rest = self.text.get(from..).unwrap_or("");
        let is_value = |word: &&&str| rest.starts_with(**word) && !self.byte(from + word.len()).is_some_and(is_word);
        match WORDS_THAT_VARY.iter().find(is_value) {
            Some(word) => self.hole(from, from + word.len()),
            None => at + 1,
        }
    }

    /// Whether braces hold a list, or nothing.
    fn is_list(&self, from: usize, close: usize) -> bool {
        let holds =
            |places: &[usize]| places.get(places.partition_point(|at| *at < from)).is_some_and(|at| *at < close);
        from == close || (holds(&self.commas) && !holds(&self.keys))
    }

    /// Where the word that begins at `from` ends. Dots and hyphens behind it end a sentence, or a line.
    fn word_end(&self, from: usize) -> usize {
        let rest = self.bytes.get(from..).unwrap_or_default();
        let length = rest.iter().position(|b| !(is_word(*b) || b"-._@+".contains(b))).unwrap_or(rest.len());
        let word = rest.get(..length).unwrap_or_default();
        from + word.iter().rposition(|b| is_word(*b)).map_or(0, |at| at + 1)
    }

    /// At the beginning of a word: whether it varies; returns where to go on.
    fn word(&mut self, at: usize) -> usize {
        let end = self.word_end(at);
        let (Some(word), behind) = (self.text.get(at..end), self.byte(end)) else { return at + 1 };
        if word == "from" && behind == Some(b' ') {
            return self.moved(end + 1).unwrap_or(end);
        }
        if NAMED.contains(&word) && behind == Some(b' ') {
            return self.name(end + 1).unwrap_or(end);
        }
        if behind == Some(b'=') {
            return at + 1;
        }
        let small = |word: &str| word.bytes().any(|b| b.is_ascii_lowercase() || b >= 0x80);
        if word.contains(HOLE) {
            return if small(word) { self.hole(at, end) } else { at + 1 };
        }
        let is_name = |part: &str| part.len() > 1 && part.bytes().all(|b| is_word(b) || b == b'-');
        let before_text = behind == Some(b':') && self.byte(end + 1).is_none_or(|b| b == b' ');
        if word.contains('.') && word.split('.').all(is_name) && behind != Some(b'(') && !before_text {
            return self.hole(at, end);
        }
        let next = self.text.get(end..).unwrap_or("");
        if METHODS.contains(&word)
            && (next.starts_with(" /") || next.starts_with(" http") || next.starts_with(" \u{1a}"))
        {
            return self.hole(at, end);
        }
        end
    }

    /// Behind `user ` or `group `: a name that brackets or ` from ` follow.
    fn name(&mut self, at: usize) -> Option<usize> {
        let end = self.word_end(at);
        let (word, rest) = (self.text.get(at..end)?, self.text.get(end..)?);
        let follows = rest.starts_with('(') || rest.starts_with(" (") || rest.starts_with(" from ");
        let is_name = !word.is_empty() && !word.contains(HOLE) && !NO_NAMES.contains(&word);
        (follows && is_name).then(|| self.hole(at, end))
    }

    /// Behind `from `: both words of `A to B`.
    fn moved(&mut self, at: usize) -> Option<usize> {
        let end = self.word_end(at);
        let (between, to) = (self.text.get(end..end + 4)?, end + 4);
        let last = self.word_end(to);
        let ends = self.byte(last).is_none_or(|b| b.is_ascii_whitespace() || b".,;:)".contains(&b));
        if between != " to " || end == at || last == to || !ends {
            return None;
        }
        self.hole(at, end);
        Some(self.hole(to, last))
    }

    /// The end of the path or address that begins at `at`, where one does.
    fn path(&mut self, at: usize) -> Option<usize> {
        if at < self.no_path_before {
            return None;
        }
        let rest = self.bytes.get(at..)?;
        let ends = |b: &u8| b.is_ascii_whitespace() || b"\"'`,;)]}>|=?".contains(b);
        let mut length = rest.iter().position(ends).unwrap_or(rest.len());
        if rest.get(length) == Some(&b'?') && is_path(self.text.get(at..at + length)?) {
            // An address may hold `=` and `,` behind its question mark.
            let ends = |b: &u8| b.is_ascii_whitespace() || b"\"'`)>".contains(b);
            length += rest.get(length..)?.iter().position(ends).unwrap_or(rest.len() - length);
        }
        self.no_path_before = at + length;
        let token = self.text.get(at..at + length)?.trim_end_matches(['.', ':', '!', '?', '(']);
        is_path(token).then_some(at + token.len())
    }
}

/// The first closing mark from `from` on; behind `\` stands none, and `'` before a letter is an apostrophe.
fn closing_mark(bytes: &[u8], from: usize, close: &str) -> Option<usize> {
    let mut at = from;
    while let Some(rest) = bytes.get(at..).filter(|rest| !rest.is_empty()) {
        if rest.first() == Some(&b'\\') {
            at += 2;
        } else if rest.starts_with(close.as_bytes()) && !(close == "'" && rest.get(1).is_some_and(|b| is_word(*b))) {
            return Some(at);
        } else {
            at += 1;
        }
    }
    None
}

/// Whether a token may begin behind this byte.
fn begins_token(byte: u8) -> bool {
    byte.is_ascii_whitespace() || BEFORE_TOKEN.contains(&byte)
}

/// Whether a token is a path, a web address or a mail address. A slash between two plain words (`and/or`) makes none.
fn is_path(token: &str) -> bool {
    if let Some((name, host)) = token.split_once('@').filter(|_| !token.contains("://")) {
        return !name.is_empty()
            && host.bytes().any(is_word)
            && token.bytes().all(|b| is_word(b) || b"@.-+".contains(&b));
    }
    let slashes = token.bytes().filter(|b| matches!(b, b'/' | b'\\')).count();
    let rooted = token.starts_with(['/', '~']) || token.starts_with("./") || token.starts_with("../");
    let drive = token.as_bytes().get(1..3).is_some_and(|b| b == b":\\" || b == b":/");
    let named = token.bytes().any(|b| b == b'.' || b == HOLE as u8);
    slashes > 0 && token.bytes().any(is_word) && (rooted || drive || token.contains("://") || slashes > 1 || named)
}

/// Pairs of brackets, by where they open.
fn partners(bytes: &[u8]) -> Vec<(usize, usize)> {
    let mut open: Vec<(usize, u8)> = Vec::new();
    let mut pairs: Vec<(usize, usize)> = Vec::new();
    for (at, byte) in bytes.iter().enumerate() {
        match byte {
            b'(' | b'[' | b'{' => open.push((at, *byte)),
            b')' | b']' | b'}' => {
                let wanted = match byte {
                    b')' => b'(',
                    b']' => b'[',
                    _ => b'{',
                };
                if open.last().is_some_and(|(_, b)| *b == wanted)
                    && let Some((from, _)) = open.pop()
                {
                    pairs.push((from, at));
                }
            }
            _ => {}
        }
    }
    pairs.sort_unstable();
    pairs
}

#[cfg(test)]
mod tests;
