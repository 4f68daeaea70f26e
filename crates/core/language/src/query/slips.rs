//! What is likely not meant as it was typed: forms of other languages, and slips of the hand. A query that holds one is
//! run as it stands; the warning names what it means here, and what to write instead. Works on the tokens of the text.

use super::literal::{Num, parse_duration_ns, parse_size_bytes};
use super::parser::is_aggregate;
use super::{Builtin, Mistake, Syntax, SyntaxKind as Kind, spoken, unit_of_field};
use crate::model::{SPELLINGS, Status};

/// Clause words that do nothing in capitals.
const WORDS: [&str; 9] = ["and", "or", "not", "has", "in", "between", "measure", "over", "per"];
/// Words that compare elsewhere, and the sign that does here.
const COMPARERS: [(&str, &str); 14] = [
    ("is", "="),
    ("eq", "="),
    ("equals", "="),
    ("ne", "!="),
    ("gt", ">"),
    ("gte", ">="),
    ("lt", "<"),
    ("lte", "<="),
    ("contains", "*="),
    ("like", "*="),
    ("startswith", "^="),
    ("begins", "^="),
    ("endswith", "$="),
    ("matches", "~"),
];

/// A token with its text.
#[derive(Clone, Copy)]
struct Token<'t> {
    kind: Kind,
    text: &'t str,
    from: usize,
    to: usize,
}

impl<'t> Token<'t> {
    fn word(&self) -> Option<&'t str> {
        (self.kind == Kind::Word).then_some(self.text)
    }
}

/// The message and the cure.
type Reported = (String, String);

/// The warnings of a text that was taken apart.
pub(super) fn slips(text: &str, syntax: &Syntax) -> Vec<Mistake> {
    let places: Vec<usize> = text.char_indices().map(|(at, _)| at).chain([text.len()]).collect();
    let slice = |from: usize, to: usize| {
        let range = places.get(from).zip(places.get(to));
        range.and_then(|(from, to)| text.get(*from..*to)).unwrap_or_default()
    };
    let tokens: Vec<Token> = syntax
        .tokens()
        .into_iter()
        .map(|t| Token { kind: t.kind, text: slice(t.from, t.to), from: t.from, to: t.to })
        .collect();
    let mut warnings = Vec::new();
    for at in 0..tokens.len() {
        let Some((token, behind)) = tokens.get(at..).and_then(|rest| rest.split_first()) else { break };
        let reported = match token.kind {
            Kind::Word => word(token.text, at, token.to, behind),
            Kind::Field => match behind {
                [sign, value, ..] if sign.kind == Kind::Sign => {
                    field(token.text, sign.text, value.text).or_else(|| compared(token.text, sign.text, value))
                }
                _ => None,
            },
            _ => None,
        };
        if let Some((message, cure)) = reported {
            let length = token.to.saturating_sub(token.from).max(1);
            warnings.push(Mistake { column: token.from + 1, length, message, cure });
        }
    }
    warnings
}

/// Whether a word looks like the name of a field.
fn is_named(word: &str) -> bool {
    Builtin::from_name(word).is_some() || (word.contains(['.', '_']) && word.starts_with(|c: char| c.is_alphabetic()))
}

/// A word that is searched, with what stands behind it.
fn word(word: &str, at: usize, end: usize, behind: &[Token]) -> Option<Reported> {
    let lower = word.to_lowercase();
    let next = behind.first();
    let next_word = next.and_then(Token::word);
    let third = behind.get(1).map(|t| t.text);
    let searched = |cure: String| Some((format!("`{word}` is searched as a word"), cure));
    let in_capitals = word != lower && word == word.to_uppercase() && WORDS.contains(&lower.as_str());
    if in_capitals && next.is_some() && (at > 0 || !matches!(lower.as_str(), "and" | "or")) {
        return searched(format!("write `{lower}` in small letters, or quote it to search it"));
    }
    if word.starts_with(['\'', '‘', '’', '“', '”', '„']) {
        return Some((
            format!("`{word}` begins with a quote that means nothing here"),
            "write \"double quotes\"".into(),
        ));
    }
    if let Some(left_out) = word.strip_prefix(['-', '!']).filter(|w| w.starts_with(|c: char| c.is_alphabetic())) {
        return searched(format!("to leave events out write not {left_out}"));
    }
    let colon = word.split_once(':').filter(|(name, _)| is_named(name) || name.chars().all(|c| c.is_ascii_lowercase()));
    if let Some((name, value)) = colon.filter(|(name, value)| name.len() > 1 && !value.starts_with(['/', ':'])) {
        let value = match (value, next_word) {
            ("", Some(next)) if Builtin::from_name(name).is_some() => next,
            (value, _) => value,
        };
        if !value.is_empty() {
            let message = format!("`{word}` is searched as words in a row");
            return Some((message, format!("to compare the field write {name}={value}")));
        }
    }
    let inner = word.trim_end_matches('*');
    if inner.contains('*') {
        let cure = format!("only a last * means any ending; write message ~ /{}/", inner.replace('*', ".*"));
        return Some((format!("the `*` in `{word}` parts two words"), cure));
    }
    if is_aggregate(&lower) {
        let opens = next.is_some_and(|t| t.text == "(" && t.from == end);
        if opens || next_word.is_some_and(|w| ["per", "by", "every"].contains(&w)) {
            let shown = if opens { format!("{lower}(…)") } else { format!("{lower} per service") };
            return searched(format!("for figures write measure {shown}"));
        }
    }
    match next_word {
        Some("between") if third.is_some_and(is_number) => {
            let message = "`between` is searched as a word: it needs two bounds".to_owned();
            return Some((message, format!("write {word} between {} and …", third.unwrap_or_default())));
        }
        Some("in") if is_named(word) && third.is_some() => {
            let message = "`in` is searched as a word: its list stands in brackets".to_owned();
            return Some((message, format!("write {word} in ({}, …)", third.unwrap_or_default())));
        }
        Some(comparer) if is_named(word) => {
            let sign = COMPARERS.iter().find(|(name, _)| comparer.eq_ignore_ascii_case(name)).map(|(_, sign)| sign);
            let wanted = third.filter(|t| *t != "not");
            if let Some((sign, value)) = sign.zip(wanted) {
                let value = if *sign == "~" { format!(" /{value}/") } else { value.to_owned() };
                let cure = match third {
                    Some("null" | "none" | "empty") => format!("write not has {word}"),
                    _ => format!("write {word}{}{sign}{value}", if *sign == "~" { " " } else { "" }),
                };
                return Some((format!("`{comparer}` is searched as a word"), cure));
            }
        }
        _ => {}
    }
    let named_next = next_word.filter(|w| is_named(w));
    match (lower.as_str(), next_word) {
        ("last" | "past" | "since" | "over", Some(length)) if parse_duration_ns(length).is_some() => {
            searched(format!("for a time range write over last {length}"))
        }
        ("last" | "past", Some(unit)) if spoken::length(&unit.to_lowercase()).is_some() => {
            searched(format!("for a time range write over last {unit}"))
        }
        ("over", Some(day @ ("yesterday" | "now" | "week"))) => {
            searched(format!("`{day}` is no range here; write over last 1d, over today, or over TIME to TIME"))
        }
        ("exists" | "exist", _) if named_next.is_some() => {
            searched(format!("write has {}", named_next.unwrap_or_default()))
        }
        ("group", Some("by")) => searched("for groups write measure count per service".into()),
        ("sort" | "order", Some("by")) => {
            searched("events come newest first; figures are ordered by `top N by`".into())
        }
        ("limit" | "head", Some(n)) if is_number(n) => {
            searched("how many events come is no part of a query: --limit, or the next page".into())
        }
        ("where" | "select" | "from", _) if at == 0 && behind.len() > 1 => {
            searched("a query begins with its filter, without a word before it".into())
        }
        _ => None,
    }
}

fn is_number(text: &str) -> bool {
    Num::parse(text).is_some() || parse_duration_ns(text).is_some() || parse_size_bytes(text).is_some()
}

/// The name of a field that is compared.
fn field(name: &str, sign: &str, value: &str) -> Option<Reported> {
    if let Some(left_out) = name.strip_prefix(['-', '!']) {
        let message = format!("`{}` is taken for a part of the name", name.get(..1).unwrap_or_default());
        return Some((message, format!("to leave events out write not {left_out}{sign}{value}")));
    }
    let lower = name.to_lowercase();
    let own = |part: &str, message: String| Some((message, format!("write {part}{sign}{value}")));
    if name != lower && Builtin::from_name(&lower).is_some() {
        return own(&lower, format!("`{name}` is no part of an event: names are written in small letters"));
    }
    if name.starts_with(['.', '`']) || Builtin::from_name(name).is_some() {
        return None;
    }
    let (part, _) = SPELLINGS.iter().find(|(part, names)| {
        let spelled = names.contains(&lower.as_str()) && !lower.ends_with("traceparent") && !lower.ends_with("headers");
        spelled && part.name() != lower
    })?;
    own(part.name(), format!("what senders write as `{name}` is kept as `{}`", part.name()))
}

fn own_is_message(name: &str) -> bool {
    Builtin::from_name(name) == Some(Builtin::Message)
}

/// What a field is compared with.
fn compared(name: &str, sign: &str, value: &Token) -> Option<Reported> {
    if value.kind != Kind::Value {
        return None;
    }
    let text = value.text;
    let literal = |cure: String| Some((format!("`{text}` is compared as it stands"), cure));
    let equals = matches!(sign, "=" | "==" | "!=");
    let not = if sign == "!=" { "not " } else { "" };
    match (sign, text.chars().next()?) {
        ("=", '~') => return literal(format!("for an expression write {name} ~ /…/")),
        ("=", '>' | '<') => return literal(format!("write {name}{}=…", text.get(..1).unwrap_or_default())),
        ("<", '>') => return literal(format!("write {name}!={}", text.trim_start_matches('>'))),
        (_, '\'' | '‘' | '’' | '“' | '”' | '„') => {
            let bare = text.trim_matches(|c| "'‘’“”„".contains(c));
            return literal(format!("write {name}{sign}\"{bare}\""));
        }
        _ => {}
    }
    if equals && text.len() > 1 && text.contains('*') {
        let bare = text.trim_matches('*');
        let cure = match (text.starts_with('*'), text.ends_with('*'), bare.contains('*')) {
            (false, true, false) => format!("write {not}{name}^={bare}"),
            (true, false, false) => format!("write {not}{name}$={bare}"),
            (true, true, false) => format!("write {not}{name}*={bare}"),
            _ => format!("write {not}{name} ~ /{}/", text.replace('*', ".*")),
        };
        return literal(cure);
    }
    if equals && own_is_message(name) && text.starts_with('/') && !text.ends_with('/') {
        return literal(format!("for an expression write {not}{name} ~ /…/"));
    }
    let pattern = text.strip_prefix('/').and_then(|t| t.strip_suffix('/')).filter(|_| equals);
    if pattern.is_some_and(|p| p.contains(['*', '+', '|', '\\', '^', '$', '[', '?'])) {
        return literal(format!("for an expression write {not}{name} ~ {text}"));
    }
    if equals && matches!(text.to_lowercase().as_str(), "null" | "none" | "nil" | "undefined") {
        let cure = if sign == "!=" { format!("write has {name}") } else { format!("write not has {name}") };
        return literal(format!("for events without the field {cure}"));
    }
    let own = Builtin::from_name(name);
    if own == Some(Builtin::Status) && Status::from_name(text).is_none() {
        let cure = format!("`status` is how a span ended: unset, ok or error; a sent field is .status{sign}{text}");
        return literal(cure);
    }
    let id_digits = match own {
        Some(Builtin::Trace) => 32,
        Some(Builtin::Span | Builtin::Parent) => 16,
        _ => 0,
    };
    if id_digits > 0 && equals && (text.len() != id_digits || !text.bytes().all(|b| b.is_ascii_hexdigit())) {
        return literal(format!("an id has {id_digits} hexadecimal digits; for its beginning write {name}^={text}"));
    }
    let ordered = matches!(sign, "<" | "<=" | ">" | ">=");
    let begins_as_number = text.starts_with(|c: char| c.is_ascii_digit()) && Num::parse(text).is_none();
    if ordered && own.is_none() && begins_as_number && !text.contains(['-', ':', '.']) {
        let converts = match unit_of_field(name) {
            Some(_) => parse_duration_ns(text).is_some() || parse_size_bytes(text).is_some(),
            None => false,
        };
        if !converts {
            return literal(
                "it is a text here, not a number; write a plain number, or a unit such as ms or KiB".into(),
            );
        }
    }
    None
}
