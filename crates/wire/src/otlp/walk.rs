//! The records of an export request, one by one. A request is walked through before anything of it is decoded: where
//! its groups, resources, scopes and records stand, how many records there are, and how many bytes they grow to once
//! each has the attributes of its resource and scope. Then each record is decoded alone, so that memory is that of one
//! record whatever a request holds: two bytes of protobuf decode to a structure of hundreds.
//!
//! Both signals nest alike, three levels of field numbers (protobuf) or names (JSON):
//!
//! ```text
//! request   1 resourceLogs | resourceSpans            repeated
//!   group     1 resource   2 scopeLogs | scopeSpans   repeated   3 schemaUrl
//!     scope     1 scope      2 logRecords | spans     repeated   3 schemaUrl
//! ```
//!
//! Of a field that should stand once the last is taken. Names are taken in camel and in snake case. A request of the
//! other signal is a mistake, and so is a JSON object that has members and none of its signal: it would be answered as
//! stored, with nothing stored. In protobuf both signals have the same field numbers, so the first record decides.

use super::{Encoding, Signal};
use serde::de::{DeserializeSeed, Error as _, IgnoredAny, MapAccess, SeqAccess, Visitor};
use serde_json::value::RawValue;
use std::borrow::Cow;
use std::fmt;

/// The bytes of one message within a request, not yet decoded.
#[derive(Debug, Clone, Copy)]
pub(super) enum Raw<'b> {
    Protobuf(&'b [u8]),
    Json(&'b str),
}

impl Raw<'_> {
    pub(super) fn len(self) -> usize {
        match self {
            Raw::Protobuf(bytes) => bytes.len(),
            Raw::Json(text) => text.len(),
        }
    }
}

/// What stands above the records of a scope.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Above<'b> {
    pub resource: Option<Raw<'b>>,
    /// A string, as its bytes or its JSON text.
    pub resource_schema: Option<Raw<'b>>,
    pub scope: Option<Raw<'b>>,
    pub scope_schema: Option<Raw<'b>>,
}

impl Above<'_> {
    /// Bytes of all of it.
    pub(super) fn len(&self) -> usize {
        let parts = [self.resource, self.resource_schema, self.scope, self.scope_schema];
        parts.into_iter().flatten().map(Raw::len).sum()
    }
}

/// What a walk comes to.
pub(super) enum Step<'b> {
    /// A scope of a resource; the records that follow belong to it.
    Scope(Above<'b>),
    Record(Raw<'b>),
}

type Each<'a, 'b> = &'a mut dyn FnMut(Step<'b>);

/// Walks through a request.
///
/// # Errors
/// Where the levels above the records are damaged. A record may still not decode.
pub(super) fn walk<'b>(body: &'b [u8], encoding: Encoding, signal: Signal, each: Each<'_, 'b>) -> Result<(), String> {
    match encoding {
        Encoding::Protobuf => walk_protobuf(body, signal, each),
        Encoding::Json => walk_json(body, signal, each),
    }
}

/// The number of the field that stands once in a group or scope, and of the one that repeats.
const ONCE: u32 = 1;
const REPEATED: u32 = 2;
const SCHEMA: u32 = 3;

fn walk_protobuf<'b>(body: &'b [u8], signal: Signal, each: Each<'_, 'b>) -> Result<(), String> {
    let mut first = true;
    for group in messages(body, 1) {
        let group = group?;
        let (resource, resource_schema) = (last(group, ONCE)?, last(group, SCHEMA)?);
        for scope_group in messages(group, REPEATED) {
            let scope_group = scope_group?;
            let (scope, scope_schema) = (last(scope_group, ONCE)?, last(scope_group, SCHEMA)?);
            each(Step::Scope(Above { resource, resource_schema, scope, scope_schema }));
            for record in messages(scope_group, REPEATED) {
                let record = record?;
                if std::mem::take(&mut first) && signal_of(record).is_some_and(|of| of != signal) {
                    return Err(signal.other_sent());
                }
                each(Step::Record(Raw::Protobuf(record)));
            }
        }
    }
    Ok(())
}

/// Which signal a record is of, by the type of its field 1: a log record's time (fixed 64 bits), a span's trace id (bytes).
fn signal_of(record: &[u8]) -> Option<Signal> {
    match record.first()? {
        0b0000_1001 => Some(Signal::Logs),
        0b0000_1010 => Some(Signal::Spans),
        _ => None,
    }
}

/// The last message of a field.
fn last(bytes: &[u8], number: u32) -> Result<Option<Raw<'_>>, String> {
    let mut found = None;
    for message in messages(bytes, number) {
        found = Some(Raw::Protobuf(message?));
    }
    Ok(found)
}

/// The messages of one field of a protobuf message, in order.
fn messages(bytes: &[u8], number: u32) -> impl Iterator<Item = Result<&[u8], String>> {
    let mut rest = bytes;
    std::iter::from_fn(move || {
        while !rest.is_empty() {
            match field(&mut rest) {
                Ok((n, Some(message))) if n == number => return Some(Ok(message)),
                Ok((n, None)) if n == number => {
                    rest = &[];
                    return Some(Err(format!("field {number} is no message")));
                }
                Ok(_) => {}
                Err(e) => {
                    rest = &[];
                    return Some(Err(e));
                }
            }
        }
        None
    })
}

/// Reads one field: its number, and its bytes where it is length-delimited.
fn field<'b>(rest: &mut &'b [u8]) -> Result<(u32, Option<&'b [u8]>), String> {
    let cut = || "the message is cut short".to_owned();
    let key = varint(rest)?;
    let number = u32::try_from(key >> 3).ok().filter(|n| *n > 0).ok_or("a field has no number")?;
    let length = match key & 7 {
        0 => {
            varint(rest)?;
            return Ok((number, None));
        }
        1 => 8,
        5 => 4,
        2 => usize::try_from(varint(rest)?).map_err(|_| cut())?,
        wire_type => return Err(format!("field {number} has wire type {wire_type}, which does not exist")),
    };
    let (bytes, behind) = rest.split_at_checked(length).ok_or_else(cut)?;
    *rest = behind;
    Ok((number, (key & 7 == 2).then_some(bytes)))
}

fn varint(rest: &mut &[u8]) -> Result<u64, String> {
    let mut value = 0u64;
    for (n, byte) in rest.iter().enumerate().take(10) {
        value |= u64::from(byte & 0x7f) << (7 * n);
        if byte & 0x80 == 0 {
            *rest = rest.get(n + 1..).unwrap_or_default();
            return Ok(value);
        }
    }
    Err("a number has no end".to_owned())
}

fn walk_json<'b>(body: &'b [u8], signal: Signal, each: Each<'_, 'b>) -> Result<(), String> {
    let text = std::str::from_utf8(body).map_err(|e| format!("byte {}: the text is not UTF-8", e.valid_up_to() + 1))?;
    let names = signal.json_names();
    let other = signal.other().json_names();
    let ([groups, others], named) = members(text, [&names.groups, &other.groups])?;
    if groups.is_none() && others.is_some() {
        return Err(signal.other_sent());
    }
    if groups.is_none() && named > 0 {
        return Err(format!("it has no `{}`; an event of another form goes to /v1/events", names.groups[0]));
    }
    elements(groups, &mut |group| {
        let ([resource, scopes, resource_schema], _) = members(group, [&["resource"], &names.scopes, &SCHEMA_URL])?;
        elements(scopes, &mut |scope_group| {
            let ([scope, records, scope_schema], _) = members(scope_group, [&["scope"], &names.records, &SCHEMA_URL])?;
            let above = [resource, resource_schema, scope, scope_schema].map(|part| part.map(Raw::Json));
            let [resource, resource_schema, scope, scope_schema] = above;
            each(Step::Scope(Above { resource, resource_schema, scope, scope_schema }));
            elements(records, &mut |record| {
                each(Step::Record(Raw::Json(record)));
                Ok(())
            })
        })
    })
}

const SCHEMA_URL: [&str; 2] = ["schemaUrl", "schema_url"];

/// The JSON names of the three repeated levels of a signal.
pub(super) struct JsonNames {
    pub groups: [&'static str; 2],
    pub scopes: [&'static str; 2],
    pub records: [&'static str; 2],
}

/// The texts of some members of an object, each under any of its names, and how many members the object has; a null
/// counts as absent.
fn members<'b, const N: usize>(object: &'b str, names: [&[&str]; N]) -> Result<([Option<&'b str>; N], usize), String> {
    struct Members<'n, const N: usize>(&'n [&'n [&'n str]; N]);
    impl<'de, const N: usize> Visitor<'de> for Members<'_, N> {
        type Value = ([Option<&'de str>; N], usize);
        fn expecting(&self, f: &mut fmt::Formatter) -> fmt::Result {
            f.write_str("an object")
        }
        fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Self::Value, A::Error> {
            let (mut found, mut count) = ([None; N], 0);
            while let Some(name) = map.next_key::<Cow<str>>()? {
                count += 1;
                match self.0.iter().position(|names| names.contains(&name.as_ref())) {
                    Some(at) => {
                        let value = map.next_value::<&RawValue>()?.get();
                        if let Some(slot) = found.get_mut(at) {
                            *slot = (value != "null").then_some(value);
                        }
                    }
                    None => drop(map.next_value::<IgnoredAny>()?),
                }
            }
            Ok((found, count))
        }
    }
    let mut reader = serde_json::Deserializer::from_str(object);
    let found = serde::Deserializer::deserialize_map(&mut reader, Members(&names)).map_err(|e| e.to_string())?;
    reader.end().map_err(|e| e.to_string())?;
    Ok(found)
}

type EachText<'a, 'b> = &'a mut dyn FnMut(&'b str) -> Result<(), String>;

/// Gives the text of each element of a list, where there is one.
fn elements<'b>(list: Option<&'b str>, each: EachText<'_, 'b>) -> Result<(), String> {
    struct Elements<'a, 'b>(EachText<'a, 'b>);
    impl<'de> Visitor<'de> for Elements<'_, 'de> {
        type Value = ();
        fn expecting(&self, f: &mut fmt::Formatter) -> fmt::Result {
            f.write_str("a list")
        }
        fn visit_seq<A: SeqAccess<'de>>(self, mut list: A) -> Result<(), A::Error> {
            while let Some(element) = list.next_element::<&RawValue>()? {
                (self.0)(element.get()).map_err(A::Error::custom)?;
            }
            Ok(())
        }
    }
    impl<'de> DeserializeSeed<'de> for Elements<'_, 'de> {
        type Value = ();
        fn deserialize<D: serde::Deserializer<'de>>(self, reader: D) -> Result<(), D::Error> {
            reader.deserialize_seq(self)
        }
    }
    let Some(list) = list else { return Ok(()) };
    let mut reader = serde_json::Deserializer::from_str(list);
    Elements(each).deserialize(&mut reader).map_err(|e| e.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn outline(body: &[u8], encoding: Encoding) -> Result<Vec<(bool, usize)>, String> {
        let mut steps = Vec::new();
        let mut each = |step: Step| {
            steps.push(match step {
                Step::Scope(above) => (true, above.len()),
                Step::Record(raw) => (false, raw.len()),
            });
        };
        walk(body, encoding, Signal::Logs, &mut each)?;
        Ok(steps)
    }

    #[test]
    fn the_outline_of_both_encodings() {
        // Two records of three bytes; the resource of two bytes stands behind the scopes.
        let protobuf = [10, 16, 18, 10, 18, 3, 8, 1, 8, 18, 3, 8, 2, 8, 10, 2, 8, 1];
        assert_eq!(outline(&protobuf, Encoding::Protobuf).unwrap(), [(true, 2), (false, 3), (false, 3)]);
        let json = br#"{"other":[1],"resourceLogs":[{"scopeLogs":[{"log_records":[{"a":1},7]},{"scope":null}],
            "resource":{}}]}"#;
        assert_eq!(outline(json, Encoding::Json).unwrap(), [(true, 2), (false, 7), (false, 1), (true, 2)]);
        assert_eq!(outline(b"{}", Encoding::Json).unwrap(), []);
        assert_eq!(outline(b"", Encoding::Protobuf).unwrap(), []);
        for bad in
            [&b"[]"[..], b"{\"resourceLogs\":{}}", b"{\"resourceLogs\":[7]}", b"{} {}", b"\xff", b"{\"msg\":\"x\"}"]
        {
            assert!(outline(bad, Encoding::Json).is_err(), "{bad:?}");
        }
        for bad in [&[10, 9, 1][..], &[8], &[11, 0], &[0, 1], &[255; 11], &[10, 2, 18, 5]] {
            assert!(outline(bad, Encoding::Protobuf).is_err(), "{bad:?}");
        }
    }

    #[test]
    fn the_other_signal_is_a_mistake() {
        let spans = br#"{"resource_spans":[{"scopeSpans":[{"spans":[{"traceId":"00"}]}]}]}"#;
        let reported = outline(spans, Encoding::Json).unwrap_err();
        assert_eq!(reported, "these are spans; send them to /v1/traces");
        // A record that begins with a trace id.
        assert_eq!(outline(&[10, 6, 18, 4, 18, 2, 10, 0], Encoding::Protobuf).unwrap_err(), reported);
    }

    proptest! {
        #[test]
        fn any_bytes_are_answered(body in any::<Vec<u8>>()) {
            let _ = outline(&body, Encoding::Protobuf);
            let _ = outline(&body, Encoding::Json);
        }
    }
}
