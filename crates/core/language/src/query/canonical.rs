//! The one text of a tree. Parsing it gives the same tree.

use super::{Builtin, Field, Filter, Literal, Test, WordsTest, parse_filter};

impl std::fmt::Display for Filter {
    fn fmt(&self, f: &mut std::fmt::Formatter) -> std::fmt::Result {
        f.write_str(&filter(self))
    }
}

fn filter(f: &Filter) -> String {
    match f {
        Filter::All => String::new(),
        Filter::And(list) => list.iter().map(in_and).collect::<Vec<_>>().join(" "),
        Filter::Or(list) => list.iter().map(in_or).collect::<Vec<_>>().join(" or "),
        Filter::Not(inner) => format!("not {}", in_not(inner)),
        Filter::Words(w) => words(w),
        Filter::Compare(name, test) => comparison(&field(name), test),
        Filter::Has(name) => format!("has {}", field(name)),
    }
}

fn in_and(f: &Filter) -> String {
    if matches!(f, Filter::Or(_)) { format!("({})", filter(f)) } else { filter(f) }
}

fn in_or(f: &Filter) -> String {
    filter(f)
}

fn in_not(f: &Filter) -> String {
    if matches!(f, Filter::Or(_) | Filter::And(_)) { format!("({})", filter(f)) } else { filter(f) }
}

fn words(w: &WordsTest) -> String {
    match (w.quoted, w.prefix) {
        (true, _) => quote(&w.text),
        (false, true) => format!("{}*", w.text),
        (false, false) => w.text.clone(),
    }
}

fn comparison(name: &str, test: &Test) -> String {
    match test {
        Test::Compare(op, l) => {
            let value = literal(l);
            // Side by side, `>` and `=x` would be read as `>=` and `x`.
            let apart = if value.starts_with('=') { " " } else { "" };
            format!("{name}{}{apart}{value}", op.sign())
        }
        Test::Text(op, t) => format!("{name}{}{}", op.sign(), quote(t)),
        Test::Regex(r) => {
            let flag = if r.any_case { "i" } else { "" };
            format!("{name}~/{}/{flag}", r.pattern.replace('/', "\\/"))
        }
        Test::In(list) => format!("{name} in ({})", list.iter().map(literal).collect::<Vec<_>>().join(", ")),
        Test::Between(lo, hi) => format!("{name} between {} and {}", literal(lo), literal(hi)),
    }
}

fn literal(l: &Literal) -> String {
    if l.quoted { quote(&l.text) } else { l.text.clone() }
}

/// A field as the language writes it.
pub(super) fn field(name: &Field) -> String {
    match name {
        Field::Builtin(part) => part.name().to_owned(),
        Field::Sent(name) => {
            let path = name.as_str();
            let plain = !path.is_empty()
                && !path.starts_with('.')
                && path.chars().all(|c| c.is_alphanumeric() || "._-@/:".contains(c))
                && !super::parser::is_reserved(path);
            match (plain, Builtin::from_name(path)) {
                (true, None) => path.to_owned(),
                (true, Some(_)) => format!(".{path}"),
                (false, _) => format!("`{path}`"),
            }
        }
    }
}

/// A name given with `as`.
pub(super) fn name(alias: &str) -> String {
    let plain = !super::parser::is_reserved(alias) && alias.chars().all(|c| c.is_alphanumeric() || "_-.".contains(c));
    if plain && !alias.is_empty() { alias.to_owned() } else { format!("`{alias}`") }
}

/// The path of a sent field as the language writes it: so that it is read as that field and no other.
pub fn written_path(path: &str) -> String {
    let bare = if Builtin::from_name(path).is_some() { format!(".{path}") } else { path.to_owned() };
    match parse_filter(&format!("has {bare}")) {
        Ok(Filter::Has(read)) if field(&read) == bare => bare,
        _ => format!("`{path}`"),
    }
}

/// A text as the language writes a value: bare where it is read as itself, else between quotes.
pub fn written_value(text: &str) -> String {
    match parse_filter(&format!("x={text}")) {
        Ok(Filter::Compare(_, Test::Compare(_, read))) if read.text == text && !text.starts_with('"') => {
            text.to_owned()
        }
        _ => quote(text),
    }
}

/// A text between quotes.
pub(super) fn quote(text: &str) -> String {
    serde_json::to_string(text).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_and_values_can_be_read_again() {
        for (path, text) in
            [("slot.bank", "slot.bank"), ("status", ".status"), ("a b", "`a b`"), ("http.route", "http.route")]
        {
            assert_eq!(written_path(path), text);
        }
        for (value, text) in [
            ("BK-017", "BK-017"),
            ("/parcels/{id}", "\"/parcels/{id}\""),
            ("a b", "\"a b\""),
            ("say \"x\"", "\"say \\\"x\\\"\""),
        ] {
            let reported = written_value(value);
            assert!(reported == text || reported == value, "{reported}");
            let read = parse_filter(&format!("f={reported}")).unwrap();
            assert!(matches!(&read, Filter::Compare(_, Test::Compare(_, l)) if l.text == value), "{reported}");
        }
    }
}
