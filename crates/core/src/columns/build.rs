//! Events to a page of columns.

use super::{Column, ColumnKey, Dictionary, FieldType, Own, Page, Values};
use crate::error::Result;
use crate::event::{Event, Path, Value, encode_value};
use std::collections::HashMap;
use std::hash::BuildHasherDefault;
use xxhash_rust::xxh3::Xxh3Default;

type FastMap<K, V> = HashMap<K, V, BuildHasherDefault<Xxh3Default>>;

/// Reads a text part of an event; empty where it has none.
type TextPart = fn(&Event) -> &str;
/// Reads an id of an event.
type IdPart = fn(&Event) -> Option<&[u8]>;

/// Builds a page; the events must be in (time, id) order and at most [`super::PAGE_ROWS`].
///
/// # Errors
/// Where `events` is empty.
pub fn build_page(events: &[Event]) -> Result<Page> {
    let mut parts = own_columns(events);
    parts.extend(field_columns(events));
    parts.sort_by(|(a, _), (b, _)| a.cmp(b));
    Page::new(events.len(), parts)
}

fn own_columns(events: &[Event]) -> Vec<(ColumnKey, Column)> {
    let mut parts = Vec::with_capacity(16);
    let ints = |own, f: fn(&Event) -> i64| {
        (ColumnKey::Own(own), Column { present: None, values: Values::Ints(events.iter().map(f).collect()) })
    };
    parts.push(ints(Own::Time, |e| e.time_ns));
    parts.push(ints(Own::Arrived, |e| e.arrived_ns));
    parts.push(ints(Own::IdOrigin, |e| i64::from(e.id.node) << 32 | i64::from(e.id.epoch)));
    parts.push(ints(Own::IdSeq, |e| e.id.seq as i64));
    parts.push(ints(Own::IdPlace, |e| i64::from(e.id.place)));
    parts.push(ints(Own::Severity, |e| i64::from(e.severity.0)));
    parts.push(ints(Own::Kind, |e| e.kind as i64));
    let texts: [(Own, TextPart); 5] = [
        (Own::Service, |e| &e.service),
        (Own::Host, |e| &e.host),
        (Own::Sender, |e| &e.sender),
        (Own::Layout, |e| &e.layout),
        (Own::Message, |e| &e.message),
    ];
    for (own, text) in texts {
        let mut column = TextBuilder::default();
        for (row, event) in events.iter().enumerate() {
            if !text(event).is_empty() {
                column.push(row, text(event));
            }
        }
        push_present(&mut parts, own, column.finish(events.len()));
    }
    let ids: [(Own, IdPart); 3] = [
        (Own::Trace, |e| e.trace.as_ref().map(|i| i.as_slice())),
        (Own::Span, |e| e.span.as_ref().map(|i| i.as_slice())),
        (Own::Parent, |e| e.parent.as_ref().map(|i| i.as_slice())),
    ];
    for (own, id) in ids {
        let mut column = BlobBuilder::default();
        for (row, event) in events.iter().enumerate() {
            if let Some(id) = id(event) {
                column.push(row, id.to_vec());
            }
        }
        push_present(&mut parts, own, column.finish(events.len()));
    }
    let sent: Vec<(u32, i64)> =
        events.iter().enumerate().filter_map(|(row, e)| Some((row as u32, e.sent_time_ns?))).collect();
    if !sent.is_empty() {
        let (rows, times): (Vec<u32>, Vec<i64>) = sent.into_iter().unzip();
        parts.push((
            ColumnKey::Own(Own::SentTime),
            Column { present: presence(rows, events.len()), values: Values::Ints(times) },
        ));
    }
    parts
}

fn push_present(parts: &mut Vec<(ColumnKey, Column)>, own: Own, column: Option<Column>) {
    parts.extend(column.map(|c| (ColumnKey::Own(own), c)));
}

/// `None` where every row is there.
fn presence(rows: Vec<u32>, of: usize) -> Option<Vec<u32>> {
    (rows.len() < of).then_some(rows)
}

#[derive(Default)]
struct TextBuilder<'a> {
    rows: Vec<u32>,
    codes: Vec<u32>,
    known: FastMap<&'a str, u32>,
    dictionary: Dictionary<String>,
}

impl<'a> TextBuilder<'a> {
    fn push(&mut self, row: usize, text: &'a str) {
        let next = self.known.len() as u32;
        let dictionary = &mut self.dictionary;
        let code = *self.known.entry(text).or_insert_with(|| {
            dictionary.joined.push_str(text);
            dictionary.ends.push(dictionary.joined.len() as u32);
            next
        });
        self.rows.push(row as u32);
        self.codes.push(code);
    }

    fn finish(self, of: usize) -> Option<Column> {
        let values = Values::Texts { dictionary: self.dictionary, codes: self.codes };
        (!self.rows.is_empty()).then(|| Column { present: presence(self.rows, of), values })
    }
}

#[derive(Default)]
struct BlobBuilder {
    rows: Vec<u32>,
    codes: Vec<u32>,
    known: FastMap<Vec<u8>, u32>,
    dictionary: Dictionary<Vec<u8>>,
}

impl BlobBuilder {
    fn push(&mut self, row: usize, bytes: Vec<u8>) {
        let next = self.known.len() as u32;
        let code = match self.known.get(&bytes) {
            Some(code) => *code,
            None => {
                self.dictionary.joined.extend_from_slice(&bytes);
                self.dictionary.ends.push(self.dictionary.joined.len() as u32);
                self.known.insert(bytes, next);
                next
            }
        };
        self.rows.push(row as u32);
        self.codes.push(code);
    }

    fn finish(self, of: usize) -> Option<Column> {
        let values = Values::Blobs { dictionary: self.dictionary, codes: self.codes };
        (!self.rows.is_empty()).then(|| Column { present: presence(self.rows, of), values })
    }
}

enum FieldBuilder<'a> {
    Null(Vec<u32>),
    Bool(Vec<u32>, Vec<bool>),
    Int(Vec<u32>, Vec<i64>),
    Float(Vec<u32>, Vec<f64>),
    Text(TextBuilder<'a>),
    Nested(BlobBuilder),
}

fn type_of(value: &Value) -> FieldType {
    match value {
        Value::Null => FieldType::Null,
        Value::Bool(_) => FieldType::Bool,
        Value::Int(_) => FieldType::Int,
        Value::UInt(_) => FieldType::UInt,
        Value::Float(_) => FieldType::Float,
        Value::Text(_) => FieldType::Text,
        Value::Bytes(_) | Value::List(_) | Value::Object(_) => FieldType::Nested,
    }
}

impl<'a> FieldBuilder<'a> {
    fn new(kind: FieldType) -> Self {
        match kind {
            FieldType::Null => Self::Null(Vec::new()),
            FieldType::Bool => Self::Bool(Vec::new(), Vec::new()),
            FieldType::Int | FieldType::UInt => Self::Int(Vec::new(), Vec::new()),
            FieldType::Float => Self::Float(Vec::new(), Vec::new()),
            FieldType::Text => Self::Text(TextBuilder::default()),
            FieldType::Nested => Self::Nested(BlobBuilder::default()),
        }
    }

    fn push(&mut self, row: usize, value: &'a Value) {
        match (self, value) {
            (Self::Bool(rows, values), Value::Bool(b)) => {
                rows.push(row as u32);
                values.push(*b);
            }
            (Self::Int(rows, values), Value::Int(n)) => {
                rows.push(row as u32);
                values.push(*n);
            }
            (Self::Int(rows, values), Value::UInt(n)) => {
                rows.push(row as u32);
                values.push(*n as i64);
            }
            (Self::Float(rows, values), Value::Float(f)) => {
                rows.push(row as u32);
                values.push(*f);
            }
            (Self::Text(builder), Value::Text(t)) => builder.push(row, t),
            (Self::Nested(builder), value) => {
                let mut bytes = Vec::new();
                encode_value(value, &mut bytes);
                builder.push(row, bytes);
            }
            (Self::Null(rows), _) => rows.push(row as u32),
            // `type_of` chose the builder by the value; no other pair exists.
            _ => {}
        }
    }

    fn finish(self, of: usize) -> Option<Column> {
        let column = |rows: Vec<u32>, values| Some(Column { present: presence(rows, of), values });
        match self {
            Self::Null(rows) => column(rows, Values::Nulls),
            Self::Bool(rows, v) => column(rows, Values::Bools(v)),
            Self::Int(rows, v) => column(rows, Values::Ints(v)),
            Self::Float(rows, v) => column(rows, Values::Floats(v)),
            Self::Text(builder) => builder.finish(of),
            Self::Nested(builder) => builder.finish(of),
        }
    }
}

fn field_columns(events: &[Event]) -> Vec<(ColumnKey, Column)> {
    let mut index: FastMap<(&str, FieldType), usize> = FastMap::default();
    let mut builders: Vec<(&Path, FieldType, FieldBuilder)> = Vec::new();
    // Events of one kind follow each other's order of fields, so the previous event tells where the next value goes.
    let mut order: Vec<usize> = Vec::new();
    for (row, event) in events.iter().enumerate() {
        for (nth, (path, value)) in event.fields.iter().enumerate() {
            let kind = type_of(value);
            let guess = order.get(nth).copied().filter(|&b| builders[b].1 == kind && builders[b].0 == path);
            let at = guess.unwrap_or_else(|| {
                *index.entry((path.as_str(), kind)).or_insert_with(|| {
                    builders.push((path, kind, FieldBuilder::new(kind)));
                    builders.len() - 1
                })
            });
            if nth < order.len() {
                order[nth] = at;
            } else {
                order.push(at);
            }
            builders[at].2.push(row, value);
        }
    }
    let rows = events.len();
    let finish = |(path, kind, b): (&Path, FieldType, FieldBuilder)| {
        Some((ColumnKey::Field(path.clone(), kind), b.finish(rows)?))
    };
    builders.into_iter().filter_map(finish).collect()
}
