//! `over`: the time range of a query. Half open: the start is in it, the end is not.

use crate::model::time::{DAY_NS, format_utc};

/// A resolved range, nanoseconds from 1970.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TimeRange {
    /// Included.
    pub from_ns: i64,
    /// Not included.
    pub to_ns: i64,
}

impl TimeRange {
    /// Everything.
    pub const ALL: TimeRange = TimeRange { from_ns: i64::MIN, to_ns: i64::MAX };

    /// Whether `time_ns` lies in it.
    pub fn contains(&self, time_ns: i64) -> bool {
        self.from_ns <= time_ns && time_ns < self.to_ns
    }

    /// Whether it shares a moment with the closed range `min..=max`.
    pub fn touches(&self, min_ns: i64, max_ns: i64) -> bool {
        self.from_ns <= max_ns && min_ns < self.to_ns
    }

    /// Words for people.
    pub fn describe(&self) -> String {
        format!("{} to {}", format_utc(self.from_ns, 3), format_utc(self.to_ns, 3))
    }
}

/// A range as written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Over {
    /// `over last 15m`, with the duration as typed.
    Last(String, i64),
    /// `over today`
    Today,
    /// `over A to B`
    Between(i64, i64),
    /// `over 10m around T`: half the duration to each side.
    Around(String, i64, i64),
}

impl Over {
    /// The range it means at `now_ns`; `day_start_ns` is the start of that day in the reader's zone.
    pub fn resolve(&self, now_ns: i64, day_start_ns: i64) -> TimeRange {
        let range = |from_ns, to_ns| TimeRange { from_ns, to_ns };
        match self {
            // An event that arrives while the question is asked belongs to "last".
            Over::Last(_, ns) => range(now_ns.saturating_sub(*ns), now_ns.saturating_add(1)),
            Over::Today => range(day_start_ns, day_start_ns.saturating_add(DAY_NS)),
            Over::Between(from, to) => range(*from, *to),
            Over::Around(_, ns, at) => range(at.saturating_sub(ns / 2), at.saturating_add(ns / 2)),
        }
    }

    /// As the canonical form writes it.
    pub fn canonical(&self) -> String {
        match self {
            Over::Last(text, _) => format!("over last {text}"),
            Over::Today => "over today".into(),
            Over::Between(from, to) => format!("over {} to {}", format_utc(*from, 9), format_utc(*to, 9)),
            Over::Around(text, _, at) => format!("over {text} around {}", format_utc(*at, 9)),
        }
    }
}
