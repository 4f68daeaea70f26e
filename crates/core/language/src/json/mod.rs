//! JSON (RFC 8259) read without building a tree: what senders write is read once, straight into fields.
//!
//! Kept exactly: integers of 64 bits, doubles, and any other number as its own text ([`Scalar::Decimal`]). Strings are
//! borrowed from the text unless they hold an escape. Names and values are bounded by the caller; nesting is bounded
//! here. Broken input ends in a [`JsonError`] with its place, never in a panic.

mod elements;
mod number;

pub use elements::elements;

use std::borrow::Cow;

/// Deepest nesting read; what an event may have is bounded lower (see `normalise::Limits`).
pub const MAX_DEPTH: usize = 128;

/// What is wrong with a text, and where.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("column {column}: {what}")]
pub struct JsonError {
    /// From 1, in bytes.
    pub column: usize,
    /// What was expected.
    pub what: &'static str,
}

/// A value without parts.
#[derive(Debug, Clone, PartialEq)]
#[allow(missing_docs)]
pub enum Scalar<'a> {
    Null,
    Bool(bool),
    Int(i64),
    UInt(u64),
    Float(f64),
    /// A number that neither 64 bits nor a double hold exactly.
    Decimal(Cow<'a, str>),
    Text(Cow<'a, str>),
}

/// What stands next.
#[derive(Debug, Clone, PartialEq)]
#[allow(missing_docs)]
pub enum Next<'a> {
    /// An object begins; [`Reader::name`] gives its names.
    Object,
    /// A list begins; [`Reader::item`] returns its items.
    List,
    Scalar(Scalar<'a>),
}

/// Where the first quote, backslash or control character stands; the length of `bytes` where none does.
///
/// Eight bytes at a time, for most strings are short (after "Determine if a word has a byte less than n", Anderson: "Bit
/// Twiddling Hacks"): a byte below, or equal to, what is sought leaves its highest bit set, and what borrows may disturb
/// stands behind the first such byte.
fn special(bytes: &[u8]) -> usize {
    const ONES: u64 = 0x0101_0101_0101_0101;
    const HIGH: u64 = 0x8080_8080_8080_8080;
    let below = |word: u64, n: u64| word.wrapping_sub(ONES * n) & !word & HIGH;
    let mut chunks = bytes.chunks_exact(8);
    for (n, chunk) in chunks.by_ref().enumerate() {
        let word = u64::from_le_bytes(chunk.try_into().unwrap_or_default());
        let found =
            below(word, 0x20) | below(word ^ (ONES * u64::from(b'"')), 1) | below(word ^ (ONES * u64::from(b'\\')), 1);
        if found != 0 {
            return n * 8 + found.trailing_zeros() as usize / 8;
        }
    }
    let rest = chunks.remainder();
    let at = rest.iter().position(|b| matches!(b, b'"' | b'\\' | 0..0x20)).unwrap_or(rest.len());
    bytes.len() - rest.len() + at
}

/// Reads one JSON text from left to right.
pub struct Reader<'a> {
    text: &'a str,
    at: usize,
}

impl<'a> Reader<'a> {
    /// From the start of `text`.
    pub fn new(text: &'a str) -> Self {
        Reader { text, at: 0 }
    }

    pub(crate) fn error<T>(&self, what: &'static str) -> Result<T, JsonError> {
        Err(JsonError { column: self.at + 1, what })
    }

    fn blanks(&mut self) -> Option<u8> {
        let bytes = self.text.as_bytes();
        loop {
            let byte = *bytes.get(self.at)?;
            if !matches!(byte, b' ' | b'\t' | b'\n' | b'\r') {
                return Some(byte);
            }
            self.at += 1;
        }
    }

    /// The value that stands next.
    ///
    /// # Errors
    /// Where none does.
    pub fn value(&mut self) -> Result<Next<'a>, JsonError> {
        let scalar = match self.blanks() {
            Some(b'"') => Scalar::Text(self.string()?),
            Some(b'{') => {
                self.at += 1;
                return Ok(Next::Object);
            }
            Some(b'[') => {
                self.at += 1;
                return Ok(Next::List);
            }
            Some(b'-' | b'0'..=b'9') => self.number()?,
            Some(b't') => self.word("true", Scalar::Bool(true))?,
            Some(b'f') => self.word("false", Scalar::Bool(false))?,
            Some(b'n') => self.word("null", Scalar::Null)?,
            Some(_) => return self.error("expected a value"),
            None => return self.error("the text ends where a value is expected"),
        };
        Ok(Next::Scalar(scalar))
    }

    /// The next name of the open object, or `None` at its end; `first` where no name was taken yet.
    ///
    /// # Errors
    /// Where neither stands next.
    pub fn name(&mut self, first: bool) -> Result<Option<Cow<'a, str>>, JsonError> {
        match self.blanks() {
            Some(b'}') => {
                self.at += 1;
                return Ok(None);
            }
            Some(b',') if !first => {
                self.at += 1;
                if self.blanks() != Some(b'"') {
                    return self.error("expected a name in quotes");
                }
            }
            Some(b'"') if first => {}
            None => return self.error("the object is not closed"),
            Some(_) if first => return self.error("expected a name in quotes, or `}`"),
            Some(_) => return self.error("expected `,` or `}`"),
        }
        let name = self.string()?;
        if self.blanks() != Some(b':') {
            return self.error("expected `:`");
        }
        self.at += 1;
        Ok(Some(name))
    }

    /// Takes the next name of the open object where it is just `name`, which must hold no quote, backslash or control
    /// character; otherwise takes nothing, and [`Reader::name`] reads it. Quicker than reading a name and comparing it.
    pub fn name_is(&mut self, first: bool, name: &str) -> bool {
        let rest = self.text.as_bytes().get(self.at..).unwrap_or_default();
        let rest = if first { Some(rest) } else { rest.strip_prefix(b",") };
        let rest = rest.and_then(|r| r.strip_prefix(b"\"")).and_then(|r| r.strip_prefix(name.as_bytes()));
        let Some(rest) = rest.and_then(|r| r.strip_prefix(b"\":")) else { return false };
        self.at = self.text.len() - rest.len();
        true
    }

    /// Whether another item of the open list follows; `first` where none was taken yet.
    ///
    /// # Errors
    /// Where neither an item nor the end stands next.
    pub fn item(&mut self, first: bool) -> Result<bool, JsonError> {
        match self.blanks() {
            Some(b']') => {
                self.at += 1;
                Ok(false)
            }
            Some(b',') if !first => {
                self.at += 1;
                Ok(true)
            }
            Some(_) if first => Ok(true),
            None => self.error("the list is not closed"),
            Some(_) => self.error("expected `,` or `]`"),
        }
    }

    /// That nothing but blanks follows.
    ///
    /// # Errors
    /// Where something does.
    pub fn end(&mut self) -> Result<(), JsonError> {
        if self.blanks().is_none() { Ok(()) } else { self.error("more follows the value") }
    }

    fn word(&mut self, word: &'static str, scalar: Scalar<'a>) -> Result<Scalar<'a>, JsonError> {
        if self.text[self.at..].starts_with(word) {
            self.at += word.len();
            return Ok(scalar);
        }
        self.error("expected a value")
    }

    /// The string whose opening quote is next.
    fn string(&mut self) -> Result<Cow<'a, str>, JsonError> {
        let from = self.at + 1;
        let bytes = self.text.as_bytes();
        let rest = bytes.get(from..).unwrap_or(&[]);
        let length = special(rest);
        match rest.get(length) {
            Some(b'"') => {
                self.at = from + length + 1;
                Ok(Cow::Borrowed(&self.text[from..from + length]))
            }
            Some(b'\\') => self.escaped(from, from + length).map(Cow::Owned),
            Some(_) => self.error("a control character stands in a string; escape it"),
            None => self.error("the string is not closed"),
        }
    }

    /// The string from `from` whose first escape stands at `escape`.
    fn escaped(&mut self, from: usize, escape: usize) -> Result<String, JsonError> {
        let bytes = self.text.as_bytes();
        let mut out = String::with_capacity(escape - from + 32);
        out.push_str(&self.text[from..escape]);
        self.at = escape;
        loop {
            match bytes.get(self.at) {
                Some(b'"') => {
                    self.at += 1;
                    return Ok(out);
                }
                Some(b'\\') => out.push(self.escape()?),
                Some(byte) if *byte < 0x20 => return self.error("a control character stands in a string; escape it"),
                Some(_) => {
                    let rest = bytes.get(self.at..).unwrap_or_default();
                    let length = special(rest);
                    out.push_str(&self.text[self.at..self.at + length]);
                    self.at += length;
                }
                None => return self.error("the string is not closed"),
            }
        }
    }

    fn escape(&mut self) -> Result<char, JsonError> {
        let plain = match self.text.as_bytes().get(self.at + 1) {
            Some(b'"') => '"',
            Some(b'\\') => '\\',
            Some(b'/') => '/',
            Some(b'b') => '\u{8}',
            Some(b'f') => '\u{c}',
            Some(b'n') => '\n',
            Some(b'r') => '\r',
            Some(b't') => '\t',
            Some(b'u') => return self.unicode(),
            _ => return self.error("an unknown escape"),
        };
        self.at += 2;
        Ok(plain)
    }

    fn unicode(&mut self) -> Result<char, JsonError> {
        let unit = |at: usize| {
            let digits = self.text.as_bytes().get(at..at + 4)?;
            digits.iter().try_fold(0u32, |n, b| Some(n << 4 | (*b as char).to_digit(16)?))
        };
        let Some(first) = unit(self.at + 2) else { return self.error("expected four hexadecimal digits after \\u") };
        let (code, length) = match first {
            0xd800..0xdc00 => {
                let pair = self.text.as_bytes().get(self.at + 6..self.at + 8) == Some(b"\\u");
                match unit(self.at + 8).filter(|_| pair) {
                    Some(second @ 0xdc00..0xe000) => (0x10000 + ((first - 0xd800) << 10) + (second - 0xdc00), 12),
                    _ => return self.error("half of a surrogate pair"),
                }
            }
            code => (code, 6),
        };
        match char::from_u32(code) {
            Some(c) => {
                self.at += length;
                Ok(c)
            }
            None => self.error("half of a surrogate pair"),
        }
    }

    fn number(&mut self) -> Result<Scalar<'a>, JsonError> {
        let length = match number::length(self.text.as_bytes().get(self.at..).unwrap_or_default()) {
            Some(length) => length,
            None => return self.error("a number that JSON does not know"),
        };
        let text = &self.text[self.at..self.at + length];
        self.at += length;
        Ok(number::read(text))
    }
}

/// The text with each escape of half a surrogate pair replaced by U+FFFD; none where there is no such escape.
pub fn without_half_pairs(text: &str) -> Option<String> {
    let bytes = text.as_bytes();
    let unit = |at: usize| {
        let digits = bytes.get(at..at + 6)?.strip_prefix(b"\\u")?;
        digits.iter().try_fold(0u32, |n, b| Some(n << 4 | (*b as char).to_digit(16)?))
    };
    let (mut out, mut from, mut at) = (String::new(), 0, 0);
    while let Some(next) = memchr::memchr(b'\\', bytes.get(at..)?) {
        at += next;
        at += match (unit(at), unit(at + 6)) {
            (Some(0xd800..0xdc00), Some(0xdc00..0xe000)) => 12,
            (Some(0xd800..0xe000), _) => {
                out.push_str(text.get(from..at)?);
                out.push_str("\\ufffd");
                from = at + 6;
                6
            }
            _ => 2,
        };
        if at >= bytes.len() {
            break;
        }
    }
    (from > 0).then(|| out + text.get(from..).unwrap_or_default())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::{Value, parse_value};
    use proptest::prelude::*;

    #[test]
    fn broken_texts_are_answered_with_their_place() {
        for (text, column) in [
            ("", 1),
            ("{", 2),
            ("{\"a\"}", 5),
            ("{\"a\":}", 6),
            ("{\"a\":1,}", 8),
            ("[1 2]", 4),
            ("[1", 3),
            ("\"\u{1}\"", 1),
            ("\"a", 1),
            ("\"\\x\"", 2),
            ("\"\\ud800\"", 2),
            ("01", 2),
            ("-", 1),
            ("1.", 1),
            ("tru", 1),
            ("{} x", 4),
            ("{a:1}", 2),
        ] {
            assert_eq!(parse_value(text).map_err(|e| e.column), Err(column), "{text}");
        }
        assert_eq!(parse_value(&"[".repeat(100_000)).map_err(|e| e.what), Err("nested too deeply"));
    }

    #[test]
    fn half_pairs_are_replaced() {
        for (sent, mended) in [
            (r#"{"a":"\ud800"}"#, Some(r#"{"a":"\ufffd"}"#)),
            (r#"{"a":"\udc00 \ud83d\ude80 \ud800x"}"#, Some(r#"{"a":"\ufffd \ud83d\ude80 \ufffdx"}"#)),
            (r#"{"a":"\\ud800 é \n"}"#, None),
            (r#"{"a":"\ud83d\ude80"}"#, None),
            ("\\", None),
        ] {
            assert_eq!(without_half_pairs(sent).as_deref(), mended, "{sent}");
        }
    }

    #[test]
    fn strings_and_their_escapes() {
        let text = r#""\"\\\/\b\f\n\r\t\u00e9\ud83d\ude80 plain é""#;
        assert_eq!(parse_value(text), Ok(Value::Text("\"\\/\u{8}\u{c}\n\r\té🚀 plain é".into())));
    }

    #[test]
    fn a_name_is_taken_where_it_is_the_one() {
        let mut reader = Reader::new(r#"{"a":1,"b":2, "c":3,"d" :4,"a\"b":5}"#);
        let scalar = |n: i64| Ok(Next::Scalar(Scalar::Int(n)));
        assert_eq!(reader.value(), Ok(Next::Object));
        assert!(!reader.name_is(true, "b") && !reader.name_is(false, "a") && !reader.name_is(true, ""));
        assert!(reader.name_is(true, "a"));
        assert_eq!(reader.value(), scalar(1));
        assert!(!reader.name_is(true, "b") && !reader.name_is(false, "bb") && reader.name_is(false, "b"));
        assert_eq!(reader.value(), scalar(2));
        // Blanks are for the slower way.
        for (name, n) in [("c", 3), ("d", 4), ("a\"b", 5)] {
            assert!(!reader.name_is(false, name));
            assert_eq!(reader.name(false).unwrap().as_deref(), Some(name));
            assert_eq!(reader.value(), scalar(n));
        }
        assert!(!reader.name_is(false, "a"));
        assert_eq!(reader.name(false), Ok(None));
        reader.end().unwrap();
    }

    fn any_json() -> impl Strategy<Value = serde_json::Value> {
        let leaf = prop_oneof![
            Just(serde_json::Value::Null),
            any::<bool>().prop_map(Into::into),
            any::<i64>().prop_map(Into::into),
            any::<u64>().prop_map(Into::into),
            any::<f64>().prop_map(Into::into),
            ".*".prop_map(Into::into),
        ];
        leaf.prop_recursive(4, 32, 6, |inner| {
            prop_oneof![
                prop::collection::vec(inner.clone(), 0..6).prop_map(Into::into),
                prop::collection::vec((".{0,6}", inner), 0..6)
                    .prop_map(|v| serde_json::Value::Object(v.into_iter().collect())),
            ]
        })
    }

    proptest! {
        /// What a JSON library writes is read as that library reads it.
        #[test]
        fn agrees_with_another_reader(json in any_json()) {
            let text = json.to_string();
            let back = serde_json::to_string(&parse_value(&text).unwrap()).unwrap();
            prop_assert_eq!(serde_json::from_str::<serde_json::Value>(&back).unwrap(), json);
        }

        #[test]
        fn any_text_is_answered(text in ".*", near in "[\\[\\]{}:,\"0-9eE+\\-.\\\\utrfnals ]{0,24}") {
            let _ = parse_value(&text);
            let reported = parse_value(&near);
            let by_library = serde_json::from_str::<serde_json::Value>(&near);
            // That library refuses numbers beyond a double, which are kept here; all else agrees.
            let too_large = by_library.as_ref().is_err_and(|e| e.to_string().contains("out of range"));
            prop_assert!(too_large || reported.is_ok() == by_library.is_ok(), "{:?} {:?}", reported, by_library);
        }
    }
}
