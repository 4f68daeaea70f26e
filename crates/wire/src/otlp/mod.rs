//! OTLP, protobuf and JSON, to raw events: log records and spans.
//!
//! Attributes become fields under their own names; those of the resource stand below `resource`, the scope below
//! `scope`. `service.name` and `host.name` of the resource become the event's service and host.

mod logs;
mod mend;
mod traces;
mod walk;

use calvex_core::CoreError;
use calvex_core::batch::{BatchBuilder, Reading};
use calvex_core::event::Value;
use calvex_core::normalise::{Known, RawEvent, Refusal};
use opentelemetry_proto::tonic::common::v1::{AnyValue, InstrumentationScope, KeyValue, any_value};
use opentelemetry_proto::tonic::resource::v1::Resource;
use prost::Message;
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::borrow::Cow;
use walk::{JsonNames, Raw, Step, walk};

/// What an export request carries.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[allow(missing_docs)]
pub enum Signal {
    Logs,
    Spans,
}

impl Signal {
    fn json_names(self) -> JsonNames {
        match self {
            Signal::Logs => JsonNames {
                groups: ["resourceLogs", "resource_logs"],
                scopes: ["scopeLogs", "scope_logs"],
                records: ["logRecords", "log_records"],
            },
            Signal::Spans => JsonNames {
                groups: ["resourceSpans", "resource_spans"],
                scopes: ["scopeSpans", "scope_spans"],
                records: ["spans", "spans"],
            },
        }
    }

    /// The answer to an export request, in the encoding of the request: partial success where some records were
    /// refused, or where there is something to report.
    pub fn answer(self, refused: usize, message: &str, encoding: Encoding) -> Vec<u8> {
        let refused = i64::try_from(refused).unwrap_or(i64::MAX);
        match self {
            Signal::Logs => encode(&logs::answer(refused, message), encoding),
            Signal::Spans => encode(&traces::answer(refused, message), encoding),
        }
    }
}

/// An export request that was walked through, with nothing of it decoded yet.
#[derive(Debug, Clone, Copy)]
pub struct Request<'b> {
    body: &'b [u8],
    encoding: Encoding,
    signal: Signal,
    /// How many records it has.
    pub records: usize,
    /// Bytes of all records, each with the resource and scope that it shares with others.
    pub expanded_bytes: usize,
}

impl<'b> Request<'b> {
    /// Walks through a body.
    ///
    /// # Errors
    /// What is wrong with the body; nothing of it can be taken then.
    pub fn read(body: &'b [u8], encoding: Encoding, signal: Signal) -> Result<Self, String> {
        let (mut records, mut expanded_bytes, mut shared) = (0usize, 0usize, 0);
        walk(body, encoding, signal, &mut |step| match step {
            Step::Scope { resource, scope } => {
                shared = resource.map_or(0, Raw::len) + scope.map_or(0, Raw::len);
                expanded_bytes = expanded_bytes.saturating_add(shared);
            }
            Step::Record(raw) => {
                records += 1;
                expanded_bytes = expanded_bytes.saturating_add(shared + raw.len());
            }
        })?;
        Ok(Request { body, encoding, signal, records, expanded_bytes })
    }

    /// Takes the records into `batch`, numbered from 1. The paths met stand in `reading`, which the batch is finished
    /// with. A record that does not decode or breaks a limit refuses itself.
    ///
    /// # Errors
    /// Only for a defect of the engine.
    pub fn take(&self, batch: &mut BatchBuilder, reading: &mut Reading) -> Result<(), CoreError> {
        let limits = batch.limits();
        let mut shared = Ok(Shared::default());
        let mut number = 0;
        let mut failed = Ok(());
        let walked = walk(self.body, self.encoding, self.signal, &mut |step| match step {
            Step::Scope { resource, scope } => shared = Shared::read(resource, scope, limits.event_bytes),
            Step::Record(raw) => {
                number += 1;
                if failed.is_err() {
                    return;
                }
                let event = shared.as_ref().map_err(Clone::clone).and_then(|shared| {
                    let (known, object) = self.event(raw, shared, limits.event_bytes)?;
                    let fields = reading.flattener.entries(object, &mut reading.paths, &limits)?;
                    Ok(RawEvent { fields, known })
                });
                failed = batch.push(number, event, reading);
            }
        });
        // A body that was walked through once has no other mistakes the second time.
        walked.map_err(|e| CoreError::damaged("an export request", e))?;
        failed
    }

    fn event(&self, raw: Raw, shared: &Shared, event_bytes: usize) -> Result<EventParts, Refusal> {
        if raw.len() > event_bytes {
            return Err(Refusal::TooLarge(raw.len(), event_bytes));
        }
        Ok(match self.signal {
            Signal::Logs => logs::raw_event(read(raw)?, shared),
            Signal::Spans => traces::raw_event(read(raw)?, shared),
        })
    }
}

/// An event's known parts, and all else as an object.
type EventParts = (Known<'static>, Vec<(String, Value)>);

/// Decodes one message of a request.
fn read<T: Message + Default + DeserializeOwned>(raw: Raw) -> Result<T, Refusal> {
    let decoded = match raw {
        Raw::Protobuf(bytes) => decode(bytes, Encoding::Protobuf),
        Raw::Json(text) => decode(text.as_bytes(), Encoding::Json),
    };
    decoded.map_err(Refusal::NotOtlp)
}

/// The two encodings of OTLP over HTTP.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[allow(missing_docs)]
pub enum Encoding {
    Protobuf,
    Json,
}

impl Encoding {
    /// From a media type.
    pub fn from_media_type(media_type: &str) -> Option<Self> {
        match media_type.split(';').next().unwrap_or("").trim() {
            "application/x-protobuf" => Some(Encoding::Protobuf),
            "application/json" => Some(Encoding::Json),
            _ => None,
        }
    }

    /// As sent back.
    pub fn media_type(self) -> &'static str {
        match self {
            Encoding::Protobuf => "application/x-protobuf",
            Encoding::Json => "application/json",
        }
    }
}

/// Decodes a message. JSON that strays from the mapping in ways exporters are known for is mended first.
///
/// # Errors
/// What is wrong with the bytes.
pub(crate) fn decode<T: Message + Default + DeserializeOwned>(body: &[u8], encoding: Encoding) -> Result<T, String> {
    match encoding {
        Encoding::Protobuf => T::decode(body).map_err(|e| e.to_string()),
        Encoding::Json => serde_json::from_slice(body).or_else(|_| {
            let json = serde_json::from_slice(body).map_err(|e| e.to_string())?;
            serde_json::from_value(mend::mended(json)).map_err(|e| e.to_string())
        }),
    }
}

/// Writes a message.
pub fn encode<T: Message + Serialize>(answer: &T, encoding: Encoding) -> Vec<u8> {
    match encoding {
        Encoding::Protobuf => answer.encode_to_vec(),
        Encoding::Json => serde_json::to_vec(answer).unwrap_or_else(|_| b"{}".to_vec()),
    }
}

/// What all records of a resource, and of a scope within it, share.
#[derive(Clone, Default)]
struct Shared {
    service: Option<String>,
    host: Option<String>,
    fields: Vec<(String, Value)>,
}

impl Shared {
    /// Decodes what the records of a scope share.
    fn read(resource: Option<Raw>, scope: Option<Raw>, event_bytes: usize) -> Result<Self, Refusal> {
        let bytes = resource.map_or(0, Raw::len) + scope.map_or(0, Raw::len);
        if bytes > event_bytes {
            return Err(Refusal::TooLarge(bytes, event_bytes));
        }
        Ok(Shared::of(resource.map(read).transpose()?).with_scope(scope.map(read).transpose()?))
    }

    fn of(resource: Option<Resource>) -> Self {
        let mut shared = Shared::default();
        let mut rest = Vec::new();
        for attribute in resource.unwrap_or_default().attributes {
            let (name, value) = pair(attribute);
            match (name.as_str(), value) {
                ("service.name", Value::Text(t)) if !t.is_empty() => shared.service = Some(t),
                ("host.name", Value::Text(t)) if !t.is_empty() => shared.host = Some(t),
                (_, value) => rest.push((name, value)),
            }
        }
        if !rest.is_empty() {
            shared.fields.push(("resource".to_owned(), Value::Object(rest)));
        }
        shared
    }

    fn with_scope(&self, scope: Option<InstrumentationScope>) -> Self {
        let mut shared = self.clone();
        shared.fields.extend(scope.and_then(scope_fields));
        shared
    }

    fn service(&self) -> Option<Cow<'static, str>> {
        self.service.clone().map(Cow::Owned)
    }

    fn host(&self) -> Option<Cow<'static, str>> {
        self.host.clone().map(Cow::Owned)
    }

    /// The attributes of a record and what it shares; its own win.
    fn object(&self, attributes: Vec<KeyValue>) -> Vec<(String, Value)> {
        let mut object = Vec::with_capacity(self.fields.len() + attributes.len() + 4);
        for attribute in attributes {
            let (name, value) = pair(attribute);
            Value::set(&mut object, name, value);
        }
        for (name, value) in &self.fields {
            if !object.iter().any(|(n, _)| n == name) {
                object.push((name.clone(), value.clone()));
            }
        }
        object
    }
}

fn scope_fields(scope: InstrumentationScope) -> Option<(String, Value)> {
    let mut entries = Vec::new();
    let mut text = |name: &str, text: String| {
        if !text.is_empty() {
            entries.push((name.to_owned(), Value::Text(text)));
        }
    };
    text("name", scope.name);
    text("version", scope.version);
    entries.extend(scope.attributes.into_iter().map(pair));
    (!entries.is_empty()).then(|| ("scope".to_owned(), Value::Object(entries)))
}

/// An id of `N` bytes; none where it is empty, of another length, or all zero, which the protocol calls invalid.
fn id_of<const N: usize>(bytes: Vec<u8>) -> Option<[u8; N]> {
    bytes.try_into().ok().filter(|id| *id != [0; N])
}

/// A time of the protocol; 0 means that there is none.
fn time_of(unix_nano: u64) -> Option<i64> {
    i64::try_from(unix_nano).ok().filter(|t| *t > 0)
}

fn pair(attribute: KeyValue) -> (String, Value) {
    (attribute.key, value_of(attribute.value.and_then(|v| v.value)))
}

fn value_of(value: Option<any_value::Value>) -> Value {
    let inner = |v: AnyValue| value_of(v.value);
    match value {
        Some(any_value::Value::StringValue(t)) => Value::Text(t),
        Some(any_value::Value::BoolValue(b)) => Value::Bool(b),
        Some(any_value::Value::IntValue(n)) => Value::Int(n),
        Some(any_value::Value::DoubleValue(f)) => Value::Float(f),
        Some(any_value::Value::BytesValue(b)) => Value::Bytes(b),
        Some(any_value::Value::ArrayValue(list)) => Value::List(list.values.into_iter().map(inner).collect()),
        Some(any_value::Value::KvlistValue(list)) => {
            let mut object = Vec::with_capacity(list.values.len());
            for attribute in list.values {
                let (name, value) = pair(attribute);
                Value::set(&mut object, name, value);
            }
            Value::Object(object)
        }
        _ => Value::Null,
    }
}
