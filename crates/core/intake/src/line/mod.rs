//! Line patterns: plain text cut into fields by a form that reads like the line itself.
//!
//! ```text
//! {time} {severity} [{word thread}] {word logger}: {rest message}
//! {either}lease {word lease}{or}no lease{end} at bank {word slot.bank}, took {number took_ms} ms
//! ```
//!
//! Text stands for itself; a run of blanks for one or more blanks or tabs; a hole `{kind name}` for a value, kept under
//! `name`, or passed over where there is no name. `{either}A{or}B{end}` takes the first of its alternatives with which
//! the whole line fits; one may be empty. `{{` is the sign `{`. A pattern fits a line as a whole, blanks at its end apart.
//!
//! | kind | fits | gives |
//! | --- | --- | --- |
//! | `time` | a time in the usual spellings (see [`leading_time`]) | the event's time when called `time`, which it is without a name |
//! | `severity` | a word that means a severity | the event's severity, likewise |
//! | `word` | characters up to a blank, as few as fit | text |
//! | `number` | an integer or decimal, with sign and exponent | a number |
//! | `quoted` | text between `"` or `'`, in which `\` takes the sign from the next character | what stands between |
//! | `address` | an IP address or host name, with a port or without | text |
//! | `text` | any characters, as few as fit, perhaps none | text |
//! | `rest` | all that is left, further lines too | text |
//!
//! A hole named like a builtin (`time`, `severity`, `service`, `host`, `message`, `trace`, `span`, `parent`) sets it;
//! any other name is a field's dotted path.

mod learn;
mod matcher;
mod parse;
mod time;

pub use learn::{Learnt, learn};
pub use matcher::{Cut, Miss};
pub use parse::PatternMistake;
pub use time::leading_time;

use calvex_language::model::Value;

/// What a hole takes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[allow(missing_docs)]
pub enum HoleKind {
    Time,
    Severity,
    Word,
    Number,
    Quoted,
    Address,
    Text,
    Rest,
}

impl HoleKind {
    /// Every kind, as it is written, and what it is to people.
    pub const ALL: [(HoleKind, &'static str, &'static str); 8] = [
        (HoleKind::Time, "time", "a time"),
        (HoleKind::Severity, "severity", "a severity"),
        (HoleKind::Word, "word", "a word"),
        (HoleKind::Number, "number", "a number"),
        (HoleKind::Quoted, "quoted", "quoted text"),
        (HoleKind::Address, "address", "an address"),
        (HoleKind::Text, "text", "text"),
        (HoleKind::Rest, "rest", "the rest"),
    ];

    /// As written in a pattern.
    pub fn name(self) -> &'static str {
        Self::ALL.iter().find(|(k, ..)| *k == self).map_or("", |(_, name, _)| name)
    }

    fn in_words(self) -> &'static str {
        Self::ALL.iter().find(|(k, ..)| *k == self).map_or("", |(.., reported)| reported)
    }
}

/// A step of a pattern. Steps follow one another unless they say where to go.
#[derive(Debug, Clone, PartialEq)]
enum Step {
    Literal(String),
    Blanks,
    Hole {
        kind: HoleKind,
        name: Option<String>,
    },
    /// Tries each of these steps in turn.
    Either(Vec<usize>),
    Go(usize),
    End,
}

/// A pattern, ready to be tried.
#[derive(Debug, Clone, PartialEq)]
pub struct Pattern {
    text: String,
    steps: Vec<Step>,
}

impl Pattern {
    /// As it was written.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// The names of its holes, in order, each once.
    pub fn names(&self) -> Vec<&str> {
        let mut names = Vec::new();
        for step in &self.steps {
            if let Step::Hole { name: Some(name), .. } = step
                && !names.contains(&name.as_str())
            {
                names.push(name.as_str());
            }
        }
        names
    }
}

/// A pattern that fits a line, and what its holes take.
pub type Fit<'p> = (&'p Pattern, Vec<Cut<'p>>);

/// The first of `patterns` that fits, and what it gives; else the miss that came furthest.
///
/// # Errors
/// Where none fits: how far the best came.
pub fn cut_by<'p>(patterns: &'p [Pattern], line: &str, arrived_ns: i64) -> Result<Fit<'p>, Option<(usize, Miss)>> {
    let mut best: Option<(usize, Miss)> = None;
    for (n, pattern) in patterns.iter().enumerate() {
        match pattern.cut(line, arrived_ns) {
            Ok(cuts) => return Ok((pattern, cuts)),
            Err(miss) if best.as_ref().is_none_or(|(_, b)| miss.at > b.at) => best = Some((n, miss)),
            Err(_) => {}
        }
    }
    Err(best)
}

/// What a number hole gives for digits it took.
fn number_of(text: &str) -> Value {
    calvex_language::model::parse_value(text.strip_prefix('+').unwrap_or(text))
        .unwrap_or_else(|_| Value::Text(text.to_owned()))
}

#[cfg(test)]
mod fuzz;
#[cfg(test)]
mod tests;
