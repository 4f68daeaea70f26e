//! The text of a pattern to its steps.

use super::{HoleKind, Pattern, Step};

/// Longest pattern, bytes.
const MAX_BYTES: usize = 4096;
/// Most steps of one pattern; with the longest line they bound the work of trying it.
const MAX_STEPS: usize = 256;
/// Deepest nesting of alternatives.
const MAX_DEPTH: usize = 8;

/// What is wrong with a pattern, and where.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("column {column}: {what}")]
pub struct PatternMistake {
    /// In characters, from 1.
    pub column: usize,
    /// What, and the cure.
    pub what: String,
}

impl Pattern {
    /// Reads a pattern.
    ///
    /// # Errors
    /// The first mistake, with its place and cure.
    pub fn parse(text: &str) -> Result<Pattern, PatternMistake> {
        let mut parser = Parser { text, at: 0, steps: Vec::new(), depth: 0 };
        if text.len() > MAX_BYTES {
            return Err(parser.mistake(0, format!("the pattern has {} bytes, the limit is {MAX_BYTES}", text.len())));
        }
        if text.trim().is_empty() {
            return Err(parser.mistake(0, "the pattern is empty; try {time} {severity} {rest message}"));
        }
        let stopped = parser.sequence()?;
        if let Some(word) = stopped {
            return Err(parser.mistake(parser.at, format!("{{{word}}} without {{either}} before it")));
        }
        parser.push(Step::End)?;
        let pattern = Pattern { text: text.to_owned(), steps: parser.steps };
        if pattern.steps.iter().all(|s| matches!(s, Step::Blanks | Step::End)) {
            return Err(PatternMistake { column: 1, what: "the pattern is empty; it needs text or a hole".into() });
        }
        Ok(pattern)
    }
}

struct Parser<'t> {
    text: &'t str,
    at: usize,
    steps: Vec<Step>,
    depth: usize,
}

impl Parser<'_> {
    fn mistake(&self, at: usize, what: impl Into<String>) -> PatternMistake {
        let column = self.text.get(..at).unwrap_or(self.text).chars().count() + 1;
        PatternMistake { column, what: what.into() }
    }

    fn push(&mut self, step: Step) -> Result<usize, PatternMistake> {
        if self.steps.len() >= MAX_STEPS {
            return Err(self.mistake(self.at, format!("the pattern has more than {MAX_STEPS} parts; split it")));
        }
        self.steps.push(step);
        Ok(self.steps.len() - 1)
    }

    /// Reads up to the end, or to `{or}` or `{end}`, which is returned.
    fn sequence(&mut self) -> Result<Option<&'static str>, PatternMistake> {
        let mut literal = String::new();
        while let Some(next) = self.text.get(self.at..).and_then(|rest| rest.chars().next()) {
            let rest = self.text.get(self.at..).unwrap_or("");
            if next != '{' || rest.starts_with("{{") {
                self.at += if next == '{' { 2 } else { next.len_utf8() };
                if next == ' ' || next == '\t' {
                    self.literal(&mut literal)?;
                    if !matches!(self.steps.last(), Some(Step::Blanks)) {
                        self.push(Step::Blanks)?;
                    }
                } else {
                    literal.push(next);
                }
                continue;
            }
            self.literal(&mut literal)?;
            let opened = self.at;
            let Some(end) = rest.find('}') else {
                return Err(self.mistake(opened, "this hole is not closed; add }, or write {{ for the sign itself"));
            };
            let inside = rest.get(1..end).unwrap_or("").trim();
            self.at += end + 1;
            match inside {
                "or" => return Ok(Some("or")),
                "end" => return Ok(Some("end")),
                "either" => self.either(opened)?,
                hole => self.hole(opened, hole)?,
            }
        }
        self.literal(&mut literal)?;
        Ok(None)
    }

    fn literal(&mut self, literal: &mut String) -> Result<(), PatternMistake> {
        if !literal.is_empty() {
            self.push(Step::Literal(std::mem::take(literal)))?;
        }
        Ok(())
    }

    fn either(&mut self, opened: usize) -> Result<(), PatternMistake> {
        self.depth += 1;
        if self.depth > MAX_DEPTH {
            return Err(self.mistake(opened, format!("alternatives nest deeper than {MAX_DEPTH} levels")));
        }
        let at = self.push(Step::Either(Vec::new()))?;
        let (mut starts, mut goes) = (Vec::new(), Vec::new());
        loop {
            starts.push(self.steps.len());
            let stopped = self.sequence()?;
            goes.push(self.push(Step::Go(0))?);
            match stopped {
                Some("or") => {}
                Some(_) => break,
                None => return Err(self.mistake(opened, "these alternatives have no {end}")),
            }
        }
        let after = self.steps.len();
        goes.into_iter().for_each(|go| self.steps[go] = Step::Go(after));
        self.steps[at] = Step::Either(starts);
        self.depth -= 1;
        Ok(())
    }

    fn hole(&mut self, opened: usize, hole: &str) -> Result<(), PatternMistake> {
        let (kind, name) = hole.split_once(char::is_whitespace).map_or((hole, ""), |(k, n)| (k, n.trim()));
        let Some((kind, ..)) = HoleKind::ALL.iter().find(|(_, known, _)| *known == kind) else {
            let known: Vec<&str> = HoleKind::ALL.iter().map(|(_, name, _)| *name).collect();
            let cure =
                format!("the kinds are {}; write {{word {hole}}} to keep a word under that name", known.join(", "));
            return Err(self.mistake(opened, format!("`{kind}` is no kind of hole; {cure}")));
        };
        if name.contains(char::is_whitespace) || name.contains('{') {
            return Err(
                self.mistake(opened, format!("`{name}` cannot be a name; use one word, dots between its parts"))
            );
        }
        if name.len() > 256 {
            return Err(self.mistake(opened, "the name is longer than 256 bytes"));
        }
        let own = matches!(kind, HoleKind::Time | HoleKind::Severity).then(|| kind.name().to_owned());
        let name = if name.is_empty() { own } else { Some(name.to_owned()) };
        if let Some(Step::Hole { kind: before @ (HoleKind::Word | HoleKind::Text | HoleKind::Rest), .. }) =
            self.steps.last()
            && matches!(kind, HoleKind::Word | HoleKind::Text | HoleKind::Rest)
        {
            let what = format!(
                "nothing parts {} from {} before it; put text or a blank between",
                kind.in_words(),
                before.in_words()
            );
            return Err(self.mistake(opened, what));
        }
        self.push(Step::Hole { kind: *kind, name })?;
        Ok(())
    }
}
