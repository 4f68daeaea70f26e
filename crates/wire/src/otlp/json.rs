//! OTLP in JSON, as proto3's JSON mapping and OTLP allow it and as exporters really write it.
//!
//! | what | taken |
//! | --- | --- |
//! | names | camel and snake case; others are passed over |
//! | absent, `null` | the default of its type, in lists of values an empty one |
//! | integers | numbers and texts; a fraction or exponent that means a whole number |
//! | doubles | numbers, texts of them, `"NaN"`, `"Infinity"`, `"-Infinity"` |
//! | enumerations | numbers, texts of them, and names |
//! | ids | hexadecimal (OTLP), and base64 (proto3) where it has the id's length |
//! | bytes | base64, standard or URL-safe, padded or not |

use base64::Engine;
use base64::alphabet::{STANDARD, URL_SAFE};
use base64::engine::general_purpose::GeneralPurpose;
use base64::engine::{DecodePaddingMode, GeneralPurposeConfig};
use opentelemetry_proto::tonic::common::v1::{
    AnyValue, ArrayValue, InstrumentationScope, KeyValue, KeyValueList, any_value::Value as Any,
};
use opentelemetry_proto::tonic::logs::v1::LogRecord;
use opentelemetry_proto::tonic::resource::v1::Resource;
use opentelemetry_proto::tonic::trace::v1::{Span, Status, span};
use serde_json::{Map, Value};

type Result<T> = std::result::Result<T, String>;

/// A message that JSON is read to.
pub(super) trait FromJson: Sized {
    /// Reads an object.
    ///
    /// # Errors
    /// Which member is at fault, and why.
    fn from_json(json: Value) -> Result<Self>;
}

/// The members of an object, taken out one by one.
struct Object(Map<String, Value>);

impl Object {
    fn of(json: Value) -> Result<Self> {
        match json {
            Value::Object(members) => Ok(Object(members)),
            other => Err(format!("{} stands where an object belongs", kind_of(&other))),
        }
    }

    /// A member by its camel-case name, or the same in snake case; a null counts as absent.
    fn take(&mut self, name: &str) -> Option<Value> {
        let found = self.0.remove(name).or_else(|| self.0.remove(&snake(name)));
        found.filter(|v| !v.is_null())
    }

    /// A member read by `read`, or the default.
    fn read<T: Default>(&mut self, name: &str, read: impl FnOnce(Value) -> Result<T>) -> Result<T> {
        self.take(name).map_or_else(|| Ok(T::default()), |json| read(json).map_err(|e| format!("{name}: {e}")))
    }

    /// A member that is a list.
    fn list<T>(&mut self, name: &str, read: impl Fn(Value) -> Result<T>) -> Result<Vec<T>> {
        self.read(name, |json| match json {
            Value::Array(list) => list.into_iter().map(&read).collect(),
            other => Err(format!("{} stands where a list belongs", kind_of(&other))),
        })
    }

    fn attributes(&mut self) -> Result<Vec<KeyValue>> {
        self.list("attributes", key_value)
    }
}

fn snake(name: &str) -> String {
    let mut out = String::with_capacity(name.len() + 4);
    for c in name.chars() {
        if c.is_ascii_uppercase() {
            out.push('_');
        }
        out.push(c.to_ascii_lowercase());
    }
    out
}

fn kind_of(json: &Value) -> &'static str {
    match json {
        Value::Null => "null",
        Value::Bool(_) => "a truth value",
        Value::Number(_) => "a number",
        Value::String(_) => "a text",
        Value::Array(_) => "a list",
        Value::Object(_) => "an object",
    }
}

fn text(json: Value) -> Result<String> {
    match json {
        Value::String(text) => Ok(text),
        other => Err(format!("{} stands where a text belongs", kind_of(&other))),
    }
}

fn truth(json: Value) -> Result<bool> {
    match json {
        Value::Bool(truth) => Ok(truth),
        other => Err(format!("{} stands where true or false belongs", kind_of(&other))),
    }
}

/// A whole number, as a number or a text of one.
fn whole(json: &Value) -> Result<i128> {
    let written = match json {
        Value::Number(n) => n.to_string(),
        Value::String(text) => text.clone(),
        other => return Err(format!("{} stands where a number belongs", kind_of(other))),
    };
    if let Ok(n) = written.parse::<i128>() {
        return Ok(n);
    }
    // The mapping takes 1e3 and 5.0 for whole numbers.
    match written.parse::<f64>() {
        Ok(f) if f.is_finite() && f.fract() == 0.0 && f.abs() < 2f64.powi(64) => Ok(f as i128),
        _ => Err(format!("`{written}` is no whole number")),
    }
}

fn integer<T: TryFrom<i128>>(json: Value) -> Result<T> {
    let n = whole(&json)?;
    T::try_from(n).map_err(|_| format!("{n} is beyond what fits here"))
}

fn double(json: Value) -> Result<f64> {
    match &json {
        Value::Number(n) => n.as_f64().ok_or_else(|| format!("`{n}` is no double")),
        Value::String(text) => match text.as_str() {
            "NaN" => Ok(f64::NAN),
            "Infinity" => Ok(f64::INFINITY),
            "-Infinity" => Ok(f64::NEG_INFINITY),
            other => {
                other.parse().ok().filter(|f: &f64| f.is_finite()).ok_or_else(|| format!("`{other}` is no number"))
            }
        },
        other => Err(format!("{} stands where a number belongs", kind_of(other))),
    }
}

/// An enumeration: a number, or the name of a value behind `prefix`.
fn enumerated(json: Value, prefix: &str, names: &[&str]) -> Result<i32> {
    if let Value::String(text) = &json
        && let Some(at) = names.iter().position(|name| text.strip_prefix(prefix) == Some(name))
    {
        return Ok(at as i32);
    }
    integer(json)
}

fn severity_number(json: Value) -> Result<i32> {
    const STEPS: [&str; 6] = ["TRACE", "DEBUG", "INFO", "WARN", "ERROR", "FATAL"];
    let Some(name) = json.as_str().and_then(|t| t.strip_prefix("SEVERITY_NUMBER_")) else { return integer(json) };
    if name == "UNSPECIFIED" {
        return Ok(0);
    }
    let step = STEPS.iter().enumerate().find_map(|(n, step)| Some((n as i32, name.strip_prefix(step)?)));
    let within = |digit: &str| match digit {
        "" => Some(1),
        "2" => Some(2),
        "3" => Some(3),
        "4" => Some(4),
        _ => None,
    };
    let number = step.and_then(|(step, digit)| Some(step * 4 + within(digit)?));
    number.ok_or_else(|| format!("`{name}` is no severity"))
}

/// Bytes in base64 of either alphabet, padded or not.
fn bytes(json: Value) -> Result<Vec<u8>> {
    const LOOSE: GeneralPurposeConfig = GeneralPurposeConfig::new()
        .with_decode_padding_mode(DecodePaddingMode::Indifferent)
        .with_decode_allow_trailing_bits(true);
    let text = text(json)?;
    let url_safe = text.bytes().any(|b| b == b'-' || b == b'_');
    let alphabet = if url_safe { &URL_SAFE } else { &STANDARD };
    GeneralPurpose::new(alphabet, LOOSE).decode(&text).map_err(|e| format!("the text is not base64: {e}"))
}

/// An id of so many bytes: hexadecimal, else base64 of that length.
fn id(json: Value, length: usize) -> Result<Vec<u8>> {
    let text = text(json)?;
    let from_hex = |pair: &[u8]| std::str::from_utf8(pair).ok().and_then(|p| u8::from_str_radix(p, 16).ok());
    let hex: Option<Vec<u8>> = match text.len() % 2 {
        0 if text.bytes().all(|b| b.is_ascii_hexdigit()) => text.as_bytes().chunks(2).map(from_hex).collect(),
        _ => None,
    };
    match hex {
        // A base64 of 16 bytes has 24 characters, which as hexadecimal were 12 bytes.
        Some(id) if id.len() == length || text.len() != length.div_ceil(3) * 4 => Ok(id),
        hex => match bytes(Value::String(text.clone())).ok().filter(|id| id.len() == length).or(hex) {
            Some(id) => Ok(id),
            None => Err(format!("`{text}` is neither hexadecimal nor base64")),
        },
    }
}

fn any_value(json: Value) -> Result<AnyValue> {
    let mut members = Object::of(json)?;
    let mut take = |name: &str| members.take(name);
    let value = if let Some(json) = take("stringValue") {
        Some(Any::StringValue(text(json)?))
    } else if let Some(json) = take("boolValue") {
        Some(Any::BoolValue(truth(json)?))
    } else if let Some(json) = take("intValue") {
        Some(Any::IntValue(integer(json)?))
    } else if let Some(json) = take("doubleValue") {
        Some(Any::DoubleValue(double(json)?))
    } else if let Some(json) = take("arrayValue") {
        // A null in a list is an empty value, not an absent one.
        let inner = |json: Value| if json.is_null() { Ok(AnyValue::default()) } else { any_value(json) };
        Some(Any::ArrayValue(ArrayValue { values: Object::of(json)?.list("values", inner)? }))
    } else if let Some(json) = take("kvlistValue") {
        Some(Any::KvlistValue(KeyValueList { values: Object::of(json)?.list("values", key_value)? }))
    } else if let Some(json) = take("bytesValue") {
        Some(Any::BytesValue(bytes(json)?))
    } else {
        None
    };
    Ok(AnyValue { value })
}

fn key_value(json: Value) -> Result<KeyValue> {
    let mut members = Object::of(json)?;
    let key = members.read("key", text)?;
    let value = members.take("value").map(any_value).transpose().map_err(|e| format!("`{key}`: {e}"))?;
    Ok(KeyValue { key, value, ..KeyValue::default() })
}

impl FromJson for Resource {
    fn from_json(json: Value) -> Result<Self> {
        let mut members = Object::of(json)?;
        Ok(Resource {
            attributes: members.attributes()?,
            dropped_attributes_count: members.read("droppedAttributesCount", integer)?,
            ..Resource::default()
        })
    }
}

impl FromJson for InstrumentationScope {
    fn from_json(json: Value) -> Result<Self> {
        let mut members = Object::of(json)?;
        Ok(InstrumentationScope {
            name: members.read("name", text)?,
            version: members.read("version", text)?,
            attributes: members.attributes()?,
            dropped_attributes_count: members.read("droppedAttributesCount", integer)?,
        })
    }
}

impl FromJson for LogRecord {
    fn from_json(json: Value) -> Result<Self> {
        let mut members = Object::of(json)?;
        Ok(LogRecord {
            time_unix_nano: members.read("timeUnixNano", integer)?,
            observed_time_unix_nano: members.read("observedTimeUnixNano", integer)?,
            severity_number: members.read("severityNumber", severity_number)?,
            severity_text: members.read("severityText", text)?,
            body: members.take("body").map(any_value).transpose().map_err(|e| format!("body: {e}"))?,
            attributes: members.attributes()?,
            dropped_attributes_count: members.read("droppedAttributesCount", integer)?,
            flags: members.read("flags", integer)?,
            trace_id: members.read("traceId", |json| id(json, 16))?,
            span_id: members.read("spanId", |json| id(json, 8))?,
            event_name: members.read("eventName", text)?,
        })
    }
}

fn span_event(json: Value) -> Result<span::Event> {
    let mut members = Object::of(json)?;
    Ok(span::Event {
        time_unix_nano: members.read("timeUnixNano", integer)?,
        name: members.read("name", text)?,
        attributes: members.attributes()?,
        dropped_attributes_count: members.read("droppedAttributesCount", integer)?,
    })
}

fn link(json: Value) -> Result<span::Link> {
    let mut members = Object::of(json)?;
    Ok(span::Link {
        trace_id: members.read("traceId", |json| id(json, 16))?,
        span_id: members.read("spanId", |json| id(json, 8))?,
        trace_state: members.read("traceState", text)?,
        attributes: members.attributes()?,
        dropped_attributes_count: members.read("droppedAttributesCount", integer)?,
        flags: members.read("flags", integer)?,
    })
}

fn status(json: Value) -> Result<Status> {
    const CODES: [&str; 3] = ["UNSET", "OK", "ERROR"];
    let mut members = Object::of(json)?;
    Ok(Status {
        message: members.read("message", text)?,
        code: members.read("code", |json| enumerated(json, "STATUS_CODE_", &CODES))?,
    })
}

impl FromJson for Span {
    fn from_json(json: Value) -> Result<Self> {
        const KINDS: [&str; 6] = ["UNSPECIFIED", "INTERNAL", "SERVER", "CLIENT", "PRODUCER", "CONSUMER"];
        let mut members = Object::of(json)?;
        Ok(Span {
            trace_id: members.read("traceId", |json| id(json, 16))?,
            span_id: members.read("spanId", |json| id(json, 8))?,
            trace_state: members.read("traceState", text)?,
            parent_span_id: members.read("parentSpanId", |json| id(json, 8))?,
            flags: members.read("flags", integer)?,
            name: members.read("name", text)?,
            kind: members.read("kind", |json| enumerated(json, "SPAN_KIND_", &KINDS))?,
            start_time_unix_nano: members.read("startTimeUnixNano", integer)?,
            end_time_unix_nano: members.read("endTimeUnixNano", integer)?,
            attributes: members.attributes()?,
            dropped_attributes_count: members.read("droppedAttributesCount", integer)?,
            events: members.list("events", span_event)?,
            dropped_events_count: members.read("droppedEventsCount", integer)?,
            links: members.list("links", link)?,
            dropped_links_count: members.read("droppedLinksCount", integer)?,
            status: members.take("status").map(status).transpose().map_err(|e| format!("status: {e}"))?,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn any(json: &str) -> Result<Option<Any>> {
        any_value(serde_json::from_str(json).unwrap()).map(|v| v.value)
    }

    #[test]
    fn every_legal_form_of_a_value() {
        let list = |values| Some(Any::ArrayValue(ArrayValue { values }));
        let none = || AnyValue { value: None };
        for (json, value) in [
            ("{}", None),
            (r#"{"stringValue":null}"#, None),
            (r#"{"arrayValue":{}}"#, list(vec![])),
            (r#"{"arrayValue":{"values":[null,{}]}}"#, list(vec![none(), none()])),
            (r#"{"kvlistValue":{}}"#, Some(Any::KvlistValue(KeyValueList { values: vec![] }))),
            (
                r#"{"kvlist_value":{"values":[{}]}}"#,
                Some(Any::KvlistValue(KeyValueList { values: vec![KeyValue::default()] })),
            ),
            (r#"{"doubleValue":"Infinity"}"#, Some(Any::DoubleValue(f64::INFINITY))),
            (r#"{"doubleValue":"-Infinity"}"#, Some(Any::DoubleValue(f64::NEG_INFINITY))),
            (r#"{"doubleValue":"1.5"}"#, Some(Any::DoubleValue(1.5))),
            (r#"{"doubleValue":2}"#, Some(Any::DoubleValue(2.0))),
            (r#"{"intValue":"-7"}"#, Some(Any::IntValue(-7))),
            (r#"{"intValue":1e3}"#, Some(Any::IntValue(1000))),
            (r#"{"int_value":9223372036854775807}"#, Some(Any::IntValue(i64::MAX))),
            (r#"{"bytesValue":"-_8="}"#, Some(Any::BytesValue(vec![0xfb, 0xff]))),
            (r#"{"bytesValue":"+/8"}"#, Some(Any::BytesValue(vec![0xfb, 0xff]))),
        ] {
            assert_eq!(any(json), Ok(value), "{json}");
        }
        assert!(matches!(any(r#"{"doubleValue":"NaN"}"#), Ok(Some(Any::DoubleValue(f))) if f.is_nan()));
        for (json, fault) in [
            (r#"{"intValue":1.5}"#, "`1.5` is no whole number"),
            (r#"{"intValue":"9223372036854775808"}"#, "9223372036854775808 is beyond what fits here"),
            (r#"{"doubleValue":"many"}"#, "`many` is no number"),
            (r#"{"stringValue":7}"#, "a number stands where a text belongs"),
            (r#"{"arrayValue":[]}"#, "a list stands where an object belongs"),
            (
                r#"{"kvlistValue":{"values":[{"key":"a","value":{"boolValue":1}}]}}"#,
                "values: `a`: a number stands where true or false belongs",
            ),
        ] {
            assert_eq!(any(json), Err(fault.to_owned()), "{json}");
        }
    }

    #[test]
    fn every_legal_form_of_a_record() {
        let record = |json: &str| LogRecord::from_json(serde_json::from_str(json).unwrap());
        let hex = "5b8aa5a2d2c872e8321cf37308d69df2";
        for json in [
            format!(r#"{{"flags":"1","traceId":"{hex}","severityNumber":"17","timeUnixNano":"5"}}"#),
            format!(
                r#"{{"flags":1,"trace_id":"{}","severityNumber":"SEVERITY_NUMBER_ERROR","timeUnixNano":5}}"#,
                hex.to_uppercase()
            ),
            r#"{"flags":1.0,"traceId":"W4qlotLIcugyHPNzCNad8g==","severity_number":17,"time_unix_nano":5.0}"#
                .to_owned(),
        ] {
            let record = record(&json).unwrap();
            assert_eq!((record.flags, record.severity_number, record.time_unix_nano), (1, 17, 5), "{json}");
            assert_eq!(calvex_language::model::to_hex(&record.trace_id), hex, "{json}");
        }
        assert_eq!(record(r#"{"severityNumber":"SEVERITY_NUMBER_WARN2"}"#).unwrap().severity_number, 14);
        assert_eq!(record(r#"{"traceId":"0badcafe"}"#).unwrap().trace_id, [0x0b, 0xad, 0xca, 0xfe], "odd, and kept");
        for (json, fault) in [
            (r#"{"traceId":"so nicht"}"#, "traceId: `so nicht` is neither hexadecimal nor base64"),
            (r#"{"attributes":{}}"#, "attributes: an object stands where a list belongs"),
            (r#"{"severityNumber":"SEVERITY_NUMBER_WARN9"}"#, "severityNumber: `WARN9` is no severity"),
            ("7", "a number stands where an object belongs"),
        ] {
            assert_eq!(record(json), Err(fault.to_owned()), "{json}");
        }
        let span =
            Span::from_json(serde_json::json!({"kind": "SPAN_KIND_SERVER", "status": {"code": "STATUS_CODE_ERROR"}}));
        assert_eq!(span.map(|s| (s.kind, s.status.map(|s| s.code))), Ok((2, Some(2))));
    }
}
