//! Step 13 in core: which bucket an event's day goes to, and when what is kept ends.
//!
//! A bucket is a table of segments that expire together: days up to 60 ahead, then weeks (Monday to Sunday), then
//! months of 30 days counted from 1970. It is named by the day number (from 1970, UTC) on which it may be dropped.

use calvex_language::model::time::DAY_NS;

/// How far ahead buckets are single days.
const DAYS_AHEAD: i32 = 60;
/// How far ahead buckets are weeks; beyond are months.
const WEEKS_AHEAD: i32 = 365;

/// The first moment at which the events of `day` are no longer shown.
pub fn visible_until_ns(day: i32, retention_days: u32) -> i64 {
    (i64::from(day) + 1 + i64::from(retention_days)).saturating_mul(DAY_NS)
}

/// The day on which the bucket for events visible until `until_ns` may be dropped; never before they end.
pub fn bucket_day(until_ns: i64, today: i32) -> i32 {
    let end = i32::try_from((until_ns + DAY_NS - 1).div_euclid(DAY_NS)).unwrap_or(i32::MAX / 2);
    let round_up = |to: i32, from: i32| (end - from + to - 1).div_euclid(to) * to + from;
    match end - today {
        ahead if ahead <= DAYS_AHEAD => end,
        // Day 4 from 1970 was a Monday.
        ahead if ahead <= WEEKS_AHEAD => round_up(7, 4),
        _ => round_up(30, 0),
    }
}

/// Whether a bucket's day has come.
pub fn may_drop(bucket_day: i32, now_ns: i64) -> bool {
    i64::from(bucket_day) * DAY_NS <= now_ns
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn days_weeks_months() {
        let today = 20_000;
        let bucket = |retention| bucket_day(visible_until_ns(today, retention), today);
        assert_eq!(bucket(0), today + 1);
        assert_eq!(bucket(30), today + 31);
        assert_eq!((bucket(90) - 4) % 7, 0);
        assert_eq!(bucket(400) % 30, 0);
    }

    proptest! {
        #[test]
        fn a_bucket_never_ends_before_its_events(day in 19_000i32..21_000, retention in 0u32..4000, today in 19_000i32..21_000) {
            let until = visible_until_ns(day, retention);
            let bucket = bucket_day(until, today);
            prop_assert!(i64::from(bucket) * DAY_NS >= until);
            prop_assert!(bucket - i32::try_from(until / DAY_NS).unwrap() <= 31);
            prop_assert!(!may_drop(bucket, until - 1));
        }
    }
}
