//! Times at the beginning of a text, in the spellings that programs write.
//!
//! | spelling | example |
//! | --- | --- |
//! | RFC 3339 and ISO 8601, with `T` or a blank, `.` or `,`, an offset or none; `/` for `-` | `2026-10-04 02:38:41,198` |
//! | RFC 3164 and `ctime`: month, day, time, a year behind or none | `Oct  4 02:38:41` |
//! | day, month, year, as web servers and RFC 2822 write | `04/Oct/2026:02:38:41 +0200`, `Sun, 04 Oct 2026 02:38:41 GMT` |
//! | seconds, milli-, micro- or nanoseconds from 1970 | `1791081521.198` |
//! | the time of day alone | `02:38:41.198` |
//!
//! Without an offset it is UTC; without a year or a day it is the latest such time that lies at most a day ahead of
//! the arrival.

use calvex_language::model::time::{DAY_NS, SECOND_NS, civil_time, format_utc};
use jiff::tz::TimeZone;
use regex::{Captures, Regex};
use std::sync::LazyLock;

const MONTHS: [&str; 12] = ["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"];

/// Each form, anchored; the groups are named alike.
static FORMS: LazyLock<Vec<Regex>> = LazyLock::new(|| {
    let clock = r"(?<h>[0-9]{2}):(?<mi>[0-9]{2})(?::(?<s>[0-9]{2})(?:[.,](?<f>[0-9]{1,9})[0-9]*)?)?";
    let zone = r"(?: ?(?<z>Z|UTC|GMT|[+-][0-9]{2}:?[0-9]{2})\b)?";
    let month = r"(?<mon>(?i:jan|feb|mar|apr|may|jun|jul|aug|sep|oct|nov|dec))[a-z]*";
    let weekday = r"(?:(?i:mon|tue|wed|thu|fri|sat|sun)[a-z]*,? +)?";
    [
        format!(r"^(?<y>[0-9]{{4}})[-/](?<mo>[0-9]{{2}})[-/](?<d>[0-9]{{2}})[T _]{clock}{zone}"),
        format!(r"^{weekday}{month} {{1,2}}(?<d>[0-9]{{1,2}}) {clock}{zone}(?: (?<y>[0-9]{{4}})\b)?"),
        format!(r"^{weekday}(?<d>[0-9]{{1,2}})[/ -]{month}[/ -](?<y>[0-9]{{4}})[: T]{clock}{zone}"),
        format!(r"^{clock}{zone}"),
    ]
    .iter()
    .filter_map(|form| Regex::new(form).ok())
    .collect()
});

static EPOCH: LazyLock<Option<Regex>> =
    LazyLock::new(|| Regex::new(r"^(?<n>[0-9]{10}|[0-9]{13}|[0-9]{16}|[0-9]{19})(?:\.(?<f>[0-9]{1,9})[0-9]*)?\b").ok());

/// Bytes of a text in which a time is looked for; the longest form has fewer.
const MAX_TIME: usize = 96;

/// The time that `text` begins with, nanoseconds from 1970, and its length in bytes.
pub fn leading_time(text: &str, arrived_ns: i64) -> Option<(i64, usize)> {
    let first = text.bytes().next()?;
    if !first.is_ascii_alphanumeric() {
        return None;
    }
    // Months and weekdays begin with these; most words do not.
    if first.is_ascii_alphabetic() && !b"jfmasondwtJFMASONDWT".contains(&first) {
        return None;
    }
    // Names of months and weekdays, blanks and fractions could go on for ever.
    let whole = text;
    let text = whole.get(..whole.floor_char_boundary(MAX_TIME)).unwrap_or(whole);
    for form in FORMS.iter() {
        if let Some(found) = form.captures(text) {
            // A digit right behind makes it something else.
            let end = found.get(0)?.end();
            if whole.as_bytes().get(end).is_some_and(u8::is_ascii_digit) {
                continue;
            }
            if let Some(ns) = civil(&found, arrived_ns) {
                return Some((ns, end));
            }
        }
    }
    epoch(text)
}

fn number(found: &Captures, group: &str) -> Option<i64> {
    found.name(group)?.as_str().parse().ok()
}

fn fraction_ns(digits: &str) -> i64 {
    let padded = format!("{digits:0<9}");
    padded.get(..9).and_then(|d| d.parse().ok()).unwrap_or(0)
}

fn civil(found: &Captures, arrived_ns: i64) -> Option<i64> {
    let (h, mi, s) = (number(found, "h")?, number(found, "mi")?, number(found, "s").unwrap_or(0));
    let fraction = found.name("f").map_or(0, |m| fraction_ns(m.as_str()));
    let offset = offset_s(found.name("z").map_or("Z", |m| m.as_str()))?;
    let month = match found.name("mon") {
        Some(name) => {
            let name = name.as_str().to_ascii_lowercase();
            MONTHS.iter().position(|m| name.starts_with(m)).map(|n| n as i64 + 1)
        }
        None => number(found, "mo"),
    };
    let at = |y: i64, mo: i64, d: i64| {
        // A leap second counts as the last of its minute.
        let text = format!("{y:04}-{mo:02}-{d:02}T{h:02}:{mi:02}:{:02}", s.min(59));
        let ns = civil_time(&text, &TimeZone::UTC)?;
        ns.checked_add(fraction)?.checked_sub(offset * SECOND_NS)
    };
    let latest = arrived_ns.saturating_add(DAY_NS);
    let today = format_utc(arrived_ns, 0);
    let arrived = |range: std::ops::Range<usize>| today.get(range).and_then(|t| t.parse::<i64>().ok());
    match (number(found, "y"), month, number(found, "d")) {
        (Some(y), Some(mo), Some(d)) => at(y, mo, d),
        (None, Some(mo), Some(d)) => {
            let year = arrived(0..4)?;
            // The day after the arrival may be that of another year, and a 29th of February lies up to eight years back.
            (year - 8..=year + 1).rev().filter_map(|y| at(y, mo, d)).find(|ns| *ns <= latest)
        }
        (None, None, None) => {
            let same = at(arrived(0..4)?, arrived(5..7)?, arrived(8..10)?)?;
            Some(if same > arrived_ns.saturating_add(DAY_NS / 2) { same - DAY_NS } else { same })
        }
        _ => None,
    }
}

fn offset_s(zone: &str) -> Option<i64> {
    let sign = match zone.as_bytes().first()? {
        b'+' => 1,
        b'-' => -1,
        _ => return Some(0),
    };
    let digits: String = zone.chars().filter(char::is_ascii_digit).collect();
    let (h, m) = (digits.get(..2)?.parse::<i64>().ok()?, digits.get(2..4)?.parse::<i64>().ok()?);
    (h < 24 && m < 60).then_some(sign * (h * 3600 + m * 60))
}

fn epoch(text: &str) -> Option<(i64, usize)> {
    let found = EPOCH.as_ref()?.captures(text)?;
    let whole = found.name("n")?.as_str();
    let each_ns = match whole.len() {
        10 => SECOND_NS,
        13 => 1_000_000,
        16 => 1_000,
        _ => 1,
    };
    let ns = whole.parse::<i64>().ok()?.checked_mul(each_ns)?;
    let fraction =
        found.name("f").map_or(0, |m| (fraction_ns(m.as_str()) as i128 * i128::from(each_ns) / 1_000_000_000) as i64);
    Some((ns.checked_add(fraction)?, found.get(0)?.end()))
}
