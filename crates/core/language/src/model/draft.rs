//! An event on its way in: parts and fields borrowed from the bytes that came, paths as numbers of one table. A draft
//! becomes a row of a page without ever being an [`Event`](super::Event) of its own.
#![cfg_attr(
    not(test),
    expect(clippy::indexing_slicing, reason = "writes what this process built: numbers that it gave out itself")
)]

use super::{Kind, Path, Severity, SpanId, Status, TraceId, Value};
use crate::json::Scalar;
use hashbrown::HashTable;
use std::borrow::Cow;
use xxhash_rust::xxh3::xxh3_64_with_seed;

/// A path in a [`PathTable`].
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct PathId(pub u32);

struct Node {
    path: Path,
    parent: Option<PathId>,
    /// Its last segment as sent.
    name: String,
    /// Whether the name stands in JSON as it is.
    plain: bool,
}

/// The paths of one batch.
#[derive(Default)]
pub struct PathTable {
    nodes: Vec<Node>,
    table: HashTable<u32>,
}

impl PathTable {
    /// The path `name` below `parent`.
    pub fn child(&mut self, parent: Option<PathId>, name: &str) -> PathId {
        let hash = hash(parent, name);
        let nodes = &self.nodes;
        let is = |n: &u32| nodes[*n as usize].parent == parent && nodes[*n as usize].name == name;
        if let Some(found) = self.table.find(hash, is) {
            return PathId(*found);
        }
        let path = match parent {
            Some(PathId(p)) => self.nodes[p as usize].path.child(name),
            None => Path::root(name),
        };
        let id = self.nodes.len() as u32;
        let plain = !name.bytes().any(|b| matches!(b, b'"' | b'\\' | 0..0x20));
        self.nodes.push(Node { path, parent, name: name.to_owned(), plain });
        let nodes = &self.nodes;
        let again = |n: &u32| self::hash(nodes[*n as usize].parent, &nodes[*n as usize].name);
        self.table.insert_unique(hash, id, again);
        PathId(id)
    }

    /// Whether `id` is `name` below `parent`; quicker than looking it up.
    #[inline]
    pub fn is_child(&self, id: PathId, parent: Option<PathId>, name: &str) -> bool {
        self.nodes.get(id.0 as usize).is_some_and(|n| n.parent == parent && n.name == name)
    }

    /// The last segment of `id`, where it lies below `parent` and stands in JSON as it is.
    #[inline]
    pub fn plain_name(&self, id: PathId, parent: Option<PathId>) -> Option<&str> {
        self.nodes.get(id.0 as usize).filter(|n| n.plain && n.parent == parent).map(|n| n.name.as_str())
    }

    /// The number of a whole path.
    pub fn of_path(&mut self, path: &Path) -> PathId {
        let mut at = None;
        for segment in path.segments() {
            at = Some(self.child(at, &segment));
        }
        at.unwrap_or_else(|| self.child(None, ""))
    }

    /// The path of a number.
    #[inline]
    pub fn path(&self, id: PathId) -> &Path {
        &self.nodes[id.0 as usize].path
    }

    /// How many paths.
    #[inline]
    pub fn len(&self) -> usize {
        self.nodes.len()
    }

    /// Whether it has none.
    pub fn is_empty(&self) -> bool {
        self.nodes.is_empty()
    }
}

fn hash(parent: Option<PathId>, name: &str) -> u64 {
    xxh3_64_with_seed(name.as_bytes(), parent.map_or(u64::MAX, |p| u64::from(p.0)))
}

/// The value of a field, borrowed where it can be.
#[derive(Debug, Clone, PartialEq)]
pub enum Leaf<'a> {
    /// Without parts.
    Scalar(Scalar<'a>),
    /// A list, bytes, or an empty object.
    Nested(Value),
}

impl<'a> Leaf<'a> {
    /// Borrowed from a value that is no object with entries.
    pub fn of(value: &'a Value) -> Self {
        Leaf::Scalar(match value {
            Value::Null => Scalar::Null,
            Value::Bool(b) => Scalar::Bool(*b),
            Value::Int(n) => Scalar::Int(*n),
            Value::UInt(n) => Scalar::UInt(*n),
            Value::Float(f) => Scalar::Float(*f),
            Value::Decimal(t) => Scalar::Decimal(Cow::Borrowed(t)),
            Value::Text(t) => Scalar::Text(Cow::Borrowed(t)),
            Value::Bytes(_) | Value::List(_) | Value::Object(_) => return Leaf::Nested(value.clone()),
        })
    }

    /// Of a value that is no object with entries, taken over.
    pub fn owned(value: Value) -> Self {
        Leaf::Scalar(match value {
            Value::Null => Scalar::Null,
            Value::Bool(b) => Scalar::Bool(b),
            Value::Int(n) => Scalar::Int(n),
            Value::UInt(n) => Scalar::UInt(n),
            Value::Float(f) => Scalar::Float(f),
            Value::Text(t) => Scalar::Text(Cow::Owned(t)),
            Value::Decimal(t) => Scalar::Decimal(Cow::Owned(t)),
            nested @ (Value::Bytes(_) | Value::List(_) | Value::Object(_)) => return Leaf::Nested(nested),
        })
    }

    /// As an owned value.
    pub fn into_value(self) -> Value {
        match self {
            Leaf::Scalar(s) => s.into_value(),
            Leaf::Nested(v) => v,
        }
    }

    /// The text, if it is one.
    #[inline]
    pub fn as_text(&self) -> Option<&Cow<'a, str>> {
        match self {
            Leaf::Scalar(Scalar::Text(t)) => Some(t),
            _ => None,
        }
    }

    /// Bytes of text in it.
    #[inline]
    pub fn text_bytes(&self) -> usize {
        match self {
            Leaf::Scalar(Scalar::Text(t)) => t.len(),
            Leaf::Scalar(_) => 8,
            Leaf::Nested(v) => v.weight_bytes(),
        }
    }
}

/// One event on its way in. The meaning of each part is that of [`Event`](super::Event).
#[derive(Debug, Clone, Default)]
#[allow(missing_docs)]
pub struct Draft<'a> {
    pub time_ns: i64,
    pub arrived_ns: i64,
    pub sent_time_ns: Option<i64>,
    pub kind: Kind,
    pub severity: Severity,
    pub service: Cow<'a, str>,
    pub host: Cow<'a, str>,
    pub message: Cow<'a, str>,
    pub sender: Cow<'a, str>,
    pub trace: Option<TraceId>,
    pub span: Option<SpanId>,
    pub parent: Option<SpanId>,
    pub took_ns: Option<i64>,
    pub status: Option<Status>,
    pub layout: String,
    pub transformed: String,
    pub fields: Vec<(PathId, Leaf<'a>)>,
}

impl Draft<'_> {
    /// A rough size in memory, for budgets.
    pub fn weight_bytes(&self) -> usize {
        160 + self.message.len() + self.fields.iter().map(|(_, l)| 16 + l.text_bytes()).sum::<usize>()
    }
}

impl Draft<'_> {
    /// The event it gives, without an id.
    pub fn into_event(self, paths: &PathTable) -> super::Event {
        super::Event {
            id: super::EventId::default(),
            time_ns: self.time_ns,
            arrived_ns: self.arrived_ns,
            sent_time_ns: self.sent_time_ns,
            kind: self.kind,
            severity: self.severity,
            service: self.service.into_owned(),
            host: self.host.into_owned(),
            message: self.message.into_owned(),
            sender: self.sender.into_owned(),
            trace: self.trace,
            span: self.span,
            parent: self.parent,
            took_ns: self.took_ns,
            status: self.status,
            layout: self.layout,
            transformed: self.transformed,
            fields: self.fields.into_iter().map(|(path, leaf)| (paths.path(path).clone(), leaf.into_value())).collect(),
        }
    }
}

impl super::Event {
    /// The draft that gives this event, its id left out.
    pub fn draft(&self, paths: &mut PathTable) -> Draft<'_> {
        Draft {
            time_ns: self.time_ns,
            arrived_ns: self.arrived_ns,
            sent_time_ns: self.sent_time_ns,
            kind: self.kind,
            severity: self.severity,
            service: Cow::Borrowed(&self.service),
            host: Cow::Borrowed(&self.host),
            message: Cow::Borrowed(&self.message),
            sender: Cow::Borrowed(&self.sender),
            trace: self.trace,
            span: self.span,
            parent: self.parent,
            took_ns: self.took_ns,
            status: self.status,
            layout: self.layout.clone(),
            transformed: self.transformed.clone(),
            fields: self.fields.iter().map(|(path, value)| (paths.of_path(path), Leaf::of(value))).collect(),
        }
    }
}
