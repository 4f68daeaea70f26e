//! The filter: words, brackets, `and`, `or`, `not`, and what begins a comparison.

use super::{MAX_DEPTH, Parser, Read, field_named, is_reserved};
use crate::query::syntax::Kind;
use crate::query::words::{fold, is_word_char, words_of};
use crate::query::{Field, Filter, Mistake, Num, WordsTest};

impl Parser<'_> {
    pub(super) fn or(&mut self) -> Read<Filter> {
        let mut list = vec![self.and()];
        while self.keyword("or") {
            self.scan.blanks();
            if self.scan.done() {
                let at = self.scan.at.saturating_sub(1);
                self.mistake(at, 1, "`or` has nothing after it", "add the other choice, or quote it: \"or\"");
            }
            list.push(self.and());
        }
        flat(list, Filter::Or)
    }

    pub(super) fn and(&mut self) -> Read<Filter> {
        let mut list: Vec<Read<Filter>> = Vec::new();
        loop {
            self.scan.blanks();
            let Some(c) = self.scan.peek() else { break };
            let word = self.scan.peek_bare();
            if c == ')' && self.depth > 0 || word == "or" && self.stands_alone("or") || self.at_clause(&word) {
                break;
            }
            if word == "and" && self.stands_alone("and") {
                let at = self.scan.at;
                self.scan.at += 3;
                self.syntax.token(Kind::Keyword, at, at + 3);
                if list.is_empty() {
                    self.mistake(at, 3, "`and` has nothing before it", "remove it, or quote it: \"and\"");
                }
                continue;
            }
            if word == "not"
                && let Some(Ok(before)) = list.last()
                && is_bare_word(before)
            {
                self.warn_of_not(before);
            }
            list.push(self.unary());
        }
        if list.is_empty() && (self.depth > 0 || !self.scan.done() && self.scan.peek_bare() == "or") {
            let at = self.scan.at;
            self.mistake(at, 1, "expected a word or a comparison here", "try severity>=warn");
        }
        flat(list, Filter::And)
    }

    pub(super) fn warn_of_not(&mut self, before: &Filter) {
        let at = self.scan.at;
        let Filter::Words(w) = before else { return };
        let before = w.text.clone();
        self.scan.at += 3;
        self.scan.blanks();
        let next = self.scan.peek_bare();
        self.scan.at += next.chars().count();
        let compares = self.scan.sign().is_some();
        self.scan.at = at;
        if !next.is_empty() && !compares {
            self.warnings.push(Mistake {
                column: at + 1,
                length: 3,
                message: "`not` leaves out what follows it".into(),
                cure: format!("for the words in a row, write \"{before} not {next}\""),
            });
        }
    }

    pub(super) fn unary(&mut self) -> Read<Filter> {
        self.scan.blanks();
        let at = self.scan.at;
        if self.depth >= MAX_DEPTH {
            let unread = self.mistake(at, 1, format!("nested deeper than {MAX_DEPTH} levels"), "simplify the query");
            self.scan.at = usize::MAX / 2;
            return Err(unread);
        }
        if self.scan.peek_bare() == "not" && self.stands_alone("not") {
            self.scan.at += 3;
            self.syntax.open(Kind::Not, at);
            self.syntax.token(Kind::Keyword, at, at + 3);
            self.scan.blanks();
            if self.scan.done() || self.scan.peek() == Some(')') {
                let unread =
                    self.mistake(at, 3, "`not` has nothing after it", "add what to leave out, or quote it: \"not\"");
                self.syntax.close();
                return Err(unread);
            }
            self.depth += 1;
            // An inner `)` belongs to the bracket around, so that `not` is not mistaken for an opening one.
            let inner = self.unary();
            self.depth -= 1;
            self.syntax.close();
            return Ok(Filter::Not(Box::new(inner?)));
        }
        if self.scan.take('(') {
            self.syntax.open(Kind::Group, at);
            self.syntax.token(Kind::Bracket, at, at + 1);
            self.depth += 1;
            let inner = self.or();
            self.depth -= 1;
            self.scan.blanks();
            if self.scan.take(')') {
                self.syntax.token(Kind::Bracket, self.scan.at - 1, self.scan.at);
            } else {
                self.mistake(at, 1, "this bracket is not closed", "add `)`");
            }
            self.syntax.close();
            return inner;
        }
        self.primary()
    }

    pub(super) fn primary(&mut self) -> Read<Filter> {
        let at = self.scan.at;
        match self.scan.peek() {
            Some('"') => {
                let Some(text) = self.scan.quoted() else {
                    let length = self.scan.at.saturating_sub(at);
                    self.syntax.token(Kind::Broken, at, self.scan.at.min(self.scan.length()));
                    return Err(self.mistake(
                        at,
                        length,
                        "this quote is not closed, or has a broken escape",
                        "add `\"`; write \\\" for a quote within",
                    ));
                };
                if self.scan.sign().is_some() {
                    let cure = format!("write `{text}` between backquotes");
                    let unread = self.mistake(at, 1, "a field stands without quotes", cure);
                    // What is compared is read all the same: it may hold mistakes of its own.
                    return self.comparison(Field::Sent(text.into()), at).and(Err(unread));
                }
                self.words(at, text, true)
            }
            Some('`') => {
                let Some(name) = self.scan.backquoted() else {
                    self.scan.at = usize::MAX / 2;
                    self.syntax.token(Kind::Broken, at, self.scan.length());
                    return Err(self.mistake(
                        at,
                        1,
                        "this backquote is not closed",
                        "add a backquote behind the field's name",
                    ));
                };
                self.comparison(Field::Sent(name.into()), at)
            }
            _ => self.bare(at),
        }
    }

    pub(super) fn bare(&mut self, at: usize) -> Read<Filter> {
        let word = self.scan.bare();
        if word.is_empty() {
            let (found, cure) = match self.scan.sign() {
                Some(sign) => (sign.to_owned(), format!("put a field before it, as in severity{sign}warn")),
                None if self.scan.peek() == Some(',') => (
                    ",".to_owned(),
                    "remove it; a list stands in brackets behind `in`: service in (edge, slots)".into(),
                ),
                None => (
                    self.scan.peek().map(String::from).unwrap_or_default(),
                    "remove it, or put it between quotes".into(),
                ),
            };
            self.scan.at += found.chars().count().max(1);
            self.syntax.token(Kind::Broken, at, self.scan.at.min(self.scan.length()));
            return Err(self.mistake(at, found.chars().count(), format!("`{found}` means nothing here"), cure));
        }
        if word == "has" {
            let resume = self.scan.at;
            self.scan.blanks();
            let name_at = self.scan.at;
            let name = match self.scan.peek() {
                Some('`') => self.scan.backquoted().map(|name| Field::Sent(name.into())),
                _ => Some(self.scan.bare()).filter(|n| !n.is_empty() && !is_reserved(n)).map(|n| field_named(&n)),
            };
            if self.scan.sign().is_none()
                && let Some(field) = name
            {
                self.syntax.open(Kind::Has, at);
                self.syntax.token(Kind::Keyword, at, at + 3);
                self.syntax.token(Kind::Field, name_at, self.scan.at);
                self.syntax.close();
                return Ok(Filter::Has(field));
            }
            // `has a=1`: the word, then a comparison.
            self.scan.at = resume;
        }
        let after_word = self.scan.at;
        self.scan.blanks();
        let next = self.scan.peek_bare();
        let compares =
            self.scan.sign().is_some() || next == "in" && self.opens_list() || next == "between" && self.is_between();
        if compares {
            self.scan.at = after_word;
            return self.comparison(field_named(&word), at);
        }
        self.scan.at = after_word;
        self.words(at, word, false)
    }

    pub(super) fn opens_list(&mut self) -> bool {
        let from = self.scan.at;
        self.scan.at += 2;
        self.scan.blanks();
        let opens = self.scan.peek() == Some('(');
        self.scan.at = from;
        opens
    }

    pub(super) fn is_between(&mut self) -> bool {
        let from = self.scan.at;
        self.scan.at += "between".len();
        self.scan.blanks();
        let valued = if self.scan.peek() == Some('"') {
            self.scan.quoted().is_some()
        } else {
            !self.scan.bare_value().is_empty()
        };
        self.scan.blanks();
        let is = valued && self.scan.peek_bare() == "and";
        self.scan.at = from;
        is
    }

    pub(super) fn words(&mut self, at: usize, text: String, quoted: bool) -> Read<Filter> {
        self.syntax.open(Kind::Words, at);
        self.syntax.token(if quoted { Kind::Quoted } else { Kind::Word }, at, self.scan.at);
        self.syntax.close();
        let prefix = !quoted && text.ends_with('*');
        let kept = if prefix { text.trim_end_matches('*') } else { text.as_str() };
        let words: Vec<String> = words_of(kept).map(|w| fold(w).into_owned()).collect();
        let ends_in_word = kept.chars().next_back().is_some_and(is_word_char);
        if words.is_empty() || prefix && !ends_in_word {
            let length = self.scan.at.saturating_sub(at);
            let cure = match text.as_str() {
                "&" | "&&" => "write `and`, or nothing: words side by side must all hold",
                "||" => "write `or`",
                "|" => "there are no pipes: after the filter come `measure` and `over`; write `or` between choices",
                "!" => "write `not`",
                _ => "use *= for signs: message *= \"--\"",
            };
            return Err(self.mistake(at, length, format!("`{text}` holds no word to search"), cure));
        }
        let number = if quoted || prefix { None } else { Num::parse(kept) };
        let quoted = quoted || is_reserved(kept);
        Ok(Filter::Words(WordsTest { words, prefix, quoted, text: kept.to_owned(), number }))
    }
}

fn is_bare_word(f: &Filter) -> bool {
    matches!(f, Filter::Words(w) if !w.quoted)
}

/// Joins what was read; unread where a part of it is, so that no condition quietly goes missing.
fn flat(list: Vec<Read<Filter>>, join: fn(Vec<Filter>) -> Filter) -> Read<Filter> {
    let is_or = matches!(join(Vec::new()), Filter::Or(_));
    let mut out = Vec::new();
    for filter in list {
        match filter? {
            Filter::Or(inner) if is_or => out.extend(inner),
            Filter::And(inner) if !is_or => out.extend(inner),
            Filter::All => {}
            filter => out.push(filter),
        }
    }
    Ok(match out.len() {
        0 => Filter::All,
        1 => out.remove(0),
        _ => join(out),
    })
}
