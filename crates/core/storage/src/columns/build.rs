//! Events to a page of columns, row by row.
#![cfg_attr(
    not(test),
    expect(clippy::indexing_slicing, reason = "writes what this process built: numbers that it gave out itself")
)]

use super::column::{Column, Values};
use super::dictionary::{Interner, Joined};
use super::key::{BuiltinColumn, ColumnKey, FieldType};
use super::messages::{Messages, Variables};
use super::{MAX_FIELD_COLUMNS, Page};
use calvex_language::error::Result;
use calvex_language::json::Scalar;
use calvex_language::model::{Draft, Event, Leaf, Path, PathTable, Value, encode_value, template};
use std::sync::Arc;

/// Builds a page of events in their order.
///
/// # Errors
/// Where `events` is empty.
pub fn build_page(events: &[Event]) -> Result<Page> {
    let mut paths = PathTable::default();
    let mut builder = PageBuilder::default();
    let mut ids: [Vec<i64>; 3] = Default::default();
    for event in events {
        let draft = event.draft(&mut paths);
        builder.push(&draft, &paths);
        ids[0].push(i64::from(event.id.node) << 32 | i64::from(event.id.epoch));
        ids[1].push(event.id.seq as i64);
        ids[2].push(i64::from(event.id.ordinal));
    }
    let mut parts = builder.parts(&paths);
    for (own, numbers) in [BuiltinColumn::IdOrigin, BuiltinColumn::IdSeq, BuiltinColumn::IdOrdinal].into_iter().zip(ids)
    {
        parts.push((ColumnKey::Builtin(own), Column { present: None, values: Values::Ints(numbers) }));
    }
    parts.sort_by(|(a, _), (b, _)| a.cmp(b));
    Page::new(events.len(), parts)
}

/// The rows that have a value, as a column keeps them: `None` where every one of `of` has.
pub(super) fn presence(rows: Vec<u32>, of: usize) -> Option<Arc<[u32]>> {
    (rows.len() < of).then(|| rows.into())
}

/// Takes drafts and gives a page whose ids are still to be set.
#[derive(Default)]
pub struct PageBuilder {
    rows: usize,
    weight: usize,
    numbers: [Vec<i64>; 4],
    sparse: [(Vec<u32>, Vec<i64>); 3],
    texts: [Coded<String>; 5],
    ids: [Coded<Vec<u8>>; 3],
    messages: MessageBuilder,
    fields: Vec<(u32, FieldType, FieldBuilder)>,
    /// By path and type, the index in `fields` and one; 0 where there is none.
    slots: Vec<[u32; FieldType::ALL.len()]>,
    overflow: Coded<Vec<u8>>,
    scratch: Vec<u8>,
}

/// BuiltinColumn number columns in the order of `PageBuilder::numbers`.
const NUMBERS: [BuiltinColumn; 4] =
    [BuiltinColumn::Time, BuiltinColumn::Arrived, BuiltinColumn::Severity, BuiltinColumn::Kind];
/// BuiltinColumn number columns that few rows have, in the order of `PageBuilder::sparse`.
const SPARSE: [BuiltinColumn; 3] = [BuiltinColumn::SentTime, BuiltinColumn::Took, BuiltinColumn::Status];
/// BuiltinColumn text columns in the order of `PageBuilder::texts`.
const TEXTS: [BuiltinColumn; 5] = [
    BuiltinColumn::Service,
    BuiltinColumn::Host,
    BuiltinColumn::Sender,
    BuiltinColumn::Layout,
    BuiltinColumn::Transformed,
];
/// BuiltinColumn id columns in the order of `PageBuilder::ids`.
const IDS: [BuiltinColumn; 3] = [BuiltinColumn::Trace, BuiltinColumn::Span, BuiltinColumn::Parent];

impl PageBuilder {
    /// How many rows so far.
    pub fn rows(&self) -> usize {
        self.rows
    }

    /// A rough size of what was taken.
    pub fn weight_bytes(&self) -> usize {
        self.weight
    }

    /// Takes one event, whose fields' paths stand in `paths`; always the same table for one page.
    pub fn push(&mut self, draft: &Draft, paths: &PathTable) {
        let row = self.rows as u32;
        self.rows += 1;
        self.weight += draft.weight_bytes();
        let numbers = [draft.time_ns, draft.arrived_ns, i64::from(draft.severity.0), draft.kind as i64];
        self.numbers.iter_mut().zip(numbers).for_each(|(column, n)| column.push(n));
        let sparse = [draft.sent_time_ns, draft.took_ns, draft.status.map(|s| s as i64)];
        for ((rows, values), n) in self.sparse.iter_mut().zip(sparse) {
            if let Some(n) = n {
                rows.push(row);
                values.push(n);
            }
        }
        let texts: [&str; 5] = [&draft.service, &draft.host, &draft.sender, &draft.layout, &draft.transformed];
        for (column, text) in self.texts.iter_mut().zip(texts) {
            if !text.is_empty() {
                column.push(row, text);
            }
        }
        let ids = [
            draft.trace.as_ref().map(|i| i.as_slice()),
            draft.span.as_ref().map(|i| i.as_slice()),
            draft.parent.as_ref().map(|i| i.as_slice()),
        ];
        for (column, id) in self.ids.iter_mut().zip(ids) {
            if let Some(id) = id {
                column.push(row, id);
            }
        }
        if !draft.message.is_empty() {
            self.messages.push(row, &draft.message);
        }
        self.slots.resize(paths.len(), Default::default());
        let mut beyond: Vec<(String, Value)> = Vec::new();
        for (path, leaf) in &draft.fields {
            let kind = type_of(leaf);
            let slot = &mut self.slots[path.0 as usize][kind as usize];
            if *slot == 0 {
                if self.fields.len() >= MAX_FIELD_COLUMNS {
                    beyond.push((paths.path(*path).as_str().to_owned(), leaf.clone().into_value()));
                    continue;
                }
                self.fields.push((path.0, kind, FieldBuilder::new(kind)));
                *slot = self.fields.len() as u32;
            }
            self.fields[*slot as usize - 1].2.push(row, leaf, &mut self.scratch);
        }
        if !beyond.is_empty() {
            self.scratch.clear();
            encode_value(&Value::Object(beyond), &mut self.scratch);
            self.overflow.push(row, &self.scratch);
        }
    }

    /// The page; its events' ordinals are their rows.
    ///
    /// # Errors
    /// Where no row was taken.
    pub fn finish(self, paths: &PathTable) -> Result<Page> {
        let rows = self.rows;
        let mut parts = self.parts(paths);
        parts.sort_by(|(a, _), (b, _)| a.cmp(b));
        Ok(Page::new(rows, parts)?.with_ordinals())
    }

    fn parts(self, paths: &PathTable) -> Vec<(ColumnKey, Column)> {
        let rows = self.rows;
        let mut parts = Vec::with_capacity(16 + self.fields.len());
        let mut own =
            |own: BuiltinColumn, column: Option<Column>| parts.extend(column.map(|c| (ColumnKey::Builtin(own), c)));
        for (key, numbers) in NUMBERS.into_iter().zip(self.numbers) {
            own(key, Some(Column { present: None, values: Values::Ints(numbers) }));
        }
        for (key, (present, numbers)) in SPARSE.into_iter().zip(self.sparse) {
            let column = Column { present: presence(present, rows), values: Values::Ints(numbers) };
            own(key, (!column.values.is_empty()).then_some(column));
        }
        for (key, texts) in TEXTS.into_iter().zip(self.texts) {
            own(key, texts.column(rows));
        }
        for (key, ids) in IDS.into_iter().zip(self.ids) {
            own(key, ids.column(rows));
        }
        own(BuiltinColumn::Message, self.messages.column(rows));
        own(BuiltinColumn::Overflow, self.overflow.column(rows));
        for (path, kind, builder) in self.fields {
            let path: &Path = paths.path(calvex_language::model::PathId(path));
            parts.push((ColumnKey::Field(path.clone(), kind), builder.column(rows)));
        }
        parts
    }
}

fn type_of(leaf: &Leaf) -> FieldType {
    match leaf {
        Leaf::Nested(_) => FieldType::Nested,
        Leaf::Scalar(s) => match s {
            Scalar::Null => FieldType::Null,
            Scalar::Bool(_) => FieldType::Bool,
            Scalar::Int(_) => FieldType::Int,
            Scalar::UInt(_) => FieldType::UInt,
            Scalar::Float(_) => FieldType::Float,
            Scalar::Decimal(_) => FieldType::Decimal,
            Scalar::Text(_) => FieldType::Text,
        },
    }
}

/// A dictionary column being built.
#[derive(Default)]
pub(super) struct Coded<T> {
    rows: Vec<u32>,
    codes: Vec<u32>,
    interner: Interner<T>,
}

impl<T: Joined> Coded<T> {
    pub(super) fn push(&mut self, row: u32, item: &T::Item) {
        self.rows.push(row);
        self.codes.push(self.interner.code(item));
    }
}

impl Coded<String> {
    pub(super) fn column(self, of: usize) -> Option<Column> {
        let values = Values::Texts { dictionary: self.interner.dictionary, codes: self.codes };
        (!self.rows.is_empty()).then(|| Column { present: presence(self.rows, of), values })
    }
}

impl Coded<Vec<u8>> {
    pub(super) fn column(self, of: usize) -> Option<Column> {
        let values = Values::Blobs { dictionary: self.interner.dictionary, codes: self.codes };
        (!self.rows.is_empty()).then(|| Column { present: presence(self.rows, of), values })
    }
}

/// A message column being built.
#[derive(Default)]
pub(super) struct MessageBuilder {
    rows: Vec<u32>,
    codes: Vec<u32>,
    templates: Interner<String>,
    variables: Variables,
    template: String,
}

impl MessageBuilder {
    pub(super) fn push(&mut self, row: u32, message: &str) {
        self.template.clear();
        let variables = &mut self.variables;
        variables.first.push(variables.ends.len() as u32);
        template::split(message, &mut self.template, |variable| {
            variables.joined.push_str(variable);
            variables.ends.push(variables.joined.len() as u32);
        });
        self.rows.push(row);
        self.codes.push(self.templates.code(&self.template));
    }

    /// The code of a template.
    pub(super) fn template_code(&mut self, template: &str) -> u32 {
        self.templates.code(template)
    }

    /// Takes a message that was split before, its template by its code.
    pub(super) fn push_coded<'a>(&mut self, row: u32, code: u32, parts: impl Iterator<Item = &'a str>) {
        self.variables.first.push(self.variables.ends.len() as u32);
        for variable in parts {
            self.variables.joined.push_str(variable);
            self.variables.ends.push(self.variables.joined.len() as u32);
        }
        self.rows.push(row);
        self.codes.push(code);
    }

    pub(super) fn column(mut self, of: usize) -> Option<Column> {
        self.variables.first.push(self.variables.ends.len() as u32);
        let messages = Messages::new(self.templates.dictionary, self.codes, self.variables);
        (!self.rows.is_empty()).then(|| Column { present: presence(self.rows, of), values: Values::Messages(messages) })
    }
}

enum FieldBuilder {
    Null(Vec<u32>),
    Bool(Vec<u32>, Vec<bool>),
    Int(Vec<u32>, Vec<i64>),
    Float(Vec<u32>, Vec<f64>),
    Text(Coded<String>),
    Nested(Coded<Vec<u8>>),
}

impl FieldBuilder {
    fn new(kind: FieldType) -> Self {
        match kind {
            FieldType::Null => Self::Null(Vec::new()),
            FieldType::Bool => Self::Bool(Vec::new(), Vec::new()),
            FieldType::Int | FieldType::UInt => Self::Int(Vec::new(), Vec::new()),
            FieldType::Float => Self::Float(Vec::new(), Vec::new()),
            FieldType::Text | FieldType::Decimal => Self::Text(Coded::default()),
            FieldType::Nested => Self::Nested(Coded::default()),
        }
    }

    fn push(&mut self, row: u32, leaf: &Leaf, scratch: &mut Vec<u8>) {
        match (self, leaf) {
            (Self::Bool(rows, values), Leaf::Scalar(Scalar::Bool(b))) => {
                rows.push(row);
                values.push(*b);
            }
            (Self::Int(rows, values), Leaf::Scalar(Scalar::Int(n))) => {
                rows.push(row);
                values.push(*n);
            }
            (Self::Int(rows, values), Leaf::Scalar(Scalar::UInt(n))) => {
                rows.push(row);
                values.push(*n as i64);
            }
            (Self::Float(rows, values), Leaf::Scalar(Scalar::Float(f))) => {
                rows.push(row);
                values.push(*f);
            }
            (Self::Text(coded), Leaf::Scalar(Scalar::Text(t))) => coded.push(row, t),
            (Self::Text(coded), Leaf::Scalar(Scalar::Decimal(t))) => coded.push(row, t),
            (Self::Nested(coded), Leaf::Nested(value)) => {
                scratch.clear();
                encode_value(value, scratch);
                coded.push(row, scratch);
            }
            (Self::Null(rows), _) => rows.push(row),
            // `type_of` chose the builder by the leaf; no other pair exists.
            _ => {}
        }
    }

    fn column(self, of: usize) -> Column {
        let empty = |values| Column { present: Some(Arc::from([])), values };
        match self {
            Self::Null(rows) => Column { present: presence(rows, of), values: Values::Nulls },
            Self::Bool(rows, v) => Column { present: presence(rows, of), values: Values::Bools(v) },
            Self::Int(rows, v) => Column { present: presence(rows, of), values: Values::Ints(v) },
            Self::Float(rows, v) => Column { present: presence(rows, of), values: Values::Floats(v) },
            // A builder is made for a value, so there is a column always.
            Self::Text(coded) => coded.column(of).unwrap_or_else(|| empty(Values::Nulls)),
            Self::Nested(coded) => coded.column(of).unwrap_or_else(|| empty(Values::Nulls)),
        }
    }
}
