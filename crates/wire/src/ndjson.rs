//! Newline-delimited JSON: one event a line. Lines end with LF or CRLF; blank lines are passed over; a line that is not
//! an event refuses itself and no other. A body that is one JSON array has an event for each of its elements instead.

use calvex_core::CoreError;
use calvex_core::batch::{BatchBuilder, Reading};
use calvex_core::normalise::{Known, Limits, RawEvent, Refusal};

/// Reads a body into `batch`, each line by its number from 1. The paths met stand in `reading`, which the batch is
/// finished with.
///
/// # Errors
/// A request of too many events, which is refused as a whole, or a defect of the engine; a bad line refuses itself.
pub fn decode(body: &[u8], batch: &mut BatchBuilder, reading: &mut Reading) -> Result<(), CoreError> {
    let limits = batch.limits();
    let is_array = body.trim_ascii_start().starts_with(b"[");
    let text = if is_array { std::str::from_utf8(body).ok().map(str::trim_ascii) } else { None };
    if let Some((elements, count)) = text.and_then(|text| calvex_core::json::elements(text, limits.events)) {
        batch.expect(count)?;
        for (number, element) in (1..).zip(elements) {
            match decode_line(element, reading, &limits) {
                Err(refusal) => batch.refuse(number, refusal, element.as_bytes()),
                event => batch.push(number, event, reading)?,
            }
        }
        return Ok(());
    }
    decode_lines(body, batch, reading)
}

/// As [`decode`], of lines only.
///
/// # Errors
/// As [`decode`].
pub fn decode_lines(body: &[u8], batch: &mut BatchBuilder, reading: &mut Reading) -> Result<(), CoreError> {
    batch.expect(memchr::memchr_iter(b'\n', body).count())?;
    // One look at the whole body is quicker than one at each line; only a body with a fault pays for the second.
    let whole = std::str::from_utf8(body).ok();
    let limits = batch.limits();
    let mut from = 0;
    let ends = memchr::memchr_iter(b'\n', body).chain([body.len()]);
    for (number, end) in (1..).zip(ends) {
        let line = body.get(from..end).unwrap_or_default();
        let text = whole.and_then(|w| w.get(from..end));
        from = end + 1;
        if line.trim_ascii().is_empty() {
            continue;
        }
        let text = match text {
            Some(text) => Ok(text),
            None => std::str::from_utf8(line)
                .map_err(|e| Refusal::NotJson(format!("column {}: the text is not UTF-8", e.valid_up_to() + 1))),
        };
        match text.and_then(|text| decode_line(text.trim_ascii(), reading, &limits)) {
            Err(refusal) => batch.refuse(number, refusal, line),
            event => batch.push(number, event, reading)?,
        }
    }
    Ok(())
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
    use calvex_core::batch::Batch;
    use calvex_core::batch::Policy;
    use calvex_core::normalise::Arrival;
    use calvex_core::route::RouteTable;
    use calvex_core::shape::Shaping;
    use proptest::prelude::*;

    fn take(body: &[u8], event_bytes: usize) -> Batch {
        let limits = Limits { event_bytes, ..Limits::default() };
        let mut reading = Reading::default();
        let ties = calvex_core::tie::Ties::default();
        let mut builder = BatchBuilder::new(Arrival { arrived_ns: 0, sender: "x", fixed: &[], limits, ties: &ties });
        decode(body, &mut builder, &mut reading).unwrap();
        let (routes, shaping) = (RouteTable::new(Vec::new(), 1), Shaping::default());
        builder.finish(&reading, &Policy::of_routes(&routes, &shaping, &|_| ("main", 30))).unwrap()
    }

    fn told(body: &[u8]) -> (usize, Vec<(usize, &'static str)>) {
        let batch = take(body, 1000);
        (batch.stored, batch.refused.iter().map(|r| (r.line, r.refusal.reason())).collect())
    }

    #[test]
    fn one_bad_line_refuses_itself() {
        let body = b"{\"msg\":\"a\"}\r\n\n{\"msg\":\n[1]\n{\"msg\":\"\xff\"}\n{\"msg\":\"b\"}";
        assert_eq!(told(body), (2, vec![(3, "not-json"), (4, "not-an-object"), (5, "not-json")]));
        let error = take(b"{\"msg\" 1}", 1000).refused.iter().next().unwrap().refusal.to_string();
        assert!(error.contains("column 8") && error.contains("expected `:`"), "{error}");
    }

    #[test]
    fn an_array_has_an_event_for_each_element() {
        let body = br#" [{"msg":"a, ] } \" b"}, 7 ,{"msg":"c"},
            {"list":[[1],{"x":[]}]}, {"msg":}] "#;
        assert_eq!(told(body), (3, vec![(2, "not-an-object"), (5, "not-json")]));
        assert_eq!(told(b"[]"), (0, vec![]));
        assert_eq!(told(b"[{\"a\":1}"), (0, vec![(1, "not-an-object")]), "not closed, so a line");
        assert_eq!(told(b"[1]\n{\"a\":1}"), (1, vec![(1, "not-an-object")]));
    }

    #[test]
    fn a_body_has_so_many_events_and_no_more() {
        for body in ["x\n".repeat(300_000), format!("[{}0]", "0,".repeat(300_000))] {
            let ties = calvex_core::tie::Ties::default();
            let limits = Limits::default();
            let arrival = Arrival { arrived_ns: 0, sender: "x", fixed: &[], limits, ties: &ties };
            let (mut reading, mut builder) = (Reading::default(), BatchBuilder::new(arrival));
            let error = decode(body.as_bytes(), &mut builder, &mut reading).unwrap_err().to_string();
            assert!(error.contains("the limit is 250000"), "{error}");
        }
        // What is within the limit is told of, the first hundred one by one.
        let batch = take("x\n".repeat(200_000).as_bytes(), 1000);
        assert_eq!((batch.refused.len(), batch.refused.iter().count()), (200_000, 100));
    }

    #[test]
    fn deep_and_long_lines_are_refused() {
        assert_eq!(told("[".repeat(900).as_bytes()).1, [(1, "not-an-object")]);
        assert_eq!(told(format!("{{\"a\":{}", "[".repeat(900)).as_bytes()).1, [(1, "not-json")]);
        assert_eq!(told(&[b'x'; 1001]).1, [(1, "too-large")]);
    }

    proptest! {
        #[test]
        fn any_bytes_are_answered(body in any::<Vec<u8>>()) {
            told(&body);
        }
    }
}
