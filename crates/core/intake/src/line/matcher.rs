//! A pattern against a line: backtracking that never tries one step at one position twice, nor widens one hole at one
//! position twice, so that the work is bounded by the product of steps and line (as in the bounded backtracking of Cox,
//! "Regular Expression Matching: the Virtual Machine Approach"). What a hole of one extent takes is read in bounded
//! time: numbers, severities, times and addresses have a longest length, and the ends of blanks and of quoted text are
//! computed once for the whole line. A budget of steps, linear in the line, ends what would still take long.

use super::{HoleKind, Pattern, Step, leading_time, number_of};
use calvex_language::model::Value;
use calvex_language::model::severity_from_text;
use calvex_language::model::time::format_utc;

/// Longest line that is tried, bytes.
const MAX_LINE: usize = 256 * 1024;
/// Steps that a search may take for each byte of the line, and for a line without bytes.
const STEPS_PER_BYTE: usize = 32;
const MIN_STEPS: usize = 8192;
/// Longest number, severity and address that a hole takes, bytes. A host name has at most 253 (RFC 1035).
const MAX_NUMBER: usize = 128;
const MAX_SEVERITY: usize = 16;
const MAX_ADDRESS: usize = 300;

/// What a named hole took.
#[derive(Debug, Clone, PartialEq)]
pub struct Cut<'p> {
    /// The hole's name.
    pub name: &'p str,
    /// Its kind.
    pub kind: HoleKind,
    /// Where it stands in the line, bytes.
    pub range: std::ops::Range<usize>,
    /// What it gives: a time as nanoseconds from 1970, a number as such, all else as text.
    pub value: Value,
}

/// Where a line stops fitting.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Miss {
    /// Bytes of the line that fit.
    pub at: usize,
    /// What was expected there.
    pub expected: Vec<String>,
}

impl std::fmt::Display for Miss {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "expected {}", self.expected.join(" or "))
    }
}

/// What the search does next.
enum Job {
    /// Goes on with `step` at `at`; behind a text hole, `sought` is where that began to look for what comes next.
    Try { step: usize, at: usize, sought: Option<usize> },
    /// Lets a hole that takes as little as fits take one character more.
    Widen { step: usize, from: usize, at: usize },
    /// Forgets what was taken since.
    Forget(usize),
}

struct Taken {
    step: usize,
    from: usize,
    to: usize,
    value: Option<Value>,
}

impl Pattern {
    /// What the holes take of a line; `arrived_ns` dates times without a year or day.
    ///
    /// # Errors
    /// Where the line does not fit: how far it did.
    pub fn cut<'p>(&'p self, line: &str, arrived_ns: i64) -> Result<Vec<Cut<'p>>, Miss> {
        let line = line.trim_end();
        if line.len() > MAX_LINE {
            return Err(Miss { at: 0, expected: vec![format!("a line of at most {MAX_LINE} bytes")] });
        }
        let mut search = Search::new(self, line, arrived_ns);
        if !search.run() {
            return Err(search.miss);
        }
        let taken = std::mem::take(&mut search.taken);
        Ok(taken.into_iter().filter_map(|t| self.reported(line, t)).collect())
    }

    fn reported<'p>(&'p self, line: &str, taken: Taken) -> Option<Cut<'p>> {
        let Some(Step::Hole { kind, name: Some(name) }) = self.steps.get(taken.step) else { return None };
        let text = line.get(taken.from..taken.to)?;
        let value = taken.value.unwrap_or_else(|| match kind {
            HoleKind::Number => number_of(text),
            HoleKind::Quoted => Value::Text(unquoted(text)),
            _ => Value::Text(text.to_owned()),
        });
        Some(Cut { name, kind: *kind, range: taken.from..taken.to, value })
    }
}

/// A bit for each step and place.
struct Seen {
    bits: Vec<u64>,
    places: usize,
}

impl Seen {
    fn new(steps: usize, line: usize) -> Self {
        Seen { bits: vec![0; (steps * (line + 1)).div_ceil(64)], places: line + 1 }
    }

    /// Whether it was seen before; it is now.
    fn mark(&mut self, step: usize, at: usize) -> bool {
        let bit = step * self.places + at;
        let word = &mut self.bits[bit / 64];
        let before = *word >> (bit % 64) & 1 == 1;
        *word |= 1 << (bit % 64);
        before
    }
}

/// Where the quoted text that begins at each position ends, computed from the end of the line backwards; 0 where it
/// is never closed.
fn quote_ends(line: &str, quote: u8) -> Vec<u32> {
    let bytes = line.as_bytes();
    // `next[at]`: the position behind the first closing quote at or behind `at`.
    let mut next = vec![0u32; bytes.len() + 2];
    for (at, byte) in bytes.iter().enumerate().rev() {
        next[at] = match *byte {
            // A backslash takes the meaning from the next character, which may have several bytes; none of its other
            // bytes is a quote or a backslash.
            b'\\' => next[at + 2],
            b if b == quote => at as u32 + 1,
            _ => next[at + 1],
        };
    }
    next
}

/// Where the run of blanks at each position ends.
fn blank_ends(line: &str) -> Vec<u32> {
    let bytes = line.as_bytes();
    let mut ends = vec![bytes.len() as u32; bytes.len() + 1];
    for (at, byte) in bytes.iter().enumerate().rev() {
        ends[at] = if matches!(byte, b' ' | b'\t') { ends[at + 1] } else { at as u32 };
    }
    ends
}

struct Search<'p, 'l> {
    pattern: &'p Pattern,
    line: &'l str,
    arrived_ns: i64,
    seen: Seen,
    /// Holes that were widened already, by step and position.
    widened: Seen,
    /// Made when first needed.
    blank_ends: Option<Vec<u32>>,
    double_quote_ends: Option<Vec<u32>>,
    single_quote_ends: Option<Vec<u32>>,
    /// Steps that may still be taken.
    budget: usize,
    taken: Vec<Taken>,
    miss: Miss,
}

impl<'p, 'l> Search<'p, 'l> {
    fn new(pattern: &'p Pattern, line: &'l str, arrived_ns: i64) -> Self {
        Search {
            pattern,
            line,
            arrived_ns,
            seen: Seen::new(pattern.steps.len(), line.len()),
            widened: Seen::new(pattern.steps.len(), line.len()),
            blank_ends: None,
            double_quote_ends: None,
            single_quote_ends: None,
            budget: MIN_STEPS.max(line.len() * STEPS_PER_BYTE),
            taken: Vec::new(),
            miss: Miss { at: 0, expected: Vec::new() },
        }
    }

    /// Takes `steps` from the budget; false where it is used up.
    fn spend(&mut self, steps: usize) -> bool {
        match self.budget.checked_sub(steps) {
            Some(left) => {
                self.budget = left;
                true
            }
            None => {
                self.budget = 0;
                self.miss.expected = vec!["a line that fits in fewer steps; use fewer {text} holes".into()];
                false
            }
        }
    }

    fn run(&mut self) -> bool {
        // Blanks before the first text are never what a line is about.
        let start = self.line.len() - self.line.trim_start_matches([' ', '\t']).len();
        let skip = usize::from(matches!(self.pattern.steps.first(), Some(Step::Blanks)));
        let mut jobs = vec![Job::Try { step: skip, at: start, sought: None }];
        while let Some(job) = jobs.pop() {
            if !self.spend(1) {
                return false;
            }
            match job {
                Job::Forget(len) => self.taken.truncate(len),
                Job::Widen { step, from, at } => self.widen(step, from, at, &mut jobs),
                Job::Try { step, at, sought } => {
                    if self.follow(step, at, sought, &mut jobs) {
                        return true;
                    }
                }
            }
        }
        false
    }

    fn rest(&self, at: usize) -> &str {
        self.line.get(at..).unwrap_or("")
    }

    fn missed(&mut self, at: usize, expected: impl FnOnce() -> String) {
        if at < self.miss.at {
            return;
        }
        if at > self.miss.at {
            self.miss = Miss { at, expected: Vec::new() };
        }
        let expected = expected();
        if !self.miss.expected.contains(&expected) && self.miss.expected.len() < 5 {
            self.miss.expected.push(expected);
        }
    }

    /// Follows the steps from one on until the line is done (true) or does not fit.
    fn follow(&mut self, mut step: usize, mut at: usize, mut sought: Option<usize>, jobs: &mut Vec<Job>) -> bool {
        loop {
            if self.seen.mark(step, at) || !self.spend(1) {
                return false;
            }
            let pattern = self.pattern;
            match &pattern.steps[step] {
                Step::Literal(text) => {
                    let fits = self.rest(at).bytes().zip(text.bytes()).take_while(|(a, b)| a == b).count();
                    if !self.spend(fits / 16) {
                        return false;
                    }
                    if fits < text.len() {
                        // A text hole looks for this literal everywhere.
                        let place = sought.unwrap_or_else(|| self.line.floor_char_boundary(at + fits));
                        let everywhere = if sought.is_some() { " somewhere after" } else { "" };
                        self.missed(place, || format!("`{text}`{everywhere}"));
                        return false;
                    }
                    at += text.len();
                }
                Step::Blanks => {
                    let blanks = self.blanks(at);
                    // The end of the line was trimmed; a blank before an empty rest stands there.
                    if blanks == 0 && at < self.line.len() {
                        self.missed(sought.unwrap_or(at), || "a blank".into());
                        return false;
                    }
                    at += blanks;
                }
                Step::Hole { kind, .. } => match self.hole(*kind, step, at, jobs) {
                    Some(end) => at = end,
                    None => return false,
                },
                Step::Either(starts) => {
                    for start in starts.iter().skip(1).rev() {
                        jobs.push(Job::Try { step: *start, at, sought });
                        jobs.push(Job::Forget(self.taken.len()));
                    }
                    match starts.first() {
                        Some(first) => step = *first,
                        None => return false,
                    }
                    continue;
                }
                Step::Go(to) => {
                    step = *to;
                    continue;
                }
                Step::End => {
                    if at == self.line.len() {
                        return true;
                    }
                    self.missed(sought.unwrap_or(at), || "the end of the line".into());
                    return false;
                }
            }
            // Blanks behind a text hole are looked for everywhere too.
            if !matches!(pattern.steps[step], Step::Blanks) {
                sought = None;
            }
            step += 1;
        }
    }

    /// How many blanks stand at a position.
    fn blanks(&mut self, at: usize) -> usize {
        let line = self.line;
        let ends = self.blank_ends.get_or_insert_with(|| blank_ends(line));
        (ends[at] as usize).saturating_sub(at)
    }

    /// How long the quoted text is that begins at a position.
    fn quoted(&mut self, at: usize) -> Option<usize> {
        let line = self.line;
        let (quote, ends) = match line.as_bytes().get(at)? {
            b'"' => (b'"', &mut self.double_quote_ends),
            b'\'' => (b'\'', &mut self.single_quote_ends),
            _ => return None,
        };
        let ends = ends.get_or_insert_with(|| quote_ends(line, quote));
        (ends[at + 1] as usize).checked_sub(at).filter(|length| *length > 0)
    }

    /// Where a hole of one extent ends; one that may widen is left to the jobs.
    fn hole(&mut self, kind: HoleKind, step: usize, at: usize, jobs: &mut Vec<Job>) -> Option<usize> {
        let rest = self.rest(at);
        let (length, value) = match kind {
            HoleKind::Word | HoleKind::Text => {
                if kind == HoleKind::Word && !rest.starts_with(|c: char| !c.is_whitespace()) {
                    self.missed(at, || kind.in_words().into());
                    return None;
                }
                let first = if kind == HoleKind::Word { rest.chars().next().map_or(0, char::len_utf8) } else { 0 };
                jobs.push(Job::Widen { step, from: at, at: at + first });
                return None;
            }
            HoleKind::Rest => (Some(rest.len()), None),
            HoleKind::Time => match leading_time(rest, self.arrived_ns) {
                Some((ns, length)) => (Some(length), Some(Value::Int(ns))),
                None => (None, None),
            },
            HoleKind::Severity => (severity_length(rest), None),
            HoleKind::Number => (number_length(rest), None),
            HoleKind::Quoted => (self.quoted(at), None),
            HoleKind::Address => (address_length(rest), None),
        };
        match length {
            Some(length) => {
                self.taken.push(Taken { step, from: at, to: at + length, value });
                Some(at + length)
            }
            None => {
                self.missed(at, || kind.in_words().into());
                None
            }
        }
    }

    fn widen(&mut self, step: usize, from: usize, at: usize, jobs: &mut Vec<Job>) {
        // From here on every extent was tried before, from another beginning of the hole, and none fits.
        if self.widened.mark(step, at) {
            return;
        }
        let Step::Hole { kind, .. } = &self.pattern.steps[step] else { return };
        let next = self.rest(at).chars().next();
        if let Some(next) = next.filter(|c| *kind == HoleKind::Text || !c.is_whitespace()) {
            jobs.push(Job::Widen { step, from, at: at + next.len_utf8() });
            jobs.push(Job::Forget(self.taken.len()));
        }
        self.taken.push(Taken { step, from, to: at, value: None });
        let sought = (*kind == HoleKind::Text).then_some(from);
        jobs.push(Job::Try { step: step + 1, at, sought });
    }
}

fn severity_length(rest: &str) -> Option<usize> {
    let length = rest.bytes().take(MAX_SEVERITY + 1).take_while(u8::is_ascii_alphabetic).count();
    severity_from_text(rest.get(..length)?)?;
    Some(length)
}

pub(super) fn number_length(rest: &str) -> Option<usize> {
    let bytes = rest.as_bytes().get(..rest.len().min(MAX_NUMBER)).unwrap_or_default();
    let digits = |from: usize| bytes.get(from..).map_or(0, |b| b.iter().take_while(|b| b.is_ascii_digit()).count());
    let sign = usize::from(matches!(bytes.first(), Some(b'-' | b'+')));
    let whole = digits(sign);
    if whole == 0 {
        return None;
    }
    let mut at = sign + whole;
    if bytes.get(at) == Some(&b'.') && digits(at + 1) > 0 {
        at += 1 + digits(at + 1);
    }
    if matches!(bytes.get(at), Some(b'e' | b'E')) {
        let sign = usize::from(matches!(bytes.get(at + 1), Some(b'-' | b'+')));
        let exponent = digits(at + 1 + sign);
        at += if exponent > 0 { 1 + sign + exponent } else { 0 };
    }
    Some(at)
}

pub(super) fn quoted_length(rest: &str) -> Option<usize> {
    let quote = rest.chars().next().filter(|c| matches!(c, '"' | '\''))?;
    let mut escaped = false;
    for (at, c) in rest.char_indices().skip(1) {
        match c {
            _ if escaped => escaped = false,
            '\\' => escaped = true,
            c if c == quote => return Some(at + 1),
            _ => {}
        }
    }
    None
}

fn unquoted(text: &str) -> String {
    let inner = text.get(1..text.len().saturating_sub(1)).unwrap_or("");
    let mut out = String::with_capacity(inner.len());
    let mut escaped = false;
    for c in inner.chars() {
        if c == '\\' && !escaped {
            escaped = true;
        } else {
            escaped = false;
            out.push(c);
        }
    }
    out
}

/// Letters, digits, `.`, `:`, `-`, `_`, `%` and brackets, with a letter or digit and a `.` or `:` among them; a sign
/// that ends a sentence is not part of it.
pub(super) fn address_length(rest: &str) -> Option<usize> {
    let part = |c: &u8| c.is_ascii_alphanumeric() || b".:-_%[]".contains(c);
    let length = rest.bytes().take(MAX_ADDRESS + 1).take_while(|c| part(c)).count();
    if length > MAX_ADDRESS {
        return None;
    }
    let mut text = rest.get(..length)?;
    text = text.trim_end_matches(['.', ':', '-', '_', '%']);
    while text.ends_with(']') && text.matches(']').count() > text.matches('[').count() {
        text = text.get(..text.len() - 1)?;
    }
    let host = text.contains(['.', ':']) || text == "localhost";
    (host && text.starts_with(|c: char| c.is_ascii_alphanumeric() || c == '[' || c == ':')).then_some(text.len())
}

/// How a cut value reads to people: a time in RFC 3339.
impl std::fmt::Display for Cut<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match (&self.value, self.kind) {
            (Value::Int(ns), HoleKind::Time) => f.write_str(&format_utc(*ns, 9)),
            (Value::Text(text), _) => f.write_str(text),
            (value, _) => f.write_str(&serde_json::to_string(value).unwrap_or_default()),
        }
    }
}

#[cfg(test)]
mod tests;
