//! Buckets of days, of which a test turns the days, since time cannot be turned.

use crate::galera::Member;
use anyhow::Result;

/// The days of all buckets of the database `lockers`, the earliest first.
///
/// # Errors
/// Where the server refuses.
pub fn days(member: &Member) -> Result<Vec<i64>> {
    let days = member.sql("SELECT GROUP_CONCAT(day ORDER BY day) FROM lockers.bucket")?;
    Ok(days.split(',').filter_map(|day| day.parse().ok()).collect())
}

/// Makes a bucket due: it has this day of long ago, and nothing in it is to be seen any more.
///
/// # Errors
/// Where the server refuses.
pub fn make_due(member: &Member, day: i64, due: i64) -> Result<()> {
    // Numbers only; nothing comes from outside.
    member.sql(&format!(
        "SET FOREIGN_KEY_CHECKS = 0; RENAME TABLE lockers.parts_{day} TO lockers.parts_{due}; \
         UPDATE lockers.chunk SET bucket = {due}, visible_until_ns = 1 WHERE bucket = {day}; \
         UPDATE lockers.bucket SET day = {due} WHERE day = {day}; \
         UPDATE lockers.bucket_use SET day = {due} WHERE day = {day}"
    ))?;
    Ok(())
}

/// A day that has been over for so many days.
pub fn day_of_long_ago(days: i64) -> i64 {
    jiff::Timestamp::now().as_second() / 86_400 - days
}

/// How many tables of buckets there are.
///
/// # Errors
/// Where the server refuses.
pub fn tables(member: &Member) -> Result<u64> {
    let count =
        "SELECT COUNT(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA = 'lockers' AND TABLE_NAME LIKE 'parts\\_%'";
    Ok(member.sql(count)?.parse()?)
}
