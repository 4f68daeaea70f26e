//! `every`: where the steps of a range begin.

use calvex_language::model::time::{DAY_NS, start_of_day};
use calvex_language::query::TimeRange;
use jiff::tz::TimeZone;

/// Steps of one answer at most.
pub const MAX_STEPS: usize = 10_000;

/// Steps in time, whole ones: the first may begin before the range, the last end behind it.
#[derive(Debug, Clone, PartialEq)]
pub enum Steps {
    /// The whole range at once.
    None,
    /// Equal steps.
    Even {
        /// Start of the first.
        from_ns: i64,
        /// Length of each.
        step_ns: i64,
        /// How many.
        count: usize,
    },
    /// Days of a zone, which are not all equally long: the start of each, and the end of the last.
    Days(Vec<i64>),
}

impl Steps {
    /// The steps of `step_ns` over `range`; whole days follow `zone`.
    ///
    /// # Errors
    /// Where there would be more than [`MAX_STEPS`].
    pub fn over(range: &TimeRange, step_ns: i64, zone: &TimeZone) -> Result<Steps, String> {
        let many = || {
            format!(
                "{} in steps of that length are more than {MAX_STEPS}; take longer steps or a shorter range",
                range.describe()
            )
        };
        if step_ns % DAY_NS == 0 && *zone != TimeZone::UTC {
            let mut starts = vec![start_of_day(range.from_ns, zone).unwrap_or(range.from_ns)];
            while let Some(last) = starts.last().copied().filter(|last| *last < range.to_ns) {
                if starts.len() > MAX_STEPS {
                    return Err(many());
                }
                // Days are 23 to 25 hours long: noon of the day wanted lies in it whatever the zone does.
                let noon = last.saturating_add(step_ns).saturating_add(DAY_NS / 2);
                let next = start_of_day(noon, zone).filter(|next| *next > last).ok_or_else(many)?;
                starts.push(next);
            }
            return Ok(Steps::Days(starts));
        }
        let from_ns = range.from_ns.div_euclid(step_ns).saturating_mul(step_ns);
        let length = i128::from(range.to_ns) - i128::from(from_ns);
        let count = usize::try_from((length + i128::from(step_ns) - 1) / i128::from(step_ns)).unwrap_or(0);
        if count > MAX_STEPS { Err(many()) } else { Ok(Steps::Even { from_ns, step_ns, count }) }
    }

    /// How many, one at least.
    pub fn count(&self) -> usize {
        match self {
            Steps::None => 1,
            Steps::Even { count, .. } => (*count).max(1),
            Steps::Days(starts) => (starts.len() - 1).max(1),
        }
    }

    /// The step a time within the range lies in.
    pub fn of(&self, time_ns: i64) -> usize {
        match self {
            Steps::None => 0,
            Steps::Even { from_ns, step_ns, count } => {
                ((time_ns.wrapping_sub(*from_ns) as u64 / *step_ns as u64) as usize).min(count.saturating_sub(1))
            }
            Steps::Days(starts) => starts.partition_point(|s| *s <= time_ns).saturating_sub(1).min(self.count() - 1),
        }
    }

    /// Start and end of a step.
    pub fn span(&self, step: usize, range: &TimeRange) -> (i64, i64) {
        match self {
            Steps::None => (range.from_ns, range.to_ns),
            Steps::Even { from_ns, step_ns, .. } => {
                let from = from_ns.saturating_add(step_ns.saturating_mul(step as i64));
                (from, from.saturating_add(*step_ns))
            }
            Steps::Days(starts) => {
                let at = |n: usize| starts.get(n).copied().unwrap_or(range.to_ns);
                (at(step), at(step + 1))
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use calvex_language::model::time::{format_utc, parse_time};

    #[test]
    fn days_follow_the_zone() {
        let range = TimeRange {
            from_ns: parse_time("2026-10-24T12:00:00Z").unwrap(),
            to_ns: parse_time("2026-10-26T12:00:00Z").unwrap(),
        };
        let zone = TimeZone::posix("CET-1CEST,M3.5.0,M10.5.0/3").unwrap();
        let steps = Steps::over(&range, DAY_NS, &zone).unwrap();
        let reported: Vec<String> = (0..steps.count()).map(|n| format_utc(steps.span(n, &range).0, 0)).collect();
        assert_eq!(reported, ["2026-10-23T22:00:00Z", "2026-10-24T22:00:00Z", "2026-10-25T23:00:00Z"]);
        assert_eq!(steps.of(parse_time("2026-10-25T22:59:59Z").unwrap()), 1, "the day of 25 hours");
        let even = Steps::over(&range, 6 * 3600 * 1_000_000_000, &TimeZone::UTC).unwrap();
        assert_eq!((even.count(), even.of(range.from_ns), even.of(range.to_ns - 1)), (8, 0, 7));
        assert!(Steps::over(&TimeRange::ALL, 1, &TimeZone::UTC).is_err());
    }
}
