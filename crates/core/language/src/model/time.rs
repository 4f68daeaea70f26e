//! Times: nanoseconds from 1970 as `i64` (the years 1677 to 2262), read from and written as RFC 3339.

use jiff::{Timestamp, civil, tz::TimeZone};

/// One second in nanoseconds.
pub const SECOND_NS: i64 = 1_000_000_000;
/// One day in nanoseconds.
pub const DAY_NS: i64 = 86_400 * SECOND_NS;

/// The day number from 1970 (UTC) that `time_ns` lies in.
pub fn day_of(time_ns: i64) -> i32 {
    time_ns.div_euclid(DAY_NS) as i32
}

/// RFC 3339 in UTC with `digits` (0 to 9) fractional digits.
pub fn format_utc(time_ns: i64, digits: u8) -> String {
    let day = i64::from(day_of(time_ns));
    let in_day = time_ns.rem_euclid(DAY_NS);
    let (y, m, d) = civil_from_days(day);
    let (s, ns) = (in_day / SECOND_NS, in_day % SECOND_NS);
    let mut out = format!("{y:04}-{m:02}-{d:02}T{:02}:{:02}:{:02}", s / 3600, s / 60 % 60, s % 60);
    if digits > 0 {
        let fraction = format!("{ns:09}");
        out.push('.');
        out.push_str(&fraction[..usize::from(digits.min(9))]);
    }
    out.push('Z');
    out
}

/// Year, month, day of a day number (Hinnant, "chrono-compatible low-level date algorithms").
fn civil_from_days(days: i64) -> (i64, i64, i64) {
    let z = days + 719_468;
    let era = z.div_euclid(146_097);
    let doe = z.rem_euclid(146_097);
    let yoe = (doe - doe / 1460 + doe / 36_524 - doe / 146_096) / 365;
    let doy = doe - (365 * yoe + yoe / 4 - yoe / 100);
    let mp = (5 * doy + 2) / 153;
    let d = doy - (153 * mp + 2) / 5 + 1;
    let m = if mp < 10 { mp + 3 } else { mp - 9 };
    (yoe + era * 400 + i64::from(m <= 2), m, d)
}

fn days_from_civil(y: i64, m: i64, d: i64) -> i64 {
    let y = if m <= 2 { y - 1 } else { y };
    let era = y.div_euclid(400);
    let yoe = y.rem_euclid(400);
    let doy = (153 * (if m > 2 { m - 3 } else { m + 9 }) + 2) / 5 + d - 1;
    let doe = yoe * 365 + yoe / 4 - yoe / 100 + doy;
    era * 146_097 + doe - 719_468
}

/// The digits after the point, where `text` is exactly what [`format_utc`] would write for the returned time.
pub fn parse_plain_utc(text: &str) -> Option<(i64, u8)> {
    let b = text.as_bytes();
    if b.len() < 20 || b.len() > 30 || b.last() != Some(&b'Z') {
        return None;
    }
    let number = |from: usize, to: usize| {
        b.get(from..to)?.iter().try_fold(0i64, |n, c| c.is_ascii_digit().then(|| n * 10 + i64::from(c - b'0')))
    };
    let signs = [(4, b'-'), (7, b'-'), (10, b'T'), (13, b':'), (16, b':')];
    if signs.iter().any(|(i, c)| b.get(*i) != Some(c)) {
        return None;
    }
    let (y, mo, d) = (number(0, 4)?, number(5, 7)?, number(8, 10)?);
    let (h, mi, s) = (number(11, 13)?, number(14, 16)?, number(17, 19)?);
    if !(1..=12).contains(&mo) || d < 1 || h > 23 || mi > 59 || s > 59 || !(1678..=2261).contains(&y) {
        return None;
    }
    let (fraction_ns, digits) = match b.len() {
        20 => (0, 0),
        n if b.get(19) == Some(&b'.') && n > 21 => {
            let digits = n - 21;
            (number(20, n - 1)? * 10i64.pow(9 - digits as u32), digits as u8)
        }
        _ => return None,
    };
    let days = days_from_civil(y, mo, d);
    if civil_from_days(days) != (y, mo, d) {
        return None;
    }
    Some((days * DAY_NS + (h * 3600 + mi * 60 + s) * SECOND_NS + fraction_ns, digits))
}

/// Any RFC 3339 time with an offset, and the same with a blank for `T` or a comma for the point. Without an offset it
/// is taken as UTC.
pub fn parse_time(text: &str) -> Option<i64> {
    if let Some((ns, _)) = parse_plain_utc(text) {
        return Some(ns);
    }
    if text.len() < 10 || text.len() > 64 || !text.is_ascii() {
        return None;
    }
    let text = text.replacen(',', ".", 1);
    if let Ok(t) = text.parse::<Timestamp>() {
        return to_ns(t);
    }
    civil_time(&text, &TimeZone::UTC)
}

/// A civil date or date and time in `zone`.
pub fn civil_time(text: &str, zone: &TimeZone) -> Option<i64> {
    let at =
        text.parse::<civil::DateTime>().ok().or_else(|| text.parse::<civil::Date>().ok().map(|d| d.at(0, 0, 0, 0)))?;
    to_ns(zone.to_timestamp(at).ok()?)
}

/// Nanoseconds, where they fit 64 bits.
pub fn to_ns(t: Timestamp) -> Option<i64> {
    i64::try_from(t.as_nanosecond()).ok()
}

/// The start of the day, in `zone`, that `time_ns` lies in.
pub fn start_of_day(time_ns: i64, zone: &TimeZone) -> Option<i64> {
    let zoned = Timestamp::from_nanosecond(i128::from(time_ns)).ok()?.to_zoned(zone.clone());
    to_ns(zoned.start_of_day().ok()?.timestamp())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn spellings() {
        let at = parse_time("2026-10-04T02:38:41.198204331Z").unwrap();
        assert_eq!(format_utc(at, 9), "2026-10-04T02:38:41.198204331Z");
        assert_eq!(parse_time("2026-10-04T04:38:41.198204331+02:00"), Some(at));
        assert_eq!(parse_time("2026-10-04 02:38:41,198"), Some(at - 204_331));
        assert_eq!(parse_time("1969-12-31T23:59:59.5Z"), Some(-SECOND_NS / 2));
        for bad in ["", "2026-02-30T00:00:00Z", "2026-10-04T25:00:00Z", "yesterday", "9999-01-01T00:00:00Z"] {
            assert_eq!(parse_time(bad), None, "{bad}");
        }
    }

    proptest! {
        #[test]
        fn every_time_round_trips(ns in -9_000_000_000_000_000_000i64..9_000_000_000_000_000_000) {
            let text = format_utc(ns, 9);
            prop_assert_eq!(parse_plain_utc(&text), Some((ns, 9)));
            prop_assert_eq!(text.parse::<Timestamp>().unwrap().as_nanosecond(), i128::from(ns));
        }
    }
}
