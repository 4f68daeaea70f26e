//! Options that several commands share, each written once: the range, the form of the output, the address in the console,
//! durations, line patterns. Their headings keep them together in every help, behind what a command has of its own.

use crate::client::segment;
use crate::{Ended, output};
use anyhow::Result;
use calvex_intake::line::Pattern;
use calvex_language::query::parse_duration_ns;
use clap::Args;
use serde::Serialize;
use std::io::IsTerminal;

/// Heading of the range.
const RANGE: &str = "Range";
/// Heading of everything that decides how the answer is printed.
pub const OUTPUT: &str = "Output";
/// Longest duration an option takes: 400 days.
const MAX_DURATION_S: f64 = 400.0 * 86_400.0;

/// From when to when.
#[derive(Args, Clone, Debug, Default)]
pub struct Range {
    /// Start, included: RFC 3339, a date, now-15m, `yesterday 2am`; an hour ago if not given
    #[arg(long, value_name = "TIME", help_heading = RANGE)]
    pub from: Option<String>,
    /// End, not included; now if not given
    #[arg(long, value_name = "TIME", help_heading = RANGE)]
    pub to: Option<String>,
}

/// In which form a command prints: for people on a terminal, as NDJSON into a pipe.
#[derive(Args, Clone, Copy, Debug, Default)]
pub struct Form {
    /// NDJSON, as into a pipe
    #[arg(long, conflicts_with = "text", help_heading = OUTPUT)]
    json: bool,
    /// For people, also into a pipe
    #[arg(long, help_heading = OUTPUT)]
    text: bool,
}

impl Form {
    /// Whether NDJSON is printed.
    pub fn is_json(self) -> bool {
        self.json || !self.text && !std::io::stdout().is_terminal()
    }

    /// Whether a form was named.
    pub fn is_named(self) -> bool {
        self.json || self.text
    }

    /// Prints a list: a line of JSON an item, or a table with a row an item, and nothing where there is none.
    ///
    /// # Errors
    /// Where output fails.
    pub fn list<T: Serialize>(self, items: &[T], head: &[&str], row: impl Fn(&T) -> Vec<String>) -> Result<Ended> {
        if self.is_json() {
            output::ndjson(items)?;
        } else if !items.is_empty() {
            output::table(head, items.iter().map(row).collect())?;
        }
        Ok(if items.is_empty() { Ended::Nothing } else { Ended::Well })
    }

    /// Prints one thing: a line of JSON, or lines of text.
    ///
    /// # Errors
    /// Where output fails.
    pub fn one<T: Serialize>(self, item: &T, text: impl FnOnce(&T) -> String) -> Result<Ended> {
        if self.is_json() {
            output::json_line(&serde_json::to_string(item)?)?;
        } else {
            output::line(&text(item))?;
        }
        Ok(Ended::Well)
    }
}

/// The address in the console that shows the same.
#[derive(Args, Clone, Copy, Debug, Default)]
pub struct Link {
    /// Print the address in the console that shows the same, and ask nothing
    #[arg(long, help_heading = OUTPUT)]
    pub link: bool,
}

/// A page of the console with its parameters; those without a value are left out.
pub fn address(base: &str, page: &str, parameters: &[(&str, Option<&str>)]) -> String {
    let given = parameters.iter().filter_map(|(name, value)| Some((name, value.filter(|v| !v.is_empty())?)));
    let pairs: Vec<String> = given.map(|(name, value)| format!("{name}={}", segment(value))).collect();
    let mark = if pairs.is_empty() { "" } else { "?" };
    format!("{base}/{page}{mark}{}", pairs.join("&"))
}

/// A duration as the query language writes it, such as `90s`, `5m` or `7d`, in whole seconds; 0 stands without a unit.
///
/// # Errors
/// What is no duration, is longer than 400 days, or has a part of a second.
pub fn duration_s(text: &str) -> Result<u64, String> {
    if text == "0" {
        return Ok(0);
    }
    let seconds = parse_duration_ns(text).map(|ns| ns / 1e9).filter(|s| s.is_finite() && *s >= 0.0);
    let seconds = seconds.ok_or_else(|| format!("`{text}` is no duration; write 90s, 5m, 24h or 7d"))?;
    if seconds > MAX_DURATION_S {
        return Err("the longest duration is 400d".to_owned());
    }
    if seconds.fract() != 0.0 {
        return Err(format!("`{text}` is not a whole number of seconds"));
    }
    Ok(seconds as u64)
}

/// The same where the service keeps it in 32 bits.
///
/// # Errors
/// As [`duration_s`].
pub fn short_duration_s(text: &str) -> Result<u32, String> {
    duration_s(text).and_then(|s| u32::try_from(s).map_err(|_| "the longest duration is 400d".to_owned()))
}

/// Line patterns as they were given; a mistake is reported with the pattern it stands in.
///
/// # Errors
/// The first pattern that cannot be read.
pub fn patterns_of(texts: &[String]) -> Result<Vec<Pattern>> {
    texts.iter().map(|text| Pattern::parse(text).map_err(|e| anyhow::anyhow!("pattern `{text}`, {e}"))).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn durations_are_those_of_the_language() {
        assert_eq!(
            [duration_s("0"), duration_s("90s"), duration_s("2m"), duration_s("1.5h"), duration_s("7d")],
            [Ok(0), Ok(90), Ok(120), Ok(5400), Ok(604_800)]
        );
        for bad in ["", "90", "h", "1y", "-1h", "500d", "250ms", "99999999999999999999d", "1e400s"] {
            assert!(duration_s(bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn an_address_shows_the_same() {
        let parameters = [("q", Some("severity>=warn \"ran out\"")), ("from", Some("now-1h")), ("to", None)];
        assert_eq!(
            address("http://h", "search", &parameters),
            "http://h/search?q=severity%3E%3Dwarn%20%22ran%20out%22&from=now-1h"
        );
        assert_eq!(address("http://h", "now", &[("order", Some(""))]), "http://h/now");
    }
}
