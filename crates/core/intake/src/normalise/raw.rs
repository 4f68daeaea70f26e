//! What a decoder hands over: fields borrowed from the bytes that came, and the limits they are read within.

use super::Refusal;
use calvex_language::json::{Next, Reader};
use calvex_language::model::{Kind, Leaf, PathId, PathTable, Severity, SpanId, Status, TraceId, Value};
use std::borrow::Cow;

/// What one event may measure at most.
#[derive(Debug, Clone, Copy)]
pub struct Limits {
    /// Bytes of one event as sent.
    pub event_bytes: usize,
    /// Fields after flattening.
    pub fields: usize,
    /// Levels of objects and lists.
    pub depth: usize,
    /// Bytes of one field name.
    pub name_bytes: usize,
    /// Events of one request.
    pub events: usize,
    /// Rough bytes in memory that the events of one request take.
    pub batch_bytes: usize,
    /// Days that the lane with the longest term keeps; what is older is refused before it is looked at.
    pub keep_days: u32,
}

impl Default for Limits {
    fn default() -> Self {
        Limits {
            event_bytes: 1 << 20,
            fields: 1024,
            depth: 32,
            name_bytes: 512,
            events: 250_000,
            batch_bytes: 64 << 20,
            keep_days: u32::MAX,
        }
    }
}

/// An event as decoded, before anything is made of it.
#[derive(Debug, Clone, Default)]
pub struct RawEvent<'a> {
    /// What was sent, flattened; each path once.
    pub fields: Vec<(PathId, Leaf<'a>)>,
    /// What the protocol itself names; wins over spellings.
    pub known: Known<'a>,
}

/// Parts that a protocol (OTLP) names itself.
#[derive(Debug, Clone, Default)]
#[allow(missing_docs)]
pub struct Known<'a> {
    pub time_ns: Option<i64>,
    pub severity: Option<Severity>,
    pub service: Option<Cow<'a, str>>,
    pub host: Option<Cow<'a, str>>,
    pub message: Option<Cow<'a, str>>,
    pub trace: Option<TraceId>,
    pub span: Option<SpanId>,
    pub parent: Option<SpanId>,
    pub kind: Kind,
    pub took_ns: Option<i64>,
    pub status: Option<Status>,
}

/// Flattens objects to fields. Keeps what it learnt of one event for the next: senders repeat themselves.
#[derive(Default)]
pub struct Flattener {
    /// The path of each name of the last event, in the order met.
    order: Vec<PathId>,
    nth: usize,
    /// By path, the number of the event that last had it.
    met: Vec<u64>,
    event: u64,
    /// Whether a path came twice in this event.
    twice: bool,
}

impl Flattener {
    /// Reads the JSON object that is the whole of `text`.
    ///
    /// # Errors
    /// A [`Refusal`] where it is none or breaks a limit.
    pub fn json<'a>(
        &mut self,
        text: &'a str,
        paths: &mut PathTable,
        limits: &Limits,
    ) -> Result<Vec<(PathId, Leaf<'a>)>, Refusal> {
        let mut reader = Reader::new(text);
        match reader.value()? {
            Next::Object => {}
            Next::List => return Err(Refusal::NotObject("list")),
            Next::Scalar(scalar) => {
                let kind = scalar.into_value().type_name();
                reader.end()?;
                return Err(Refusal::NotObject(kind));
            }
        }
        let mut fields = Vec::with_capacity(self.order.len() + 4);
        self.begin();
        self.object(&mut reader, None, 1, paths, limits, &mut fields)?;
        reader.end()?;
        if self.twice {
            // Two equal names: the last wins, with all that stands below. Rare enough for a tree.
            let Value::Object(entries) = calvex_language::model::parse_value(text)? else {
                return Err(Refusal::NotObject("value"));
            };
            return self.entries(entries, paths, limits);
        }
        Ok(fields)
    }

    /// Flattens entries of which no two have one name.
    ///
    /// # Errors
    /// A [`Refusal`] where they break a limit.
    pub fn entries<'a>(
        &mut self,
        entries: Vec<(String, Value)>,
        paths: &mut PathTable,
        limits: &Limits,
    ) -> Result<Vec<(PathId, Leaf<'a>)>, Refusal> {
        let mut fields = Vec::with_capacity(entries.len());
        self.begin();
        for (name, value) in entries {
            self.entry(&name, value, None, 1, paths, limits, &mut fields)?;
        }
        Ok(fields)
    }

    fn begin(&mut self) {
        self.nth = 0;
        self.twice = false;
        self.event += 1;
    }

    /// The path of `name` below `parent`; first tried as what the last event had at this place.
    fn path(
        &mut self,
        parent: Option<PathId>,
        name: &str,
        paths: &mut PathTable,
        limits: &Limits,
    ) -> Result<PathId, Refusal> {
        if name.len() > limits.name_bytes {
            return Err(Refusal::NameTooLong(name.len(), limits.name_bytes));
        }
        let guess = self.order.get(self.nth).copied().filter(|id| paths.is_child(*id, parent, name));
        let id = guess.unwrap_or_else(|| paths.child(parent, name));
        self.note(id, paths.len());
        Ok(id)
    }

    /// Takes the next name of an object where it is what the last event had at this place.
    fn guessed(
        &mut self,
        reader: &mut Reader,
        first: bool,
        parent: Option<PathId>,
        paths: &PathTable,
    ) -> Option<PathId> {
        let id = *self.order.get(self.nth)?;
        if !reader.name_is(first, paths.plain_name(id, parent)?) {
            return None;
        }
        self.note(id, paths.len());
        Some(id)
    }

    /// Notes the path of the next name of the event; `paths` is how many there are.
    fn note(&mut self, id: PathId, paths: usize) {
        if self.nth < self.order.len() {
            self.order[self.nth] = id;
        } else {
            self.order.push(id);
        }
        self.nth += 1;
        if self.met.len() < paths {
            self.met.resize(paths, 0);
        }
        let met = &mut self.met[id.0 as usize];
        self.twice |= *met == self.event;
        *met = self.event;
    }

    fn object<'a>(
        &mut self,
        reader: &mut Reader<'a>,
        parent: Option<PathId>,
        depth: usize,
        paths: &mut PathTable,
        limits: &Limits,
        out: &mut Vec<(PathId, Leaf<'a>)>,
    ) -> Result<(), Refusal> {
        if depth > limits.depth {
            return Err(Refusal::TooDeep(depth, limits.depth));
        }
        let mut first = true;
        loop {
            let path = match self.guessed(reader, first, parent, paths) {
                Some(path) => path,
                None => match reader.name(first)? {
                    Some(name) => self.path(parent, &name, paths, limits)?,
                    None => return Ok(()),
                },
            };
            first = false;
            let leaf = match reader.value()? {
                Next::Scalar(scalar) => Leaf::Scalar(scalar),
                Next::Object => {
                    let before = out.len();
                    self.object(reader, Some(path), depth + 1, paths, limits, out)?;
                    if out.len() > before {
                        continue;
                    }
                    Leaf::Nested(Value::Object(Vec::new()))
                }
                list @ Next::List => {
                    let value = reader.tree(list, depth)?;
                    let below = depth + value.depth();
                    if below > limits.depth {
                        return Err(Refusal::TooDeep(below, limits.depth));
                    }
                    Leaf::Nested(value)
                }
            };
            out.push((path, leaf));
            if out.len() > limits.fields {
                return Err(Refusal::TooManyFields(out.len(), limits.fields));
            }
        }
    }

    fn entry<'a>(
        &mut self,
        name: &str,
        value: Value,
        parent: Option<PathId>,
        depth: usize,
        paths: &mut PathTable,
        limits: &Limits,
        out: &mut Vec<(PathId, Leaf<'a>)>,
    ) -> Result<(), Refusal> {
        if depth > limits.depth {
            return Err(Refusal::TooDeep(depth, limits.depth));
        }
        let path = self.path(parent, name, paths, limits)?;
        match value {
            Value::Object(entries) if !entries.is_empty() => {
                for (name, value) in entries {
                    self.entry(&name, value, Some(path), depth + 1, paths, limits, out)?;
                }
            }
            leaf => {
                let below = depth + leaf.depth();
                if below > limits.depth {
                    return Err(Refusal::TooDeep(below, limits.depth));
                }
                out.push((path, Leaf::owned(leaf)));
                if out.len() > limits.fields {
                    return Err(Refusal::TooManyFields(out.len(), limits.fields));
                }
            }
        }
        Ok(())
    }
}
