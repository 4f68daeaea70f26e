//! Patterns proposed from sample lines.
//!
//! Lines are cut into tokens of a kind each (time, severity, number, quoted text, address, word, sign, blanks). From the
//! left, a position where nearly all lines have one kind becomes text (where they agree) or a hole (where they do not);
//! where kinds diverge, or free text begins, the rest of the line is one hole. Lines that stand apart are learnt from
//! again, so that a file of two forms gives two patterns. What is proposed is tried on every sample before it is reported.

use super::{HoleKind, Pattern, leading_time};
use calvex_language::model::severity_from_text;
use std::collections::HashMap;

/// Lines looked at, at most.
const MAX_LINES: usize = 10_000;
/// Bytes of a line that are looked at.
const MAX_LINE: usize = 2048;
/// Most patterns proposed.
const MAX_PATTERNS: usize = 8;
/// Share of lines that must agree for a position to be of one kind.
const AGREE: f64 = 0.9;
/// A word that takes more values than this share of the lines, and more than [`FEW`], is free text.
const VARIED: f64 = 0.2;
const FEW: usize = 24;

/// A proposal.
#[derive(Debug, Clone, PartialEq)]
pub struct Learnt {
    /// Ready to be used.
    pub pattern: Pattern,
    /// Lines it was the first to fit.
    pub lines: usize,
    /// One of them.
    pub example: String,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
enum Sort {
    Blanks,
    Sign(char),
    Value(HoleKind),
}

#[derive(Debug, Clone, Copy)]
struct Token<'l> {
    sort: Sort,
    text: &'l str,
}

/// Patterns for the sample lines, the most frequent first, and how many lines none of them fits.
pub fn learn(lines: &[&str], arrived_ns: i64) -> (Vec<Learnt>, usize) {
    let samples: Vec<&str> = lines.iter().map(|l| l.trim_end()).filter(|l| !l.is_empty()).take(MAX_LINES).collect();
    let tokens: Vec<Vec<Token>> = samples.iter().map(|l| tokens_of(l, arrived_ns)).collect();
    let mut left: Vec<usize> = (0..samples.len()).collect();
    let mut learnt: Vec<Learnt> = Vec::new();
    while learnt.len() < MAX_PATTERNS && left.len() > samples.len() / 100 {
        let group: Vec<&[Token]> = left.iter().map(|n| tokens[*n].as_slice()).collect();
        let Ok(pattern) = Pattern::parse(&propose(&group)) else { break };
        let (fits, apart): (Vec<usize>, Vec<usize>) =
            left.iter().partition(|n| pattern.cut(samples[**n], arrived_ns).is_ok());
        // What stands alone is no form.
        let Some(first) = fits.first().filter(|_| fits.len() > 1 || samples.len() == 1) else { break };
        learnt.push(Learnt { pattern, lines: fits.len(), example: samples[*first].to_owned() });
        left = apart;
    }
    learnt.sort_by_key(|l| std::cmp::Reverse(l.lines));
    (learnt, left.len())
}

fn tokens_of(line: &str, arrived_ns: i64) -> Vec<Token<'_>> {
    let mut end = line.len().min(MAX_LINE);
    while !line.is_char_boundary(end) {
        end -= 1;
    }
    let line = line.get(..end).unwrap_or("");
    let mut out = Vec::new();
    let mut at = 0;
    while let Some(rest) = line.get(at..).filter(|r| !r.is_empty()) {
        let (sort, length) = next_token(rest, out.len(), arrived_ns);
        out.push(Token { sort, text: rest.get(..length).unwrap_or("") });
        at += length.max(1);
    }
    out
}

fn next_token(rest: &str, nth: usize, arrived_ns: i64) -> (Sort, usize) {
    let blanks = rest.bytes().take_while(|b| matches!(b, b' ' | b'\t')).count();
    if blanks > 0 {
        return (Sort::Blanks, blanks);
    }
    if let Some((_, length)) = leading_time(rest, arrived_ns) {
        // Ten digits may be anything once the line is under way.
        let digits = rest.get(..length).is_some_and(|t| t.bytes().all(|b| b.is_ascii_digit()));
        if !digits || nth == 0 {
            return (Sort::Value(HoleKind::Time), length);
        }
    }
    let first = rest.chars().next().unwrap_or(' ');
    if (first == '"' || first == '\'')
        && let Some(length) = super::matcher::quoted_length(rest)
    {
        return (Sort::Value(HoleKind::Quoted), length);
    }
    if "[](){}<>,;|=\"'#*".contains(first) {
        return (Sort::Sign(first), first.len_utf8());
    }
    let mut length = rest.find(|c: char| c.is_whitespace() || "[](){}<>,;|=\"'".contains(c)).unwrap_or(rest.len());
    // A sign that ends the word parts it from the next.
    while length > 1 && rest.get(..length).is_some_and(|w| w.ends_with([':', '.', '!', '?'])) {
        length -= 1;
    }
    let word = rest.get(..length).unwrap_or("");
    if word.chars().all(|c| !c.is_alphanumeric()) {
        return (Sort::Sign(first), first.len_utf8());
    }
    let kind = if severity_from_text(word).is_some() && nth < 12 {
        HoleKind::Severity
    } else if super::matcher::number_length(word) == Some(word.len()) {
        HoleKind::Number
    } else if word.contains(|c: char| c.is_ascii_digit())
        && word.matches(['.', ':']).count() >= 2
        && super::matcher::address_length(word) == Some(word.len())
    {
        HoleKind::Address
    } else {
        HoleKind::Word
    };
    (Sort::Value(kind), length)
}

/// The text of a pattern for most of `lines`.
fn propose(lines: &[&[Token]]) -> String {
    let mut group: Vec<&[Token]> = lines.to_vec();
    let mut names = Names::default();
    let mut out = String::new();
    let mut at = 0;
    loop {
        let Some((sort, share)) = commonest(&group, at) else {
            // Most lines end here; those that do not have something left.
            return out;
        };
        let ended = group.iter().filter(|l| l.len() <= at).count();
        if share < AGREE || ended * 10 > group.len() {
            // Not to be known by one kind: the rest is text, unless the very first token already differs. Then the
            // commonest form goes first and the other lines are learnt from again.
            if at > 0 {
                return rest_of(out, &names);
            }
        }
        group.retain(|l| l.get(at).is_some_and(|t| t.sort == sort));
        let texts: Vec<&str> = group.iter().filter_map(|l| l.get(at)).map(|t| t.text).collect();
        match sort {
            Sort::Blanks => out.push(' '),
            Sort::Sign('{') => out.push_str("{{"),
            Sort::Sign(sign) => out.push(sign),
            Sort::Value(kind) => {
                let same = texts.iter().all(|t| Some(t) == texts.first());
                // What is a value by its kind is one too where the samples have but one of it.
                let always = matches!(kind, HoleKind::Time | HoleKind::Severity | HoleKind::Number | HoleKind::Address);
                let literal = same && !always && !is_process(&texts);
                if literal && (group.len() > 1 || key_follows(&group, at)) {
                    out.push_str(&texts.first().copied().unwrap_or("").replace('{', "{{"));
                } else if kind == HoleKind::Word && free_text(&group, at, &texts) {
                    return rest_of(out, &names);
                } else {
                    let name = names.of(kind, &group, at, &texts);
                    out.push_str(&if name == kind.name() {
                        format!("{{{name}}}")
                    } else {
                        format!("{{{} {name}}}", kind.name())
                    });
                }
            }
        }
        at += 1;
    }
}

/// Ends a pattern in free text. Words that were taken for values right before it are its beginning, and a hole cannot
/// follow a hole that takes as little as fits.
fn rest_of(mut out: String, names: &Names) -> String {
    while let Some(at) = out.trim_end().rfind('{').filter(|_| out.trim_end().ends_with('}')) {
        let glued = out.ends_with('}');
        let plain = out.get(at..).is_some_and(|hole| hole.starts_with("{word word"));
        if !glued && !plain {
            break;
        }
        out.truncate(at);
    }
    let name = if names.has("message") { "more" } else { "message" };
    out.push_str(&format!("{{rest {name}}}"));
    out
}

/// The commonest kind of token at a place among the lines that go on, and its share of all.
fn commonest(group: &[&[Token]], at: usize) -> Option<(Sort, f64)> {
    let mut counts: HashMap<Sort, usize> = HashMap::new();
    for token in group.iter().filter_map(|l| l.get(at)) {
        *counts.entry(token.sort).or_default() += 1;
    }
    let (sort, count) = counts.into_iter().max_by_key(|(sort, n)| (*n, format!("{sort:?}")))?;
    if count * 2 < group.len() && group.iter().filter(|l| l.len() <= at).count() * 2 >= group.len() {
        return None;
    }
    Some((sort, count as f64 / group.len() as f64))
}

fn sort_at(group: &[&[Token]], at: Option<usize>) -> Option<Sort> {
    let first = group.iter().find_map(|l| l.get(at?))?;
    let same = group.iter().filter_map(|l| l.get(at?)).filter(|t| t.sort == first.sort).count();
    (same as f64 >= AGREE * group.len() as f64).then_some(first.sort)
}

fn key_follows(group: &[&[Token]], at: usize) -> bool {
    sort_at(group, Some(at + 1)) == Some(Sort::Sign('='))
}

/// Whether these are numbers of processes and threads, as `28758#28758`.
fn is_process(texts: &[&str]) -> bool {
    let digits = |t: &str| !t.is_empty() && t.bytes().all(|b| b.is_ascii_digit());
    texts.iter().all(|t| t.split_once('#').is_some_and(|(p, t)| digits(p) && digits(t)))
}

/// The word that stands before a value in every line and names it: `door 17`, `client: 10.4.0.7`.
fn word_before<'l>(group: &[&[Token<'l>]], at: usize) -> Option<&'l str> {
    const NAMES_NOTHING: [&str; 16] =
        ["to", "from", "by", "at", "in", "on", "of", "for", "with", "the", "a", "an", "is", "was", "after", "than"];
    let mut before = (0..at).rev().filter(|n| sort_at(group, Some(*n)) != Some(Sort::Blanks));
    let nearest = before.next()?;
    let nearest = if sort_at(group, Some(nearest)) == Some(Sort::Sign(':')) { before.next()? } else { nearest };
    let texts: Vec<&str> = group.iter().filter_map(|l| l.get(nearest)).map(|t| t.text).collect();
    let word = *texts.first()?;
    let is_name = word.len() > 1 && word.bytes().all(|b| b.is_ascii_lowercase() || b == b'_');
    (is_name && texts.iter().all(|t| *t == word) && !NAMES_NOTHING.contains(&word)).then_some(word)
}

/// Whether a varying word begins free text: nothing parts it from the next word, and it takes many values.
fn free_text(group: &[&[Token]], at: usize, texts: &[&str]) -> bool {
    let before = sort_at(group, at.checked_sub(1));
    let after = sort_at(group, Some(at + 1));
    let closed = matches!(after, Some(Sort::Sign(_))) && matches!(before, None | Some(Sort::Sign(_) | Sort::Blanks));
    if closed || before == Some(Sort::Sign('=')) {
        return false;
    }
    let distinct: std::collections::HashSet<&&str> = texts.iter().collect();
    let next_is_word = matches!(sort_at(group, Some(at + 2)), Some(Sort::Value(HoleKind::Word)) | None);
    (next_is_word || after.is_none()) && distinct.len() > FEW.min((texts.len() as f64 * VARIED) as usize).max(1)
}

/// Names given so far.
#[derive(Default)]
struct Names {
    given: Vec<String>,
}

impl Names {
    fn has(&self, name: &str) -> bool {
        self.given.iter().any(|n| n == name)
    }

    fn of(&mut self, kind: HoleKind, group: &[&[Token]], at: usize, texts: &[&str]) -> String {
        let before = sort_at(group, at.checked_sub(1));
        let after = sort_at(group, Some(at + 1));
        let key = (before == Some(Sort::Sign('='))).then(|| at.checked_sub(2)).flatten();
        let key = key
            .and_then(|k| group.first()?.get(k))
            .map(|t| t.text)
            .filter(|t| !t.is_empty() && t.chars().all(|c| c.is_ascii_alphanumeric() || "_.-".contains(c)));
        let is_request = |t: &&str| {
            let method = t.trim_start_matches(['"', '\'']).split(' ').next().unwrap_or("");
            matches!(method, "GET" | "POST" | "PUT" | "DELETE" | "HEAD" | "PATCH" | "OPTIONS")
        };
        let is_agent = |t: &&str| t.split_once('/').is_some_and(|(_, v)| v.starts_with(|c: char| c.is_ascii_digit()));
        let most = |of: &dyn Fn(&&str) -> bool| texts.iter().filter(|t| of(t)).count() * 2 > texts.len();
        let in_range = |t: &&str| t.parse::<u32>().is_ok_and(|n| (100..600).contains(&n));
        let said = word_before(group, at);
        let dotted = texts.iter().filter(|t| t.contains('.') || t.contains("::")).count() * 2 > texts.len();
        let wished = match (key, kind) {
            (Some(key), _) => key,
            (None, HoleKind::Time) => "time",
            (None, HoleKind::Severity) => "severity",
            (None, HoleKind::Number) if before == Some(Sort::Sign('[')) => "pid",
            (None, HoleKind::Word) if is_process(texts) => "pid",
            (None, HoleKind::Quoted) if most(&is_request) => "request",
            (None, HoleKind::Quoted) if self.has("request") && most(&is_agent) => "agent",
            (None, HoleKind::Number) if self.has("request") && !self.has("status") && most(&in_range) => "status",
            (None, HoleKind::Number) if self.has("status") && !self.has("bytes") => "bytes",
            (None, HoleKind::Address | HoleKind::Number | HoleKind::Quoted) if said.is_some() => {
                said.unwrap_or_default()
            }
            (None, HoleKind::Word) if dotted => "logger",
            (None, HoleKind::Word) if before == Some(Sort::Sign('[')) => "thread",
            (None, HoleKind::Word) if after == Some(Sort::Sign(':')) || after == Some(Sort::Sign('[')) => "service",
            (None, HoleKind::Address) => "peer",
            (None, HoleKind::Quoted) => "text",
            (None, kind) => kind.name(),
        };
        // `word` and the like are kinds, not names: numbered from the first.
        let bare = HoleKind::ALL
            .iter()
            .any(|(k, name, _)| *name == wished && !matches!(k, HoleKind::Time | HoleKind::Severity));
        let mut name = if bare { format!("{wished}1") } else { wished.to_owned() };
        let mut n = 1;
        while self.has(&name) {
            n += 1;
            name = format!("{wished}{n}");
        }
        self.given.push(name.clone());
        name
    }
}
