//! Messages as template codes and variables. A template's holes and the words around them decide most searches; the
//! variables are unpacked only when a search needs them.

use super::dictionary::Texts;
use super::rows::FEW_PART;
use super::streams;
use super::texts::Sought;
use calvex_language::error::{CoreError, Result};
use calvex_language::model::template::{HOLE, join};
use std::sync::OnceLock;

/// The variables of all values in order, joined.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Variables {
    /// All variables joined.
    pub joined: String,
    /// The end of each.
    pub ends: Vec<u32>,
    /// For each value the index of its first variable, and one entry more for the end.
    pub first: Vec<u32>,
}

impl Variables {
    /// The variables of the value at `value_index`.
    pub fn of(&self, value_index: usize) -> impl Iterator<Item = &str> {
        let bound = |n: usize| self.first.get(n).copied().unwrap_or(0) as usize;
        (bound(value_index)..bound(value_index + 1)).map(|n| {
            let start = if n == 0 { 0 } else { self.ends.get(n - 1).copied().unwrap_or(0) };
            let end = self.ends.get(n).copied().unwrap_or(0);
            self.joined.get(start as usize..end as usize).unwrap_or("")
        })
    }
}

/// The values of a message column.
#[derive(Debug)]
pub struct Messages {
    /// The templates.
    pub templates: Texts,
    /// The template of each value.
    pub codes: Vec<u32>,
    /// The variables as stored, until someone asks for them.
    packed: Vec<u8>,
    variables: OnceLock<Option<Variables>>,
}

impl Clone for Messages {
    fn clone(&self) -> Self {
        Messages {
            templates: self.templates.clone(),
            codes: self.codes.clone(),
            packed: self.packed.clone(),
            variables: self.variables.clone(),
        }
    }
}

impl PartialEq for Messages {
    fn eq(&self, other: &Self) -> bool {
        let text = |m: &Messages, value_index| m.text(value_index).ok();
        self.codes.len() == other.codes.len() && (0..self.codes.len()).all(|p| text(self, p) == text(other, p))
    }
}

impl Messages {
    /// With variables at hand.
    pub fn new(templates: Texts, codes: Vec<u32>, variables: Variables) -> Self {
        Messages { templates, codes, packed: Vec::new(), variables: OnceLock::from(Some(variables)) }
    }

    /// With variables as stored (see [`streams`]).
    pub fn packed(templates: Texts, codes: Vec<u32>, packed: Vec<u8>) -> Self {
        Messages { templates, codes, packed, variables: OnceLock::new() }
    }

    /// The variables, unpacked at the first call.
    ///
    /// # Errors
    /// Where the stored bytes do not decode.
    pub fn variables(&self) -> Result<&Variables> {
        let unpack = || streams::unpack(&self.packed, &self.templates, &self.codes);
        let unpacked = self.variables.get_or_init(unpack).as_ref();
        unpacked.ok_or_else(|| CoreError::damaged("a message block", "its variables do not decode"))
    }

    /// The indexes of the values of templates that `asked` names, in one of whose variables a word stands. Unpacks as little
    /// as it can.
    ///
    /// # Errors
    /// As [`Messages::variables`].
    pub fn holding(&self, sought: Sought<'_>, asked: impl Fn(u32) -> bool) -> Result<Vec<usize>> {
        if self.variables.get().is_some() {
            let variables = self.variables()?;
            let holds = |(value_index, code): (usize, &u32)| {
                (asked(*code) && variables.of(value_index).any(|variable| sought.stands_in(variable)))
                    .then_some(value_index)
            };
            return Ok(self.codes.iter().enumerate().filter_map(holds).collect());
        }
        let found = streams::holding(&self.packed, &self.templates, &self.codes, sought, asked);
        found.ok_or_else(|| CoreError::damaged("a message block", "its variables do not decode"))
    }

    /// The template of the value at `value_index`.
    pub fn template(&self, value_index: usize) -> &str {
        self.codes.get(value_index).map_or("", |c| self.templates.get(*c as usize))
    }

    /// Appends the message at `value_index`.
    ///
    /// # Errors
    /// As [`Messages::variables`].
    pub fn write(&self, value_index: usize, out: &mut String) -> Result<()> {
        let template = self.template(value_index);
        if template.contains(HOLE) {
            join(template, self.variables()?.of(value_index), out);
        } else {
            out.push_str(template);
        }
        Ok(())
    }

    /// The message at `value_index`.
    ///
    /// # Errors
    /// As [`Messages::variables`].
    pub fn text(&self, value_index: usize) -> Result<String> {
        let mut out = String::new();
        self.write(value_index, &mut out)?;
        Ok(out)
    }

    /// The messages at some value indexes, which ascend. Where these are few, what others hold is not written out.
    ///
    /// # Errors
    /// As [`Messages::variables`].
    pub fn texts_at(&self, value_indexes: &[usize]) -> Result<Vec<String>> {
        if self.variables.get().is_some() || value_indexes.len() * FEW_PART >= self.codes.len() {
            return value_indexes.iter().map(|value_index| self.text(*value_index)).collect();
        }
        let texts = streams::messages_at(&self.packed, &self.templates, &self.codes, value_indexes);
        texts.ok_or_else(|| CoreError::damaged("a message block", "its variables do not decode"))
    }

    /// A rough size in memory.
    pub fn weight_bytes(&self) -> usize {
        let variables = self.variables.get().and_then(Option::as_ref);
        self.templates.weight_bytes()
            + self.codes.len() * 4
            + self.packed.len()
            + variables.map_or(0, |v| v.joined.len() + v.ends.len() * 4 + v.first.len() * 4)
    }
}
