//! Why an alert was raised: what is different from just before, the changes made, and one story of it. Worked out as the
//! alert is raised, within a few seconds or not at all: the message does not wait for longer.

use super::search;
use crate::auth::ReadScope;
use crate::state::Reading;
use calvex_answer::compare::{FindingKind, Side, compare};
use calvex_answer::search::{Find, Order, find};
use calvex_answer::watch::Rule as Compiled;
use calvex_language::domain::rule::Rule;
use calvex_language::query::{Builtin, Field, Filter, TimeRange};
use calvex_wire::api::{Explained, ExplainedLine};
use std::sync::Arc;
use std::time::Duration;

/// How long a message waits for its explanation.
const WAIT: Duration = Duration::from_secs(3);
/// What is compared, at least: a few seconds differ by chance.
const LEAST_NS: i64 = 60 * 1_000_000_000;
/// How many times as long the baseline is.
const BASELINE_TIMES: i64 = 4;
/// Findings and marks that are named.
const MAX_LINES: usize = 3;

/// The explanation of an alert, as JSON; none where it could not be worked out in time.
pub async fn explanation(reading: &Arc<Reading>, rule: &Rule, compiled: &Compiled, raised_ns: i64) -> Option<String> {
    let lanes = reading.base.store.lanes_of_user(rule.owner_id, rule.owner_role).await.ok()?;
    // Since it was so: the rest of the window was as it always is.
    let since_ns = raised_ns - (compiled.hold_ns + 2 * compiled.step_ns).max(LEAST_NS);
    let current = TimeRange { from_ns: since_ns, to_ns: raised_ns };
    let before_ns = since_ns - BASELINE_TIMES * (raised_ns - since_ns);
    let baseline = TimeRange { from_ns: before_ns, to_ns: since_ns };
    let filter = compiled.filter().clone();
    let work = search::run_for_rules(reading, ReadScope::of_lanes(lanes), move |scope| {
        let all = Filter::All;
        let side = |range: TimeRange| Side { filter: &all, range, whole: false };
        let compared = compare(scope, &side(baseline), &side(current));
        let of_trace = Filter::And(vec![filter, Filter::Has(Field::Builtin(Builtin::Trace))]);
        let newest = Find { filter: &of_trace, range: current, order: Order::Newest, after: None, limit: 1 };
        let story = find(scope, &newest)
            .events
            .first()
            .and_then(|(event, _)| event.trace.map(|id| format!("{:032x}", u128::from_be_bytes(id))));
        (compared, story)
    });
    let (compared, story) = tokio::time::timeout(WAIT, work).await.ok()?.ok()?;
    let share = |n: f64| format!("{:.0} %", n * 100.0);
    let line = |f: &calvex_answer::compare::Finding| ExplainedLine {
        what: f.template.clone().unwrap_or_else(|| f.query.clone()),
        baseline: if f.kind == FindingKind::Shape { format!("{:.2}/s", f.baseline) } else { share(f.baseline) },
        current: if f.kind == FindingKind::Shape { format!("{:.2}/s", f.current) } else { share(f.current) },
        query: f.query.clone(),
    };
    let of = |kinds: &'static [FindingKind]| compared.findings.iter().filter(move |f| kinds.contains(&f.kind));
    let lines = of(&[FindingKind::Value, FindingKind::Service, FindingKind::Shape]).take(MAX_LINES).map(line).collect();
    let marks = of(&[FindingKind::Mark]).take(MAX_LINES);
    let marks = marks.map(|mark| format!("{} {}", mark.at.clone().unwrap_or_default(), mark.value)).collect();
    let explained = Explained { headline: compared.headline, lines, marks, story };
    serde_json::to_string(&explained).ok()
}
