//! `measure`: aggregates, groups, steps, and which groups are kept.

use super::{Parser, Read, field_named, is_reserved};
use crate::query::literal::{FieldUnit, parse_duration_ns, parse_size_bytes, unit_of_field};
use crate::query::syntax::Kind;
use crate::query::{Aggregate, Builtin, Every, Field, Filter, Function, Having, Measure, Num, Op, Top};

/// Aggregates of one `measure` at most.
const MAX_AGGREGATES: usize = 16;
/// Fields of `per` at most.
const MAX_PER: usize = 6;
/// Groups of `top` at most.
const MAX_TOP: usize = 10_000;

/// Aggregates that take a field, by name.
type OfField = fn(Field) -> Function;
const OF_FIELD: [(&str, OfField); 7] = [
    ("distinct", Function::Distinct),
    ("sum", Function::Sum),
    ("mean", Function::Mean),
    ("min", Function::Min),
    ("max", Function::Max),
    ("first", Function::First),
    ("last", Function::Last),
];

/// The number of a percentile's name, as typed: `95` of `p95`.
fn percentile(name: &str) -> Option<&str> {
    let number = name.strip_prefix('p')?;
    let valued = number.parse::<f64>().ok().filter(|n| (0.0..=100.0).contains(n))?;
    (number.len() <= 6 && valued.is_finite() && number.starts_with(|c: char| c.is_ascii_digit())).then_some(number)
}

/// Whether an aggregate is called so.
pub(in crate::query) fn is_aggregate(name: &str) -> bool {
    matches!(name, "count" | "share" | "rate") || OF_FIELD.iter().any(|(n, _)| *n == name) || percentile(name).is_some()
}

impl Parser<'_> {
    /// What follows `measure`; mistaken parts are left out.
    pub(super) fn measure(&mut self) -> Option<Measure> {
        let mut measure = Measure::default();
        loop {
            if let Some(aggregate) = self.aggregate() {
                measure.aggregates.push(aggregate);
            }
            self.scan.blanks();
            if !self.comma() {
                break;
            }
        }
        let at = self.scan.at;
        if measure.aggregates.len() > MAX_AGGREGATES {
            self.mistake(at, 1, format!("more than {MAX_AGGREGATES} aggregates"), "split the query");
        }
        if self.clause("per") {
            self.syntax.open(Kind::Per, self.scan.at);
            self.per(&mut measure);
            self.syntax.close();
        }
        if self.clause("every") {
            measure.every = self.every();
        }
        if self.clause("having") {
            measure.having = self.having(&measure);
        }
        if self.clause("top") {
            measure.top = self.top(&measure);
        }
        (!measure.aggregates.is_empty()).then_some(measure)
    }

    /// Takes the clause word if it is next.
    fn clause(&mut self, word: &str) -> bool {
        self.scan.blanks();
        let is = self.scan.peek_bare() == word;
        if is {
            let from = self.scan.at;
            self.scan.at += word.len();
            self.syntax.token(Kind::Keyword, from, self.scan.at);
        }
        is
    }

    fn aggregate(&mut self) -> Option<Aggregate> {
        self.scan.blanks();
        self.syntax.open(Kind::Aggregate, self.scan.at);
        let function = self.function();
        self.scan.blanks();
        let mut alias = None;
        if self.scan.peek_bare() == "as" {
            self.syntax.token(Kind::Keyword, self.scan.at, self.scan.at + 2);
            self.scan.at += 2;
            alias = self.name("a name for the aggregate", "try measure count as n");
        }
        self.syntax.close();
        Some(Aggregate { function: function?, alias })
    }

    /// A name: bare, or between backquotes.
    fn name(&mut self, expected: &str, cure: &str) -> Option<String> {
        self.scan.blanks();
        let at = self.scan.at;
        let name = match self.scan.peek() {
            Some('`') => self.scan.backquoted().unwrap_or_default(),
            _ => self.scan.bare(),
        };
        let quoted = self.scan.at > at + name.chars().count();
        if name.is_empty() || !quoted && is_reserved(&name) {
            self.scan.at = at;
            self.mistake(at, 1, format!("expected {expected}"), cure);
            return None;
        }
        self.syntax.token(Kind::Name, at, self.scan.at);
        Some(name)
    }

    fn function(&mut self) -> Option<Function> {
        let at = self.scan.at;
        let name = self.scan.bare();
        if !is_aggregate(&name) {
            let length = name.chars().count();
            self.syntax.token(Kind::Broken, at, self.scan.at);
            let message =
                if name.is_empty() { "expected an aggregate".to_owned() } else { format!("`{name}` is no aggregate") };
            let cure = match name.to_lowercase().as_str() {
                "avg" | "average" => "write mean, as in mean(took_ms)",
                "median" => "write p50, as in p50(took_ms)",
                "percentile" | "quantile" => "write the percentile into the name, as in p95(took_ms)",
                "unique" | "count_distinct" => "write distinct, as in distinct(service)",
                lower if is_aggregate(lower) => "write it in small letters",
                _ => "use count, share, rate, distinct, sum, mean, min, max, first, last or a percentile such as p95",
            };
            self.mistake(at, length, message, cure);
            self.skip_bracket();
            return None;
        }
        self.syntax.token(Kind::Function, at, self.scan.at);
        let open = self.scan.at;
        self.scan.blanks();
        let bracket = self.scan.peek() == Some('(');
        match (name.as_str(), bracket) {
            ("rate", _) => Some(Function::Rate),
            ("count", false) => {
                self.scan.at = open;
                Some(Function::Count(None))
            }
            ("count" | "share", true) => {
                let filter = self.bracketed_filter().ok()?;
                if name == "share" { Some(Function::Share(filter)) } else { Some(Function::Count(Some(filter))) }
            }
            ("share", false) => {
                self.mistake(at, 5, "share needs a filter", "try share(severity>=error)");
                None
            }
            (_, false) => {
                let length = name.chars().count();
                self.mistake(at, length, format!("{name} needs a field"), format!("try {name}(took_ms)"));
                None
            }
            (_, true) => {
                let field = self.bracketed_field(&name)?;
                match OF_FIELD.iter().find(|(n, _)| *n == name) {
                    Some((_, of_field)) => Some(of_field(field)),
                    None => percentile(&name).map(|p| Function::Percentile(p.to_owned(), field)),
                }
            }
        }
    }

    /// Passes over `( … )` behind what is no aggregate.
    fn skip_bracket(&mut self) {
        if self.scan.peek() == Some('(') {
            let from = self.scan.at;
            while self.scan.peek().is_some_and(|c| c != ')') {
                self.scan.at += 1;
            }
            self.scan.take(')');
            self.syntax.token(Kind::Broken, from, self.scan.at);
        }
    }

    fn bracketed_filter(&mut self) -> Read<Filter> {
        let at = self.scan.at;
        self.scan.take('(');
        self.syntax.token(Kind::Bracket, at, at + 1);
        self.depth += 1;
        let filter = self.or();
        self.depth -= 1;
        self.close_bracket(at);
        filter
    }

    fn bracketed_field(&mut self, name: &str) -> Option<Field> {
        let at = self.scan.at;
        self.scan.take('(');
        self.syntax.token(Kind::Bracket, at, at + 1);
        self.scan.blanks();
        let field = self.field_of(&format!("{name}(took_ms)"));
        self.close_bracket(at);
        field
    }

    fn close_bracket(&mut self, opened_at: usize) {
        self.scan.blanks();
        if self.scan.take(')') {
            self.syntax.token(Kind::Bracket, self.scan.at - 1, self.scan.at);
        } else {
            self.mistake(opened_at, 1, "this bracket is not closed", "add `)`");
        }
    }

    /// A field where one must stand.
    fn field_of(&mut self, sample: &str) -> Option<Field> {
        self.scan.blanks();
        let at = self.scan.at;
        let field = match self.scan.peek() {
            Some('`') => self.scan.backquoted().map(|name| Field::Sent(name.into())),
            _ => Some(self.scan.bare()).filter(|n| !n.is_empty()).map(|n| field_named(&n)),
        };
        match field {
            Some(field) => {
                self.syntax.token(Kind::Field, at, self.scan.at);
                Some(field)
            }
            None => {
                self.mistake(at, 1, "expected a field", format!("try {sample}"));
                None
            }
        }
    }

    fn per(&mut self, measure: &mut Measure) {
        loop {
            let at = self.scan.at;
            let Some(field) = self.field_of("measure count per service") else { return };
            if measure.per.contains(&field) {
                self.mistake(at, self.scan.at - at, "this field makes groups already", "remove it here");
            } else {
                measure.per.push(field);
            }
            self.scan.blanks();
            if !self.comma() {
                break;
            }
        }
        if measure.per.len() > MAX_PER {
            let at = self.scan.at;
            self.mistake(at, 1, format!("more than {MAX_PER} fields make groups"), "leave some out");
        }
    }

    fn every(&mut self) -> Option<Every> {
        self.scan.blanks();
        let at = self.scan.at;
        let text = self.scan.bare_value();
        let length = text.chars().count();
        match parse_duration_ns(&text).filter(|ns| *ns >= 1.0 && *ns < 9e18) {
            Some(ns) => {
                self.syntax.open(Kind::Every, at);
                self.syntax.token(Kind::Value, at, self.scan.at);
                self.syntax.close();
                Some(Every { text, step_ns: ns as i64 })
            }
            None => {
                self.syntax.token(Kind::Broken, at, self.scan.at);
                let message =
                    if length == 0 { "expected a duration".to_owned() } else { format!("`{text}` is no duration") };
                self.mistake(at, length, message, "try every 5m");
                None
            }
        }
    }

    /// The aggregate that a name means: its alias, or the aggregate itself written again.
    fn named(&mut self, measure: &Measure, sample: &str) -> Option<usize> {
        self.scan.blanks();
        let at = self.scan.at;
        let aliased = match self.scan.peek() {
            Some('`') => self.scan.backquoted().unwrap_or_default(),
            _ => self.scan.bare(),
        };
        if let Some(found) = measure.aggregates.iter().position(|a| a.alias.as_deref() == Some(aliased.as_str())) {
            self.syntax.token(Kind::Name, at, self.scan.at);
            return Some(found);
        }
        self.scan.at = at;
        if is_aggregate(&aliased) {
            let function = self.function()?;
            if let Some(found) = measure.aggregates.iter().position(|a| a.function == function) {
                return Some(found);
            }
        } else {
            self.scan.bare();
            self.syntax.token(Kind::Broken, at, self.scan.at);
        }
        let names: Vec<String> = measure.aggregates.iter().map(Aggregate::name).collect();
        let length = self.scan.at.saturating_sub(at);
        self.mistake(
            at,
            length,
            "expected one of the aggregates before",
            format!("use {}, as in {sample}", names.join(" or ")),
        );
        None
    }

    fn having(&mut self, measure: &Measure) -> Option<Having> {
        self.syntax.open(Kind::Having, self.scan.at);
        let having = self.having_parts(measure);
        self.syntax.close();
        having
    }

    fn having_parts(&mut self, measure: &Measure) -> Option<Having> {
        let aggregate = self.named(measure, "having count > 10");
        self.scan.blanks();
        let at = self.scan.at;
        let op = match self.scan.sign() {
            Some("=") => Op::Eq,
            Some("!=") => Op::Ne,
            Some("<") => Op::Lt,
            Some("<=") => Op::Le,
            Some(">") => Op::Gt,
            Some(">=") => Op::Ge,
            _ => {
                self.mistake(at, 1, "expected = != < <= > or >=", "try having count > 10");
                return None;
            }
        };
        self.scan.at += op.sign().len();
        self.syntax.token(Kind::Sign, at, self.scan.at);
        self.scan.blanks();
        let at = self.scan.at;
        let text = self.scan.bare_value();
        self.syntax.token(Kind::Value, at, self.scan.at);
        let aggregate = aggregate?;
        let field = measure.aggregates.get(aggregate).and_then(|a| a.function.field());
        match in_unit_of(field, &text) {
            Some(number) => Some(Having { aggregate, op, text, number }),
            None => {
                let length = text.chars().count();
                let message =
                    if length == 0 { "expected a number".to_owned() } else { format!("`{text}` is no number here") };
                self.mistake(at, length, message, "a duration or size needs a field whose name shows its unit");
                None
            }
        }
    }

    fn top(&mut self, measure: &Measure) -> Option<Top> {
        self.scan.blanks();
        let at = self.scan.at;
        self.syntax.open(Kind::Top, at);
        let text = self.scan.bare_value();
        self.syntax.token(Kind::Value, at, self.scan.at);
        let groups = text.parse::<usize>().ok().filter(|n| (1..=MAX_TOP).contains(n));
        if groups.is_none() {
            let length = text.chars().count();
            self.mistake(at, length, format!("expected a number from 1 to {MAX_TOP}"), "try top 10");
        }
        let mut by = None;
        self.scan.blanks();
        if self.scan.peek_bare() == "by" {
            self.syntax.token(Kind::Keyword, self.scan.at, self.scan.at + 2);
            self.scan.at += 2;
            by = self.named(measure, "top 10 by count");
        }
        self.syntax.close();
        groups.map(|groups| Top { groups, by })
    }
}

/// A number, or a duration or size in the unit of `field`.
fn in_unit_of(field: Option<&Field>, text: &str) -> Option<f64> {
    if let Some(n) = Num::parse(text) {
        return Some(n.float);
    }
    let unit = match field? {
        Field::Builtin(Builtin::Took) => Some(FieldUnit::Duration(1.0)),
        Field::Builtin(_) => None,
        Field::Sent(name) => unit_of_field(name.as_str()),
    };
    match unit? {
        FieldUnit::Duration(each) => parse_duration_ns(text).map(|ns| ns / each),
        FieldUnit::Size(each) => parse_size_bytes(text).map(|bytes| bytes / each),
    }
}
