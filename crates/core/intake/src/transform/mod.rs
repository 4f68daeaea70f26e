//! Step 5, transform: what is done to events on purpose before they are kept.
//!
//! First a key's fixed fields ([`stamp`]), then the transform rules in their order. A rule holds for events by a filter and
//! does one thing to them; the next rule sees what it left. An event that a rule changed carries the rule's name in its
//! builtin `transformed`.
//!
//! Events come as pages of columns. Most of them are touched by no rule: rules are asked of the page first, and only
//! rows for which one holds (and, for masks, in which something is found) become events, are changed, and go into pages
//! of their own.

mod act;
mod masking;
mod rule;
mod tried;

pub use rule::{Act, Cutting, Masking, Renaming, Rule, RuleMistake};
pub use tried::{Tried, TriedStep};

use crate::line::Pattern;
use calvex_language::error::Result;
use calvex_language::model::Event;
use calvex_language::query::Filter;
use calvex_storage::columns::{PageRead, Rows, select};
use masking::Mask;
use regex::Regex;

/// The rules in force, ready to be applied.
#[derive(Debug, Default)]
pub struct Transforms {
    rules: Vec<Ready>,
}

/// One rule, read.
#[derive(Debug)]
struct Ready {
    name: String,
    filter: Filter,
    act: Doing,
    /// It is of a team, and so never moves what a rule of the service has moved.
    of_team: bool,
}

#[derive(Debug)]
enum Doing {
    Stamp(Vec<(calvex_language::model::Path, calvex_language::model::Value)>),
    Rename(String, String),
    Drop(Vec<String>),
    Cut(String, Vec<Pattern>),
    Mask(Mask),
    Move(u32),
    SetAside,
}

/// What the rules made of an event.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fate {
    /// It is kept, in this lane where a rule says so.
    Kept(Option<u32>),
    /// It is not stored, by the rule of this number.
    SetAside(usize),
}

impl Transforms {
    /// Reads `rules`; `lane` gives a lane's number, `secret` keys the hashes that masks write.
    ///
    /// # Errors
    /// Every mistake of every rule.
    pub fn new(
        rules: &[Rule],
        lane: impl Fn(&str) -> Option<u32>,
        secret: [u8; 32],
    ) -> std::result::Result<Self, Vec<RuleMistake>> {
        let (mut ready, mut mistakes) = (Vec::new(), Vec::new());
        for rule in rules {
            match rule.read(&lane, secret) {
                Ok(rule) => ready.push(rule),
                Err(of_rule) => mistakes.extend(of_rule),
            }
        }
        if mistakes.is_empty() { Ok(Transforms { rules: ready }) } else { Err(mistakes) }
    }

    /// The rules of a team: they hold for what is sent with its keys, whose names these are.
    pub fn of_team(mut self, keys: &[String]) -> Self {
        for rule in &mut self.rules {
            let own = std::mem::replace(&mut rule.filter, Filter::All);
            rule.filter = Filter::sent_with(keys).and(own);
            rule.of_team = true;
        }
        self
    }

    /// These rules, then those.
    pub fn followed_by(mut self, others: Transforms) -> Self {
        self.rules.extend(others.rules);
        self
    }

    /// Takes fields in the rules' filters that are called like a tie for any of its spellings.
    pub fn tie_up(&mut self, ties: &calvex_language::query::Ties) {
        self.rules.iter_mut().for_each(|rule| rule.filter.tie_up(ties));
    }

    /// Whether there is no rule.
    pub fn is_empty(&self) -> bool {
        self.rules.is_empty()
    }

    /// How many rules.
    pub fn len(&self) -> usize {
        self.rules.len()
    }

    /// The name of a rule.
    pub fn name(&self, rule: usize) -> &str {
        self.rules.get(rule).map_or("", |r| &r.name)
    }

    /// The rows that a rule may change: those for which none holds stay as they are, whatever the order of rules.
    ///
    /// # Errors
    /// Where the page cannot be read.
    pub fn touched(&self, page: &dyn PageRead) -> Result<Rows> {
        let mut touched = Rows::none(page.rows());
        for rule in &self.rules {
            if touched.is_full() {
                break;
            }
            let mut rows = select(&rule.filter, page, "")?;
            if let Doing::Mask(mask) = &rule.act
                && !rows.is_empty()
            {
                rows.and(&mask.found(page)?);
            }
            touched.or(&rows);
        }
        Ok(touched)
    }

    /// Applies the rules to one event, in order; `held` counts for which it held.
    pub fn apply(&self, event: &mut Event, held: &mut [u64]) -> Fate {
        let (mut lane, mut moved_by_service) = (None, false);
        for (n, rule) in self.rules.iter().enumerate() {
            if !calvex_language::query::matches(&rule.filter, event, "") {
                continue;
            }
            let changed = match &rule.act {
                Doing::SetAside => {
                    count(held, n);
                    return Fate::SetAside(n);
                }
                Doing::Move(_) if rule.of_team && moved_by_service => continue,
                Doing::Move(to) => {
                    lane = Some(*to);
                    moved_by_service |= !rule.of_team;
                    count(held, n);
                    continue;
                }
                act => act.apply(event),
            };
            if changed {
                count(held, n);
                mark(event, &rule.name);
            }
        }
        Fate::Kept(lane)
    }

    /// `text` as it may be shown of an event that was not taken: what the rules' masks find in it is covered, whatever
    /// their filters, and values behind the names of fields that they mask as a whole.
    pub fn cover<'t>(&self, text: &'t str) -> std::borrow::Cow<'t, str> {
        let masks = self.rules.iter().filter_map(|r| match &r.act {
            Doing::Mask(mask) => Some(mask),
            _ => None,
        });
        masks.fold(text.into(), |text, mask| match mask.cover_sample(&text) {
            Some(covered) => covered.into(),
            None => text,
        })
    }
}

/// Notes in an event that a rule changed it.
fn mark(event: &mut Event, rule: &str) {
    if !event.transformed.is_empty() {
        event.transformed.push(',');
    }
    event.transformed.push_str(rule);
}

fn count(held: &mut [u64], rule: usize) {
    if let Some(n) = held.get_mut(rule) {
        *n += 1;
    }
}

/// An expression of a rule; bounded in what it may compile to.
fn expression(text: &str) -> std::result::Result<Regex, String> {
    let built = regex::RegexBuilder::new(text).size_limit(1 << 20).build();
    built.map_err(|e| {
        e.to_string().lines().last().unwrap_or("it cannot be read").trim_start_matches("error: ").to_owned()
    })
}

#[cfg(test)]
mod tests;
