//! OTLP, protobuf and JSON, to raw events: log records and spans.
//!
//! | what the protocol has | where it stands |
//! | --- | --- |
//! | time, severity, ids, a text body; `service.name` and `host.name` of the resource | the event's builtins |
//! | attributes of the record | fields under their own names |
//! | the resource | `resource`: its attributes, `schema_url`, `dropped_attributes_count` |
//! | the scope | `scope`: `name`, `version`, its attributes, `schema_url`, `dropped_attributes_count` |
//! | other parts of a log record | `body`, `severity_text`, `event_name`, `trace_flags`, `observed_unix_ns`, `dropped_attributes_count` |
//! | other parts of a span | `span`, see `traces` |
//! | ids of a wrong length, numbers without a meaning | `otlp`, as they came |
//!
//! An attribute that has the name of one of these parts stands below `attributes`, at the level it was sent, where the
//! protocol has nothing of its own: neither overwrites the other. Of two attributes of one name the last is taken.

mod entries;
mod json;
mod logs;
mod status;
mod traces;
mod walk;

use calvex_intake::batch::{BatchBuilder, Reading};
use calvex_intake::normalise::{Known, RawEvent};
use calvex_language::CoreError;
use calvex_language::model::Refusal;
use calvex_language::model::{Value, to_hex};
use entries::{Entries, placed, value_of};
use json::FromJson;
use opentelemetry_proto::tonic::common::v1::InstrumentationScope;
use opentelemetry_proto::tonic::resource::v1::Resource;
use prost::Message;
use serde::Serialize;
pub use status::OtlpStatus;
use std::borrow::Cow;
use walk::{Above, JsonNames, Raw, Step, walk};

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

    fn other(self) -> Self {
        match self {
            Signal::Logs => Signal::Spans,
            Signal::Spans => Signal::Logs,
        }
    }

    /// That the other signal was sent, and where it belongs.
    fn other_sent(self) -> String {
        match self {
            Signal::Logs => "these are spans; send them to /v1/traces".to_owned(),
            Signal::Spans => "these are log records; send them to /v1/logs".to_owned(),
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
            Step::Scope(above) => {
                shared = above.len();
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
            Step::Scope(above) => shared = Shared::read(above, limits.event_bytes),
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
fn read<T: Message + Default + FromJson>(raw: Raw) -> Result<T, Refusal> {
    let decoded = match raw {
        Raw::Protobuf(bytes) => T::decode(bytes).map_err(|e| e.to_string()),
        Raw::Json(text) => serde_json::from_str(text).map_err(|e| e.to_string()).and_then(T::from_json),
    };
    decoded.map_err(Refusal::NotOtlp)
}

/// A string of a request, as far as it is one.
fn string(raw: Raw) -> String {
    match raw {
        Raw::Protobuf(bytes) => String::from_utf8_lossy(bytes).into_owned(),
        Raw::Json(text) => serde_json::from_str(text).unwrap_or_default(),
    }
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
        match media_type.split(';').next().unwrap_or("").trim().to_ascii_lowercase().as_str() {
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

/// Writes a message; in JSON without what is absent.
pub fn encode<T: Message + Serialize>(answer: &T, encoding: Encoding) -> Vec<u8> {
    match encoding {
        Encoding::Protobuf => answer.encode_to_vec(),
        Encoding::Json => {
            let mut json = serde_json::to_value(answer).unwrap_or_default();
            if let Some(members) = json.as_object_mut() {
                members.retain(|_, value| !value.is_null());
            }
            json.to_string().into_bytes()
        }
    }
}

/// What all records of a resource, and of a scope within it, share.
#[derive(Clone, Default)]
struct Shared {
    service: Option<String>,
    host: Option<String>,
    fields: Vec<(String, Value)>,
}

const SCHEMA: &str = "schema_url";
const DROPPED: &str = "dropped_attributes_count";

impl Shared {
    /// Decodes what the records of a scope share.
    fn read(above: Above, event_bytes: usize) -> Result<Self, Refusal> {
        if above.len() > event_bytes {
            return Err(Refusal::TooLarge(above.len(), event_bytes));
        }
        let mut shared = Shared::default();
        shared.resource(above.resource.map(read).transpose()?.unwrap_or_default(), above.resource_schema);
        shared.scope(above.scope.map(read).transpose()?.unwrap_or_default(), above.scope_schema);
        Ok(shared)
    }

    fn resource(&mut self, resource: Resource, schema: Option<Raw>) {
        let mut entries = placed(resource.attributes, &[SCHEMA, DROPPED]);
        let mut taken = |name: &str| match entries.get(name) {
            Some(Value::Text(text)) if !text.is_empty() => {
                entries.remove(name).and_then(|v| v.as_text().map(str::to_owned))
            }
            _ => None,
        };
        (self.service, self.host) = (taken("service.name"), taken("host.name"));
        entries.text(SCHEMA, schema.map(string).unwrap_or_default());
        entries.count(DROPPED, resource.dropped_attributes_count);
        self.fields.extend(entries.under("resource"));
    }

    fn scope(&mut self, scope: InstrumentationScope, schema: Option<Raw>) {
        let mut entries = Entries::default();
        entries.text("name", scope.name);
        entries.text("version", scope.version);
        entries.extend(placed(scope.attributes, &["name", "version", SCHEMA, DROPPED]));
        entries.text(SCHEMA, schema.map(string).unwrap_or_default());
        entries.count(DROPPED, scope.dropped_attributes_count);
        self.fields.extend(entries.under("scope"));
    }

    fn service(&self) -> Option<Cow<'static, str>> {
        self.service.clone().map(Cow::Owned)
    }

    fn host(&self) -> Option<Cow<'static, str>> {
        self.host.clone().map(Cow::Owned)
    }
}

/// An id that is none of the protocol's, in hexadecimal: of another length. One of zeros means that there is none.
fn odd_id<const N: usize>(bytes: &[u8]) -> String {
    if bytes.len() == N { String::new() } else { to_hex(bytes) }
}

/// An id of `N` bytes; none where it is empty, of another length, or all zero, which the protocol calls invalid.
fn id_of<const N: usize>(bytes: Vec<u8>) -> Option<[u8; N]> {
    bytes.try_into().ok().filter(|id| *id != [0; N])
}

/// A time of the protocol; 0 means that there is none.
fn time_of(unix_nano: u64) -> Option<i64> {
    i64::try_from(unix_nano).ok().filter(|t| *t > 0)
}

#[cfg(test)]
mod tests;
