//! The one door to reading: no function that reaches events, names or counts can be called without a [`ReadScope`].

use super::Reader;
use crate::config::Config;
use calvex_language::domain::grant::{Held, Holdings};
use calvex_language::query::{Filter, HiddenFields, TimeRange, parse_filter};
use calvex_storage::columns::{Restriction, together};
use std::sync::Arc;

/// What may be read. It is made of somebody's grants, and can be narrowed, never widened.
#[derive(Debug, Clone)]
pub struct ReadScope {
    whose: Whose,
    /// This lane only.
    only: Option<u32>,
    /// Whose rights are looked at again while something lasts.
    pub watched: Option<Reader>,
    /// What is asked, for lanes whose reads are recorded.
    pub asking: String,
}

#[derive(Debug, Clone)]
enum Whose {
    Holder(Holdings),
    Everything,
}

/// What may be read of a lane.
#[derive(Debug, Clone)]
pub enum LaneAccess {
    /// Nothing.
    None,
    /// All.
    Whole,
    /// What these admit; no two of them admit the same row.
    Part(Vec<Arc<Restriction>>),
}

impl ReadScope {
    /// Of somebody who asks.
    pub fn of(reader: &Reader) -> Self {
        ReadScope { watched: Some(reader.clone()), ..ReadScope::of_held(reader.who.held.clone()) }
    }

    /// Of whoever holds these: the team or person that an alert rule is of.
    pub fn of_held(held: impl Into<Holdings>) -> Self {
        ReadScope { whose: Whose::Holder(held.into()), only: None, watched: None, asking: String::new() }
    }

    /// All that is stored: for what the service works out for itself, and gives nobody as it is.
    pub fn everything() -> Self {
        ReadScope { whose: Whose::Everything, only: None, watched: None, asking: String::new() }
    }

    /// No events at all: for upkeep, which looks at how a chunk is stored.
    pub fn nothing() -> Self {
        ReadScope::of_held(Vec::new())
    }

    /// The same, to be recorded with what is asked.
    pub fn asking(self, what: &str, query: &str, range: &TimeRange) -> Self {
        let asking = match *range == TimeRange::ALL {
            true => format!("{what} `{query}`"),
            false => format!("{what} `{query}` over {}", range.describe()),
        };
        ReadScope { asking, ..self }
    }

    /// The same, of one lane alone.
    pub fn narrowed_to(self, lane: u32) -> Self {
        let only = if self.only.is_none_or(|only| only == lane) { lane } else { u32::MAX };
        ReadScope { only: Some(only), ..self }
    }

    fn held(&self, lane: u32) -> impl Iterator<Item = &Held> {
        let held: &[Held] = match &self.whose {
            Whose::Holder(held) => held,
            Whose::Everything => &[],
        };
        held.iter().filter(move |held| held.lane == lane && self.only.is_none_or(|only| only == lane))
    }

    /// Whether the lane may be read, or a part of it.
    pub fn may_read(&self, lane: u32) -> bool {
        match self.whose {
            Whose::Everything => self.only.is_none_or(|only| only == lane),
            Whose::Holder(_) => self.held(lane).next().is_some(),
        }
    }

    /// Whether no lane may be read at all.
    pub fn reads_nothing(&self) -> bool {
        match &self.whose {
            Whose::Everything => false,
            Whose::Holder(held) => !held.iter().any(|held| self.may_read(held.lane)),
        }
    }

    /// Whether every event of the lane may be read, so that what was counted over all of them may be shown.
    pub fn reads_all_rows(&self, lane: u32) -> bool {
        matches!(self.whose, Whose::Everything) && self.may_read(lane) || self.held(lane).any(|h| h.rows.is_empty())
    }

    /// Whether all of a lane may be read.
    pub fn reads_whole(&self, lane: u32) -> bool {
        let whole = |held: &Held| held.rows.is_empty() && held.hidden.is_empty();
        matches!(self.whose, Whose::Everything) && self.may_read(lane) || self.held(lane).any(whole)
    }

    /// Whether a part only may be read of any lane: then nothing is said of how an answer came about.
    pub fn is_restricted(&self) -> bool {
        match &self.whose {
            Whose::Everything => false,
            Whose::Holder(held) => held.iter().any(|held| self.may_read(held.lane) && !self.reads_whole(held.lane)),
        }
    }

    /// What may be read of a lane. A grant whose filter does not parse any more gives nothing.
    pub fn access(&self, lane: u32, config: &Config) -> LaneAccess {
        if !self.may_read(lane) {
            return LaneAccess::None;
        }
        if self.reads_whole(lane) {
            return LaneAccess::Whole;
        }
        let given = |held: &Held| {
            let mut rows = if held.rows.is_empty() { Filter::All } else { parse_filter(&held.rows).ok()? };
            rows.tie_up(config.ties());
            Some((rows, HiddenFields::new(held.hidden.iter().map(String::as_str), config.ties())))
        };
        let restrictions = together(&config.name(lane), self.held(lane).filter_map(given).collect());
        if restrictions.is_empty() {
            return LaneAccess::Whole;
        }
        LaneAccess::Part(restrictions.into_iter().map(Arc::new).collect())
    }

    /// One text for all who may read the same: what is worked out for one of them can be given to the others.
    pub fn key(&self) -> String {
        let mut held: Vec<String> = match &self.whose {
            Whose::Everything => return format!("everything {:?}", self.only),
            Whose::Holder(held) => held.iter().map(|h| format!("{} {:?} {:?}", h.lane, h.rows, h.hidden)).collect(),
        };
        held.sort();
        held.dedup();
        format!("{:?} {}", self.only, held.join(", "))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use calvex_language::domain::grant::May;

    fn part(lane: u32, rows: &str, hidden: &[&str]) -> Held {
        Held { lane, may: May::Read, rows: rows.into(), hidden: hidden.iter().map(|h| (*h).to_owned()).collect() }
    }

    #[test]
    fn a_scope_is_narrowed_and_never_widened() {
        let scope = ReadScope::of_held([Held::whole(1, May::Read), Held::whole(2, May::Read)]);
        assert!(scope.may_read(1) && scope.may_read(2) && !scope.may_read(3));
        let one = scope.narrowed_to(1);
        assert!(one.may_read(1) && !one.may_read(2));
        assert!(![1, 2, 3].iter().any(|lane| one.clone().narrowed_to(2).may_read(*lane)));
        let outside = ReadScope::of_held([Held::whole(1, May::Read)]).narrowed_to(3);
        assert!(!outside.may_read(3) && !outside.may_read(1));
        assert!(ReadScope::everything().may_read(7) && !ReadScope::nothing().may_read(7));
        assert!(ReadScope::nothing().reads_nothing() && outside.reads_nothing() && !one.reads_nothing());
    }

    #[test]
    fn several_grants_are_a_union() {
        let config = Config::of_lanes(Vec::new());
        let filtered = ReadScope::of_held([part(1, "service=slots", &[]), part(2, "", &["recipient.phone"])]);
        assert!(filtered.is_restricted() && !filtered.reads_all_rows(1) && filtered.reads_all_rows(2));
        assert!(!filtered.reads_whole(2));
        let LaneAccess::Part(parts) = filtered.access(1, &config) else { panic!() };
        assert_eq!(parts.len(), 1);
        let widened = ReadScope::of_held([part(1, "service=slots", &["a"]), part(1, "", &[])]);
        assert!(matches!(widened.access(1, &config), LaneAccess::Whole) && !widened.is_restricted());
        // What does not parse any more gives nothing, and takes nothing from others.
        let broken = ReadScope::of_held([part(1, "service=", &[])]);
        let LaneAccess::Part(parts) = broken.access(1, &config) else { panic!() };
        assert!(parts.iter().all(|p| p.rows == Filter::nothing()));
        assert_ne!(filtered.key(), widened.key());
    }
}
