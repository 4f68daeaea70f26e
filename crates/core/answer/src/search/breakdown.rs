//! Breakdown: the top values of one or several fields among the events that pass. One pass over their columns counts them;
//! where the values of a field are too many to be counted at once, a share of them at a time.

use super::Spread;
use super::sampled::newest_first;
use crate::measure::{FieldTally, GroupValue, tally};
use crate::scan::{Explanation, PageAt, Scope, open_all};
use calvex_language::query::{Field, Filter, TimeRange};
use std::sync::Arc;

/// The values of one field.
#[derive(Debug, Clone, PartialEq)]
pub struct FieldCounts {
    /// The field.
    pub field: Field,
    /// Events that have it.
    pub having: u64,
    /// The most frequent values and the events with each; equal counts in the order of values.
    pub top: Vec<(GroupValue, u64)>,
    /// How many distinct values were counted.
    pub distinct: usize,
    /// Values in events that were not counted: there were too many values even for the smallest share.
    pub uncounted: u64,
    /// How its numbers are spread, of those counted; none where no value is a number, or numbers are too many to keep.
    pub spread: Option<Spread>,
}

/// The answer.
#[derive(Debug, Clone, PartialEq)]
pub struct Breakdown {
    /// Events that pass.
    pub events: u64,
    /// In the order asked.
    pub fields: Vec<FieldCounts>,
    /// How it came about.
    pub explain: Explanation,
}

/// Counts the values of `fields`; `top` of each are given.
pub fn breakdown(scope: &Scope, filter: &Filter, range: TimeRange, fields: &[Field], top: usize) -> Breakdown {
    let mut explain = scope.explain(&range);
    let pages = open_all(scope, filter, &range, &mut explain);
    count(scope, filter, range, fields, top, &pages, explain)
}

/// As [`breakdown`], of the newest `pages` pages only: quick, for proposals.
pub fn newest_values(
    scope: &Scope,
    filter: &Filter,
    range: TimeRange,
    fields: &[Field],
    top: usize,
    pages: usize,
) -> Breakdown {
    let mut explain = scope.explain(&range);
    let mut newest = newest_first(scope, filter, &range, &mut explain);
    newest.truncate(pages);
    count(scope, filter, range, fields, top, &newest, explain)
}

fn count(
    scope: &Scope,
    filter: &Filter,
    range: TimeRange,
    fields: &[Field],
    top: usize,
    pages: &[(Arc<str>, PageAt)],
    explain: Explanation,
) -> Breakdown {
    let (events, tallies, explain) = tally(scope, filter, range, fields, top, true, pages, explain);
    let reported = |(field, tally): (&Field, FieldTally)| FieldCounts {
        field: field.clone(),
        having: tally.having,
        spread: tally.numbers.and_then(|numbers| Spread::of(numbers.into_iter())),
        top: tally.top,
        distinct: tally.distinct,
        uncounted: tally.uncounted,
    };
    Breakdown { events, fields: fields.iter().zip(tallies).map(reported).collect(), explain }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::scan::Budget;
    use crate::testing::{Shelf, Threads, numbered, scope};
    use calvex_language::model::{Event, Path, Value};

    /// Several fields, one of them with more values than there is memory for.
    #[test]
    fn values_that_do_not_fit_are_counted_share_by_share() {
        let event = |n: i64| Event {
            time_ns: n,
            service: ["slots", "edge", "codes"][n as usize % 3].into(),
            fields: vec![(Path::root("n"), Value::Int(if n % 4 == 0 { 17 } else { n * 7919 % 20_011 }))],
            ..Event::default()
        };
        let events = numbered((0..24_000).map(event).collect());
        let mut shelf = Shelf::default();
        let view: Vec<_> = events.chunks(9000).flat_map(|e| shelf.seal(e, 700)).collect();
        let fields = [Field::Sent("n".into()), Field::Builtin(calvex_language::query::Builtin::Service)];
        let plenty = breakdown(&scope(&view, &shelf), &Filter::All, TimeRange::ALL, &fields, 5);
        assert_eq!((plenty.events, plenty.fields[0].top[0].clone()), (24_000, (GroupValue::Whole(17), 6001)));
        let budget = Budget::new(1 << 20);
        let few = Scope { budget: &budget, workers: &Threads, ..scope(&view, &shelf) };
        let shares = breakdown(&few, &Filter::All, TimeRange::ALL, &fields, 5);
        assert_eq!(shares.explain.stopped, None);
        assert_eq!(shares.events, plenty.events);
        assert_eq!(shares.fields, plenty.fields, "numbers and their spread too");
        assert_eq!((shares.fields[0].uncounted, shares.fields[0].distinct), (0, 16_006));
    }
}
