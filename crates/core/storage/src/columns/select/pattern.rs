//! A text or an expression sought in messages: what a template alone says of all its messages.
//!
//! A template's words stand in each of its messages, and its variables are whole words with a digit in them. So a text
//! that holds a sign between words can hide in a variable only with its first and last word; a template with none of
//! the forms that leaves has no such message. A match that begins within a template's own text is followed to the next
//! variable, and seldom gets there.

use super::words::{Verdict, has_rest};
use calvex_language::model::template::{HOLE, holes};
use calvex_language::query::{Progress, RegexTest, Test, TextOp, is_word_char};
use memchr::memmem::Finder;

/// A text, and the forms in which variables may hide some of it.
struct Sought {
    plain: Finder<'static>,
    hidden: Vec<Finder<'static>>,
}

/// Judges templates by one test.
pub(super) struct Judge<'t> {
    test: &'t Test,
    regex: Option<&'t RegexTest>,
    sought: Option<Vec<Sought>>,
    progress: Option<Progress>,
}

impl<'t> Judge<'t> {
    /// For one page.
    pub(super) fn new(test: &'t Test) -> Self {
        let (texts, regex) = match test {
            Test::Text(TextOp::Contains, text) => (Some(vec![text.as_str()]), None),
            Test::Regex(regex) => (regex.begins.as_ref().map(|b| b.iter().map(String::as_str).collect()), Some(regex)),
            _ => (None, None),
        };
        let sought = |text: &str| {
            let hidden = hidden_forms(text)?.iter().map(|form| Finder::new(form).into_owned()).collect();
            Some(Sought { plain: Finder::new(text).into_owned(), hidden })
        };
        let sought = texts.and_then(|texts: Vec<&str>| texts.into_iter().map(sought).collect());
        Judge { test, regex, sought, progress: regex.and_then(RegexTest::progress) }
    }

    /// What `template` says of its messages.
    pub(super) fn judge(&mut self, template: &str) -> Verdict {
        let holes = holes(template);
        if holes == 0 {
            return if self.test.text(template) { Verdict::All } else { Verdict::None };
        }
        if has_rest(template, holes) {
            return Verdict::Ask;
        }
        let Some(sought) = &self.sought else { return Verdict::Ask };
        let (mut found, mut open) = (false, false);
        for sought in sought {
            let mut from = 0;
            while let Some(at) =
                template.as_bytes().get(from..).and_then(|rest| sought.plain.find(rest)).map(|at| from + at)
            {
                found = true;
                from = at + 1;
                open = open || !dies(self.progress.as_mut(), template, at);
            }
            open = open || sought.hidden.iter().any(|form| form.find(template.as_bytes()).is_some());
        }
        match self.regex {
            None if found => Verdict::All,
            Some(regex) if found && certain(regex, template) => Verdict::All,
            _ if open => Verdict::Ask,
            _ => Verdict::None,
        }
    }
}

/// Whether a match that begins at `at` ends before the next variable without having become one.
fn dies(progress: Option<&mut Progress>, template: &str, at: usize) -> bool {
    let bytes = template.as_bytes();
    let after_hole = at.checked_sub(1).and_then(|before| bytes.get(before)) == Some(&(HOLE as u8));
    let to = template[at..].find(HOLE).map_or(template.len(), |n| at + n);
    !after_hole && progress.is_some_and(|p| p.dies(template, at, to))
}

/// Whether the first match stands apart from every variable, so that all messages have it.
fn certain(regex: &RegexTest, template: &str) -> bool {
    let Some(found) = regex.regex.find(template) else { return false };
    let bytes = template.as_bytes();
    let around = found.start().saturating_sub(1)..(found.end() + 1).min(bytes.len());
    !bytes.get(around).is_some_and(|around| around.contains(&(HOLE as u8)))
}

/// The forms, other than as it is, in which `text` may stand in a template, its holes marked; `None` where it may hide
/// wholly, or in ways not known by its words.
fn hidden_forms(text: &str) -> Option<Vec<String>> {
    let first = text.find(|c| !is_word_char(c))?;
    let last = text.rfind(|c| !is_word_char(c))?;
    let last = last + text[last..].chars().next().map_or(1, char::len_utf8);
    let hex = |word: &str| word.bytes().all(|b| b.is_ascii_hexdigit());
    // Words joined by `-` may be one variable together.
    let mut joined = text.match_indices('-').map(|(at, _)| {
        let before = text[..at].rsplit(|c| !is_word_char(c)).next().unwrap_or("");
        let behind = text[at + 1..].split(|c| !is_word_char(c)).next().unwrap_or("");
        hex(before) && hex(behind)
    });
    if text.contains(HOLE) || joined.any(|may| may) {
        return None;
    }
    let varies = |word: &str| word.bytes().any(|b| b.is_ascii_digit());
    let mut inner = String::new();
    let mut rest = &text[first..last];
    while let Some(at) = rest.find(is_word_char) {
        let end = rest[at..].find(|c| !is_word_char(c)).map_or(rest.len(), |n| at + n);
        inner.push_str(&rest[..at]);
        if varies(&rest[at..end]) {
            inner.push(HOLE);
        } else {
            inner.push_str(&rest[at..end]);
        }
        rest = &rest[end..];
    }
    inner.push_str(rest);
    let hole = HOLE.to_string();
    // The first and last word may be the end and the beginning of longer ones, which vary by a digit elsewhere.
    let ends = |word: &str| match word {
        "" => vec![String::new()],
        word if varies(word) => vec![hole.clone()],
        word => vec![word.to_owned(), hole.clone()],
    };
    let mut forms = Vec::new();
    for head in ends(&text[..first]) {
        for tail in ends(&text[last..]) {
            forms.push(format!("{head}{inner}{tail}"));
        }
    }
    forms.retain(|form| form != text);
    Some(forms)
}

#[cfg(test)]
mod tests {
    use super::*;
    use calvex_language::model::template::split;
    use calvex_language::query::{Builtin, Field, Filter, parse_filter};
    use proptest::prelude::*;

    fn test_of(query: &str) -> Test {
        match parse_filter(query) {
            Ok(Filter::Compare(Field::Builtin(Builtin::Message), test)) => test,
            other => panic!("{query}: {other:?}"),
        }
    }

    fn verdict(query: &str, message: &str) -> Verdict {
        let mut template = String::new();
        split(message, &mut template, |_| {});
        Judge::new(&test_of(query)).judge(&template)
    }

    #[test]
    fn templates_decide_where_they_can() {
        let torn = r"message ~ /torn (again|quiet) \w+ dim/";
        for (query, message, expected) in [
            (torn, "note on door 17: torn again slow dim", Verdict::All),
            (torn, "note on door 17: torn again slow hinge", Verdict::None),
            (torn, "note on door 17: quiet dim", Verdict::None),
            (torn, "torn again slow dim", Verdict::All),
            (torn, "torn quiet 17 dim", Verdict::Ask),
            (torn, "9torn quiet slow dim", Verdict::Ask),
            (r"message ~ /door \d+/", "at door 17", Verdict::Ask),
            (r"message ~ /lease LS-9/", "lease LS-90817 ran out", Verdict::Ask),
            (r"message ~ /LS-9/", "door 17 is open", Verdict::None),
            ("message *= \"ran out\"", "lease LS-90817 ran out", Verdict::All),
            ("message *= \"ran out\"", "lease LS-90817 ran on", Verdict::None),
            ("message *= \"out 1\"", "ran out 14.2 s before", Verdict::Ask),
            ("message *= out", "ran out 14.2 s before", Verdict::Ask),
            ("message ^= lease", "lease LS-4", Verdict::Ask),
            ("message ^= lease", "lease over", Verdict::All),
        ] {
            assert_eq!(verdict(query, message), expected, "{query} of {message}");
        }
    }

    proptest! {
        /// What a template is judged to say of its messages is true of the message it was made of.
        #[test]
        fn verdicts_are_true(
            text in "(a1|be|c|7f|é|x_|-| |\\.|:){1,5}",
            tail in "(\\[a-f\\]|\\.|\\\\w\\+|\\\\d|\\\\b|\\$)?( c| be|-7f)?",
            message in "(a1|be|c|7f|é|x_|-| |\\.|:|\u{1a}){0,12}",
            deep in any::<bool>(),
        ) {
            let message = if deep { format!("{}{message}", "be. ".repeat(600)) } else { message };
            let tests = [format!("message *= {text:?}"), format!("message ~ /{}{tail}/", regex::escape(&text))];
            for query in tests {
                let test = test_of(&query);
                let holds = test.text(&message);
                match verdict(&query, &message) {
                    Verdict::All => prop_assert!(holds, "{} of {:?}", query, message),
                    Verdict::None => prop_assert!(!holds, "{} of {:?}", query, message),
                    Verdict::Ask => {}
                }
            }
        }
    }
}
