//! The act of masking: what is found in an event's texts is covered, in builtins, fields and lists alike.

use super::rule::Masking;
use calvex_language::error::Result;
use calvex_language::model::mask::{COVER, Detector, cover, cover_matches};
use calvex_language::model::{Event, Value, decode_value};
use calvex_storage::columns::{BuiltinColumn, ColumnKey, FieldType, PageRead, Rows, Values};
use regex::Regex;

/// What stands before a keyed hash; with it, the hash is one word to search for.
const HASHED: &str = "masked_";

/// A mask, read.
#[derive(Debug)]
pub(super) struct Mask {
    fields: Vec<String>,
    expressions: Vec<Regex>,
    detectors: Vec<Detector>,
    with: String,
    /// Keys the hash, where one is written.
    secret: Option<[u8; 32]>,
    /// For samples of what could not be decoded: the value behind each masked field's last name, quoted or not.
    named: Vec<Regex>,
}

/// The text of a builtin that is text.
pub(super) fn own_text<'e>(event: &'e Event, name: &str) -> Option<&'e String> {
    match name {
        "message" => Some(&event.message),
        "service" => Some(&event.service),
        "host" => Some(&event.host),
        _ => None,
    }
}

/// The same, to be changed.
pub(super) fn own_text_mut<'e>(event: &'e mut Event, name: &str) -> Option<&'e mut String> {
    match name {
        "message" => Some(&mut event.message),
        "service" => Some(&mut event.service),
        "host" => Some(&mut event.host),
        _ => None,
    }
}

impl Mask {
    pub(super) fn new(masking: &Masking, expressions: Vec<Regex>, secret: [u8; 32]) -> Self {
        let last = |field: &String| regex::escape(field.rsplit('.').next().unwrap_or(field));
        let named = |field: &String| {
            Regex::new(&format!(r#"{}["']?\s*[:=]\s*(?<s>"(?:[^"\\]|\\.)*"?|'[^']*'?|[^\s,;&}}\]]+)"#, last(field)))
                .ok()
        };
        Mask {
            named: masking.fields.iter().filter_map(named).collect(),
            fields: masking.fields.clone(),
            expressions,
            detectors: masking.detectors.clone(),
            with: masking.with.clone().unwrap_or_else(|| COVER.to_owned()),
            secret: masking.hash.then_some(secret),
        }
    }

    fn whole(&self) -> bool {
        self.expressions.is_empty() && self.detectors.is_empty()
    }

    /// What is written in the place of a secret.
    fn instead(&self, secret: &str) -> String {
        // What is covered already stays: a mask that runs over the mark of another must not hide that they were equal.
        if secret == self.with || secret.starts_with(HASHED) {
            return secret.to_owned();
        }
        match &self.secret {
            Some(key) => {
                let hash = blake3::keyed_hash(key, secret.as_bytes());
                let short: String = hash.as_bytes().iter().take(8).map(|b| format!("{b:02x}")).collect();
                format!("{HASHED}{short}")
            }
            None => self.with.clone(),
        }
    }

    /// The text with what is found in it covered; `None` where nothing is.
    fn covered(&self, text: &str) -> Option<String> {
        if text.is_empty() {
            return None;
        }
        if self.whole() {
            return Some(self.instead(text)).filter(|t| t != text);
        }
        self.found_covered(text)
    }

    fn found_covered(&self, text: &str) -> Option<String> {
        let instead = |secret: &str| self.instead(secret);
        let mut out = match cover(text, &self.detectors, &instead) {
            std::borrow::Cow::Owned(covered) => Some(covered),
            std::borrow::Cow::Borrowed(_) => None,
        };
        for expression in &self.expressions {
            if let Some(covered) = cover_matches(out.as_deref().unwrap_or(text), expression, &instead) {
                out = Some(covered);
            }
        }
        out.filter(|t| t != text)
    }

    fn looks_at(&self, dotted: &str) -> bool {
        self.fields.is_empty() || self.fields.iter().any(|f| calvex_language::query::matching::at_or_below(dotted, f))
    }

    /// Covers a value and all in it; true where that changed it. A number or such is covered as a whole only.
    fn cover_value(&self, value: &mut Value) -> bool {
        match value {
            Value::Text(text) => match self.covered(text) {
                Some(covered) => {
                    *text = covered;
                    true
                }
                None => false,
            },
            Value::List(list) => list.iter_mut().fold(false, |changed, v| self.cover_value(v) | changed),
            Value::Object(entries) => entries.iter_mut().fold(false, |changed, (_, v)| self.cover_value(v) | changed),
            Value::Null => false,
            Value::Bool(_) | Value::Int(_) | Value::UInt(_) | Value::Float(_) | Value::Decimal(_) | Value::Bytes(_) => {
                let reported = serde_json::to_string(value).unwrap_or_default();
                let covered = match value {
                    // The form in JSON has quotes that are not of the value.
                    Value::Bytes(_) => self.covered(reported.trim_matches('"')),
                    _ => self.covered(&reported),
                };
                match covered {
                    Some(covered) => {
                        *value = Value::Text(covered);
                        true
                    }
                    None => false,
                }
            }
        }
    }

    /// Covers what is found in an event; true where that changed it.
    pub(super) fn apply(&self, event: &mut Event) -> bool {
        let mut changed = false;
        for name in ["message", "service", "host"] {
            if !self.looks_at(name) {
                continue;
            }
            if let Some(text) = own_text_mut(event, name)
                && let Some(covered) = self.covered(text)
            {
                *text = covered;
                changed = true;
            }
        }
        for (path, value) in &mut event.fields {
            if self.looks_at(&path.dotted()) {
                changed |= self.cover_value(value);
            } else if let Value::List(_) = value {
                // A field named below a list of objects: those entries of each.
                for field in &self.fields {
                    if let Some(rest) = field.strip_prefix(path.dotted().as_str()).and_then(|r| r.strip_prefix('.')) {
                        changed |= self.cover_below(value, rest);
                    }
                }
            }
        }
        changed
    }

    fn cover_below(&self, value: &mut Value, rest: &str) -> bool {
        match value {
            Value::List(list) => list.iter_mut().fold(false, |changed, v| self.cover_below(v, rest) | changed),
            Value::Object(entries) => entries.iter_mut().fold(false, |changed, (name, inner)| {
                if name == rest {
                    self.cover_value(inner) | changed
                } else if let Some(deeper) = rest.strip_prefix(name.as_str()).and_then(|r| r.strip_prefix('.')) {
                    self.cover_below(inner, deeper) | changed
                } else {
                    changed
                }
            }),
            _ => false,
        }
    }

    /// The rows in which something would be covered: each distinct text is tried once. Never too few.
    pub(super) fn found(&self, page: &dyn PageRead) -> Result<Rows> {
        let mut rows = Rows::none(page.rows());
        for (index, key) in page.keys().iter().enumerate() {
            let looked_at = match key {
                ColumnKey::Builtin(own @ (BuiltinColumn::Message | BuiltinColumn::Service | BuiltinColumn::Host)) => {
                    self.looks_at(own.name())
                }
                ColumnKey::Builtin(BuiltinColumn::Overflow) => true,
                ColumnKey::Builtin(_) => false,
                ColumnKey::Field(path, kind) => {
                    let dotted = path.dotted();
                    let below = |f: &String| calvex_language::query::matching::at_or_below(f, &dotted);
                    self.looks_at(&dotted) || *kind == FieldType::Nested && self.fields.iter().any(below)
                }
            };
            if !looked_at {
                continue;
            }
            let Some(column) = page.column(index)? else { continue };
            let mut by_code = |codes: &[u32], verdicts: Vec<bool>| {
                for (value_index, code) in codes.iter().enumerate() {
                    if verdicts.get(*code as usize) == Some(&true) {
                        rows.set(column.row(value_index));
                    }
                }
            };
            match &column.values {
                Values::Texts { dictionary, codes } => {
                    by_code(codes, dictionary.iter().map(|text| self.covered(text).is_some()).collect());
                }
                Values::Blobs { dictionary, codes } => {
                    // Lists, bytes and overflow are looked into only when they are events again.
                    by_code(codes, dictionary.iter().map(|blob| decode_value(blob).is_some()).collect());
                }
                Values::Messages(messages) => {
                    let mut text = String::new();
                    for value_index in 0..messages.codes.len() {
                        text.clear();
                        messages.write(value_index, &mut text)?;
                        if self.covered(&text).is_some() {
                            rows.set(column.row(value_index));
                        }
                    }
                }
                // Numbers and such: card numbers come as integers too.
                values => {
                    let value_indexes = values.len().unwrap_or(0);
                    for value_index in 0..value_indexes {
                        let ColumnKey::Field(_, kind) = key else { continue };
                        let value = calvex_storage::columns::field_value(*kind, values, value_index)?;
                        let reported = serde_json::to_string(&value).unwrap_or_default();
                        if self.whole() || self.covered(&reported).is_some() {
                            rows.set(column.row(value_index));
                        }
                    }
                }
            }
        }
        Ok(rows)
    }

    /// What may be shown of text that did not become an event; `None` where nothing is found.
    pub(super) fn cover_sample(&self, text: &str) -> Option<String> {
        let mut out = self.found_covered(text);
        if self.whole() {
            for form in &self.named {
                let instead = |_: &str| self.with.clone();
                if let Some(covered) = cover_matches(out.as_deref().unwrap_or(text), form, &instead) {
                    out = Some(covered);
                }
            }
        }
        out
    }
}
