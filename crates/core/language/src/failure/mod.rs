//! Which failures are one problem: a pure function of one event, so that ten thousand lines become five **error groups**,
//! the same on every node and for ever.
//!
//! A failure is an event of severity error or fatal; a failed span is one only where it carries an error's type or a stack,
//! because the spans above a failure fail with it. Failures of one service are one group when they agree in
//!
//! 1. the type of the error, where one is sent ([`TYPE_FIELDS`]) or stands in the stack, and that of its root cause;
//! 2. with a stack ([`STACK_FIELDS`], or in the message): the five innermost frames of the service's own, line numbers and
//!    what compilers add left out ([`stack`]);
//! 3. without one: the shape of the message.
//!
//! The group's id is the hash (XXH3, 64 bits) of these parts with the version of the rule.

mod frames;
pub mod stack;
#[cfg(test)]
mod tests;

use crate::model::{Kind, Severity, Value, shape};
use stack::{MAX_ERROR, Stack, head};
use std::borrow::Cow;
use xxhash_rust::xxh3::xxh3_64;

/// The version of the rule by which failures are put together.
pub const GROUP_VERSION: u8 = 1;
/// The least severity of a failure.
pub const LEAST_SEVERITY: Severity = Severity(17);
/// Frames that tell groups apart.
const FRAMES: usize = 5;

/// Fields that hold the type of an error, the first that an event has counts.
pub const TYPE_FIELDS: [&str; 10] = [
    "exception.type",
    "error.type",
    "error.kind",
    "error.name",
    "error.class",
    "err.type",
    "err.name",
    "exception_type",
    "error_type",
    "span.events.exception.type",
];
/// Fields that hold a stack as text, or as a list of its lines; the first that an event has counts.
pub const STACK_FIELDS: [&str; 13] = [
    "exception.stacktrace",
    "error.stack",
    "error.stack_trace",
    "error.stacktrace",
    "error.backtrace",
    "err.stack",
    "stack_trace",
    "stacktrace",
    "stack",
    "backtrace",
    "traceback",
    "exc_info",
    "span.events.exception.stacktrace",
];

/// One problem.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ErrorGroup {
    /// Its id, 16 hex digits.
    pub id: String,
    /// The type of the error.
    pub error: Option<String>,
    /// The type of its root cause, where that is another.
    pub cause: Option<String>,
    /// With a stack: whose it is.
    pub language: Option<stack::Language>,
    /// With a stack: the frames that tell groups apart, innermost first.
    pub frames: Vec<String>,
    /// The shape of the message; with a stack in the message, of its first line.
    pub shape: String,
}

/// Whether an event is a failure, as far as its own columns say; a failed span is one where [`group_of`] has an error's
/// type or a stack.
pub fn may_fail(severity: Severity) -> bool {
    severity >= LEAST_SEVERITY
}

/// The group of a failure, from what it says; nothing for a failed span without an error of its own.
pub fn group_of(
    kind: Kind,
    service: &str,
    error: Option<&str>,
    stack: Option<&str>,
    message: &str,
) -> Option<ErrorGroup> {
    let error = error.map(str::trim).filter(|text| !text.is_empty());
    let stack = stack.filter(|text| !text.trim().is_empty());
    if kind == Kind::Span && error.is_none() && stack.is_none() {
        return None;
    }
    let in_message = stack.is_none() && message.contains('\n');
    let read = match stack {
        Some(text) => Stack::read(text).or_else(|| Stack::of_names(text)),
        None if in_message => Stack::read(message),
        None => None,
    };
    let of_stack = |error: Option<&str>| error.map(str::to_owned);
    let error = error
        .map(|text| head(text, MAX_ERROR).to_owned())
        .or_else(|| read.as_ref().and_then(|stack| of_stack(stack.error())));
    let cause = read.as_ref().filter(|stack| stack.sections.len() > 1).and_then(|stack| of_stack(stack.cause()));
    let cause = cause.filter(|cause| Some(cause) != error.as_ref());
    let frames: Vec<String> =
        read.as_ref().map(|stack| stack.own_frames().take(FRAMES).map(str::to_owned).collect()).unwrap_or_default();
    let line = if in_message && read.is_some() { message.lines().next().unwrap_or("") } else { message };
    let shape = shape::of_message(line, |_| {});
    let mut key: Vec<u8> = Vec::new();
    let mut part = |text: &str| {
        key.extend_from_slice(&(text.len() as u64).to_le_bytes());
        key.extend_from_slice(text.as_bytes());
    };
    part(service);
    part(error.as_deref().unwrap_or(""));
    part(cause.as_deref().unwrap_or(""));
    match frames.is_empty() {
        true => part(&shape),
        false => frames.iter().for_each(|frame| part(frame)),
    }
    let id = format!("{:016x}", xxh3_64(&key) ^ u64::from(GROUP_VERSION).rotate_right(8));
    Some(ErrorGroup { id, error, cause, language: read.map(|stack| stack.language), frames, shape })
}

/// A sent value as a text: a text itself, a list of texts as its lines.
pub fn text_of(value: &Value) -> Option<Cow<'_, str>> {
    match value {
        Value::Text(text) => Some(Cow::Borrowed(text)),
        Value::List(list) => {
            let lines: Vec<&str> =
                list.iter().filter_map(|v| if let Value::Text(t) = v { Some(t.as_str()) } else { None }).collect();
            (!lines.is_empty()).then(|| Cow::Owned(lines.join("\n")))
        }
        _ => None,
    }
}
