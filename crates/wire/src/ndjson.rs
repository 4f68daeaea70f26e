//! Newline-delimited JSON: one event a line. Lines end with LF or CRLF; blank lines are passed over; a line that is not
//! an event refuses itself and no other. A body that is one JSON array has an event for each of its elements instead. A
//! byte order mark at the beginning is passed over.
//!
//! Text that is nearly right is kept: bytes that are not UTF-8 and escapes of half a surrogate pair become U+FFFD, and
//! the event has the field `calvex.mended`, `bytes` or `escape`, since it is not given back as it came.

use calvex_intake::batch::{BatchBuilder, Reading};
use calvex_intake::normalise::{Known, Limits, RawEvent};
use calvex_language::CoreError;
use calvex_language::json::{Scalar, elements, without_half_pairs};
use calvex_language::model::Leaf;
use calvex_language::model::Refusal;
use std::borrow::Cow;

const BOM: &[u8] = "\u{feff}".as_bytes();

/// Reads a body into `batch`, each line by its number from 1. The paths met stand in `reading`, which the batch is
/// finished with.
///
/// # Errors
/// A request of too many events, which is refused as a whole, or a defect of the engine; a bad line refuses itself.
pub fn decode(body: &[u8], batch: &mut BatchBuilder, reading: &mut Reading) -> Result<(), CoreError> {
    let limits = batch.limits();
    let body = body.strip_prefix(BOM).unwrap_or(body);
    if !body.trim_ascii_start().starts_with(b"[") {
        return decode_lines(body, batch, reading);
    }
    let array = body.trim_ascii();
    match elements(array, limits.events) {
        Ok((elements, count)) => {
            batch.expect(count)?;
            (1..).zip(elements).try_for_each(|(number, element)| take(number, element, None, batch, reading))
        }
        // Lines of which the first is an array are lines all the same.
        Err(at) if !is_array_of_objects(array) || is_first_line(array, at) => decode_lines(body, batch, reading),
        Err(at) => {
            let before = array.get(..at).unwrap_or_default();
            let line = memchr::memchr_iter(b'\n', before).count() + 1;
            let begins = memchr::memrchr(b'\n', before).map_or(0, |end| end + 1);
            // A character begins with any byte that does not go on with one (RFC 3629).
            let column = before.iter().skip(begins).filter(|b| **b & 0xc0 != 0x80).count() + 1;
            let reported = format!("line {line}, column {column}: the list of events does not close here");
            batch.refuse(1, Refusal::NotJson(reported), array);
            Ok(())
        }
    }
}

/// Whether it begins as an array of events does: `[2026-10-04] door 17 shut` is a line.
fn is_array_of_objects(body: &[u8]) -> bool {
    body.strip_prefix(b"[").is_some_and(|inner| inner.trim_ascii_start().starts_with(b"{"))
}

/// Whether what ends at `at` is a whole array on a line of its own.
fn is_first_line(body: &[u8], at: usize) -> bool {
    let behind = body.get(at..).unwrap_or_default();
    let ends = behind.iter().find(|b| !matches!(b, b' ' | b'\t' | b'\r')) == Some(&b'\n');
    ends && body.get(..at).is_some_and(|read| elements(read, 0).is_ok())
}

/// As [`decode`], of lines only.
///
/// # Errors
/// As [`decode`].
pub fn decode_lines(body: &[u8], batch: &mut BatchBuilder, reading: &mut Reading) -> Result<(), CoreError> {
    batch.expect(memchr::memchr_iter(b'\n', body).count())?;
    // One look at the whole body is quicker than one at each line; only a body with a fault pays for the second.
    let whole = std::str::from_utf8(body).ok();
    let mut from = 0;
    let ends = memchr::memchr_iter(b'\n', body).chain([body.len()]);
    for (number, end) in (1..).zip(ends) {
        let line = body.get(from..end).unwrap_or_default();
        let text = whole.and_then(|w| w.get(from..end));
        from = end + 1;
        if line.trim_ascii().is_empty() {
            continue;
        }
        take(number, line, text, batch, reading)?;
    }
    Ok(())
}

/// Takes one event; `text` is the same as `line` where that is known to be text.
fn take(
    number: usize,
    line: &[u8],
    text: Option<&str>,
    batch: &mut BatchBuilder,
    reading: &mut Reading,
) -> Result<(), CoreError> {
    let limits = batch.limits();
    // Before anything is made of it: each byte that is no text becomes three.
    if line.len() > limits.event_bytes {
        batch.refuse(number, Refusal::TooLarge(line.len(), limits.event_bytes), line);
        return Ok(());
    }
    let text = text.map_or_else(|| String::from_utf8_lossy(line), Cow::Borrowed);
    let text_mended = matches!(text, Cow::Owned(_)).then_some("bytes");
    let read = match decode_line(text.trim_ascii(), reading, &limits) {
        Err(refusal @ Refusal::NotJson(_)) => match without_half_pairs(text.trim_ascii()) {
            Some(whole) => return take_mended(number, line, &whole, "escape", refusal, batch, reading),
            None => Err(refusal),
        },
        read => read,
    };
    match read {
        Ok(mut event) => {
            if let Some(how) = text_mended {
                mark(&mut event, how, reading);
            }
            batch.push(number, Ok(event), reading)
        }
        Err(refusal) => {
            batch.refuse(number, refusal, line);
            Ok(())
        }
    }
}

/// Takes an event of mended text; where that is none either, the line is refused as it came.
fn take_mended(
    number: usize,
    line: &[u8],
    text: &str,
    how: &'static str,
    refusal: Refusal,
    batch: &mut BatchBuilder,
    reading: &mut Reading,
) -> Result<(), CoreError> {
    match decode_line(text, reading, &batch.limits()) {
        Ok(mut event) => {
            mark(&mut event, how, reading);
            batch.push(number, Ok(event), reading)
        }
        Err(_) => {
            batch.refuse(number, refusal, line);
            Ok(())
        }
    }
}

/// Marks an event as mended. The name is one segment, and what the sender wrote under it gives way, so that no name stands
/// twice.
fn mark(event: &mut RawEvent, how: &'static str, reading: &mut Reading) {
    let path = reading.paths.child(None, "calvex.mended");
    event.fields.retain(|(sent, _)| *sent != path);
    event.fields.push((path, Leaf::Scalar(Scalar::Text(how.into()))));
}

/// Reads one line.
///
/// # Errors
/// A [`Refusal`] that says why it is no event.
pub fn decode_line<'a>(line: &'a str, reading: &mut Reading, limits: &Limits) -> Result<RawEvent<'a>, Refusal> {
    if line.len() > limits.event_bytes {
        return Err(Refusal::TooLarge(line.len(), limits.event_bytes));
    }
    let fields = reading.flattener.json(line, &mut reading.paths, limits)?;
    Ok(RawEvent { fields, known: Known::default() })
}

#[cfg(test)]
mod tests {
    use super::*;
    use calvex_intake::batch::Batch;
    use calvex_intake::batch::Policy;
    use calvex_intake::normalise::Arrival;
    use calvex_intake::route::RouteTable;
    use calvex_intake::transform::Transforms;
    use proptest::prelude::*;

    fn take(body: &[u8], event_bytes: usize) -> Batch {
        let limits = Limits { event_bytes, ..Limits::default() };
        let mut reading = Reading::default();
        let ties = calvex_language::query::Ties::default();
        let mut builder = BatchBuilder::new(Arrival { arrived_ns: 0, sender: "x", fixed: &[], limits, ties: &ties });
        decode(body, &mut builder, &mut reading).unwrap();
        let (routes, transforms) = (RouteTable::new(Vec::new(), 1), Transforms::default());
        builder.finish(&reading, &Policy::of_routes(&routes, &transforms, &|_| ("main", 30))).unwrap()
    }

    trait ReplaceLf {
        fn replace_lf(&self) -> Vec<u8>;
    }

    impl ReplaceLf for [u8] {
        fn replace_lf(&self) -> Vec<u8> {
            self.iter().map(|b| if *b == b'\n' { b',' } else { *b }).collect()
        }
    }

    fn take_all(body: &[u8]) -> Vec<calvex_language::model::Event> {
        let pages = take(body, 1000).pages;
        pages.iter().flat_map(|(_, page)| calvex_storage::columns::materialise_all(page).unwrap()).collect()
    }

    fn reported(body: &[u8]) -> (usize, Vec<(usize, &'static str)>) {
        let batch = take(body, 1000);
        (batch.stored, batch.refused.iter().map(|r| (r.line, r.refusal.reason())).collect())
    }

    #[test]
    fn one_bad_line_refuses_itself() {
        let body = b"{\"msg\":\"a\"}\r\n\n{\"msg\":\n[1]\n{\"msg\":\xff}\n{\"msg\":\"b\"}";
        assert_eq!(reported(body), (2, vec![(3, "not-json"), (4, "not-an-object"), (5, "not-json")]));
        let error = take(b"{\"msg\" 1}", 1000).refused.iter().next().unwrap().refusal.to_string();
        assert!(error.contains("column 8") && error.contains("expected `:`"), "{error}");
    }

    #[test]
    fn what_is_nearly_text_is_kept_and_marked() {
        let body = b"\xef\xbb\xbf{\"msg\":\"a\xff\"}\n{\"msg\":\"b\\ud800\"}\n{\"msg\":\"c\"}";
        for body in [body.to_vec(), [b"[".as_slice(), &body[3..].replace_lf(), b"]"].concat()] {
            let batch = take_all(&body);
            let mut messages: Vec<_> = batch.iter().map(|e| (e.message.as_str(), e.fields.len())).collect();
            messages.sort_unstable();
            assert_eq!(messages, [("a\u{fffd}", 1), ("b\u{fffd}", 1), ("c", 0)]);
        }
    }

    #[test]
    fn a_mark_stands_once_whatever_was_sent() {
        let events = take_all(b"{\"calvex\":5,\"calvex.mended\":\"mine\",\"msg\":\"b\\udc00\"}");
        let reported = serde_json::to_string(&calvex_language::model::answer_json(&events[0], "main")).unwrap();
        assert_eq!(reported.matches("calvex.mended\":").count(), 1, "{reported}");
        assert!(reported.contains(r#""calvex":5"#) && reported.contains(r#""calvex.mended":"escape""#), "{reported}");
    }

    #[test]
    fn bytes_that_are_no_text_are_measured_before_they_grow() {
        for body in [vec![0xff; 5000], [b"[".to_vec(), vec![0xff; 5000], b"]".to_vec()].concat()] {
            assert_eq!(reported(&body).1, [(1, "too-large")]);
        }
    }

    #[test]
    fn a_broken_array_says_where() {
        for (body, place) in [
            (&b"[{\"a\":1},\n {\"b\":2}"[..], "line 2, column 9"),
            (b"[{\"a\":\"x}]", "line 1, column 7"),
            (b"[{\"a\":1}] x", "line 1, column 10"),
        ] {
            let batch = take(body, 1000);
            let reported = batch.refused.iter().next().unwrap().refusal.to_string();
            assert!(reported.contains(place), "{reported}");
            assert_eq!((batch.stored, batch.refused.len()), (0, 1));
        }
    }

    #[test]
    fn an_array_has_an_event_for_each_element() {
        let body = br#" [{"msg":"a, ] } \" b"}, 7 ,{"msg":"c"},
            {"list":[[1],{"x":[]}]}, {"msg":}] "#;
        assert_eq!(reported(body), (3, vec![(2, "not-an-object"), (5, "not-json")]));
        assert_eq!(reported(b"[]"), (0, vec![]));
        assert_eq!(reported(b"[{\"a\":1}"), (0, vec![(1, "not-json")]), "not closed");
        assert_eq!(reported(b"[10:00] shut\n{\"a\":1}"), (1, vec![(1, "not-an-object")]), "a line");
        assert_eq!(reported(b"[1]\n{\"a\":1}"), (1, vec![(1, "not-an-object")]));
    }

    #[test]
    fn a_body_has_so_many_events_and_no_more() {
        for body in ["x\n".repeat(300_000), format!("[{}0]", "0,".repeat(300_000))] {
            let ties = calvex_language::query::Ties::default();
            let limits = Limits::default();
            let arrival = Arrival { arrived_ns: 0, sender: "x", fixed: &[], limits, ties: &ties };
            let (mut reading, mut builder) = (Reading::default(), BatchBuilder::new(arrival));
            let error = decode(body.as_bytes(), &mut builder, &mut reading).unwrap_err().to_string();
            assert!(error.contains("the limit is 250000"), "{error}");
        }
        // What is within the limit is reported, the first hundred one by one.
        let batch = take("x\n".repeat(200_000).as_bytes(), 1000);
        assert_eq!((batch.refused.len(), batch.refused.iter().count()), (200_000, 100));
    }

    #[test]
    fn deep_and_long_lines_are_refused() {
        assert_eq!(reported("[".repeat(900).as_bytes()).1, [(1, "not-an-object")]);
        assert_eq!(reported(format!("{{\"a\":{}", "[".repeat(900)).as_bytes()).1, [(1, "not-json")]);
        assert_eq!(reported(&[b'x'; 1001]).1, [(1, "too-large")]);
    }

    proptest! {
        #[test]
        fn any_bytes_are_answered(body in any::<Vec<u8>>()) {
            reported(&body);
        }
    }
}
