//! Lines of a file to NDJSON: a line that is a JSON object as it is, any other as the message of an event.

use serde_json::{Map, Value};

/// What is done to lines.
pub struct Form {
    /// Fields that every event gets; what it says itself wins.
    pub set: Map<String, Value>,
    /// Whether lines that begin with a blank belong to the one before.
    pub join_indented: bool,
}

/// Where the last record begins that may still go on, if lines are joined: up to there it is certain.
pub fn certain(bytes: &[u8], form: &Form) -> usize {
    if !form.join_indented {
        return bytes.len();
    }
    let starts = |at: usize| bytes.get(at).is_some_and(|b| !is_blank(*b));
    let mut lines = memchr::memrchr_iter(b'\n', bytes).map(|at| at + 1).chain([0]);
    lines.find(|at| starts(*at)).unwrap_or(0)
}

fn is_blank(byte: u8) -> bool {
    byte == b' ' || byte == b'\t'
}

/// The events of whole lines, and for each the number of its first line, from 0.
pub fn to_ndjson(bytes: &[u8], path: &str, form: &Form) -> (Vec<u8>, Vec<u64>) {
    let (mut out, mut numbers) = (Vec::with_capacity(bytes.len() + bytes.len() / 4), Vec::new());
    let mut text: Option<(u64, String)> = None;
    let put = |text: Option<(u64, String)>, out: &mut Vec<u8>, numbers: &mut Vec<u64>| {
        if let Some((number, text)) = text {
            let mut event = form.set.clone();
            event.insert("file".to_owned(), path.into());
            event.insert("msg".to_owned(), text.into());
            out.extend_from_slice(Value::Object(event).to_string().as_bytes());
            out.push(b'\n');
            numbers.push(number);
        }
    };
    for (number, line) in (0..).zip(bytes.split(|b| *b == b'\n')) {
        let line = line.strip_suffix(b"\r").unwrap_or(line);
        let joined = form.join_indented && line.first().is_some_and(|b| is_blank(*b));
        if let Some((_, held)) = text.as_mut().filter(|_| joined) {
            held.push('\n');
            held.push_str(&String::from_utf8_lossy(line));
            continue;
        }
        put(text.take(), &mut out, &mut numbers);
        let trimmed = line.trim_ascii();
        if let Some(inner) = trimmed.strip_prefix(b"{") {
            with_set(inner, form, &mut out);
            numbers.push(number);
        } else if !trimmed.is_empty() {
            text = Some((number, String::from_utf8_lossy(line).into_owned()));
        }
    }
    put(text, &mut out, &mut numbers);
    (out, numbers)
}

/// An object, of which `inner` is all behind its brace, with the fixed fields before its own: of two equal names the
/// service keeps the later one.
fn with_set(inner: &[u8], form: &Form, out: &mut Vec<u8>) {
    out.push(b'{');
    let set = Value::Object(form.set.clone()).to_string();
    let fixed = set.trim_start_matches('{').trim_end_matches('}');
    out.extend_from_slice(fixed.as_bytes());
    if !fixed.is_empty() && !inner.trim_ascii_start().starts_with(b"}") {
        out.push(b',');
    }
    out.extend_from_slice(inner);
    out.push(b'\n');
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn form(join_indented: bool) -> Form {
        let set = json!({ "service": "slots" });
        Form { set: set.as_object().cloned().unwrap_or_default(), join_indented }
    }

    fn told(text: &str, join: bool) -> (Vec<Value>, Vec<u64>) {
        let (bytes, numbers) = to_ndjson(text.as_bytes(), "a.log", &form(join));
        let lines = bytes.split(|b| *b == b'\n').filter(|l| !l.is_empty());
        (lines.map(|l| serde_json::from_slice(l).unwrap_or_default()).collect(), numbers)
    }

    #[test]
    fn objects_pass_and_text_becomes_a_message() {
        let (events, numbers) = told("{\"n\":1}\n\n{}\r\nplain \"text\"\n{\"service\":\"edge\"}\n", false);
        let plain = json!({ "service": "slots", "file": "a.log", "msg": "plain \"text\"" });
        let own = json!({ "service": "edge" });
        assert_eq!(events, [json!({ "service": "slots", "n": 1 }), json!({ "service": "slots" }), plain, own]);
        assert_eq!(numbers, [0, 2, 3, 4]);
    }

    #[test]
    fn a_stack_of_lines_is_one_event() {
        let text = "door failed\n  at leaf\n\tat root\nnext\n  more";
        let (events, numbers) = told(text, true);
        assert_eq!(
            events.iter().map(|e| &e["msg"]).collect::<Vec<_>>(),
            ["door failed\n  at leaf\n\tat root", "next\n  more"]
        );
        assert_eq!(numbers, [0, 3]);
        assert_eq!(&text[..certain(text.as_bytes(), &form(true))], "door failed\n  at leaf\n\tat root\n");
        assert_eq!(certain(b"  only more\n", &form(true)), 0);
        assert_eq!(certain(b"a\nb\n", &form(false)), 4);
    }
}
