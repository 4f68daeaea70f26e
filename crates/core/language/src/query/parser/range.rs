//! `over`, and where clauses begin.

use super::Parser;
use crate::query::literal::parse_duration_ns;
use crate::query::syntax::Kind;
use crate::query::{Over, Query, spoken};

impl Parser<'_> {
    pub(super) fn at_clause(&mut self, word: &str) -> bool {
        if word != "over" && word != "measure" {
            return false;
        }
        let from = self.scan.at;
        self.scan.at += word.chars().count();
        self.scan.blanks();
        let next = self.scan.peek_bare();
        let opens = self.scan.peek_at(next.chars().count()) == Some('(');
        let value = self.scan.bare_value();
        self.scan.blanks();
        let then = self.scan.peek_bare();
        self.scan.at = from;
        if word == "measure" {
            // `measure median(took)` can mean nothing else, and deserves its mistake.
            return super::measure::is_aggregate(&next) || opens && !next.is_empty();
        }
        match next.as_str() {
            "last" => self.stretch(from + word.chars().count()).is_some(),
            "today" => true,
            _ => then == "to" && self.time(&value).is_some() || then == "around" && parse_duration_ns(&value).is_some(),
        }
    }

    /// The stretch of `over last` behind the word `last` or before it: as it is written in short, its nanoseconds and
    /// where it ends. `5 minutes` is `5m`, and `hour` is `1h`.
    fn stretch(&mut self, from: usize) -> Option<(String, i64, usize)> {
        let start = self.scan.at;
        self.scan.at = from;
        self.scan.blanks();
        if self.scan.peek_bare() == "last" {
            self.scan.at += 4;
            self.scan.blanks();
        }
        let first = self.scan.bare_value();
        let short = self.scan.at;
        self.scan.blanks();
        let second = self.scan.bare_value().to_lowercase();
        let long = self.scan.at;
        self.scan.at = start;
        if let Some(ns) = parse_duration_ns(&first) {
            return Some((first, ns as i64, short));
        }
        let spoken = |text: &str| spoken::length(&text.to_lowercase());
        match first.parse::<f64>() {
            Ok(_) => spoken(&format!("{first} {second}")).map(|ns| (canonical_length(ns), ns, long)),
            Err(_) => spoken(&first).map(|ns| (canonical_length(ns), ns, short)),
        }
    }

    /// The clauses behind the filter.
    pub(super) fn clauses(&mut self, query: &mut Query) {
        loop {
            self.scan.blanks();
            let at = self.scan.at;
            if self.scan.done() {
                return;
            }
            match self.scan.peek_bare().as_str() {
                "over" => {
                    self.scan.at += 4;
                    self.syntax.open(Kind::Over, at);
                    self.syntax.token(Kind::Keyword, at, at + 4);
                    let found = self.over();
                    self.syntax.close();
                    if query.over.is_some() {
                        self.mistake(at, 4, "a query has one time range", "remove one `over`");
                    }
                    query.over = found;
                }
                "measure" => {
                    self.scan.at += 7;
                    self.syntax.open(Kind::Measure, at);
                    self.syntax.token(Kind::Keyword, at, at + 7);
                    let found = self.measure();
                    self.syntax.close();
                    if query.measure.is_some() {
                        self.mistake(at, 7, "a query measures once", "join the aggregates with commas");
                    } else if query.over.is_some() {
                        self.mistake(at, 7, "`measure` stands behind the time range", "put it before `over`");
                    }
                    query.measure = found;
                }
                _ => {
                    let word = self.scan.bare_value();
                    self.scan.at += usize::from(word.is_empty());
                    self.syntax.token(Kind::Broken, at, self.scan.at);
                    let (message, cure) = match word.as_str() {
                        "" => ("this bracket was never opened".to_owned(), "remove it"),
                        w if query.over.is_some() => {
                            (format!("`{w}` stands behind the time range"), "put the filter before `over`")
                        }
                        w if ["by", "group"].contains(&w) => {
                            (format!("`{w}` does not go on a `measure`"), "write `per`: measure count per service")
                        }
                        w => (
                            format!("`{w}` does not go on a `measure`"),
                            "after the aggregates come per, every, having, top and over, in this order",
                        ),
                    };
                    self.mistake(at, word.chars().count(), message, cure);
                    if !word.is_empty() {
                        return;
                    }
                }
            }
        }
    }

    pub(super) fn over(&mut self) -> Option<Over> {
        self.scan.blanks();
        let at = self.scan.at;
        let first = self.scan.bare_value();
        let is_word = matches!(first.as_str(), "today" | "last");
        self.syntax.token(if is_word { Kind::Keyword } else { Kind::Value }, at, self.scan.at);
        self.scan.blanks();
        match first.as_str() {
            "today" => return Some(Over::Today),
            "last" => {
                let from = self.scan.at;
                let (text, ns, end) = self.stretch(from)?;
                self.scan.at = end;
                self.syntax.token(Kind::Value, from, end);
                return Some(Over::Last(text, ns));
            }
            _ => {}
        }
        let link_at = self.scan.at;
        let link = self.scan.bare_value();
        self.syntax.token(Kind::Keyword, link_at, self.scan.at);
        self.scan.blanks();
        let second_at = self.scan.at;
        let second = self.scan.bare_value();
        self.syntax.token(Kind::Value, second_at, self.scan.at);
        let to = self.time(&second);
        match (link.as_str(), to) {
            ("to" | "around", None) => {
                self.mistake(
                    second_at,
                    second.chars().count(),
                    format!("`{second}` is no time"),
                    "try 2026-10-04T02:10Z or now-15m",
                );
                None
            }
            ("to", Some(to)) => {
                let from = self.time(&first)?;
                if from >= to {
                    self.mistake(at, link_at + 2 - at, "the range ends before it begins", "turn the two times round");
                    return None;
                }
                Some(Over::Between(from, to))
            }
            (_, Some(to)) => parse_duration_ns(&first).map(|ns| Over::Around(first, ns as i64, to)),
            (_, None) => None,
        }
    }
}

/// A length with the largest unit that it is a whole number of.
fn canonical_length(ns: i64) -> String {
    const UNITS: [(i64, &str); 5] =
        [(86_400_000_000_000, "d"), (3_600_000_000_000, "h"), (60_000_000_000, "m"), (1_000_000_000, "s"), (1, "ns")];
    let unit = UNITS.iter().find(|(each, _)| ns % each == 0);
    unit.map_or_else(String::new, |(each, name)| format!("{}{name}", ns / each))
}
