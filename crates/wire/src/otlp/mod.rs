//! OTLP, protobuf and JSON, to raw events: log records and spans.
//!
//! Attributes become fields under their own names; those of the resource stand below `resource`, the scope below
//! `scope`. `service.name` and `host.name` of the resource become the event's service and host.

pub mod logs;
mod mend;
pub mod traces;

use calvex_core::event::Value;
use opentelemetry_proto::tonic::common::v1::{AnyValue, InstrumentationScope, KeyValue, any_value};
use opentelemetry_proto::tonic::resource::v1::Resource;
use prost::Message;
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::borrow::Cow;

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

/// Reads an export request. JSON that strays from the mapping in ways exporters are known for is mended first.
///
/// # Errors
/// What is wrong with the body; nothing of it can be taken then.
pub fn decode<T: Message + Default + DeserializeOwned>(body: &[u8], encoding: Encoding) -> Result<T, String> {
    match encoding {
        Encoding::Protobuf => T::decode(body).map_err(|e| e.to_string()),
        Encoding::Json => serde_json::from_slice(body).or_else(|_| {
            let json = serde_json::from_slice(body).map_err(|e| e.to_string())?;
            serde_json::from_value(mend::mended(json)).map_err(|e| e.to_string())
        }),
    }
}

/// Writes an answer in the encoding of its request.
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
