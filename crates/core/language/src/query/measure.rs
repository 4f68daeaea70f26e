//! The tree of `measure`: what is counted, over which groups, in which steps.

use super::literal::{FieldUnit, unit_of_field};
use super::{Builtin, Field, Filter, Op, canonical};
use crate::query::Ties;

/// One aggregate.
#[derive(Debug, Clone, PartialEq)]
pub enum Function {
    /// `count`, or of the events that pass.
    Count(Option<Filter>),
    /// The share of the events that pass, 0 to 1.
    Share(Filter),
    /// Events per second.
    Rate,
    /// Distinct values.
    Distinct(Field),
    /// Sum of the numbers.
    Sum(Field),
    /// Their mean.
    Mean(Field),
    /// The smallest.
    Min(Field),
    /// The largest.
    Max(Field),
    /// A percentile, with its number as typed.
    Percentile(String, Field),
    /// The value of the earliest event that has one.
    First(Field),
    /// The value of the latest event that has one.
    Last(Field),
}

impl Function {
    /// The field it looks at.
    pub fn field(&self) -> Option<&Field> {
        match self {
            Function::Count(_) | Function::Share(_) | Function::Rate => None,
            Function::Distinct(f) | Function::Sum(f) | Function::Mean(f) | Function::Min(f) | Function::Max(f) => {
                Some(f)
            }
            Function::Percentile(_, f) | Function::First(f) | Function::Last(f) => Some(f),
        }
    }

    /// What its figures are in: `per second`, or the unit that the field's name carries.
    pub fn unit(&self) -> Option<&'static str> {
        match self {
            Function::Rate => Some("per second"),
            Function::Count(_) | Function::Share(_) | Function::Distinct(_) => None,
            _ => match self.field()? {
                Field::Builtin(Builtin::Took) => Some("ns"),
                Field::Builtin(_) => None,
                Field::Sent(name) => unit_of_field(name.as_str()).map(FieldUnit::name),
            },
        }
    }

    /// The one text for it.
    pub fn canonical(&self) -> String {
        let of = |name: &str, f: &Field| format!("{name}({})", canonical::field(f));
        match self {
            Function::Count(None) => "count".into(),
            Function::Count(Some(f)) => format!("count({f})"),
            Function::Share(f) => format!("share({f})"),
            Function::Rate => "rate".into(),
            Function::Distinct(f) => of("distinct", f),
            Function::Sum(f) => of("sum", f),
            Function::Mean(f) => of("mean", f),
            Function::Min(f) => of("min", f),
            Function::Max(f) => of("max", f),
            Function::Percentile(p, f) => of(&format!("p{p}"), f),
            Function::First(f) => of("first", f),
            Function::Last(f) => of("last", f),
        }
    }
}

/// An aggregate and the name it goes by.
#[derive(Debug, Clone, PartialEq)]
pub struct Aggregate {
    /// What is worked out.
    pub function: Function,
    /// `as NAME`.
    pub alias: Option<String>,
}

impl Aggregate {
    /// The name of its column.
    pub fn name(&self) -> String {
        self.alias.clone().unwrap_or_else(|| self.function.canonical())
    }

    fn canonical(&self) -> String {
        match &self.alias {
            Some(alias) => format!("{} as {}", self.function.canonical(), canonical::name(alias)),
            None => self.function.canonical(),
        }
    }
}

/// `having NAME op NUMBER`
#[derive(Debug, Clone, PartialEq)]
pub struct Having {
    /// Index of the aggregate.
    pub aggregate: usize,
    /// How it is compared.
    pub op: Op,
    /// With what, as typed.
    pub text: String,
    /// In the unit of the aggregate's field.
    pub number: f64,
}

/// `top N [by NAME]`
#[derive(Debug, Clone, PartialEq)]
pub struct Top {
    /// How many groups.
    pub groups: usize,
    /// Index of the aggregate; the first where nothing is said.
    pub by: Option<usize>,
}

/// `every DURATION`
#[derive(Debug, Clone, PartialEq)]
pub struct Every {
    /// As typed.
    pub text: String,
    /// Nanoseconds.
    pub step_ns: i64,
}

/// A whole `measure` clause.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Measure {
    /// One at least.
    pub aggregates: Vec<Aggregate>,
    /// Fields whose values make the groups.
    pub per: Vec<Field>,
    /// Steps in time.
    pub every: Option<Every>,
    /// Which groups are kept.
    pub having: Option<Having>,
    /// How many groups are kept.
    pub top: Option<Top>,
}

impl Measure {
    /// The one text for this tree.
    pub fn canonical(&self) -> String {
        let list: Vec<String> = self.aggregates.iter().map(Aggregate::canonical).collect();
        let mut out = format!("measure {}", list.join(", "));
        let name = |n: usize| {
            self.aggregates.get(n).map_or_else(String::new, |a| match &a.alias {
                Some(alias) => canonical::name(alias),
                None => a.function.canonical(),
            })
        };
        if !self.per.is_empty() {
            out += &format!(" per {}", self.per.iter().map(canonical::field).collect::<Vec<_>>().join(", "));
        }
        if let Some(every) = &self.every {
            out += &format!(" every {}", every.text);
        }
        if let Some(h) = &self.having {
            out += &format!(" having {} {} {}", name(h.aggregate), h.op.sign(), h.text);
        }
        if let Some(top) = &self.top {
            out += &format!(" top {}", top.groups);
            if let Some(by) = top.by {
                out += &format!(" by {}", name(by));
            }
        }
        out
    }

    /// Takes each field that is called like a tie for any of its spellings.
    pub fn tie_up(&mut self, ties: &Ties) {
        for aggregate in &mut self.aggregates {
            match &mut aggregate.function {
                Function::Count(Some(filter)) | Function::Share(filter) => filter.tie_up(ties),
                Function::Count(None) | Function::Rate => {}
                Function::Distinct(f) | Function::Sum(f) | Function::Mean(f) | Function::Min(f) | Function::Max(f) => {
                    f.tie_up(ties);
                }
                Function::Percentile(_, f) | Function::First(f) | Function::Last(f) => f.tie_up(ties),
            }
        }
        self.per.iter_mut().for_each(|f| f.tie_up(ties));
    }

    /// Every sent field that is named, those of inner filters too.
    pub fn sent_fields(&self) -> Vec<&str> {
        let mut out = Vec::new();
        for aggregate in &self.aggregates {
            match &aggregate.function {
                Function::Count(Some(f)) | Function::Share(f) => out.extend(f.sent_fields()),
                function => out.extend(function.field().and_then(sent)),
            }
        }
        out.extend(self.per.iter().filter_map(sent));
        out
    }
}

fn sent(field: &Field) -> Option<&str> {
    match field {
        Field::Sent(name) => (!name.is_tie()).then_some(name.as_str()),
        Field::Builtin(_) => None,
    }
}
