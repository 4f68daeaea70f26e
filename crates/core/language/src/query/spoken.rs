//! A range as people say it: `20m`, `yesterday 2am to 3am`, `monday 14:00 to 15:30`, `20m around 02:38`, RFC 3339.
//!
//! ```text
//! range  = length | "last" length | day | moment "to" moment | length "around" moment
//! length = 15m | 2 hours | 3 days …
//! day    = "today" | "yesterday" | weekday | 2026-10-04
//! moment = RFC 3339 | "now" | now-15m | [day] clock | day
//! clock  = 14:00 | 14:00:05.25 | 2am | 2:30pm | "noon" | "midnight"
//! ```
//! A clock without a day is the latest one that is not yet to come; behind `to` it is the day's of the start, or the
//! next one's where it would lie before the start. A weekday is the latest such day, today included.

use super::literal::parse_duration_ns;
use super::{Context, TimeRange};
use crate::model::time::{civil_time, parse_time, to_ns};
use jiff::civil::{Date, Time, Weekday};
use jiff::{Timestamp, ToSpan, Zoned};

/// What was said.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Spoken {
    /// The latest stretch of this length, nanoseconds: it moves with the time.
    Last(i64),
    /// A fixed range.
    Fixed(TimeRange),
}

/// Reads a range.
///
/// # Errors
/// What is not understood, with examples of what would be.
pub fn read_range(text: &str, context: &Context) -> Result<Spoken, String> {
    let text = text.trim().to_lowercase();
    let now = at(context.now_ns, context).ok_or("the time now lies beyond the calendar")?;
    if let Some(ns) = length(text.strip_prefix("last ").unwrap_or(&text)) {
        return Ok(Spoken::Last(ns));
    }
    if let Some((span, moment)) = text.split_once(" around ") {
        let half = length(span).ok_or_else(|| wrong(span, "a length such as 20m"))? / 2;
        let middle = read(moment, None, &now, context)?;
        return fixed(middle.saturating_sub(half), middle.saturating_add(half));
    }
    if let Some((from, to)) = text.split_once(" to ").or_else(|| text.split_once(" until ")) {
        let start = read(from, None, &now, context)?;
        if from.trim().starts_with("now") && to.trim() == "now" {
            return Ok(Spoken::Last(context.now_ns.saturating_sub(start)));
        }
        let day = at(start, context).map(|z| z.date());
        let mut end = read(to, day, &now, context)?;
        if end <= start && clock(to.trim()).is_some() {
            end = at(end, context).and_then(|z| z.checked_add(1.day()).ok()).and_then(ns_of).unwrap_or(end);
        }
        return fixed(start, end);
    }
    let day = day(&text, now.date()).ok_or_else(|| wrong(&text, "a range"))?;
    let next = day.tomorrow().map_err(|_| wrong(&text, "a range"))?;
    fixed(start_of(day, context)?, start_of(next, context)?)
}

/// Reads one moment: `yesterday 2am`, `02:38`, RFC 3339.
///
/// # Errors
/// What is not understood, with examples of what would be.
pub fn read_moment(text: &str, context: &Context) -> Result<i64, String> {
    let now = at(context.now_ns, context).ok_or("the time now lies beyond the calendar")?;
    read(&text.trim().to_lowercase(), None, &now, context)
}

fn wrong(text: &str, wanted: &str) -> String {
    format!(
        "`{}` is not {wanted}; try 20m, yesterday 2am to 3am, 20m around 02:38, or 2026-10-04T02:10Z to 2026-10-04T02:30Z",
        text.trim()
    )
}

fn fixed(from_ns: i64, to_ns: i64) -> Result<Spoken, String> {
    if from_ns >= to_ns {
        return Err("the range ends before it begins; turn the two times round".into());
    }
    Ok(Spoken::Fixed(TimeRange { from_ns, to_ns }))
}

fn at(ns: i64, context: &Context) -> Option<Zoned> {
    Some(Timestamp::from_nanosecond(i128::from(ns)).ok()?.to_zoned(context.zone.clone()))
}

fn ns_of(zoned: Zoned) -> Option<i64> {
    to_ns(zoned.timestamp())
}

fn start_of(day: Date, context: &Context) -> Result<i64, String> {
    let zoned = day.to_zoned(context.zone.clone()).ok().and_then(ns_of);
    zoned.ok_or_else(|| format!("{day} lies beyond the times that events can have"))
}

/// `15m`, `2h`, `2 hours`, `hour`.
/// Nanoseconds of a length: `15m`, `5 minutes`, `hour`.
pub(super) fn length(text: &str) -> Option<i64> {
    let text = text.trim();
    if let Some(ns) = parse_duration_ns(text) {
        return (ns >= 1.0).then_some(ns as i64);
    }
    let (number, unit) = match text.split_once(' ') {
        Some((number, unit)) => (number.parse::<f64>().ok()?, unit.trim()),
        None => (1.0, text),
    };
    let short = match unit.strip_suffix('s').filter(|u| u.len() > 2).unwrap_or(unit) {
        "sec" | "second" => "s",
        "min" | "minute" => "m",
        "hour" => "h",
        "day" => "d",
        "week" => return Some((number * 7.0 * 86_400e9) as i64).filter(|ns| *ns >= 1),
        _ => return None,
    };
    parse_duration_ns(&format!("{number}{short}")).map(|ns| ns as i64).filter(|ns| *ns >= 1)
}

fn day(text: &str, today: Date) -> Option<Date> {
    let weekday = match text {
        "today" => return Some(today),
        "yesterday" => return today.yesterday().ok(),
        "monday" => Weekday::Monday,
        "tuesday" => Weekday::Tuesday,
        "wednesday" => Weekday::Wednesday,
        "thursday" => Weekday::Thursday,
        "friday" => Weekday::Friday,
        "saturday" => Weekday::Saturday,
        "sunday" => Weekday::Sunday,
        date => return date.parse::<Date>().ok(),
    };
    let back = today.weekday().since(weekday);
    today.checked_sub(i64::from(back).days()).ok()
}

fn clock(text: &str) -> Option<Time> {
    let text = text.trim();
    match text {
        "noon" => return Time::new(12, 0, 0, 0).ok(),
        "midnight" => return Time::new(0, 0, 0, 0).ok(),
        _ => {}
    }
    let (digits, later) = match text.strip_suffix("pm").or_else(|| text.strip_suffix("am")) {
        Some(digits) => (digits.trim(), Some(text.ends_with("pm"))),
        None => (text, None),
    };
    let (hour, rest) = digits.split_once(':').map_or((digits, None), |(h, rest)| (h, Some(rest)));
    if later.is_none() && rest.is_none() || hour.is_empty() || hour.len() > 2 {
        return None;
    }
    let mut hour: i8 = hour.parse().ok()?;
    if let Some(later) = later {
        if !(1..=12).contains(&hour) {
            return None;
        }
        hour = hour % 12 + if later { 12 } else { 0 };
    }
    // What is behind the hour has a clock's own form.
    format!("{hour:02}:{}", rest.unwrap_or("00")).parse().ok()
}

fn read(text: &str, of_day: Option<Date>, now: &Zoned, context: &Context) -> Result<i64, String> {
    let text = text.trim();
    // RFC 3339 has capitals, which were lowered with the rest.
    let upper = text.to_uppercase();
    if let Some(ns) = civil_time(&upper, &context.zone).or_else(|| parse_time(&upper)) {
        return Ok(ns);
    }
    if text == "now" {
        return Ok(context.now_ns);
    }
    let shifted = |sign: char| text.strip_prefix("now")?.trim_start().strip_prefix(sign).and_then(length);
    if let Some(ns) = shifted('-').map(|ns| -ns).or_else(|| shifted('+')) {
        return Ok(context.now_ns.saturating_add(ns));
    }
    if let Some(ago) = text.strip_suffix(" ago").and_then(length) {
        return Ok(context.now_ns.saturating_sub(ago));
    }
    if let Some(day) = day(text, now.date()) {
        return start_of(day, context);
    }
    let (named, time) = match clock(text) {
        Some(time) => (None, time),
        None => {
            let (first, rest) = text.split_once(' ').ok_or_else(|| wrong(text, "a time"))?;
            let named = day(first, now.date()).ok_or_else(|| wrong(text, "a time"))?;
            (Some(named), clock(rest).ok_or_else(|| wrong(text, "a time"))?)
        }
    };
    let of = |day: Date| {
        let zoned = day.to_datetime(time).to_zoned(context.zone.clone()).ok().and_then(ns_of);
        zoned.ok_or_else(|| wrong(text, "a time"))
    };
    match named.or(of_day) {
        Some(day) => of(day),
        None => {
            let today = of(now.date())?;
            if today <= context.now_ns { Ok(today) } else { of(now.date().yesterday().map_err(|e| e.to_string())?) }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::time::format_utc;

    /// Wednesday, half past ten in the morning.
    fn context(zone: &str) -> Context {
        Context { now_ns: parse_time("2026-10-07T10:30:00Z").unwrap(), zone: jiff::tz::TimeZone::get(zone).unwrap() }
    }

    fn reported(text: &str, zone: &str) -> String {
        match read_range(text, &context(zone)) {
            Ok(Spoken::Last(ns)) => format!("last {} s", ns / 1_000_000_000),
            Ok(Spoken::Fixed(r)) => format!("{} {}", format_utc(r.from_ns, 0), format_utc(r.to_ns, 0)),
            Err(e) => e,
        }
    }

    #[test]
    fn as_people_say_it() {
        for (text, range) in [
            ("15m", "last 900 s"),
            ("last 2h", "last 7200 s"),
            ("Last 2 hours", "last 7200 s"),
            ("last day", "last 86400 s"),
            ("2 weeks", "last 1209600 s"),
            ("now-20m to now", "last 1200 s"),
            ("today", "2026-10-07T00:00:00Z 2026-10-08T00:00:00Z"),
            ("2026-10-04", "2026-10-04T00:00:00Z 2026-10-05T00:00:00Z"),
            ("yesterday 2am to 3am", "2026-10-06T02:00:00Z 2026-10-06T03:00:00Z"),
            ("yesterday 11pm to 1am", "2026-10-06T23:00:00Z 2026-10-07T01:00:00Z"),
            ("monday 14:00 to 15:30", "2026-10-05T14:00:00Z 2026-10-05T15:30:00Z"),
            ("wednesday", "2026-10-07T00:00:00Z 2026-10-08T00:00:00Z"),
            ("thursday noon to friday midnight", "2026-10-01T12:00:00Z 2026-10-02T00:00:00Z"),
            ("02:00 to 02:45", "2026-10-07T02:00:00Z 2026-10-07T02:45:00Z"),
            ("23:00 to 23:30", "2026-10-06T23:00:00Z 2026-10-06T23:30:00Z"),
            ("12:30am to 12:30pm", "2026-10-07T00:30:00Z 2026-10-07T12:30:00Z"),
            ("20m around 02:38", "2026-10-07T02:28:00Z 2026-10-07T02:48:00Z"),
            ("20m around yesterday 2:38:30", "2026-10-06T02:28:30Z 2026-10-06T02:48:30Z"),
            ("20m around 2026-10-04T02:38:00Z", "2026-10-04T02:28:00Z 2026-10-04T02:48:00Z"),
            ("2026-10-04T02:00:00Z to 2026-10-04T03:00:00Z", "2026-10-04T02:00:00Z 2026-10-04T03:00:00Z"),
            ("2026-10-04 02:00 to 03:00", "2026-10-04T02:00:00Z 2026-10-04T03:00:00Z"),
            ("2 hours ago to 1 hour ago", "2026-10-07T08:30:00Z 2026-10-07T09:30:00Z"),
        ] {
            assert_eq!(reported(text, "UTC"), range, "{text}");
        }
        assert_eq!(reported("yesterday 2am to 3am", "Europe/Oslo"), "2026-10-06T00:00:00Z 2026-10-06T01:00:00Z");
        // The day the clocks go back has 25 hours.
        assert_eq!(reported("2026-10-25", "Europe/Oslo"), "2026-10-24T22:00:00Z 2026-10-25T23:00:00Z");
    }

    #[test]
    fn what_is_none_is_told() {
        for text in ["", "soon", "25:00 to 26:00", "13pm to 14pm", "last", "20m around", "0m", "yesterday 3 to 4"] {
            assert!(
                reported(text, "UTC").contains("try 20m, yesterday 2am to 3am"),
                "{text}: {}",
                reported(text, "UTC")
            );
        }
        assert!(reported("2026-10-04 03:00 to 2026-10-04T02:00:00Z", "UTC").contains("ends before it begins"));
    }

    proptest::proptest! {
        #[test]
        fn no_text_is_too_odd(text in "(last |yesterday |monday |around |to |now|[0-9:.apm-]|[a-zé ]){0,12}") {
            let _ = read_range(&text, &context("Europe/Oslo"));
            let _ = read_moment(&text, &context("UTC"));
        }
    }
}
