//! Why an alert was raised: what is different from just before, kinds of failure that were never seen, the changes made, one
//! story of it, and its values over the last hours. Worked out as the alert is raised, within a few seconds or not at all:
//! the message does not wait for longer.

use super::rehearse::known;
use super::run::run_for_rules;
use crate::auth::ReadScope;
use crate::state::Reading;
use calvex_answer::compare::{Comparison, FindingKind, Side, compare, latest_marks};
use calvex_answer::errors::{ErrorsAsk, errors};
use calvex_answer::search::{Find, Order, find};
use calvex_answer::watch::{Moments, Rings, Rule as Compiled, Strip, group_hash, strips};
use calvex_language::domain::rule::{AlertGroup, Rule};
use calvex_language::model::template::shown;
use calvex_language::model::time::format_utc;
use calvex_language::query::{Builtin, Field, Filter, TimeRange};
use calvex_wire::api::{Explained, ExplainedLine, ExplainedStrip};
use std::sync::Arc;
use std::time::Duration;

/// How long a message waits for its explanation.
const WAIT: Duration = Duration::from_secs(3);
/// What is compared, at least: a few seconds differ by chance.
const LEAST_NS: i64 = 60 * 1_000_000_000;
/// How many times as long the baseline is.
const BASELINE_TIMES: i64 = 4;
/// Findings, marks and new kinds of failure that are named.
const MAX_LINES: usize = 3;
/// Kinds of failure that are looked at.
const MAX_ERRORS: usize = 50;
/// Letters of what senders wrote, and bytes of a line's query, at most.
const MAX_LETTERS: usize = 300;
const MAX_QUERY: usize = 2_000;
/// How far back changes are looked for.
const MARKS_NS: i64 = 3_600_000_000_000;
/// How far back the strip of values goes, and its bars.
const STRIP_NS: i64 = 3 * 3_600_000_000_000;
const STRIP_BARS: usize = 60;

/// What the engine found, before it is put into words.
struct Found {
    compared: Comparison,
    story: Option<String>,
    /// Changes made before, the latest first.
    marks: Vec<String>,
    /// Kinds of failure: id, and in words.
    errors: Vec<(String, String)>,
}

/// The explanation of an alert raised at a moment, as JSON; none where it could not be worked out in time.
pub async fn explanation(
    reading: &Arc<Reading>,
    rule: &Rule,
    compiled: &Compiled,
    (raised_ns, groups): (i64, &[AlertGroup]),
) -> Option<String> {
    let now_ns = (reading.base.clock)();
    let scope = ReadScope::of_held(reading.base.store.held_by_rule(rule.owner_id, rule.team_id, now_ns).await.ok()?);
    // A strip that looks back for weeks must not cost the message all the rest.
    let (found, strip) = tokio::join!(
        tokio::time::timeout(WAIT, found(reading, scope.clone(), compiled, raised_ns)),
        tokio::time::timeout(WAIT, strip_before(reading, scope, compiled, (raised_ns, first_of(groups)))),
    );
    let (found, since_ns) = found.ok()??;
    let compared = found.compared;
    let share = |n: f64| format!("{:.0} %", n * 100.0);
    let line = |f: &calvex_answer::compare::Finding| ExplainedLine {
        what: clipped(f.template.as_ref().unwrap_or(&f.query)),
        baseline: if f.kind == FindingKind::Shape { format!("{:.2}/s", f.baseline) } else { share(f.baseline) },
        current: if f.kind == FindingKind::Shape { format!("{:.2}/s", f.current) } else { share(f.current) },
        query: f.query.clone(),
    };
    let of = |kinds: &'static [FindingKind]| compared.findings.iter().filter(move |f| kinds.contains(&f.kind));
    let fits = |f: &&calvex_answer::compare::Finding| f.query.len() <= MAX_QUERY;
    let lines = of(&[FindingKind::Value, FindingKind::Service, FindingKind::Shape]).filter(fits);
    let lines = lines.take(MAX_LINES).map(line).collect();
    // New is what was never seen before the time that is compared.
    let ids: Vec<&str> = found.errors.iter().map(|(id, _)| id.as_str()).collect();
    let seen = reading.base.store.seen_groups(&ids).await.ok()?;
    let is_old = |id: &str| seen.iter().any(|seen| seen.id == id && seen.first_ns < since_ns);
    let new = found.errors.iter().filter(|(id, _)| !is_old(id)).map(|(_, words)| clipped(words));
    let explained = Explained {
        headline: clipped(&compared.headline),
        lines,
        marks: found.marks.iter().map(|mark| clipped(mark)).collect(),
        new_errors: new.take(MAX_LINES).collect(),
        story: found.story,
        strip: strip.ok().flatten(),
    };
    serde_json::to_string(&explained).ok()
}

/// What senders wrote, as much of it as a message takes.
fn clipped(text: &str) -> String {
    match text.char_indices().nth(MAX_LETTERS) {
        Some((at, _)) => format!("{}…", text.get(..at).unwrap_or_default()),
        None => text.to_owned(),
    }
}

/// The group that was raised first, by its hash.
fn first_of(groups: &[AlertGroup]) -> u64 {
    groups.iter().find(|group| !group.withdrawn && !group.muted).or(groups.first()).map_or(0, |group| group.hash)
}

async fn found(reading: &Arc<Reading>, scope: ReadScope, compiled: &Compiled, raised_ns: i64) -> Option<(Found, i64)> {
    // Since it was so: the rest of the window was as it always is.
    let since_ns = raised_ns - (compiled.hold_ns + 2 * compiled.step_ns).max(LEAST_NS);
    let current = TimeRange { from_ns: since_ns, to_ns: raised_ns };
    let before_ns = since_ns - BASELINE_TIMES * (raised_ns - since_ns);
    let baseline = TimeRange { from_ns: before_ns, to_ns: since_ns };
    let filter = compiled.filter().clone();
    let found = run_for_rules(reading, scope, move |scope| {
        let all = Filter::All;
        let side = |range: TimeRange| Side { filter: &all, range, whole: false };
        let compared = compare(scope, &side(baseline), &side(current));
        let failed = errors(scope, &ErrorsAsk { filter: &all, range: current, top: MAX_ERRORS, points: 1 });
        let words = |g: calvex_answer::errors::FoundGroup| {
            (g.group.id.clone(), format!("{}: {}", g.service, shown(&g.group.shape)))
        };
        let of_trace = Filter::And(vec![filter, Filter::Has(Field::Builtin(Builtin::Trace))]);
        let newest = Find { filter: &of_trace, range: current, order: Order::Newest, after: None, limit: 1 };
        let story = find(scope, &newest)
            .events
            .first()
            .and_then(|(event, _)| event.trace.map(|id| format!("{:032x}", u128::from_be_bytes(id))));
        let changed = TimeRange { from_ns: raised_ns - MARKS_NS, to_ns: raised_ns };
        let marks = latest_marks(scope, changed, MAX_LINES).into_iter();
        let marks = marks.map(|(at_ns, what)| format!("{} {what}", format_utc(at_ns, 0))).collect();
        Found { compared, story, marks, errors: failed.groups.into_iter().map(words).collect() }
    });
    Some((found.await.ok()?, since_ns))
}

/// The values of a group in the hours before it was raised.
async fn strip_before(
    reading: &Arc<Reading>,
    scope: ReadScope,
    compiled: &Compiled,
    (raised_ns, group): (i64, u64),
) -> Option<ExplainedStrip> {
    let (known, asked) = (known(reading).await.ok()?, compiled.clone());
    let strip = run_for_rules(reading, scope, move |scope| {
        let moments = Moments::between(raised_ns - STRIP_NS, raised_ns, asked.step_ns);
        let read = strips(scope, &asked, moments, &known, &mut Rings::default());
        let strip = read.strips.iter().find(|strip| group_hash(&strip.name()) == group).or(read.strips.first());
        strip.filter(|_| read.incomplete.is_none()).map(|strip| bars(strip, &moments, &asked))
    });
    strip.await.ok()?
}

/// A strip in a few bars: of each stretch the value furthest beyond the bound.
fn bars(strip: &Strip, moments: &Moments, rule: &Compiled) -> ExplainedStrip {
    let each = strip.values.len().div_ceil(STRIP_BARS).max(1);
    let worst = |values: &[f64]| values.iter().copied().fold(f64::NAN, |a, b| rule.bound.worse(a, b));
    let value = |values: &[f64]| Some(worst(values)).filter(|value| value.is_finite());
    ExplainedStrip {
        from: format_utc(moments.first_ns, 0),
        step_s: each as f64 * moments.step_ns as f64 / 1e9,
        values: strip.values.chunks(each).map(value).collect(),
        bound: rule.bound,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use calvex_answer::watch::RuleDocument;
    use calvex_language::query::Ties;

    #[test]
    fn what_senders_wrote_is_clipped() {
        assert_eq!(clipped("lease 12 s → 120 s"), "lease 12 s → 120 s");
        let long = clipped(&"→".repeat(100_000));
        assert_eq!((long.chars().count(), long.ends_with('…')), (MAX_LETTERS + 1, true));
    }

    #[test]
    fn bars_keep_what_is_furthest_beyond_the_bound() {
        let rule = RuleDocument::read("name='x'\n[threshold]\nover='5m'\nabove=3", &Ties::default()).unwrap();
        let values: Vec<f64> = (0..120).map(|n| if n == 7 { 9.0 } else { f64::from(n % 2) }).collect();
        let moments = Moments { first_ns: 0, step_ns: 30_000_000_000, count: values.len() };
        let bars = bars(&Strip { group: Vec::new(), values, usual: Vec::new() }, &moments, &rule);
        assert_eq!((bars.values.len(), bars.step_s, bars.bound.number), (60, 60.0, 3.0));
        assert_eq!((bars.values[2], bars.values[3]), (Some(1.0), Some(9.0)));
        let none = Strip { group: Vec::new(), values: vec![f64::NAN; 4], usual: Vec::new() };
        assert_eq!(super::bars(&none, &moments, &rule).values, [None; 4]);
    }
}
