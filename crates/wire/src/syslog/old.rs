//! The old header of syslog (RFC 3164), and what senders make of it.
//!
//! Behind a priority and a time stands the host (RFC 3164, 4.1.2), unless a tag stands there; without a priority a word is a
//! host only where a tag follows. A time without a year is the latest such time before the arrival, or up to a day behind
//! it; it is read as UTC.

use calvex_language::model::time::{format_utc, parse_time};
use std::net::IpAddr;

const MONTHS: [&str; 12] = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];
const DAY_NS: i64 = 86_400_000_000_000;
/// The longest tag, as RFC 3164 has it, with some grace.
const MAX_TAG: usize = 48;

/// What there is of an old header.
#[derive(Debug, Default)]
pub(super) struct OldHeader<'a> {
    pub time_ns: Option<i64>,
    pub host: Option<&'a str>,
    /// The tag's name, which is the service's.
    pub tag: Option<&'a str>,
    pub procid: Option<&'a str>,
    /// A number that counts the messages of a device, before the time.
    pub sequence: Option<&'a str>,
    /// What follows.
    pub text: &'a str,
}

/// Reads the old header of a message; never fails, for what fits no header is text.
pub(super) fn old_header(text: &str, with_priority: bool, arrived_ns: i64) -> OldHeader<'_> {
    let time = |text| {
        old_time(text, arrived_ns).or_else(|| {
            let (time, after): (&str, &str) = text.split_once(' ')?;
            // Anything shorter is a word that happens to read as a date.
            Some((parse_time(time).filter(|_| time.len() >= 19)?, after))
        })
    };
    let mut header = OldHeader { text, ..OldHeader::default() };
    let timed = time(text).or_else(|| {
        let (digits, after) = text.split_once(':')?;
        let is_number = matches!(digits.len(), 1..=12) && digits.bytes().all(|b| b.is_ascii_digit());
        let timed = time(after.trim_start()).filter(|_| is_number)?;
        header.sequence = Some(digits);
        Some(timed)
    });
    let is_timed = timed.is_some();
    if let Some((time_ns, after)) = timed {
        header.time_ns = Some(time_ns);
        (header.host, header.text) = host(after, with_priority);
    }
    if let Some((name, pid, after)) = tag(header.text, is_timed) {
        (header.tag, header.procid, header.text) = (Some(name), pid, after);
    }
    header
}

/// The host behind a time, if there is one, and what follows.
fn host(rest: &str, with_priority: bool) -> (Option<&str>, &str) {
    // A sender that does not know its own name writes none between two blanks.
    if let Some(after) = rest.strip_prefix(' ') {
        return (None, after);
    }
    let Some((word, after)) = rest.split_once(' ') else { return (None, rest) };
    let is_address = word.parse::<IpAddr>().is_ok();
    let is_name = !word.is_empty() && word.bytes().all(|b| b.is_ascii_alphanumeric() || b"-_.".contains(&b));
    let text_follows = tag(after, true).is_some() || after.trim_start().starts_with('{');
    if is_address || (is_name && (with_priority || text_follows)) { (Some(word), after) } else { (None, rest) }
}

/// The number of the month that a text begins with the name of.
pub(super) fn month(bytes: &[u8]) -> Option<usize> {
    MONTHS.iter().position(|m| bytes.starts_with(m.as_bytes())).filter(|_| bytes.get(3) == Some(&b' ')).map(|n| n + 1)
}

/// The next word, and what follows it from the blank on.
fn word(text: &str) -> (&str, &str) {
    let text = text.trim_start_matches(' ');
    text.split_at(text.find(' ').unwrap_or(text.len()))
}

/// `Mmm d hh:mm:ss`, padded or not, with a fraction or not, with a year before it, in it, behind it or not at all; and the
/// text behind the blank that ends it.
fn old_time(text: &str, arrived_ns: i64) -> Option<(i64, &str)> {
    let year_of = |word: &str| word.parse::<i64>().ok().filter(|y| word.len() == 4 && (1970..=9999).contains(y));
    let (first, rest) = Some(word(text)).filter(|_| !text.starts_with(' '))?;
    let (mut year, name, rest) = match year_of(first) {
        Some(year) => (Some(year), word(rest).0, word(rest).1),
        None => (None, first, rest),
    };
    let month = MONTHS.iter().position(|m| *m == name)? + 1;
    let (day, rest) = word(rest);
    let day: u32 = day.parse().ok().filter(|_| day.len() <= 2 && day.bytes().all(|b| b.is_ascii_digit()))?;
    let (mut clock, mut rest) = word(rest);
    if let Some(within) = year_of(clock).filter(|_| year.is_none()) {
        year = Some(within);
        (clock, rest) = word(rest);
    }
    let is_clock =
        clock.as_bytes().get(2) == Some(&b':') && clock.bytes().all(|b| b.is_ascii_digit() || b":.".contains(&b));
    let clock = Some(clock.trim_end_matches(':')).filter(|_| is_clock)?;
    let this_year: i64 = format_utc(arrived_ns, 0).get(..4)?.parse().ok()?;
    for _ in 0..2 {
        let (next, behind) = word(rest);
        let next = next.trim_end_matches(':');
        let is_year = year.is_none() && year_of(next).is_some_and(|y| (y - this_year).abs() <= 1);
        if is_year {
            year = year_of(next);
        } else if !matches!(next, "UTC" | "GMT" | "Z") {
            break;
        }
        rest = behind;
    }
    let at = |year: i64| parse_time(&format!("{year:04}-{month:02}-{day:02}T{clock}Z"));
    // The clock of a sender may be a little ahead.
    let until = arrived_ns.saturating_add(DAY_NS);
    let latest = || [this_year - 1, this_year, this_year + 1].into_iter().filter_map(at).filter(|t| *t <= until).max();
    let time_ns = match year {
        Some(year) => at(year)?,
        None => latest()?,
    };
    Some((time_ns, rest.strip_prefix(' ').unwrap_or(rest)))
}

/// `tag[pid]:` or `tag:`; name, pid and what follows. Behind a time the text may follow without a blank.
fn tag(text: &str, behind_time: bool) -> Option<(&str, Option<&str>, &str)> {
    let sign = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.' | '/' | '@');
    let length = text.find(|c| !sign(c)).unwrap_or(text.len());
    let (name, rest) = text.split_at(length);
    if name.is_empty() || length > MAX_TAG || name.bytes().all(|b| b.is_ascii_digit()) {
        return None;
    }
    let (pid, rest) = match rest.strip_prefix('[') {
        Some(inner) => {
            let (pid, after) = inner.split_once(']')?;
            (Some(pid), after)
        }
        None => (None, rest),
    };
    let rest = rest.strip_prefix(':')?;
    // `http://…`, `12:30` and `std::io` are no tags.
    let text_begins = |c: char| !c.is_ascii_digit() && !matches!(c, '/' | ':' | '=' | '\\');
    let glued = pid.is_some() || (behind_time && rest.starts_with(text_begins));
    if !(rest.is_empty() || rest.starts_with(' ') || glued) {
        return None;
    }
    Some((name, pid.filter(|p| !p.is_empty()), rest.strip_prefix(' ').unwrap_or(rest)))
}
