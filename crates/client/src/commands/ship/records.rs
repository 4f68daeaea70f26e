//! Lines of a file to NDJSON: a line that is a JSON object as it is, any other cut by line patterns, or as the message of
//! an event. The same bytes always give the same NDJSON, so that a batch sent again is known as the same: times are sent
//! as they were written, and the service reads them.

use calvex_intake::line::{HoleKind, Pattern, cut_by, leading_time};
use serde_json::{Map, Value};

/// What is done to lines.
pub struct Form {
    /// Fields that every event gets; what it says itself wins.
    pub set: Map<String, Value>,
    /// Which lines belong to the one before.
    pub join: Join,
    /// Cut a line into fields; the first that fits is taken.
    pub patterns: Vec<Pattern>,
}

/// Which lines belong to the one before.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Join {
    /// None.
    None,
    /// Those that begin with a blank.
    Indented,
    /// Those that neither begin with a time, nor fit a pattern, nor are JSON objects: whatever a record goes on with.
    Untimed,
}

impl Form {
    /// Whether a line begins a record.
    fn begins(&self, line: &[u8]) -> bool {
        match self.join {
            Join::None => true,
            Join::Indented => line.first().is_none_or(|b| !is_blank(*b)),
            Join::Untimed => {
                if line.starts_with(b"{") {
                    return true;
                }
                let line = String::from_utf8_lossy(line);
                time_of(&line).is_some() || !self.patterns.is_empty() && cut_by(&self.patterns, &line, 0).is_ok()
            }
        }
    }
}

/// The time that a line begins with, as written; a bracket or one word (a severity, a thread) may stand before it.
fn time_of(line: &str) -> Option<&str> {
    let after_word = line.find(' ').and_then(|at| line.get(at + 1..));
    let places = [Some(line), after_word].into_iter().flatten();
    let mut texts = places.map(|text| text.trim_start_matches(['[', '(', '<', '"']));
    texts.find_map(|text| leading_time(text, 0).and_then(|(_, length)| text.get(..length)))
}

/// What a batch of lines became.
#[derive(Default)]
pub struct Records {
    /// One event a line.
    pub ndjson: Vec<u8>,
    /// The number of each event's first line, from 0.
    pub numbers: Vec<u64>,
    /// Lines that a pattern fitted.
    pub fitted: u64,
    /// Lines that none fitted, and where the first of them stopped fitting.
    pub missed: u64,
    /// See `missed`.
    pub first_miss: Option<String>,
}

impl Records {
    fn put(&mut self, text: Option<(u64, String)>, path: &str, form: &Form) {
        let Some((number, text)) = text else { return };
        let mut event = form.set.clone();
        event.insert("file".to_owned(), path.into());
        // A time without a year is dated by the service; here it only has to fit.
        match (form.patterns.is_empty(), cut_by(&form.patterns, &text, 0)) {
            (false, Ok((_, cuts))) => {
                self.fitted += 1;
                if !cuts.iter().any(|c| c.name == "message") {
                    event.insert("message".to_owned(), text.as_str().into());
                }
                for cut in cuts {
                    let raw = text.get(cut.range.clone()).unwrap_or("");
                    let value = match cut.kind {
                        HoleKind::Time => raw.into(),
                        _ => serde_json::to_value(&cut.value).unwrap_or_else(|_| raw.into()),
                    };
                    event.insert(cut.name.to_owned(), value);
                }
            }
            (patternless, outcome) => {
                if let (false, Err(miss)) = (patternless, outcome) {
                    self.missed += 1;
                    if self.first_miss.is_none() {
                        self.first_miss = miss.map(|(n, miss)| {
                            let column = text.get(..miss.at).map_or(0, |t| t.chars().count()) + 1;
                            let begins: String = text.chars().take(60).collect();
                            format!("pattern {} fits `{begins}` up to column {column}: {miss}", n + 1)
                        });
                    }
                }
                // Where records begin with times, theirs is the event's; the service reads it.
                if form.join == Join::Untimed
                    && let Some(time) = time_of(&text)
                {
                    event.insert("time".to_owned(), time.into());
                }
                event.insert("msg".to_owned(), text.into());
            }
        }
        self.ndjson.extend_from_slice(Value::Object(event).to_string().as_bytes());
        self.ndjson.push(b'\n');
        self.numbers.push(number);
    }
}

/// Where the last record begins that may still go on, if lines are joined: up to there it is certain.
pub fn certain(bytes: &[u8], form: &Form) -> usize {
    if form.join == Join::None {
        return bytes.len();
    }
    let line_at = |at: usize| bytes.get(at..).filter(|rest| !rest.is_empty());
    let starts =
        |at: usize| line_at(at).is_some_and(|rest| form.begins(rest.split(|b| *b == b'\n').next().unwrap_or_default()));
    let mut lines = memchr::memrchr_iter(b'\n', bytes).map(|at| at + 1).chain([0]);
    lines.find(|at| starts(*at)).unwrap_or(0)
}

fn is_blank(byte: u8) -> bool {
    byte == b' ' || byte == b'\t'
}

/// The events of whole lines.
pub fn to_ndjson(bytes: &[u8], path: &str, form: &Form) -> Records {
    let mut out = Records { ndjson: Vec::with_capacity(bytes.len() + bytes.len() / 4), ..Records::default() };
    let mut text: Option<(u64, String)> = None;
    for (number, line) in (0..).zip(bytes.split(|b| *b == b'\n')) {
        let line = line.strip_suffix(b"\r").unwrap_or(line);
        // An empty line within a record is part of it, the one behind the last line end is none.
        let joined = form.join != Join::None && !form.begins(line) && !(line.is_empty() && form.join == Join::Indented);
        if let Some((_, held)) = text.as_mut().filter(|_| joined) {
            held.push('\n');
            held.push_str(&String::from_utf8_lossy(line));
            continue;
        }
        out.put(text.take(), path, form);
        let trimmed = line.trim_ascii();
        if let Some(inner) = trimmed.strip_prefix(b"{") {
            with_set(inner, form, &mut out.ndjson);
            out.numbers.push(number);
        } else if !trimmed.is_empty() {
            text = Some((number, String::from_utf8_lossy(line).into_owned()));
        }
    }
    out.put(text.map(|(number, text)| (number, text.trim_end().to_owned())), path, form);
    out
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

    fn form(join: Join) -> Form {
        let set = json!({ "service": "slots" });
        Form { set: set.as_object().cloned().unwrap_or_default(), join, patterns: Vec::new() }
    }

    fn reported(text: &str, join: Join) -> (Vec<Value>, Vec<u64>) {
        let Records { ndjson, numbers, .. } = to_ndjson(text.as_bytes(), "a.log", &form(join));
        let lines = ndjson.split(|b| *b == b'\n').filter(|l| !l.is_empty());
        (lines.map(|l| serde_json::from_slice(l).unwrap_or_default()).collect(), numbers)
    }

    #[test]
    fn objects_pass_and_text_becomes_a_message() {
        let (events, numbers) = reported("{\"n\":1}\n\n{}\r\nplain \"text\"\n{\"service\":\"edge\"}\n", Join::None);
        let plain = json!({ "service": "slots", "file": "a.log", "msg": "plain \"text\"" });
        let own = json!({ "service": "edge" });
        assert_eq!(events, [json!({ "service": "slots", "n": 1 }), json!({ "service": "slots" }), plain, own]);
        assert_eq!(numbers, [0, 2, 3, 4]);
    }

    #[test]
    fn patterns_cut_lines() {
        let patterns = ["{time} {severity} {word logger}: {rest message}", "door {number door} opened"];
        let patterns = patterns.map(|p| Pattern::parse(p).unwrap()).to_vec();
        let form = Form { patterns, ..form(Join::Indented) };
        let text = "Oct  4 02:38:41 WARN slots.lease: ran out\n  at leaf\ndoor 17 opened\ndoor stuck\n";
        let records = to_ndjson(text.as_bytes(), "a.log", &form);
        let lines = records.ndjson.split(|b| *b == b'\n').filter(|l| !l.is_empty());
        let events: Vec<Value> = lines.map(|l| serde_json::from_slice(l).unwrap_or_default()).collect();
        let with = |more: Value| {
            let mut all = json!({ "service": "slots", "file": "a.log" });
            for (name, value) in more.as_object().into_iter().flatten() {
                all[name] = value.clone();
            }
            all
        };
        let first = json!({ "time": "Oct  4 02:38:41", "severity": "WARN", "logger": "slots.lease", "message": "ran out\n  at leaf" });
        let second = json!({ "message": "door 17 opened", "door": 17 });
        assert_eq!(events, [with(first), with(second), with(json!({ "msg": "door stuck" }))]);
        assert_eq!((records.fitted, records.missed), (2, 1));
        let miss = records.first_miss.unwrap_or_default();
        assert_eq!(miss, "pattern 2 fits `door stuck` up to column 6: expected a number");
    }

    #[test]
    fn a_stack_of_lines_is_one_event() {
        let text = "door failed\n  at leaf\n\tat root\nnext\n  more";
        let (events, numbers) = reported(text, Join::Indented);
        assert_eq!(
            events.iter().map(|e| &e["msg"]).collect::<Vec<_>>(),
            ["door failed\n  at leaf\n\tat root", "next\n  more"]
        );
        assert_eq!(numbers, [0, 3]);
        assert_eq!(&text[..certain(text.as_bytes(), &form(Join::Indented))], "door failed\n  at leaf\n\tat root\n");
        assert_eq!(certain(b"  only more\n", &form(Join::Indented)), 0);
        assert_eq!(certain(b"a\nb\n", &form(Join::None)), 4);
    }

    #[test]
    fn a_record_goes_on_until_a_time() {
        let text = "2026-10-04 02:38:41,198 ERROR lease failed\n\
            door.LeaseError: slot 17\n  at lease\nCaused by: timeout\n  ... 3 more\n\
            [2026-10-04T02:38:42Z] WARN next\n\
            INFO 2026-10-04T02:38:43Z third\nTraceback (most recent call last):\n  File \"door.py\"\n\nValueError: 17\n\
            {\"msg\":\"own\"}\n\
            2026-10-04T02:38:44Z panic: shut\n\ngoroutine 7 [running]:\nmain.lease()\n";
        let (events, numbers) = reported(text, Join::Untimed);
        let times: Vec<&str> = events.iter().filter_map(|e| e["time"].as_str()).collect();
        assert_eq!(
            times,
            ["2026-10-04 02:38:41,198", "2026-10-04T02:38:42Z", "2026-10-04T02:38:43Z", "2026-10-04T02:38:44Z"]
        );
        let ends: Vec<&str> = events.iter().filter_map(|e| e["msg"].as_str()?.lines().last()).collect();
        assert_eq!(ends, ["  ... 3 more", "[2026-10-04T02:38:42Z] WARN next", "ValueError: 17", "own", "main.lease()"]);
        assert_eq!(numbers, [0, 5, 6, 11, 12]);
        let certain = certain(text.as_bytes(), &form(Join::Untimed));
        assert!(text[certain..].starts_with("2026-10-04T02:38:44Z panic"), "the last record may go on");
    }
}
