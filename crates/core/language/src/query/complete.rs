//! What can stand at a point of a query: the question that an editor asks while somebody types. It only returns what kind
//! of thing is wanted; which fields and values there are, the one who keeps the events knows.

use super::syntax::{Kind, Syntax};
use super::{Context, parse};

/// What can stand at the cursor.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Wanted {
    /// A word, a field to compare, or a word of the language.
    Term,
    /// A field.
    Field,
    /// A value of this field, as the text names it.
    Value(String),
    /// An aggregate.
    Aggregate,
    /// A range.
    Range,
    /// Nothing that could be proposed: a regular expression, a name, a number.
    Nothing,
}

/// A point of a query.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CursorPoint {
    /// Where what is being typed begins, in characters from 0; it ends where one types.
    pub from: usize,
    /// What is typed of it so far, without an opening quote.
    pub typed: String,
    /// What can stand there.
    pub wanted: Wanted,
}

/// What can stand at character `at` of `text`. What stands behind it is not looked at.
pub fn cursor_point(text: &str, at: usize) -> CursorPoint {
    let before: String = text.chars().take(at).collect();
    let at = before.chars().count();
    let syntax = parse(&before, &Context::utc(0)).syntax;
    let tokens = syntax.tokens();
    let chars: Vec<char> = before.chars().collect();
    let text_of = |token: &Syntax| chars.get(token.from..token.to).unwrap_or_default().iter().collect::<String>();
    let open = |token: &&&Syntax| {
        token.to == at && !matches!(token.kind, Kind::Bracket | Kind::Comma | Kind::Sign) && token.from < token.to
    };
    let current = tokens.last().filter(open);
    let earlier = tokens.get(..tokens.len() - usize::from(current.is_some())).unwrap_or_default();
    let from = current.map_or(at, |t| t.from);
    let typed = current.map(|t| text_of(t)).unwrap_or_default();
    let ended = typed.len() > 1 && typed.starts_with('"') && typed.ends_with('"');
    let wanted = match current.map(|t| t.kind) {
        Some(Kind::Regex | Kind::Name) => Wanted::Nothing,
        Some(_) if ended => Wanted::Nothing,
        _ => wanted(earlier, &text_of),
    };
    let typed = typed.trim_start_matches(['"', '`']).to_owned();
    CursorPoint { from, typed, wanted }
}

/// By the tokens before the one that is being typed.
fn wanted(tokens: &[&Syntax], text_of: &impl Fn(&Syntax) -> String) -> Wanted {
    let Some((last, before)) = tokens.split_last() else { return Wanted::Term };
    let is = |word: &str| text_of(last) == word;
    match last.kind {
        Kind::Sign => match before.last() {
            _ if is("~") => Wanted::Nothing,
            Some(field) if field.kind == Kind::Field => Wanted::Value(text_of(field)),
            _ => Wanted::Nothing,
        },
        Kind::Keyword if is("has") || is("per") => Wanted::Field,
        Kind::Keyword if is("measure") => Wanted::Aggregate,
        Kind::Keyword if is("over") => Wanted::Range,
        Kind::Keyword if is("as") || is("every") || is("having") || is("top") || is("by") || is("last") => {
            Wanted::Nothing
        }
        Kind::Bracket if is("(") => match before.split_last() {
            Some((function, _)) if function.kind == Kind::Function => {
                // `count(…)` and `share(…)` take a filter, the others a field.
                if matches!(text_of(function).as_str(), "count" | "share") { Wanted::Term } else { Wanted::Field }
            }
            Some((sign, before)) if text_of(sign) == "in" => match before.last() {
                Some(field) if field.kind == Kind::Field => Wanted::Value(text_of(field)),
                _ => Wanted::Term,
            },
            _ => Wanted::Term,
        },
        Kind::Comma => after_comma(before, text_of),
        _ => Wanted::Term,
    }
}

/// Behind a comma stands what stood before it: a value of a list, a field of `per`, an aggregate.
fn after_comma(tokens: &[&Syntax], text_of: &impl Fn(&Syntax) -> String) -> Wanted {
    let mut closed = 0;
    for (n, token) in tokens.iter().enumerate().rev() {
        match (token.kind, text_of(token).as_str()) {
            (Kind::Bracket, ")") => closed += 1,
            (Kind::Bracket, "(") if closed > 0 => closed -= 1,
            (Kind::Bracket, "(") => return wanted(tokens.get(..=n).unwrap_or(tokens), text_of),
            (Kind::Keyword, "per") if closed == 0 => return Wanted::Field,
            (Kind::Keyword, "measure") if closed == 0 => return Wanted::Aggregate,
            _ => {}
        }
    }
    Wanted::Term
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn by_what_stands_before() {
        let value = |field: &str| Wanted::Value(field.to_owned());
        for (text, typed, wanted) in [
            ("|", "", Wanted::Term),
            ("sev|", "sev", Wanted::Term),
            ("service=|", "", value("service")),
            ("service=co|", "co", value("service")),
            ("service=co| severity>=warn", "co", value("service")),
            ("lease service = \"co|", "co", value("service")),
            ("service=\"codes\"|", "\"codes\"", Wanted::Nothing),
            ("severity>=|", "", value("severity")),
            ("slot.bank in (BK-1, B|", "B", value("slot.bank")),
            ("slot.bank in (|", "", value("slot.bank")),
            ("has sl|", "sl", Wanted::Field),
            ("(lease or s|", "s", Wanted::Term),
            ("message ~ /x|", "/x", Wanted::Nothing),
            ("measure count, p|", "p", Wanted::Aggregate),
            ("measure p95(to|", "to", Wanted::Field),
            ("measure p95(took), |", "", Wanted::Aggregate),
            ("measure share(sev|", "sev", Wanted::Term),
            ("measure count per service, h|", "h", Wanted::Field),
            ("measure count per s|", "s", Wanted::Field),
            ("lease |", "", Wanted::Term),
        ] {
            let at = text.chars().position(|c| c == '|').unwrap();
            let found = cursor_point(&text.replacen('|', "", 1), at);
            let plain = found.typed.trim_end_matches('"').to_owned();
            assert_eq!((plain.as_str(), &found.wanted), (typed.trim_matches('"'), &wanted), "{text}");
        }
    }

    proptest::proptest! {
        #[test]
        fn any_place_of_any_text(text in "[a-z0-9=<>~(),\"/` .|é-]{0,40}", at in 0usize..50) {
            let found = cursor_point(&text, at);
            proptest::prop_assert!(found.from <= text.chars().count());
        }
    }
}
