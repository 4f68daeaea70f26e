//! Comparisons and the values they take.

use super::{MAX_IN, MAX_REGEX_BYTES, MAX_REGEXES, Parser, Read, severity_span};
use crate::model::time::{civil_time, parse_plain_utc, to_ns};
use crate::query::literal::{FieldUnit, parse_duration_ns, parse_size_bytes, unit_of_field};
use crate::query::syntax::Kind;
use crate::query::{Builtin, Field, Filter, Literal, Num, Op, RegexTest, Test, TextOp, canonical};

impl Parser<'_> {
    /// A comparison whose field begins at `from` and was just taken.
    pub(super) fn comparison(&mut self, field: Field, from: usize) -> Read<Filter> {
        self.syntax.open(Kind::Comparison, from);
        self.syntax.token(Kind::Field, from, self.scan.at);
        let filter = self.compared(field);
        self.syntax.close();
        filter
    }

    fn compared(&mut self, field: Field) -> Read<Filter> {
        let name = canonical::field(&field);
        self.scan.blanks();
        let at = self.scan.at;
        let Some(sign) = self.scan.sign() else {
            if self.scan.peek_bare() == "in" && self.opens_list() {
                self.scan.at += 2;
                self.syntax.token(Kind::Keyword, at, at + 2);
                return self.in_list(field);
            }
            if self.scan.peek_bare() == "between" {
                self.scan.at += "between".len();
                self.syntax.token(Kind::Keyword, at, self.scan.at);
                let lo = self.value(&field, "between", true);
                self.scan.blanks();
                if self.scan.peek_bare() == "and" {
                    self.scan.at += 3;
                    self.syntax.token(Kind::Keyword, self.scan.at - 3, self.scan.at);
                } else {
                    let here = self.scan.at;
                    return Err(self.mistake(
                        here,
                        1,
                        "expected `and` and the upper bound",
                        format!("try {name} between 10 and 20"),
                    ));
                }
                let hi = self.value(&field, "between … and", true);
                return Ok(Filter::Compare(field, Test::Between(lo?, hi?)));
            }
            return Err(self.mistake(
                at,
                1,
                format!("expected a comparison after {name}"),
                format!("try has {name}, or {name}=value"),
            ));
        };
        self.scan.at += sign.chars().count();
        // `==` means what `=` means.
        if sign == "=" && self.scan.peek() == Some('=') {
            self.scan.at += 1;
        }
        self.syntax.token(Kind::Sign, at, self.scan.at);
        if sign == "~" {
            return self.regex(field);
        }
        let text_op = match sign {
            "^=" => Some(TextOp::Begins),
            "$=" => Some(TextOp::Ends),
            "*=" => Some(TextOp::Contains),
            _ => None,
        };
        if let Some(op) = text_op {
            let (text, _, _) = self.raw_value(&field, sign)?;
            return Ok(Filter::Compare(field, Test::Text(op, text)));
        }
        let op = match sign {
            "=" => Op::Eq,
            "!=" => Op::Ne,
            "<" => Op::Lt,
            "<=" => Op::Le,
            ">" => Op::Gt,
            _ => Op::Ge,
        };
        let ordered = !matches!(op, Op::Eq | Op::Ne);
        let literal = self.value(&field, sign, ordered)?;
        Ok(Filter::Compare(field, Test::Compare(op, literal)))
    }

    pub(super) fn in_list(&mut self, field: Field) -> Read<Filter> {
        self.scan.blanks();
        let at = self.scan.at;
        if self.scan.take('(') {
            self.syntax.token(Kind::Bracket, at, at + 1);
        }
        let mut list = Vec::new();
        let mut unread = None;
        loop {
            self.scan.blanks();
            if self.scan.take(')') {
                self.syntax.token(Kind::Bracket, self.scan.at - 1, self.scan.at);
                break;
            }
            if self.scan.done() {
                return Err(self.mistake(at, 1, "this list is not closed", "add `)`"));
            }
            match self.value(&field, "in (", false) {
                Ok(value) => list.push(value),
                Err(why) => {
                    unread = Some(why);
                    self.comma();
                }
            }
            self.scan.blanks();
            self.comma();
        }
        if list.is_empty() {
            return Err(self.mistake(at, 1, "this list is empty", "name at least one value: service in (edge, slots)"));
        }
        if list.len() > MAX_IN {
            return Err(self.mistake(at, 1, format!("this list has more than {MAX_IN} values"), "split the query"));
        }
        unread.map_or(Ok(Filter::Compare(field, Test::In(list))), Err)
    }

    /// Takes a comma if it is next.
    pub(super) fn comma(&mut self) -> bool {
        let is = self.scan.take(',');
        if is {
            self.syntax.token(Kind::Comma, self.scan.at - 1, self.scan.at);
        }
        is
    }

    pub(super) fn regex(&mut self, field: Field) -> Read<Filter> {
        self.scan.blanks();
        let at = self.scan.at;
        let name = canonical::field(&field);
        let scanned = if self.scan.peek() == Some('/') { self.scan.regex() } else { None };
        let Some((pattern, any_case)) = scanned else {
            self.scan.bare_value();
            let length = self.scan.at.saturating_sub(at);
            self.syntax.token(Kind::Broken, at, self.scan.at.min(self.scan.length()));
            return Err(self.mistake(
                at,
                length,
                "expected a regular expression between slashes",
                format!("try {name} ~ /lease (ran|run) out/i"),
            ));
        };
        self.syntax.token(Kind::Regex, at, self.scan.at);
        self.regexes += 1;
        if self.regexes > MAX_REGEXES {
            let length = self.scan.at - at;
            let reported = format!("the query has more than {MAX_REGEXES} regular expressions");
            return Err(self.mistake(at, length, reported, "join some with |, or split the query"));
        }
        let built = regex::RegexBuilder::new(&pattern).case_insensitive(any_case).size_limit(MAX_REGEX_BYTES).build();
        match built {
            Ok(regex) => Ok(Filter::Compare(field, Test::Regex(RegexTest::new(pattern, any_case, regex)))),
            Err(e) => {
                let why = e.to_string();
                let why = why.lines().last().unwrap_or("it does not parse").trim_start_matches("error: ").to_owned();
                let length = self.scan.at - at;
                Err(self.mistake(
                    at,
                    length,
                    format!("this regular expression is broken: {why}"),
                    "write \\ before a sign that stands for itself",
                ))
            }
        }
    }

    pub(super) fn raw_value(&mut self, field: &Field, after: &str) -> Read<(String, bool, usize)> {
        self.scan.blanks();
        let at = self.scan.at;
        if self.scan.peek() == Some('"') {
            return match self.scan.quoted() {
                Some(text) => {
                    self.syntax.token(Kind::Quoted, at, self.scan.at);
                    Ok((text, true, at))
                }
                None => {
                    self.syntax.token(Kind::Broken, at, self.scan.at.min(self.scan.length()));
                    Err(self.mistake(at, 1, "this quote is not closed, or has a broken escape", "add `\"`"))
                }
            };
        }
        let text = self.scan.bare_value();
        if text.is_empty() {
            let name = canonical::field(field);
            let example = match field {
                Field::Builtin(Builtin::Severity) => "warn",
                Field::Builtin(Builtin::Service) => "slots",
                Field::Builtin(Builtin::Time | Builtin::Arrived) => "now-15m",
                _ => "12",
            };
            let sample = match after {
                "in (" => format!("{name} in ({example}, …)"),
                "between" | "between … and" => format!("{name} between 10 and 20"),
                sign => format!("{name}{sign}{example}"),
            };
            return Err(self.mistake(at, 1, format!("expected a value after {after}"), format!("try {sample}")));
        }
        self.syntax.token(Kind::Value, at, self.scan.at);
        Ok((text, false, at))
    }

    pub(super) fn value(&mut self, field: &Field, after: &str, ordered: bool) -> Read<Literal> {
        let (text, quoted, at) = self.raw_value(field, after)?;
        let length = self.scan.at.saturating_sub(at);
        let fail = |p: &mut Self, message: String, cure: String| Err(p.mistake(at, length, message, cure));
        let plain = |number| Ok(Literal { text: text.clone(), quoted, number });
        match field {
            Field::Builtin(Builtin::Severity) => match severity_span(&text) {
                Some(_) => plain(None),
                None => fail(
                    self,
                    format!("`{text}` is no severity"),
                    "use trace, debug, info, warn, error, fatal or 1 to 24".into(),
                ),
            },
            Field::Builtin(part @ (Builtin::Time | Builtin::Arrived)) => match self.time(&text) {
                Some(ns) => plain(Some(Num::int(i128::from(ns)))),
                None => fail(
                    self,
                    format!("`{text}` is no time"),
                    format!("try {}>=2026-10-04T02:10:00Z, or now-15m", part.name()),
                ),
            },
            Field::Builtin(Builtin::Took) => match parse_duration_ns(&text) {
                Some(ns) => plain(Some(Num::float(ns))),
                None => fail(self, format!("`{text}` is no duration"), "try took>=250ms".into()),
            },
            Field::Builtin(Builtin::Trace | Builtin::Span | Builtin::Parent) => {
                Ok(Literal { text: text.to_ascii_lowercase(), quoted, number: None })
            }
            Field::Builtin(_) => plain(None),
            Field::Sent(_) if quoted => plain(None),
            Field::Sent(name) => {
                let name = name.as_str();
                if let Some(n) = Num::parse(&text) {
                    return plain(Some(n));
                }
                let (duration, size) = (parse_duration_ns(&text), parse_size_bytes(&text));
                match (unit_of_field(name), duration, size) {
                    (Some(FieldUnit::Duration(each)), Some(ns), _) => plain(Some(Num::float(ns / each))),
                    (Some(FieldUnit::Size(each)), _, Some(bytes)) => plain(Some(Num::float(bytes / each))),
                    (None, d, s) if ordered && (d.is_some() || s.is_some()) => fail(
                        self,
                        format!("the name `{name}` shows no unit to convert `{text}` to"),
                        format!("compare with a plain number, or with a field such as {name}_ms or {name}_bytes"),
                    ),
                    _ => plain(None),
                }
            }
        }
    }

    pub(super) fn time(&self, text: &str) -> Option<i64> {
        if let Some(rest) = text.strip_prefix("now") {
            let sign = match rest.chars().next() {
                None => return Some(self.context.now_ns),
                Some('-') => -1.0,
                Some('+') => 1.0,
                Some(_) => return None,
            };
            let ns = parse_duration_ns(&rest[1..])? * sign;
            return Some(self.context.now_ns.saturating_add(ns as i64));
        }
        if let Some((ns, _)) = parse_plain_utc(text) {
            return Some(ns);
        }
        text.parse::<jiff::Timestamp>().ok().and_then(to_ns).or_else(|| civil_time(text, &self.context.zone))
    }
}
