//! Newline-delimited JSON: one event a line. Lines end with LF or CRLF; blank lines are passed over; a line that is not
//! an event refuses itself and no other.

use calvex_core::event::Value;
use calvex_core::normalise::{Known, RawEvent, Refusal};

/// A line and what it holds.
#[derive(Debug)]
pub struct Line {
    /// From 1.
    pub number: usize,
    /// The event, or why it is none.
    pub event: Result<RawEvent, Refusal>,
}

/// Reads a body; `event_bytes` bounds one line.
pub fn decode(body: &[u8], event_bytes: usize) -> Vec<Line> {
    let lines = body.split(|b| *b == b'\n').enumerate();
    lines
        .map(|(i, line)| (i + 1, line.trim_ascii()))
        .filter(|(_, line)| !line.is_empty())
        .map(|(number, line)| Line { number, event: decode_line(line, event_bytes) })
        .collect()
}

/// Reads one line.
///
/// # Errors
/// A [`Refusal`] that says why it is no event.
pub fn decode_line(line: &[u8], event_bytes: usize) -> Result<RawEvent, Refusal> {
    if line.len() > event_bytes {
        return Err(Refusal::TooLarge(line.len(), event_bytes));
    }
    match serde_json::from_slice::<Value>(line) {
        Ok(Value::Object(object)) => Ok(RawEvent { object, known: Known::default() }),
        Ok(other) => Err(Refusal::NotObject(other.type_name())),
        Err(e) => Err(Refusal::NotJson(format!("{e}"))),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn one_bad_line_refuses_itself() {
        let body = b"{\"msg\":\"a\"}\r\n\n{\"msg\":\n[1]\n{\"msg\":\"\xff\"}\n{\"msg\":\"b\"}";
        let told: Vec<(usize, Result<usize, &str>)> = decode(body, 1 << 20)
            .into_iter()
            .map(|l| (l.number, l.event.map(|e| e.object.len()).map_err(|r| r.reason())))
            .collect();
        let expected = [(1, Ok(1)), (3, Err("not-json")), (4, Err("not-an-object")), (5, Err("not-json")), (6, Ok(1))];
        assert_eq!(told, expected);
    }

    #[test]
    fn deep_and_long_lines_are_refused() {
        let deep = "[".repeat(100_000);
        assert_eq!(decode_line(deep.as_bytes(), 1 << 20).unwrap_err().reason(), "not-json");
        assert_eq!(decode_line(&[b' '; 100], 10).unwrap_err().reason(), "too-large");
    }

    proptest! {
        #[test]
        fn any_bytes_are_answered(body in any::<Vec<u8>>()) {
            decode(&body, 1000);
        }
    }
}
