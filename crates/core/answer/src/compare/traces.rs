//! Whole traces as a set: what is compared when somebody asks how requests that failed differ from those that ended well.
//! The query of a set names one event of each, its root mostly; what explains the difference often stands in another.

use super::Side;
use crate::scan::{Explanation, Scope};
use crate::search::{Find, Order, find};
use calvex_language::model::{TraceId, to_hex};
use calvex_language::query::{Builtin, Field, Filter, Literal, Test, TimeRange};
use hashbrown::HashSet;

/// Traces of a set at most, the newest.
pub const MAX_TRACES: usize = 500;
/// Events that are looked at for them.
const MAX_EVENTS: usize = 2000;
/// A trace may have begun so long before the event that names it, or go on so long after.
const AROUND_NS: i64 = 600_000_000_000;

/// Everything of some traces.
pub fn any_trace(traces: &[TraceId]) -> Filter {
    let literal = |trace: &TraceId| Literal { text: to_hex(trace), quoted: false, number: None };
    Filter::Compare(Field::Builtin(Builtin::Trace), Test::In(traces.iter().map(literal).collect()))
}

/// All spans and events of the newest traces that a set's events belong to, with the range in which they stand.
pub fn whole_traces(scope: &Scope, side: &Side, explain: &mut Explanation) -> (Filter, TimeRange) {
    let filter = Filter::And(vec![Filter::Has(Field::Builtin(Builtin::Trace)), side.filter.clone()]);
    let ask = Find { filter: &filter, range: side.range, order: Order::Newest, after: None, limit: MAX_EVENTS };
    let found = find(scope, &ask);
    explain.add(found.explain);
    let mut known: HashSet<TraceId> = HashSet::new();
    let traces: Vec<TraceId> = found
        .events
        .iter()
        .filter_map(|(event, _)| event.trace)
        .filter(|trace| known.insert(*trace))
        .take(MAX_TRACES)
        .collect();
    let range = TimeRange {
        from_ns: side.range.from_ns.saturating_sub(AROUND_NS),
        to_ns: side.range.to_ns.saturating_add(AROUND_NS),
    };
    (any_trace(&traces), range)
}
