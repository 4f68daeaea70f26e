//! The error groups of a page's failures ([`calvex_language::failure`]), worked out from few columns: severity, kind,
//! service, message, and the fields that hold an error's type or a stack. What rows have in common is worked out once.
//!
//! Must give for every row what `query::error_group_of` gives for the event of that row; a property test compares the two.

use super::{BuiltinColumn, Column, FieldType, PageRead, Rows, SentColumn, Values, columns_of, each_value_overflowing};
use calvex_language::error::Result;
use calvex_language::failure::{ErrorGroup, STACK_FIELDS, TYPE_FIELDS, group_of, may_fail, text_of};
use calvex_language::model::{Kind, Severity, Value, decode_value};
use calvex_language::query::{SentName, matching};
use hashbrown::HashMap;
use std::sync::Arc;

/// The row is no failure.
const NONE: u32 = u32::MAX;

/// The failures among the rows of a page.
#[derive(Debug, Default)]
pub struct ErrorGroups {
    /// Each group once.
    pub groups: Vec<ErrorGroup>,
    /// By row, the group.
    of_row: Vec<u32>,
}

impl ErrorGroups {
    /// Of the rows given.
    ///
    /// # Errors
    /// Where a column cannot be read.
    pub fn of(page: &dyn PageRead, rows: &Rows) -> Result<Self> {
        let mut out = ErrorGroups { groups: Vec::new(), of_row: vec![NONE; page.rows()] };
        let severities = page.builtin(BuiltinColumn::Severity)?;
        let fails = |row: &usize| {
            let severity = severities.as_deref().and_then(|column| column.int(*row));
            severity.and_then(|n| u8::try_from(n).ok()).is_some_and(|n| may_fail(Severity(n)))
        };
        let failing: Vec<usize> = rows.iter().filter(fails).collect();
        if !failing.is_empty() {
            out.fill(page, &failing)?;
        }
        Ok(out)
    }

    fn fill(&mut self, page: &dyn PageRead, failing: &[usize]) -> Result<()> {
        let mut wanted = Rows::none(page.rows());
        failing.iter().for_each(|row| wanted.set(*row));
        let errors = Reported::of(page, &TYPE_FIELDS, &wanted)?;
        let stacks = Reported::of(page, &STACK_FIELDS, &wanted)?;
        let kinds = page.builtin(BuiltinColumn::Kind)?;
        let services = page.builtin(BuiltinColumn::Service)?;
        let messages = page.builtin(BuiltinColumn::Message)?;
        let mut known: HashMap<(bool, u32, u32, u32, u32), u32> = HashMap::new();
        let mut by_id: HashMap<String, u32> = HashMap::new();
        let mut message = String::new();
        for row in failing.iter().copied() {
            let is_span = kinds.as_deref().and_then(|c| c.int(row)) == Some(Kind::Span as i64);
            let kind = if is_span { Kind::Span } else { Kind::Log };
            let (service, service_code) = text_at(services.as_deref(), row);
            let (error, stack) = (errors.code(row), stacks.code(row));
            message.clear();
            let mut template = NONE;
            if let Some(column) = messages.as_deref()
                && let Values::Messages(m) = &column.values
                && let Some(value_index) = column.value_index(row)
            {
                m.write(value_index, &mut message)?;
                template = m.codes.get(value_index).copied().unwrap_or(NONE);
            }
            let mut group = || {
                let Some(group) = group_of(kind, service, errors.text(error), stacks.text(stack), &message) else {
                    return NONE;
                };
                let next = self.groups.len() as u32;
                *by_id.entry(group.id.clone()).or_insert_with(|| {
                    self.groups.push(group);
                    next
                })
            };
            // What varies in a message of several lines may be a part of its stack.
            let code = match stack == NONE && message.contains('\n') {
                true => group(),
                false => *known.entry((is_span, service_code, error, stack, template)).or_insert_with(group),
            };
            if let Some(slot) = self.of_row.get_mut(row) {
                *slot = code;
            }
        }
        Ok(())
    }

    /// The number of a row's group among [`ErrorGroups::groups`], where the row is a failure.
    pub fn of_row(&self, row: usize) -> Option<usize> {
        self.of_row.get(row).filter(|code| **code != NONE).map(|code| *code as usize)
    }
}

fn text_at(column: Option<&Column>, row: usize) -> (&str, u32) {
    match column.map(|c| (&c.values, c.value_index(row))) {
        Some((Values::Texts { dictionary, codes }, Some(value_index))) => {
            codes.get(value_index).map_or(("", NONE), |code| (dictionary.get(*code as usize), *code))
        }
        _ => ("", NONE),
    }
}

/// What rows have of the first field of several; of several values of one field, the least.
struct Reported {
    texts: Vec<Arc<str>>,
    of_row: HashMap<usize, u32>,
}

impl Reported {
    fn of(page: &dyn PageRead, names: &[&str], wanted: &Rows) -> Result<Self> {
        let mut reported = Reported { texts: Vec::new(), of_row: HashMap::new() };
        let mut codes: HashMap<Arc<str>, u32> = HashMap::new();
        for name in names {
            let name = SentName::from(*name);
            let mut found: HashMap<usize, Arc<str>> = HashMap::new();
            let mut put = |row: usize, text: Arc<str>| {
                if wanted.has(row) {
                    let least = found.entry(row).or_insert_with(|| text.clone());
                    if text < *least {
                        *least = text;
                    }
                }
            };
            for SentColumn { index, path, kind, .. } in columns_of(page.keys(), &name) {
                if !matches!(kind, FieldType::Text | FieldType::Nested) {
                    continue;
                }
                let Some(column) = page.column(index)? else { continue };
                match &column.values {
                    Values::Texts { dictionary, codes } => {
                        let mut texts: HashMap<u32, Arc<str>> = HashMap::new();
                        for (value_index, code) in codes.iter().enumerate() {
                            let row = column.row(value_index);
                            if wanted.has(row) {
                                let text = texts.entry(*code).or_insert_with(|| dictionary.get(*code as usize).into());
                                put(row, text.clone());
                            }
                        }
                    }
                    Values::Blobs { dictionary, codes } => {
                        for (value_index, code) in codes.iter().enumerate() {
                            let row = column.row(value_index);
                            if !wanted.has(row) {
                                continue;
                            }
                            let Some(value) = decode_value(dictionary.get(*code as usize)) else { continue };
                            for value in matching::descend(path, &value, &name) {
                                if let Some(text) = text_of(value) {
                                    put(row, (&*text).into());
                                }
                            }
                        }
                    }
                    _ => {}
                }
            }
            each_value_overflowing(page, &name, |row, value: &Value| {
                if let Some(text) = text_of(value) {
                    put(row, (&*text).into());
                }
            })?;
            for (row, text) in found.into_iter().filter(|(_, text)| !text.trim().is_empty()) {
                let next = reported.texts.len() as u32;
                let code = *codes.entry(text).or_insert_with_key(|text| {
                    reported.texts.push(text.clone());
                    next
                });
                reported.of_row.entry(row).or_insert(code);
            }
        }
        Ok(reported)
    }

    fn code(&self, row: usize) -> u32 {
        self.of_row.get(&row).copied().unwrap_or(NONE)
    }

    fn text(&self, code: u32) -> Option<&str> {
        self.texts.get(code as usize).map(|text| &**text)
    }
}
