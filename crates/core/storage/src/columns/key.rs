//! What a column holds: a builtin, or the values of one type under one path.

use calvex_language::model::{Path, Value};

/// Builtins as stored columns. The numbers are part of the chunk and journal formats.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[repr(u8)]
#[allow(missing_docs)]
pub enum BuiltinColumn {
    Time = 0,
    Arrived = 1,
    SentTime = 2,
    /// node << 32 | epoch
    IdOrigin = 3,
    IdSeq = 4,
    IdOrdinal = 5,
    Severity = 6,
    Kind = 7,
    Service = 8,
    Host = 9,
    Sender = 10,
    Layout = 11,
    Message = 12,
    Trace = 13,
    Span = 14,
    Parent = 15,
    /// Fields beyond the columns of a page, as one object of stored paths a row.
    Overflow = 16,
    /// Nanoseconds, of spans.
    Took = 17,
    /// Of spans.
    Status = 18,
    /// The names of the transform rules that changed the event, joined by commas.
    Transformed = 19,
}

impl BuiltinColumn {
    /// Every own column in stored order.
    pub const ALL: [BuiltinColumn; 20] = [
        BuiltinColumn::Time,
        BuiltinColumn::Arrived,
        BuiltinColumn::SentTime,
        BuiltinColumn::IdOrigin,
        BuiltinColumn::IdSeq,
        BuiltinColumn::IdOrdinal,
        BuiltinColumn::Severity,
        BuiltinColumn::Kind,
        BuiltinColumn::Service,
        BuiltinColumn::Host,
        BuiltinColumn::Sender,
        BuiltinColumn::Layout,
        BuiltinColumn::Message,
        BuiltinColumn::Trace,
        BuiltinColumn::Span,
        BuiltinColumn::Parent,
        BuiltinColumn::Overflow,
        BuiltinColumn::Took,
        BuiltinColumn::Status,
        BuiltinColumn::Transformed,
    ];

    /// As shown to people.
    pub fn name(self) -> &'static str {
        match self {
            BuiltinColumn::Time => "time",
            BuiltinColumn::Arrived => "arrived",
            BuiltinColumn::SentTime => "sent time",
            BuiltinColumn::IdOrigin => "id: node and epoch",
            BuiltinColumn::IdSeq => "id: journal row",
            BuiltinColumn::IdOrdinal => "id: place",
            BuiltinColumn::Severity => "severity",
            BuiltinColumn::Kind => "kind",
            BuiltinColumn::Service => "service",
            BuiltinColumn::Host => "host",
            BuiltinColumn::Sender => "sender",
            BuiltinColumn::Layout => "layout",
            BuiltinColumn::Message => "message",
            BuiltinColumn::Trace => "trace",
            BuiltinColumn::Span => "span",
            BuiltinColumn::Parent => "parent",
            BuiltinColumn::Overflow => "overflow",
            BuiltinColumn::Took => "took",
            BuiltinColumn::Status => "status",
            BuiltinColumn::Transformed => "transformed",
        }
    }
}

/// The type of a field column. The numbers are part of the chunk and journal formats.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[repr(u8)]
#[allow(missing_docs)]
pub enum FieldType {
    Null = 0,
    Bool = 1,
    Int = 2,
    /// Above `i64::MAX`; the bits of the `u64`.
    UInt = 3,
    Float = 4,
    Text = 5,
    /// Lists, bytes and empty objects, in the binary form of a value.
    Nested = 6,
    /// Numbers beyond all these, as written.
    Decimal = 7,
}

impl FieldType {
    /// Every type in stored order.
    pub const ALL: [FieldType; 8] = [
        FieldType::Null,
        FieldType::Bool,
        FieldType::Int,
        FieldType::UInt,
        FieldType::Float,
        FieldType::Text,
        FieldType::Nested,
        FieldType::Decimal,
    ];

    /// As shown to people.
    pub fn name(self) -> &'static str {
        match self {
            FieldType::Null => "null",
            FieldType::Bool => "bool",
            FieldType::Int | FieldType::UInt => "integer",
            FieldType::Float | FieldType::Decimal => "number",
            FieldType::Text => "text",
            FieldType::Nested => "list",
        }
    }

    /// The type of column a value belongs to.
    pub fn of(value: &Value) -> Self {
        match value {
            Value::Null => FieldType::Null,
            Value::Bool(_) => FieldType::Bool,
            Value::Int(_) => FieldType::Int,
            Value::UInt(_) => FieldType::UInt,
            Value::Float(_) => FieldType::Float,
            Value::Text(_) => FieldType::Text,
            Value::Decimal(_) => FieldType::Decimal,
            Value::Bytes(_) | Value::List(_) | Value::Object(_) => FieldType::Nested,
        }
    }
}

/// What a column holds.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum ColumnKey {
    /// A builtin.
    Builtin(BuiltinColumn),
    /// A field of one type.
    Field(Path, FieldType),
}
