//! A transform rule as people write it and as it is kept, and its reading.
//!
//! ```json
//! {"name": "sorter-lines", "when": "service=sorter", "act": {"cut": {"field": "message", "patterns": ["{time} {severity} {rest message}"]}}}
//! {"name": "cards", "when": "", "act": {"mask": {"detectors": ["cards", "mail"], "hash": true}}}
//! ```

use super::masking::Mask;
use super::{Doing, Ready, expression};
use crate::line::Pattern;
use calvex_language::model::mask::Detector;
use calvex_language::model::{Path, Value};
use calvex_language::query::{Builtin, parse_filter};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// Most fields, patterns or expressions of one rule.
const MAX_LISTED: usize = 64;

/// A rule as written.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[cfg_attr(feature = "schema", schemars(rename = "Transform"))]
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Rule {
    /// What it is called; stands in the events it changed.
    pub name: String,
    /// For which events: a filter; empty for all.
    #[serde(default)]
    pub when: String,
    /// What is done to them.
    pub act: Act,
}

/// What a rule does.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Act {
    /// Sets fields; a differing value that was sent is kept under `displaced`.
    Stamp(BTreeMap<String, serde_json::Value>),
    /// Gives a field another name, or makes it a builtin.
    Rename(Renaming),
    /// Removes fields, with all below them.
    Drop(Vec<String>),
    /// Cuts text into fields.
    Cut(Cutting),
    /// Covers secrets.
    Mask(Masking),
    /// Stores the event in this lane, whatever the routes say.
    Move(String),
    /// Does not store the event; it is counted.
    SetAside,
}

/// See [`Act::Rename`].
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Renaming {
    /// The field as sent.
    pub from: String,
    /// The new name; fields below `from` come below it. `message`, `service`, `host` and the like become that part.
    pub to: String,
}

/// See [`Act::Cut`].
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Cutting {
    /// Whose text is cut; the message if not given.
    #[serde(default = "message")]
    pub field: String,
    /// Line patterns; the first that fits is taken.
    pub patterns: Vec<String>,
}

fn message() -> String {
    "message".to_owned()
}

/// See [`Act::Mask`].
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Masking {
    /// The fields looked at; every text if empty. Without expressions and detectors, their whole values are covered.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub fields: Vec<String>,
    /// Regular expressions; their group `s`, else their first group, else all that they match is covered.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub expressions: Vec<String>,
    /// Built-in detectors.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub detectors: Vec<Detector>,
    /// What is written instead; `•••` if not given.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub with: Option<String>,
    /// Writes a keyed hash instead, so that equal values still correlate.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub hash: bool,
}

/// What is wrong with a rule.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[error("rule `{rule}`, {location}: {what}")]
pub struct RuleMistake {
    /// Its name.
    pub rule: String,
    /// Where in it.
    pub location: String,
    /// What, and the cure.
    pub what: String,
}

impl Act {
    /// What it does, in a word.
    pub fn name(&self) -> &'static str {
        match self {
            Act::Stamp(_) => "stamp",
            Act::Rename(_) => "rename",
            Act::Drop(_) => "drop",
            Act::Cut(_) => "cut",
            Act::Mask(_) => "mask",
            Act::Move(_) => "move",
            Act::SetAside => "set aside",
        }
    }
}

/// What it does, for people.
impl std::fmt::Display for Act {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Act::Stamp(fields) => {
                let pairs: Vec<String> = fields.iter().map(|(name, value)| format!("{name}={value}")).collect();
                write!(f, "stamp {}", pairs.join(", "))
            }
            Act::Rename(r) => write!(f, "rename {} to {}", r.from, r.to),
            Act::Drop(fields) => write!(f, "drop {}", fields.join(", ")),
            Act::Cut(c) => write!(f, "cut {} by {}", c.field, c.patterns.join("  or  ")),
            Act::Mask(m) => {
                let mut found: Vec<String> = m.detectors.iter().map(|d| d.name().to_owned()).collect();
                found.extend(m.expressions.iter().map(|e| format!("/{e}/")));
                let what = if found.is_empty() { "all".to_owned() } else { found.join(", ") };
                let fields = if m.fields.is_empty() { "every text".to_owned() } else { m.fields.join(", ") };
                let with = if m.hash {
                    "a keyed hash"
                } else {
                    m.with.as_deref().unwrap_or(calvex_language::model::mask::COVER)
                };
                write!(f, "mask {what} in {fields} with {with}")
            }
            Act::Move(lane) => write!(f, "move to lane {lane}"),
            Act::SetAside => f.write_str("set aside"),
        }
    }
}

impl Rule {
    /// Checks and reads the rule.
    pub(super) fn read(
        &self,
        lane: &impl Fn(&str) -> Option<u32>,
        secret: [u8; 32],
    ) -> Result<Ready, Vec<RuleMistake>> {
        let mut mistakes = Vec::new();
        let mut wrong = |location: &str, what: String| {
            mistakes.push(RuleMistake { rule: self.name.clone(), location: location.to_owned(), what });
        };
        let filter = match parse_filter(&self.when) {
            Ok(filter) => filter,
            Err(of_filter) => {
                for m in of_filter {
                    wrong("when", m.to_string());
                }
                calvex_language::query::Filter::All
            }
        };
        if filter.names(Builtin::Lane) {
            wrong(
                "when",
                "no lane is known yet, for routes are asked after the rules; ask for what leads there".into(),
            );
        }
        let act = self.act.read(lane, secret, &mut wrong);
        match act {
            Some(act) if mistakes.is_empty() => Ok(Ready { name: self.name.clone(), filter, act, of_team: false }),
            _ => Err(mistakes),
        }
    }
}

impl Act {
    fn read(
        &self,
        lane: &impl Fn(&str) -> Option<u32>,
        secret: [u8; 32],
        wrong: &mut impl FnMut(&str, String),
    ) -> Option<Doing> {
        let listed = |n: usize, of: &str, wrong: &mut dyn FnMut(&str, String)| {
            if n == 0 {
                wrong(of, "it names none; give at least one".into());
            } else if n > MAX_LISTED {
                wrong(of, format!("it names {n}, the limit is {MAX_LISTED}; make several rules"));
            }
        };
        Some(match self {
            Act::Stamp(fields) => {
                listed(fields.len(), "stamp", wrong);
                let mut stamped = Vec::new();
                for (name, value) in fields {
                    if Builtin::from_name(name).is_some() {
                        wrong(
                            "stamp",
                            format!("`{name}` is an event's builtin; rename a field to it, or cut it out of text"),
                        );
                    }
                    let value = calvex_language::model::parse_value(&value.to_string()).unwrap_or(Value::Null);
                    if matches!(value, Value::Object(_)) {
                        wrong("stamp", format!("`{name}` is an object; name the fields below it one by one"));
                    }
                    stamped.push((dotted_path(name), value));
                }
                Doing::Stamp(stamped)
            }
            Act::Rename(Renaming { from, to }) => {
                for (name, location) in [(from, "rename from"), (to, "rename to")] {
                    if name.trim().is_empty() {
                        wrong(location, "it is empty; name a field".into());
                    }
                }
                if unsettable(to) {
                    wrong("rename to", format!("`{to}` cannot be set; {SETTABLE}"));
                }
                Doing::Rename(from.clone(), to.clone())
            }
            Act::Drop(fields) => {
                listed(fields.len(), "drop", wrong);
                Doing::Drop(fields.clone())
            }
            Act::Cut(Cutting { field, patterns }) => {
                listed(patterns.len(), "cut", wrong);
                let mut read = Vec::new();
                for (n, text) in patterns.iter().enumerate() {
                    match Pattern::parse(text) {
                        Ok(pattern) => {
                            for name in pattern.names().into_iter().filter(|name| unsettable(name)) {
                                wrong(&format!("pattern {}", n + 1), format!("`{name}` cannot be set; {SETTABLE}"));
                            }
                            read.push(pattern);
                        }
                        Err(mistake) => wrong(&format!("pattern {}", n + 1), mistake.to_string()),
                    }
                }
                Doing::Cut(field.clone(), read)
            }
            Act::Mask(masking) => {
                let found = masking.expressions.len() + masking.detectors.len() + masking.fields.len();
                listed(found, "mask", wrong);
                let mut expressions = Vec::new();
                for text in &masking.expressions {
                    match expression(text) {
                        Ok(e) if e.is_match("") => {
                            wrong("mask", format!("/{text}/ matches empty text; make it match what is secret"))
                        }
                        Ok(e) => expressions.push(e),
                        Err(e) => wrong("mask", format!("/{text}/ {e}")),
                    }
                }
                if masking.hash && masking.with.is_some() {
                    wrong("mask", "it has both a text and a hash to write; choose one".into());
                }
                Doing::Mask(Mask::new(masking, expressions, secret))
            }
            Act::Move(name) => match lane(name) {
                Some(lane) => Doing::Move(lane),
                None => {
                    wrong("move", format!("there is no lane `{name}`; `calvex lane list` shows them"));
                    return None;
                }
            },
            Act::SetAside => Doing::SetAside,
        })
    }
}

const SETTABLE: &str = "rules set time, severity, service, host, message, trace, span, parent, and fields";

fn unsettable(name: &str) -> bool {
    use Builtin::*;
    Builtin::from_name(name)
        .is_some_and(|part| !matches!(part, Time | Severity | Service | Host | Message | Trace | Span | Parent))
}

/// A field's name in a rule as the path it is stored under: segments at the dots.
pub(super) fn dotted_path(name: &str) -> Path {
    Path::new(name.split('.'))
}
