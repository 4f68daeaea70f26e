//! Ids in whatever a person has in hand: a response's headers, an error report, a line of a log, a JSON document. What is
//! taken: hex of 32 and 16 digits, a W3C `traceparent`, UUIDs (RFC 9562), the last part of a link to a story, and words
//! with both letters and digits such as `PX-48213`, the rarer forms first.

use regex::Regex;
use std::sync::LazyLock;

/// Characters looked at.
const MAX_TEXT: usize = 64 << 10;
/// Ids found at most.
const MAX_IDS: usize = 24;

/// What an id looks like.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum PastedId {
    /// 32 hexadecimal digits.
    Trace,
    /// 16 hexadecimal digits.
    Span,
    /// In groups, RFC 9562.
    Uuid,
    /// Letters and digits.
    Word,
}

#[expect(clippy::expect_used, reason = "the expressions are constants that a test compiles")]
static FORMS: LazyLock<[(PastedId, Regex); 4]> = LazyLock::new(|| {
    let form = |text: &str| Regex::new(text).expect("a constant expression");
    [
        (PastedId::Trace, form(r"(?i)(?:^|[^0-9a-z])([0-9a-f]{32})(?:[^0-9a-z]|$)")),
        (PastedId::Uuid, form(r"(?i)(?:^|[^0-9a-z])([0-9a-f]{8}(?:-[0-9a-f]{4}){3}-[0-9a-f]{12})(?:[^0-9a-z]|$)")),
        (PastedId::Span, form(r"(?i)(?:^|[^0-9a-z])([0-9a-f]{16})(?:[^0-9a-z]|$)")),
        (
            PastedId::Word,
            form(r"(?:^|[^\p{L}\p{N}_-])(\p{L}[\p{L}\p{N}]*[-_:]\p{N}[\p{L}\p{N}-]*)(?:[^\p{L}\p{N}_-]|$)"),
        ),
    ]
});

/// The ids in a text, the likeliest first, each once. A text that is one word is an id whatever it looks like.
pub fn ids_in(text: &str) -> Vec<(PastedId, String)> {
    let text = text.trim();
    let end = text.char_indices().map(|(at, _)| at).nth(MAX_TEXT).unwrap_or(text.len());
    let text = text.get(..end).unwrap_or(text);
    let mut found: Vec<(PastedId, String)> = Vec::new();
    for (kind, form) in FORMS.iter() {
        let mut from = 0;
        while let Some(id) = form.captures_at(text, from).and_then(|c| c.get(1)) {
            // The sign behind one id may be the sign before the next.
            from = id.end();
            let id = id.as_str();
            let id = if *kind == PastedId::Word { id.to_owned() } else { id.to_ascii_lowercase() };
            let zero = id.bytes().all(|b| matches!(b, b'0' | b'-'));
            if !zero && found.len() < MAX_IDS && !found.iter().any(|(_, known)| *known == id) {
                found.push((*kind, id));
            }
        }
    }
    if found.is_empty() && !text.is_empty() && !text.contains(char::is_whitespace) {
        let last = text.trim_end_matches('/').rsplit('/').next().unwrap_or(text);
        found.push((PastedId::Word, last.to_owned()));
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    const TRACE: &str = "5b8aa5a2d2c872e8321cf37308d69df2";
    const SPAN: &str = "051581bf3cb55c13";

    fn found(text: &str) -> Vec<String> {
        ids_in(text).into_iter().map(|(_, id)| id).collect()
    }

    #[test]
    fn ids_are_found_in_anything() {
        let cases: [(&str, &[&str]); 10] = [
            (TRACE, &[TRACE]),
            ("5B8AA5A2D2C872E8321CF37308D69DF2", &[TRACE]),
            ("PX-48213", &["PX-48213"]),
            (" anything ", &["anything"]),
            ("https://calvex.fennmark.example/story/PX-48213", &["PX-48213"]),
            ("traceparent: 00-5b8aa5a2d2c872e8321cf37308d69df2-051581bf3cb55c13-01", &[TRACE, SPAN]),
            (
                "HTTP/1.1 504\nx-request-id: 3f0d3c1e-8a52-4b7e-9c55-0a1b2c3d4e5f\ncontent-length: 120",
                &["3f0d3c1e-8a52-4b7e-9c55-0a1b2c3d4e5f"],
            ),
            ("{\"parcel\":{\"id\":\"PX-48213\"},\"lease\":\"LS-90817\"}", &["PX-48213", "LS-90817"]),
            ("lease LS-90817 ran out 14.2 s before door 17 confirmed", &["LS-90817"]),
            ("no id here at all", &[]),
        ];
        for (text, ids) in cases {
            assert_eq!(found(text), ids, "{text}");
        }
        assert!(found("00000000000000000000000000000000 and 0000000000000000").is_empty());
    }

    #[test]
    fn what_is_pasted_is_bounded() {
        let many: String = (0..100_000).map(|n| format!("PX-{n} ")).collect();
        assert_eq!(ids_in(&many).len(), MAX_IDS);
        assert!(ids_in(&"é".repeat(MAX_TEXT * 2)).len() == 1);
    }
}
