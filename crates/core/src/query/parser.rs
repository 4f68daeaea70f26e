//! Text to tree. Never fails without a place and a cure, and goes on after a mistake to find the next.

use super::literal::{FieldUnit, parse_duration_ns, parse_size_bytes, unit_of_field};
use super::scan::Scan;
use super::words::{fold, words_of};
use super::{Field, Filter, Literal, Num, Op, Over, OwnPart, RegexTest, Test, TextOp, TimeRange, WordsTest, canonical};
use crate::event::Severity;
use crate::event::time::{civil_time, parse_plain_utc, start_of_day, to_ns};
use jiff::tz::TimeZone;

/// Longest query text, in characters.
const MAX_TEXT: usize = 16 * 1024;
/// Deepest nesting of brackets and `not`.
const MAX_DEPTH: usize = 64;
/// Most values of one `in (…)`.
const MAX_IN: usize = 1000;
/// Largest compiled regular expression, in bytes.
const MAX_REGEX_BYTES: usize = 1 << 20;

const RESERVED: [&str; 12] =
    ["and", "or", "not", "has", "in", "between", "measure", "over", "per", "every", "having", "top"];

/// Words that must be quoted to be searched in every position.
pub(super) fn is_reserved(word: &str) -> bool {
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

/// A query: filter and range.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Query {
    /// Which events.
    pub filter: Filter,
    /// The range, where the text has one.
    pub over: Option<Over>,
}

impl Query {
    /// The one text for this tree.
    pub fn canonical(&self) -> String {
        let filter = self.filter.to_string();
        match &self.over {
            None => filter,
            Some(over) if filter.is_empty() => over.canonical(),
            Some(over) => format!("{filter} {}", over.canonical()),
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
    /// The tree, with mistaken parts left out.
    pub query: Query,
    /// Empty where the query can be run.
    pub mistakes: Vec<Mistake>,
    /// Likely misunderstandings; the query can be run.
    pub warnings: Vec<Mistake>,
}

/// Parses a query.
pub fn parse(text: &str, context: &Context) -> Parsed {
    let mut p = Parser { scan: Scan::new(text), context, depth: 0, mistakes: Vec::new(), warnings: Vec::new() };
    if text.chars().count() > MAX_TEXT {
        p.mistake(0, 1, format!("the query is longer than {MAX_TEXT} characters"), "shorten it");
        return Parsed { query: Query::default(), mistakes: p.mistakes, warnings: p.warnings };
    }
    let filter = p.or();
    let over = p.clauses();
    Parsed { query: Query { filter, over }, mistakes: p.mistakes, warnings: p.warnings }
}

/// Parses a filter alone, as routes and rights take it: no clauses, no `now`.
///
/// # Errors
/// The mistakes found.
pub fn parse_filter(text: &str) -> Result<Filter, Vec<Mistake>> {
    let mut parsed = parse(text, &Context::utc(0));
    if parsed.query.over.is_some() {
        parsed.mistakes.push(Mistake {
            column: 1,
            length: 1,
            message: "a filter has no time range".into(),
            cure: "leave the `over` clause out".into(),
        });
    }
    if parsed.mistakes.is_empty() { Ok(parsed.query.filter) } else { Err(parsed.mistakes) }
}

struct Parser<'a> {
    scan: Scan,
    context: &'a Context,
    depth: usize,
    mistakes: Vec<Mistake>,
    warnings: Vec<Mistake>,
}

impl Parser<'_> {
    fn mistake(&mut self, at: usize, length: usize, message: impl Into<String>, cure: impl Into<String>) {
        let m = Mistake { column: at + 1, length: length.max(1), message: message.into(), cure: cure.into() };
        self.mistakes.push(m);
    }

    fn or(&mut self) -> Filter {
        let mut list = vec![self.and()];
        while self.keyword("or") {
            self.scan.blanks();
            if self.scan.done() {
                let at = self.scan.at.saturating_sub(1);
                self.mistake(at, 1, "`or` has nothing after it", "add the other choice, or quote it: \"or\"");
            }
            list.push(self.and());
        }
        flat(list, Filter::Or)
    }

    fn and(&mut self) -> Filter {
        let mut list: Vec<Filter> = Vec::new();
        loop {
            self.scan.blanks();
            let Some(c) = self.scan.peek() else { break };
            let word = self.scan.peek_bare();
            if c == ')' && self.depth > 0 || word == "or" && self.stands_alone("or") || self.at_clause(&word) {
                break;
            }
            if word == "and" && self.stands_alone("and") {
                let at = self.scan.at;
                self.scan.at += 3;
                if list.is_empty() {
                    self.mistake(at, 3, "`and` has nothing before it", "remove it, or quote it: \"and\"");
                }
                continue;
            }
            if word == "not" && list.last().is_some_and(is_bare_word) {
                self.warn_of_not(list.last());
            }
            list.push(self.unary());
        }
        if list.is_empty() && (self.depth > 0 || !self.scan.done() && self.scan.peek_bare() == "or") {
            let at = self.scan.at;
            self.mistake(at, 1, "expected a word or a comparison here", "try severity>=warn");
        }
        flat(list, Filter::And)
    }

    fn warn_of_not(&mut self, before: Option<&Filter>) {
        let at = self.scan.at;
        let Some(Filter::Words(w)) = before else { return };
        let before = w.text.clone();
        self.scan.at += 3;
        self.scan.blanks();
        let next = self.scan.peek_bare();
        self.scan.at += next.chars().count();
        let compares = self.scan.sign().is_some();
        self.scan.at = at;
        if !next.is_empty() && !compares {
            self.warnings.push(Mistake {
                column: at + 1,
                length: 3,
                message: "`not` leaves out what follows it".into(),
                cure: format!("for the words in a row, write \"{before} not {next}\""),
            });
        }
    }

    fn unary(&mut self) -> Filter {
        self.scan.blanks();
        let at = self.scan.at;
        if self.depth >= MAX_DEPTH {
            self.mistake(at, 1, format!("nested deeper than {MAX_DEPTH} levels"), "simplify the query");
            self.scan.at = usize::MAX / 2;
            return Filter::All;
        }
        if self.scan.peek_bare() == "not" && self.stands_alone("not") {
            self.scan.at += 3;
            self.scan.blanks();
            if self.scan.done() || self.scan.peek() == Some(')') {
                self.mistake(at, 3, "`not` has nothing after it", "add what to leave out, or quote it: \"not\"");
                return Filter::All;
            }
            self.depth += 1;
            // An inner `)` belongs to the bracket around, so that `not` is not mistaken for an opening one.
            let inner = self.unary();
            self.depth -= 1;
            return Filter::Not(Box::new(inner));
        }
        if self.scan.take('(') {
            self.depth += 1;
            let inner = self.or();
            self.depth -= 1;
            self.scan.blanks();
            if !self.scan.take(')') {
                self.mistake(at, 1, "this bracket is not closed", "add `)`");
            }
            return inner;
        }
        self.primary()
    }

    fn primary(&mut self) -> Filter {
        let at = self.scan.at;
        match self.scan.peek() {
            Some('"') => {
                let Some(text) = self.scan.quoted() else {
                    let length = self.scan.at.saturating_sub(at);
                    self.mistake(
                        at,
                        length,
                        "this quote is not closed, or has a broken escape",
                        "add `\"`; write \\\" for a quote within",
                    );
                    return Filter::All;
                };
                if self.scan.sign().is_some() {
                    self.mistake(at, 1, "a field stands without quotes", format!("write `{text}` between backquotes"));
                    self.comparison(Field::Sent(text));
                    return Filter::All;
                }
                self.words(at, text, true)
            }
            Some('`') => {
                let Some(name) = self.scan.backquoted() else {
                    self.scan.at = usize::MAX / 2;
                    self.mistake(at, 1, "this backquote is not closed", "add a backquote behind the field's name");
                    return Filter::All;
                };
                self.comparison(Field::Sent(name))
            }
            _ => self.bare(at),
        }
    }

    fn bare(&mut self, at: usize) -> Filter {
        let word = self.scan.bare();
        if word.is_empty() {
            let (found, cure) = match self.scan.sign() {
                Some(sign) => (sign.to_owned(), format!("put a field before it, as in severity{sign}warn")),
                None => (
                    self.scan.peek().map(String::from).unwrap_or_default(),
                    "remove it, or put it between quotes".into(),
                ),
            };
            self.scan.at += found.chars().count().max(1);
            self.mistake(at, found.chars().count(), format!("`{found}` means nothing here"), cure);
            return Filter::All;
        }
        if word == "has" {
            let resume = self.scan.at;
            self.scan.blanks();
            let name = match self.scan.peek() {
                Some('`') => self.scan.backquoted().map(Field::Sent),
                _ => Some(self.scan.bare()).filter(|n| !n.is_empty() && !is_reserved(n)).map(|n| field_named(&n)),
            };
            if self.scan.sign().is_none()
                && let Some(field) = name
            {
                return Filter::Has(field);
            }
            // `has a=1`: the word, then a comparison.
            self.scan.at = resume;
        }
        let after_word = self.scan.at;
        self.scan.blanks();
        let next = self.scan.peek_bare();
        let compares =
            self.scan.sign().is_some() || next == "in" && self.opens_list() || next == "between" && self.is_between();
        if compares {
            return self.comparison(field_named(&word));
        }
        self.scan.at = after_word;
        self.words(at, word, false)
    }

    fn opens_list(&mut self) -> bool {
        let from = self.scan.at;
        self.scan.at += 2;
        self.scan.blanks();
        let opens = self.scan.peek() == Some('(');
        self.scan.at = from;
        opens
    }

    fn is_between(&mut self) -> bool {
        let from = self.scan.at;
        self.scan.at += "between".len();
        self.scan.blanks();
        let valued = if self.scan.peek() == Some('"') {
            self.scan.quoted().is_some()
        } else {
            !self.scan.bare_value().is_empty()
        };
        self.scan.blanks();
        let is = valued && self.scan.peek_bare() == "and";
        self.scan.at = from;
        is
    }

    fn words(&mut self, at: usize, text: String, quoted: bool) -> Filter {
        let prefix = !quoted && text.ends_with('*');
        let kept = if prefix { text.trim_end_matches('*') } else { text.as_str() };
        let words: Vec<String> = words_of(kept).map(|w| fold(w).into_owned()).collect();
        let ends_in_word = kept.chars().next_back().is_some_and(|c| c == '_' || c.is_alphanumeric());
        if words.is_empty() || prefix && !ends_in_word {
            let length = self.scan.at.saturating_sub(at);
            self.mistake(
                at,
                length,
                format!("`{text}` holds no word to search"),
                "use *= for signs: message *= \"--\"",
            );
            return Filter::All;
        }
        let number = if quoted || prefix { None } else { Num::parse(kept) };
        let quoted = quoted || is_reserved(kept);
        Filter::Words(WordsTest { words, prefix, quoted, text: kept.to_owned(), number })
    }

    fn comparison(&mut self, field: Field) -> Filter {
        let name = canonical::field(&field);
        self.scan.blanks();
        let at = self.scan.at;
        let Some(sign) = self.scan.sign() else {
            if self.scan.peek_bare() == "in" && self.opens_list() {
                self.scan.at += 2;
                return self.in_list(field);
            }
            if self.scan.peek_bare() == "between" {
                self.scan.at += "between".len();
                let lo = self.value(&field, "between", true);
                self.scan.blanks();
                if self.scan.peek_bare() == "and" {
                    self.scan.at += 3;
                } else {
                    let here = self.scan.at;
                    self.mistake(
                        here,
                        1,
                        "expected `and` and the upper bound",
                        format!("try {name} between 10 and 20"),
                    );
                    return Filter::All;
                }
                let hi = self.value(&field, "between … and", true);
                return lo.zip(hi).map_or(Filter::All, |(lo, hi)| Filter::Compare(field, Test::Between(lo, hi)));
            }
            self.mistake(
                at,
                1,
                format!("expected a comparison after {name}"),
                format!("try has {name}, or {name}=value"),
            );
            return Filter::All;
        };
        self.scan.at += sign.chars().count();
        if sign == "~" {
            return self.regex(field);
        }
        let text_op = match sign {
            "^=" => Some(TextOp::Begins),
            "$=" => Some(TextOp::Ends),
            "*=" => Some(TextOp::Contains),
            _ => None,
        };
        if let Some(op) = text_op {
            return match self.raw_value(&field, sign) {
                Some((text, _, _)) => Filter::Compare(field, Test::Text(op, text)),
                None => Filter::All,
            };
        }
        let op = match sign {
            "=" => Op::Eq,
            "!=" => Op::Ne,
            "<" => Op::Lt,
            "<=" => Op::Le,
            ">" => Op::Gt,
            _ => Op::Ge,
        };
        let ordered = !matches!(op, Op::Eq | Op::Ne);
        match self.value(&field, sign, ordered) {
            Some(literal) => Filter::Compare(field, Test::Compare(op, literal)),
            None => Filter::All,
        }
    }

    fn in_list(&mut self, field: Field) -> Filter {
        self.scan.blanks();
        let at = self.scan.at;
        self.scan.take('(');
        let mut list = Vec::new();
        loop {
            self.scan.blanks();
            if self.scan.take(')') {
                break;
            }
            if self.scan.done() {
                self.mistake(at, 1, "this list is not closed", "add `)`");
                return Filter::All;
            }
            match self.value(&field, "in (", false) {
                Some(l) => list.push(l),
                None => {
                    self.scan.at += usize::from(self.scan.peek() == Some(','));
                }
            }
            self.scan.blanks();
            self.scan.take(',');
        }
        if list.is_empty() {
            self.mistake(at, 1, "this list is empty", "name at least one value: service in (edge, slots)");
            return Filter::All;
        }
        if list.len() > MAX_IN {
            self.mistake(at, 1, format!("this list has more than {MAX_IN} values"), "split the query");
            return Filter::All;
        }
        Filter::Compare(field, Test::In(list))
    }

    fn regex(&mut self, field: Field) -> Filter {
        self.scan.blanks();
        let at = self.scan.at;
        let name = canonical::field(&field);
        let scanned = if self.scan.peek() == Some('/') { self.scan.regex() } else { None };
        let Some((pattern, any_case)) = scanned else {
            self.scan.bare_value();
            let length = self.scan.at.saturating_sub(at);
            self.mistake(
                at,
                length,
                "expected a regular expression between slashes",
                format!("try {name} ~ /lease (ran|run) out/i"),
            );
            return Filter::All;
        };
        let built = regex::RegexBuilder::new(&pattern).case_insensitive(any_case).size_limit(MAX_REGEX_BYTES).build();
        match built {
            Ok(regex) => Filter::Compare(field, Test::Regex(RegexTest { pattern, any_case, regex })),
            Err(e) => {
                let why = e.to_string();
                let why = why.lines().last().unwrap_or("it does not parse").trim_start_matches("error: ").to_owned();
                let length = self.scan.at - at;
                self.mistake(
                    at,
                    length,
                    format!("this regular expression is broken: {why}"),
                    "write \\ before a sign that stands for itself",
                );
                Filter::All
            }
        }
    }

    /// A value's text, whether it was quoted, and where it stands.
    fn raw_value(&mut self, field: &Field, after: &str) -> Option<(String, bool, usize)> {
        self.scan.blanks();
        let at = self.scan.at;
        if self.scan.peek() == Some('"') {
            return match self.scan.quoted() {
                Some(text) => Some((text, true, at)),
                None => {
                    self.mistake(at, 1, "this quote is not closed, or has a broken escape", "add `\"`");
                    None
                }
            };
        }
        let text = self.scan.bare_value();
        if text.is_empty() {
            let name = canonical::field(field);
            let example = match field {
                Field::Own(OwnPart::Severity) => "warn",
                Field::Own(OwnPart::Service) => "slots",
                Field::Own(OwnPart::Time | OwnPart::Arrived) => "now-15m",
                _ => "12",
            };
            let sample = match after {
                "in (" => format!("{name} in ({example}, …)"),
                "between" | "between … and" => format!("{name} between 10 and 20"),
                sign => format!("{name}{sign}{example}"),
            };
            self.mistake(at, 1, format!("expected a value after {after}"), format!("try {sample}"));
            return None;
        }
        Some((text, false, at))
    }

    fn value(&mut self, field: &Field, after: &str, ordered: bool) -> Option<Literal> {
        let (text, quoted, at) = self.raw_value(field, after)?;
        let length = self.scan.at.saturating_sub(at);
        let fail = |p: &mut Self, message: String, cure: String| {
            p.mistake(at, length, message, cure);
            None
        };
        let plain = |number| Some(Literal { text: text.clone(), quoted, number });
        match field {
            Field::Own(OwnPart::Severity) => match severity_span(&text) {
                Some(_) => plain(None),
                None => fail(
                    self,
                    format!("`{text}` is no severity"),
                    "use trace, debug, info, warn, error, fatal or 1 to 24".into(),
                ),
            },
            Field::Own(part @ (OwnPart::Time | OwnPart::Arrived)) => match self.time(&text) {
                Some(ns) => plain(Some(Num::int(i128::from(ns)))),
                None => fail(
                    self,
                    format!("`{text}` is no time"),
                    format!("try {}>=2026-10-04T02:10:00Z, or now-15m", part.name()),
                ),
            },
            Field::Own(OwnPart::Took) => match parse_duration_ns(&text) {
                Some(ns) => plain(Some(Num::float(ns))),
                None => fail(self, format!("`{text}` is no duration"), "try took>=250ms".into()),
            },
            Field::Own(OwnPart::Trace | OwnPart::Span | OwnPart::Parent) => {
                Some(Literal { text: text.to_ascii_lowercase(), quoted, number: None })
            }
            Field::Own(_) => plain(None),
            Field::Sent(_) if quoted => plain(None),
            Field::Sent(name) => {
                if let Some(n) = Num::parse(&text) {
                    return plain(Some(n));
                }
                let (duration, size) = (parse_duration_ns(&text), parse_size_bytes(&text));
                match (unit_of_field(name), duration, size) {
                    (Some(FieldUnit::Duration(each)), Some(ns), _) => plain(Some(Num::float(ns / each))),
                    (Some(FieldUnit::Size(each)), _, Some(bytes)) => plain(Some(Num::float(bytes / each))),
                    (None, d, s) if ordered && (d.is_some() || s.is_some()) => fail(
                        self,
                        format!("the name `{name}` tells no unit to convert `{text}` to"),
                        format!("compare with a plain number, or with a field such as {name}_ms or {name}_bytes"),
                    ),
                    _ => plain(None),
                }
            }
        }
    }

    /// A time: RFC 3339 with or without zone, a date, `now`, `now-15m`, `now+1h`.
    fn time(&self, text: &str) -> Option<i64> {
        if let Some(rest) = text.strip_prefix("now") {
            let sign = match rest.chars().next() {
                None => return Some(self.context.now_ns),
                Some('-') => -1.0,
                Some('+') => 1.0,
                Some(_) => return None,
            };
            let ns = parse_duration_ns(&rest[1..])? * sign;
            return Some(self.context.now_ns.saturating_add(ns as i64));
        }
        if let Some((ns, _)) = parse_plain_utc(text) {
            return Some(ns);
        }
        text.parse::<jiff::Timestamp>().ok().and_then(to_ns).or_else(|| civil_time(text, &self.context.zone))
    }

    /// Whether a clause begins at the cursor, whose bare word is `word`.
    fn at_clause(&mut self, word: &str) -> bool {
        if word != "over" && word != "measure" {
            return false;
        }
        let from = self.scan.at;
        self.scan.at += word.chars().count();
        self.scan.blanks();
        let next = self.scan.peek_bare();
        let value = self.scan.bare_value();
        self.scan.blanks();
        let then = self.scan.peek_bare();
        self.scan.at = from;
        if word == "measure" {
            const AGGREGATES: [&str; 10] =
                ["count", "share", "rate", "distinct", "sum", "mean", "min", "max", "first", "last"];
            return AGGREGATES.contains(&next.as_str()) || next.starts_with('p') && Num::parse(&next[1..]).is_some();
        }
        match next.as_str() {
            "last" => parse_duration_ns(&then).is_some(),
            "today" => true,
            _ => then == "to" && self.time(&value).is_some() || then == "around" && parse_duration_ns(&value).is_some(),
        }
    }

    fn clauses(&mut self) -> Option<Over> {
        let mut over = None;
        loop {
            self.scan.blanks();
            let at = self.scan.at;
            if self.scan.done() {
                return over;
            }
            match self.scan.peek_bare().as_str() {
                "over" => {
                    self.scan.at += 4;
                    let found = self.over();
                    if over.is_some() {
                        self.mistake(at, 4, "a query has one time range", "remove one `over`");
                    }
                    over = found;
                }
                "measure" => {
                    self.mistake(
                        at,
                        7,
                        "`measure` is not answered by this version",
                        "search the events, or use the histogram",
                    );
                    return over;
                }
                _ => {
                    let word = self.scan.bare_value();
                    self.scan.at += usize::from(word.is_empty());
                    let (message, cure) = match word.as_str() {
                        "" => ("this bracket was never opened".to_owned(), "remove it"),
                        w => (format!("`{w}` stands behind the time range"), "put the filter before `over`"),
                    };
                    self.mistake(at, word.chars().count(), message, cure);
                    if !word.is_empty() {
                        return over;
                    }
                }
            }
        }
    }

    fn over(&mut self) -> Option<Over> {
        self.scan.blanks();
        let at = self.scan.at;
        let first = self.scan.bare_value();
        self.scan.blanks();
        match first.as_str() {
            "today" => return Some(Over::Today),
            "last" => {
                let text = self.scan.bare_value();
                return parse_duration_ns(&text).map(|ns| Over::Last(text, ns as i64));
            }
            _ => {}
        }
        let link_at = self.scan.at;
        let link = self.scan.bare_value();
        self.scan.blanks();
        let second_at = self.scan.at;
        let second = self.scan.bare_value();
        let to = self.time(&second);
        match (link.as_str(), to) {
            ("to" | "around", None) => {
                self.mistake(
                    second_at,
                    second.chars().count(),
                    format!("`{second}` is no time"),
                    "try 2026-10-04T02:10Z or now-15m",
                );
                None
            }
            ("to", Some(to)) => {
                let from = self.time(&first)?;
                if from >= to {
                    self.mistake(at, link_at + 2 - at, "the range ends before it begins", "turn the two times round");
                    return None;
                }
                Some(Over::Between(from, to))
            }
            (_, Some(to)) => parse_duration_ns(&first).map(|ns| Over::Around(first, ns as i64, to)),
            (_, None) => None,
        }
    }

    fn keyword(&mut self, word: &str) -> bool {
        self.scan.blanks();
        let is = self.scan.peek_bare() == word && self.stands_alone(word);
        if is {
            self.scan.at += word.chars().count();
        }
        is
    }

    /// Whether the word at the cursor is not the left side of a comparison.
    fn stands_alone(&mut self, word: &str) -> bool {
        let from = self.scan.at;
        self.scan.at += word.chars().count();
        self.scan.blanks();
        let alone = self.scan.sign().is_none();
        self.scan.at = from;
        alone
    }
}

fn is_bare_word(f: &Filter) -> bool {
    matches!(f, Filter::Words(w) if !w.quoted)
}

/// A field by the name a query gives it.
fn field_named(name: &str) -> Field {
    match name.strip_prefix('.') {
        Some(sent) if !sent.is_empty() => Field::Sent(sent.to_owned()),
        _ => OwnPart::from_name(name).map_or_else(|| Field::Sent(name.to_owned()), Field::Own),
    }
}

/// Joins filters; those that are joined the same way already are taken apart first.
fn flat(list: Vec<Filter>, join: fn(Vec<Filter>) -> Filter) -> Filter {
    let is_or = matches!(join(Vec::new()), Filter::Or(_));
    let mut out = Vec::new();
    for f in list {
        match f {
            Filter::Or(inner) if is_or => out.extend(inner),
            Filter::And(inner) if !is_or => out.extend(inner),
            Filter::All => {}
            f => out.push(f),
        }
    }
    match out.len() {
        0 => Filter::All,
        1 => out.remove(0),
        _ => join(out),
    }
}

/// The severity numbers, from and to, that a name or number covers.
fn severity_span(text: &str) -> Option<(u8, u8)> {
    if let Some(s) = Severity::from_name(text) {
        return Some((s.0, s.0 + 3));
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
