//! Text to tree. Never fails without a place and a cure, and goes on after a mistake to find the next.

mod compare;
mod filter;
mod measure;
mod range;

use super::scan::Scan;
use super::slips;
use super::syntax::{Builder, Kind, Syntax};
use super::{Builtin, Field, Filter, Literal, Measure, Op, Over, Test, TimeRange};
use crate::model::time::start_of_day;
use crate::model::{Severity, severity_from_text};
use jiff::tz::TimeZone;
pub(super) use measure::is_aggregate;

/// Longest query text, in characters.
const MAX_TEXT: usize = 16 * 1024;
/// Deepest nesting of brackets and `not`.
const MAX_DEPTH: usize = 64;
/// Most values of one `in (…)`.
const MAX_IN: usize = 1000;
/// Most regular expressions of one query: each takes memory of its own once it is compiled.
const MAX_REGEXES: usize = 32;
/// Largest compiled regular expression, in bytes.
const MAX_REGEX_BYTES: usize = 1 << 20;

const RESERVED: [&str; 12] =
    ["and", "or", "not", "has", "in", "between", "measure", "over", "per", "every", "having", "top"];

/// Words that must be quoted to be searched in every position.
pub(crate) fn is_reserved(word: &str) -> bool {
    RESERVED.contains(&word)
}

/// What a text is read against.
#[derive(Debug, Clone)]
pub struct Context {
    /// For `now`, `last` and `today`.
    pub now_ns: i64,
    /// The reader's zone, for times without one.
    pub zone: TimeZone,
}

impl Context {
    /// With times read as UTC.
    pub fn utc(now_ns: i64) -> Self {
        Context { now_ns, zone: TimeZone::UTC }
    }
}

/// A mistake, or a warning, with its place and cure.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize, thiserror::Error)]
#[error("column {column}: {message}; {cure}")]
pub struct Mistake {
    /// From 1, in characters.
    pub column: usize,
    /// How many characters it covers.
    pub length: usize,
    /// What is wrong.
    pub message: String,
    /// What to do.
    pub cure: String,
}

/// A query: filter, measure and range.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Query {
    /// Which events.
    pub filter: Filter,
    /// What is counted, where the text asks for figures.
    pub measure: Option<Measure>,
    /// The range, where the text has one.
    pub over: Option<Over>,
}

impl Query {
    /// The one text for this tree.
    pub fn canonical(&self) -> String {
        let clauses = [
            Some(self.filter.to_string()).filter(|f| !f.is_empty()),
            self.measure.as_ref().map(Measure::canonical),
            self.over.as_ref().map(Over::canonical),
        ];
        clauses.into_iter().flatten().collect::<Vec<_>>().join(" ")
    }

    /// Takes each field that is called like a tie for any of its spellings; the text stays.
    pub fn tie_up(&mut self, ties: &crate::query::Ties) {
        self.filter.tie_up(ties);
        if let Some(measure) = &mut self.measure {
            measure.tie_up(ties);
        }
    }

    /// The range its `over` means, if it has one.
    pub fn range(&self, context: &Context) -> Option<TimeRange> {
        let day_start = start_of_day(context.now_ns, &context.zone).unwrap_or(context.now_ns);
        self.over.as_ref().map(|o| o.resolve(context.now_ns, day_start))
    }
}

/// What parsing gives.
#[derive(Debug, Clone)]
pub struct Parsed {
    /// The tree. Where there are mistakes in the filter it passes no event, and what is wrong in the other clauses is
    /// left out: such a query is not run.
    pub query: Query,
    /// The text as it was typed, taken apart.
    pub syntax: Syntax,
    /// Empty where the query can be run.
    pub mistakes: Vec<Mistake>,
    /// Likely misunderstandings; the query can be run.
    pub warnings: Vec<Mistake>,
}

/// Parses a query.
pub fn parse(text: &str, context: &Context) -> Parsed {
    let mut p = Parser {
        scan: Scan::new(text),
        context,
        depth: 0,
        regexes: 0,
        mistakes: Vec::new(),
        warnings: Vec::new(),
        syntax: Builder::new(),
    };
    let length = p.scan.length();
    let mut query = Query::default();
    if length > MAX_TEXT {
        p.mistake(0, 1, format!("the query is longer than {MAX_TEXT} characters"), "shorten it");
    } else {
        query.filter = p.or().unwrap_or_else(|Unread(())| Filter::nothing());
        p.clauses(&mut query);
    }
    let syntax = p.syntax.finish(length);
    let mut warnings = p.warnings;
    warnings.extend(slips::slips(text, &syntax));
    warnings.sort_by_key(|w| w.column);
    Parsed { query, syntax, mistakes: p.mistakes, warnings }
}

/// Parses a filter alone, as routes and rights take it: no clauses, no `now`.
///
/// # Errors
/// The mistakes found.
pub fn parse_filter(text: &str) -> Result<Filter, Vec<Mistake>> {
    let mut parsed = parse(text, &Context::utc(0));
    let clauses = [
        (parsed.query.measure.is_some(), "a filter measures nothing", "leave the `measure` clause out"),
        (parsed.query.over.is_some(), "a filter has no time range", "leave the `over` clause out"),
    ];
    for (is, message, cure) in clauses {
        if is {
            parsed.mistakes.push(Mistake { column: 1, length: 1, message: message.into(), cure: cure.into() });
        }
    }
    if parsed.mistakes.is_empty() { Ok(parsed.query.filter) } else { Err(parsed.mistakes) }
}

/// What was read, or that it could not be. Only [`Parser::mistake`] makes an [`Unread`], so nothing is left out of a
/// query without a mistake that names it.
type Read<T> = Result<T, Unread>;

/// A part of the text could not be read; why stands among the mistakes.
#[derive(Debug, Clone, Copy)]
struct Unread(());

struct Parser<'a> {
    scan: Scan,
    context: &'a Context,
    depth: usize,
    /// Regular expressions so far.
    regexes: usize,
    mistakes: Vec<Mistake>,
    warnings: Vec<Mistake>,
    syntax: Builder,
}

impl Parser<'_> {
    fn mistake(&mut self, at: usize, length: usize, message: impl Into<String>, cure: impl Into<String>) -> Unread {
        let m = Mistake { column: at + 1, length: length.max(1), message: message.into(), cure: cure.into() };
        self.mistakes.push(m);
        Unread(())
    }

    fn keyword(&mut self, word: &str) -> bool {
        self.scan.blanks();
        let is = self.scan.peek_bare() == word && self.stands_alone(word);
        if is {
            let from = self.scan.at;
            self.scan.at += word.chars().count();
            self.syntax.token(Kind::Keyword, from, self.scan.at);
        }
        is
    }

    fn stands_alone(&mut self, word: &str) -> bool {
        let from = self.scan.at;
        self.scan.at += word.chars().count();
        self.scan.blanks();
        let alone = self.scan.sign().is_none();
        self.scan.at = from;
        alone
    }
}

pub(super) fn field_named(name: &str) -> Field {
    match name.strip_prefix('.') {
        Some(sent) if !sent.is_empty() => Field::Sent(sent.into()),
        _ => Builtin::from_name(name).map_or_else(|| Field::Sent(name.into()), Field::Builtin),
    }
}

pub(super) fn severity_span(text: &str) -> Option<(u8, u8)> {
    // A word as senders write it, in any case: the name's own means its four degrees, `notice` one of them.
    if let Some(s) = severity_from_text(text) {
        return Some(if Severity::from_name(s.name()) == Some(s) { (s.0, s.0 + 3) } else { (s.0, s.0) });
    }
    text.parse::<i64>().ok().and_then(Severity::from_number).map(|s| (s.0, s.0))
}

impl Test {
    /// The severities that pass, bit n standing for number n. For `!=` those that equal, as everywhere in [`Test`].
    pub fn severities(&self) -> u32 {
        let bits = |lo: u8, hi: u8| (lo..=hi).fold(0u32, |m, n| m | 1 << n);
        let span = |l: &Literal| severity_span(&l.text).unwrap_or((0, 0));
        match self {
            Test::Compare(op, l) => {
                let (lo, hi) = span(l);
                match op {
                    Op::Eq | Op::Ne => bits(lo, hi),
                    Op::Lt => bits(1, lo.saturating_sub(1)),
                    Op::Le => bits(1, hi),
                    Op::Gt => bits(hi + 1, 24),
                    Op::Ge => bits(lo, 24),
                }
            }
            Test::In(list) => list.iter().map(span).fold(0, |m, (lo, hi)| m | bits(lo, hi)),
            Test::Between(a, b) => bits(span(a).0, span(b).1),
            Test::Text(..) | Test::Regex(_) => {
                (1..=24u8).filter(|n| self.text(Severity(*n).name())).fold(0, |m, n| m | 1 << n)
            }
        }
    }
}
