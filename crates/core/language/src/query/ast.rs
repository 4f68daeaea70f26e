//! The tree of a filter.

use super::RegexTest;
use super::literal::{Literal, Num};
use crate::model::Path;
use crate::model::Value;
use crate::query::{Tie, Ties};
use std::sync::Arc;

/// An event's builtins, by the bare names the language gives them.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[allow(missing_docs)]
pub enum Builtin {
    Time,
    Arrived,
    Severity,
    Service,
    Host,
    Message,
    Shape,
    Trace,
    Span,
    Parent,
    Kind,
    Lane,
    Took,
    Status,
    Sender,
    Transformed,
    ErrorGroup,
}

impl Builtin {
    /// Every builtin with its name.
    pub const ALL: [(Builtin, &'static str); 17] = [
        (Builtin::Time, "time"),
        (Builtin::Arrived, "arrived"),
        (Builtin::Severity, "severity"),
        (Builtin::Service, "service"),
        (Builtin::Host, "host"),
        (Builtin::Message, "message"),
        (Builtin::Shape, "shape"),
        (Builtin::Trace, "trace"),
        (Builtin::Span, "span"),
        (Builtin::Parent, "parent"),
        (Builtin::Kind, "kind"),
        (Builtin::Lane, "lane"),
        (Builtin::Took, "took"),
        (Builtin::Status, "status"),
        (Builtin::Sender, "sender"),
        (Builtin::Transformed, "transformed"),
        (Builtin::ErrorGroup, "error_group"),
    ];

    /// Its bare name.
    pub fn name(self) -> &'static str {
        Self::ALL.iter().find(|(p, _)| *p == self).map_or("", |(_, n)| n)
    }

    /// From the bare name.
    pub fn from_name(name: &str) -> Option<Self> {
        Self::ALL.iter().find(|(_, n)| *n == name).map(|(p, _)| *p)
    }
}

/// What a comparison looks at.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Field {
    /// A builtin.
    Builtin(Builtin),
    /// A sent field.
    Sent(SentName),
}

impl Field {
    /// Takes the name of a tie for any of its spellings.
    pub fn tie_up(&mut self, ties: &Ties) {
        if let Field::Sent(name) = self {
            name.tie_up(ties);
        }
    }
}

/// A sent field as a query names it: by its dotted path; where that is the name of a tie, by any of its spellings too.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct SentName {
    dotted: String,
    tie: Option<Arc<Tie>>,
}

impl<T: Into<String>> From<T> for SentName {
    fn from(dotted: T) -> Self {
        SentName { dotted: dotted.into(), tie: None }
    }
}

impl SentName {
    /// The dotted path as written.
    pub fn as_str(&self) -> &str {
        &self.dotted
    }

    /// Whether the field at `path` is meant.
    pub fn is(&self, path: &Path) -> bool {
        path.is(&self.dotted) || self.tie.as_ref().is_some_and(|tie| tie.spells(&path.dotted()))
    }

    /// Whether the field at the dotted path lies at or below what is meant.
    pub fn covers(&self, dotted: &str) -> bool {
        super::matching::at_or_below(dotted, &self.dotted) || self.tie.as_ref().is_some_and(|tie| tie.spells(dotted))
    }

    /// Whether any spelling of a tie is meant.
    pub fn is_tie(&self) -> bool {
        self.tie.is_some()
    }

    /// Takes the name of a tie for any of its spellings.
    pub fn tie_up(&mut self, ties: &Ties) {
        self.tie = ties.get(&self.dotted);
    }
}

/// The comparison signs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[allow(missing_docs)]
pub enum Op {
    Eq,
    Ne,
    Lt,
    Le,
    Gt,
    Ge,
}

impl Op {
    /// As written.
    pub fn sign(self) -> &'static str {
        match self {
            Op::Eq => "=",
            Op::Ne => "!=",
            Op::Lt => "<",
            Op::Le => "<=",
            Op::Gt => ">",
            Op::Ge => ">=",
        }
    }

    /// Whether the sign holds for values in this order; `!=` as `=`, see [`Test`].
    pub fn holds(self, order: std::cmp::Ordering) -> bool {
        match self {
            Op::Eq | Op::Ne => order.is_eq(),
            Op::Lt => order.is_lt(),
            Op::Le => order.is_le(),
            Op::Gt => order.is_gt(),
            Op::Ge => order.is_ge(),
        }
    }
}

/// The signs over text.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[allow(missing_docs)]
pub enum TextOp {
    Begins,
    Ends,
    Contains,
}

impl TextOp {
    /// As written.
    pub fn sign(self) -> &'static str {
        match self {
            TextOp::Begins => "^=",
            TextOp::Ends => "$=",
            TextOp::Contains => "*=",
        }
    }
}

/// What is asked of a field's value. For `!=` the methods answer as for `=`; the caller turns the whole round, because
/// `!=` holds when the field is there and no value of it equals.
#[derive(Debug, Clone, PartialEq)]
pub enum Test {
    /// `= != < <= > >=`
    Compare(Op, Literal),
    /// `^= $= *=`
    Text(TextOp, String),
    /// `~ /…/`
    Regex(RegexTest),
    /// `in (…)`
    In(Vec<Literal>),
    /// `between … and …`
    Between(Literal, Literal),
}

impl Test {
    /// Whether this is `!=`.
    pub fn is_ne(&self) -> bool {
        matches!(self, Test::Compare(Op::Ne, _))
    }

    /// Against text.
    pub fn text(&self, text: &str) -> bool {
        match self {
            Test::Compare(Op::Eq | Op::Ne, l) => l.text == text,
            // The order of texts is asked for by a text; a number asks for numbers.
            Test::Compare(op, l) => !l.is_numeric() && op.holds(text.cmp(l.text.as_str())),
            Test::Text(TextOp::Begins, t) => text.starts_with(t.as_str()),
            Test::Text(TextOp::Ends, t) => text.ends_with(t.as_str()),
            Test::Text(TextOp::Contains, t) => text.contains(t.as_str()),
            Test::Regex(r) => r.regex.is_match(text),
            Test::In(list) => list.iter().any(|l| l.text == text),
            Test::Between(lo, hi) => {
                !lo.is_numeric() && !hi.is_numeric() && lo.text.as_str() <= text && text <= hi.text.as_str()
            }
        }
    }

    /// Against a number. The signs over text and regular expressions never hold for one.
    pub fn number(&self, n: Num) -> bool {
        let ordered = |l: &Literal, op: Op| l.number.and_then(|l| n.order(l)).is_some_and(|o| op.holds(o));
        match self {
            Test::Compare(op, l) => ordered(l, *op),
            Test::In(list) => list.iter().any(|l| ordered(l, Op::Eq)),
            Test::Between(lo, hi) => ordered(lo, Op::Ge) && ordered(hi, Op::Le),
            Test::Text(..) | Test::Regex(_) => false,
        }
    }

    /// Against true or false.
    pub fn bool(&self, b: bool) -> bool {
        let is = |l: &Literal| !l.quoted && l.text == if b { "true" } else { "false" };
        match self {
            Test::Compare(Op::Eq | Op::Ne, l) => is(l),
            Test::In(list) => list.iter().any(is),
            _ => false,
        }
    }

    /// Against any value; a list holds when any element does.
    pub fn value(&self, value: &Value) -> bool {
        match value {
            Value::Text(t) => self.text(t),
            Value::Int(n) => self.number(Num::int(i128::from(*n))),
            Value::UInt(n) => self.number(Num::int(i128::from(*n))),
            Value::Float(f) => self.number(Num::float(*f)),
            Value::Decimal(t) => self.number(Num::decimal(t)),
            Value::Bool(b) => self.bool(*b),
            Value::List(list) => list.iter().any(|v| self.value(v)),
            Value::Null | Value::Bytes(_) | Value::Object(_) => false,
        }
    }
}

/// Words in a row.
#[derive(Debug, Clone, PartialEq)]
pub struct WordsTest {
    /// Lower-case, at least one.
    pub words: Vec<String>,
    /// The last one is only how a word begins.
    pub prefix: bool,
    /// Written between quotes.
    pub quoted: bool,
    /// As typed, without quotes and star.
    pub text: String,
    /// A bare number also finds number fields with that value.
    pub number: Option<Num>,
}

impl WordsTest {
    /// Whether the one word can be (or begin) the hex form of an id.
    pub fn may_be_id(&self) -> bool {
        match self.words.as_slice() {
            [word] => {
                let length = if self.prefix { word.len() <= 32 } else { matches!(word.len(), 16 | 32) };
                length && word.bytes().all(|b| b.is_ascii_hexdigit())
            }
            _ => false,
        }
    }
}

/// A filter's tree.
#[derive(Debug, Clone, PartialEq, Default)]
pub enum Filter {
    /// Every event.
    #[default]
    All,
    /// All of them hold.
    And(Vec<Filter>),
    /// One of them holds.
    Or(Vec<Filter>),
    /// It does not hold.
    Not(Box<Filter>),
    /// The words stand in the message or in one text value.
    Words(WordsTest),
    /// The field is there and passes.
    Compare(Field, Test),
    /// The field, or any below it, is there.
    Has(Field),
}

impl Filter {
    /// Passes no event: an empty choice.
    pub fn nothing() -> Filter {
        Filter::Or(Vec::new())
    }

    /// `severity>=NAME`.
    pub fn severity_at_least(name: &str) -> Filter {
        let literal = Literal { text: name.to_owned(), quoted: false, number: None };
        Filter::Compare(Field::Builtin(Builtin::Severity), Test::Compare(Op::Ge, literal))
    }

    /// `sender in (NAMES)`: what was sent with these keys.
    pub fn sent_with(names: &[String]) -> Filter {
        let literal = |name: &String| Literal { text: name.clone(), quoted: true, number: None };
        match names {
            [] => Filter::nothing(),
            names => Filter::Compare(Field::Builtin(Builtin::Sender), Test::In(names.iter().map(literal).collect())),
        }
    }

    /// Every sent field that is named, ties left out.
    pub fn sent_fields(&self) -> Vec<&str> {
        let mut out = Vec::new();
        self.walk(&mut |f| {
            if let Filter::Compare(Field::Sent(name), _) | Filter::Has(Field::Sent(name)) = f {
                out.extend((!name.is_tie()).then_some(name.as_str()));
            }
        });
        out
    }

    /// Whether it asks for a builtin.
    pub fn names(&self, builtin: Builtin) -> bool {
        let mut named = false;
        self.walk(&mut |f| {
            if let Filter::Compare(Field::Builtin(own), _) | Filter::Has(Field::Builtin(own)) = f {
                named |= *own == builtin;
            }
        });
        named
    }

    /// Calls `visit` for this and every filter below.
    pub fn walk<'a>(&'a self, visit: &mut dyn FnMut(&'a Filter)) {
        visit(self);
        match self {
            Filter::And(list) | Filter::Or(list) => list.iter().for_each(|f| f.walk(visit)),
            Filter::Not(inner) => inner.walk(visit),
            _ => {}
        }
    }

    /// Takes each field that is called like a tie for any of its spellings.
    pub fn tie_up(&mut self, ties: &Ties) {
        match self {
            Filter::And(list) | Filter::Or(list) => list.iter_mut().for_each(|f| f.tie_up(ties)),
            Filter::Not(inner) => inner.tie_up(ties),
            Filter::Compare(Field::Sent(name), _) | Filter::Has(Field::Sent(name)) => name.tie_up(ties),
            Filter::All | Filter::Words(_) | Filter::Compare(..) | Filter::Has(_) => {}
        }
    }

    /// Joins two filters with `or`.
    pub fn or(self, other: Filter) -> Filter {
        match (self, other) {
            (Filter::All, _) | (_, Filter::All) => Filter::All,
            (a, b) if a == b => a,
            (Filter::Or(mut list), Filter::Or(more)) => {
                list.extend(more);
                Filter::Or(list)
            }
            (Filter::Or(mut list), f) | (f, Filter::Or(mut list)) => {
                list.push(f);
                Filter::Or(list)
            }
            (a, b) => Filter::Or(vec![a, b]),
        }
    }

    /// Passes what this does not.
    pub fn negated(self) -> Filter {
        match self {
            Filter::All => Filter::nothing(),
            Filter::Or(list) if list.is_empty() => Filter::All,
            Filter::Not(inner) => *inner,
            other => Filter::Not(Box::new(other)),
        }
    }

    /// Joins two filters with `and`.
    pub fn and(self, other: Filter) -> Filter {
        match (self, other) {
            (Filter::All, f) | (f, Filter::All) => f,
            (Filter::Or(list), _) | (_, Filter::Or(list)) if list.is_empty() => Filter::nothing(),
            (Filter::And(mut a), Filter::And(b)) => {
                a.extend(b);
                Filter::And(a)
            }
            (Filter::And(mut a), f) => {
                a.push(f);
                Filter::And(a)
            }
            (f, Filter::And(mut b)) => {
                b.insert(0, f);
                Filter::And(b)
            }
            (a, b) => Filter::And(vec![a, b]),
        }
    }
}
