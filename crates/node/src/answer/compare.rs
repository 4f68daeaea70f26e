//! Comparison: what differs between two sets of events.

use super::run::{Listener, run_following};
use super::search::{plan, range_answer, timed};
use crate::auth::Reader;
use crate::error::{Result, ServiceError};
use crate::state::Reading;
use calvex_answer::compare::{Comparison, Side, compare as work_out, whole_traces};
use calvex_answer::scan::Explanation;
use calvex_language::model::time::format_utc;
use calvex_language::query::{TimeRange, parse_duration_ns};
use calvex_wire::api::{CompareAnswer, CompareRequest, ComparedSide, SearchRequest};
use std::sync::Arc;
use std::time::Instant;

/// As far back as a baseline may lie: 400 days.
const MAX_EARLIER_NS: f64 = 400.0 * 86_400e9;

/// Compares the events of a query with those of the range just before it, of another range, or of another query.
///
/// # Errors
/// Mistakes in the request.
pub async fn compare(
    reading: &Arc<Reading>,
    reader: &Reader,
    ask: CompareRequest,
    listener: Option<Listener>,
) -> Result<CompareAnswer> {
    let began = Instant::now();
    let request = |query: String, from: Option<String>, to: Option<String>| SearchRequest {
        query,
        from,
        to,
        zone: ask.zone.clone(),
        ..SearchRequest::default()
    };
    let current = plan(reading, &request(ask.query.clone(), ask.from.clone(), ask.to.clone()))?;
    // A baseline of its own range, else of the current one where another query is compared, else the range just before.
    let fixed = |range: &TimeRange| (Some(format_utc(range.from_ns, 9)), Some(format_utc(range.to_ns, 9)));
    let (from, to) = match (&ask.before_from, &ask.before_to, &ask.earlier, &ask.before_query) {
        (None, None, Some(by), _) => fixed(&earlier(&current.range, by)?),
        (_, _, Some(_), _) => {
            return Err(ServiceError::BadRequest(
                "`earlier` stands in the place of `before_from`; leave one out".into(),
            ));
        }
        (Some(from), to, None, _) => (Some(from.clone()), to.clone()),
        (None, Some(_), None, _) => {
            return Err(ServiceError::BadRequest("`before_to` needs `before_from`".into()));
        }
        (None, None, None, Some(_)) => fixed(&current.range),
        (None, None, None, None) => fixed(&before(&current.range)),
    };
    let baseline = plan(reading, &request(ask.before_query.clone().unwrap_or(ask.query.clone()), from, to))?;
    if current.query.measure.is_some() || baseline.query.measure.is_some() {
        return Err(ServiceError::BadRequest("a comparison takes filters; leave `measure` out".into()));
    }
    let (filters, ranges) =
        ([baseline.query.filter.clone(), current.query.filter.clone()], [baseline.range, current.range]);
    let whole = ask.whole_traces;
    let (comparison, reads) =
        run_following(reading, reader.scope().asking("compare", &ask.query, &current.range), listener, move |scope| {
            let sides = [0, 1].map(|n| Side { filter: &filters[n], range: ranges[n], whole: false });
            if !whole {
                return work_out(scope, &sides[0], &sides[1]);
            }
            let mut explain = Explanation::default();
            let traces = [0, 1].map(|n| whole_traces(scope, &sides[n], &mut explain));
            let [baseline, current] = [0, 1].map(|n| Side { filter: &traces[n].0, range: traces[n].1, whole: true });
            let mut comparison = work_out(scope, &baseline, &current);
            comparison.explain.add(explain);
            comparison
        })
        .await?;
    let Comparison { headline, findings, baseline: b, current: c, sampled, too_many_values, explain } = comparison;
    Ok(CompareAnswer {
        headline,
        findings,
        baseline: ComparedSide { query: baseline.query.canonical(), range: range_answer(&ranges[0]), count: b },
        current: ComparedSide { query: current.query.canonical(), range: range_answer(&ranges[1]), count: c },
        sampled,
        too_many_values,
        explain: timed(explain, began, reads),
    })
}

/// The same time so much earlier.
fn earlier(range: &TimeRange, by: &str) -> Result<TimeRange> {
    let by_ns = parse_duration_ns(by).filter(|ns| (1e9..=MAX_EARLIER_NS).contains(ns)).map(|ns| ns as i64);
    let by_ns = by_ns.ok_or_else(|| ServiceError::BadRequest(format!("`{by}` is no time earlier; write 1d or 7d")))?;
    Ok(TimeRange { from_ns: range.from_ns.saturating_sub(by_ns), to_ns: range.to_ns.saturating_sub(by_ns) })
}

/// The range of the same length just before.
fn before(range: &TimeRange) -> TimeRange {
    let length = range.to_ns.saturating_sub(range.from_ns);
    TimeRange { from_ns: range.from_ns.saturating_sub(length), to_ns: range.from_ns }
}
