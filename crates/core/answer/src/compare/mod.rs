//! Comparison: what differs between two sets of events, the best explanation first.
//!
//! Two scans count, for each value of each field, the *units* that have it: events of one request are not independent, so
//! a trace counts once, and where there is none the events of one host and second do. Both sets are cut into blocks of
//! time; what the counts vary between blocks beyond chance widens every interval (`values`). A value is a finding when it
//! stands out beyond that (Benjamini and Hochberg, "Controlling the false discovery rate", 1995), by half at least, and
//! explains a twentieth of the difference. Numbers are compared by how far their distributions lie apart (`numbers`,
//! Kolmogorov and Smirnov), shapes by their rates (`shapes`). Findings are ranked by how much they explain.

mod count;
mod numbers;
mod overlap;
mod shapes;
#[cfg(test)]
mod tests;
mod traces;
mod values;

use crate::scan::{Explanation, Progress, Scope};
use crate::search::{Find, Order, find};
use calvex_language::model::Event;
use calvex_language::model::time::format_utc;
use calvex_language::query::{Field, Filter, TimeRange, written_path};
use count::{Counted, count};

pub use crate::finding::{Change, Finding, FindingKind, Trend};
pub use count::BLOCKS;
pub use traces::{MAX_TRACES, any_trace, whole_traces};

/// Findings of an answer at most.
const MAX_FINDINGS: usize = 60;
/// Marks of an answer at most.
const MAX_MARKS: usize = 12;
/// Findings that are reported at a time while the scan goes on.
const MAX_PROVISIONAL: usize = 12;

/// One of the two sets.
#[derive(Debug, Clone)]
pub struct Side<'a> {
    /// Which events.
    pub filter: &'a Filter,
    /// When.
    pub range: TimeRange,
    /// Whether it is of few traces ([`whole_traces`]): each counts once, in however many pages it stands.
    pub whole: bool,
}

/// How many there are of a set.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, Copy, Default, PartialEq, serde::Serialize, serde::Deserialize)]
pub struct SideCount {
    /// Events.
    pub events: u64,
    /// Requests, or where there are none hosts and seconds.
    pub units: u64,
}

/// What differs.
#[derive(Debug, Clone, Default)]
pub struct Comparison {
    /// What differs, in one line.
    pub headline: String,
    /// Best first.
    pub findings: Vec<Finding>,
    /// The baseline.
    pub baseline: SideCount,
    /// The current set.
    pub current: SideCount,
    /// Which share of the pages was looked at, where not all were.
    pub sampled: Option<f64>,
    /// Fields with too many values to be compared.
    pub too_many_values: Vec<String>,
    /// How it came about.
    pub explain: Explanation,
}

/// Compares two sets of events.
pub fn compare(scope: &Scope, baseline: &Side, current: &Side) -> Comparison {
    let mut out = Comparison { explain: scope.explain(&current.range), ..Comparison::default() };
    let sides = [baseline, current];
    let so_far = |counted: &Counted| {
        let values = values::findings(counted).into_iter().map(|found| found.finding);
        let findings = ranked(others(counted, sides).chain(values).collect(), MAX_PROVISIONAL);
        if let (Some(progress), false) = (scope.progress, findings.is_empty()) {
            progress(Progress::Differs(findings));
        }
    };
    let counted = count(scope, sides, &mut out.explain, &so_far);
    let looked_at = counted.looked_at();
    // Of a sample, as many as all would be.
    let all = |n: u64, set: usize| (n as f64 / looked_at[set]).round() as u64;
    [out.baseline, out.current] = [0, 1]
        .map(|set| SideCount { events: all(counted.events[set], set), units: all(counted.distinct[set].count(), set) });
    out.sampled = counted.sampled;
    out.too_many_values = counted.too_many.iter().map(field_name).collect();
    out.too_many_values.sort();
    let standing_out = overlap::folded(scope, sides, values::findings(&counted), &mut out.explain);
    let mut findings = ranked(others(&counted, sides).chain(standing_out).collect(), MAX_FINDINGS);
    findings.extend(marks(scope, sides, &mut out.explain));
    if scope.budget.is_spent() {
        out.explain.stopped.get_or_insert_with(|| scope.budget.reason());
    }
    out.headline = headline(&findings, [out.baseline, out.current], sides);
    out.findings = findings;
    out
}

/// Shapes and numbers that differ.
fn others(counted: &Counted, sides: [&Side; 2]) -> impl Iterator<Item = Finding> {
    shapes::findings(counted, sides).into_iter().chain(numbers::findings(counted))
}

/// The best `most` findings, best first.
fn ranked(mut findings: Vec<Finding>, most: usize) -> Vec<Finding> {
    findings.sort_by(|a, b| b.score.total_cmp(&a.score).then_with(|| (&a.field, &a.value).cmp(&(&b.field, &b.value))));
    findings.truncate(most);
    findings
}

/// What differs, in one line: how many there were and are, and the finding that explains most.
fn headline(findings: &[Finding], counts: [SideCount; 2], sides: [&Side; 2]) -> String {
    let seconds = sides.map(|side| side.range.to_ns.saturating_sub(side.range.from_ns) as f64 / 1e9);
    let rates = [0, 1].map(|n| counts[n].events as f64 / seconds[n].max(1e-9));
    let changed = match (counts[0].events, counts[1].events) {
        (_, 0) => return "There is nothing to compare: no event in the current set".to_owned(),
        (0, _) => return "There is nothing to compare with: no event in the baseline".to_owned(),
        // How many there are of two queries is no finding.
        _ if sides[0].filter != sides[1].filter => format!("{} requests against {}", counts[1].units, counts[0].units),
        _ if rates[1] > 1.2 * rates[0] => format!("{:.1} times as many events", rates[1] / rates[0]),
        _ if rates[1] < rates[0] / 1.2 => format!("{:.0} % of the events", rates[1] / rates[0] * 100.0),
        _ => "As many events".to_owned(),
    };
    let best =
        findings.iter().find(|f| matches!(f.kind, FindingKind::Value | FindingKind::Shape | FindingKind::Service));
    let Some(best) = best else { return format!("{changed}, and nothing stands out") };
    let what = best.template.as_ref().map_or_else(|| best.query.clone(), |template| format!("“{template}”"));
    let share = (best.explained * 100.0).round();
    match (best.kind, best.change) {
        (FindingKind::Shape, Change::New) => format!("{changed}: {what} is new"),
        (FindingKind::Shape, Change::Gone) => format!("{changed}: {what} is gone"),
        (FindingKind::Shape, Change::Fewer) => format!("{changed}: fewer of {what}"),
        (FindingKind::Shape, _) => format!("{changed}: more of {what}"),
        (_, Change::New) => format!("{changed}: {share} % of the difference has {what}, which nothing had before"),
        _ => format!("{changed}: {share} % of the difference has {what}"),
    }
}

/// Changes made from the start of the baseline to the end of the current set, those nearest before the current first.
fn marks(scope: &Scope, [baseline, current]: [&Side; 2], explain: &mut Explanation) -> Vec<Finding> {
    let filter = Filter::Has(Field::Sent("mark".into()));
    let range = TimeRange {
        from_ns: baseline.range.from_ns.min(current.range.from_ns),
        to_ns: baseline.range.to_ns.max(current.range.to_ns),
    };
    let found = find(scope, &Find { filter: &filter, range, order: Order::Newest, after: None, limit: 200 });
    explain.add(found.explain);
    let start_ns = current.range.from_ns;
    let mut events = found.events;
    events.sort_by_key(|(event, _)| event.time_ns.abs_diff(start_ns));
    let mark = |event: &Event| Finding {
        value: mark_of(event),
        at: Some(format_utc(event.time_ns, 3)),
        query: format!("has mark time={}", format_utc(event.time_ns, 9)),
        ..Finding::new(FindingKind::Mark, Change::Made, "mark")
    };
    events.iter().take(MAX_MARKS).map(|(event, _)| mark(event)).collect()
}

/// The latest marks of a range: when, and what was done.
pub fn latest_marks(scope: &Scope, range: TimeRange, limit: usize) -> Vec<(i64, String)> {
    let filter = Filter::Has(Field::Sent("mark".into()));
    let found = find(scope, &Find { filter: &filter, range, order: Order::Newest, after: None, limit });
    found.events.into_iter().map(|(event, _)| (event.time_ns, mark_of(&event))).collect()
}

/// What a mark says was done.
pub fn mark_of(event: &Event) -> String {
    let named = event.fields.iter().find(|(path, _)| path.is("mark")).and_then(|(_, value)| value.as_text());
    named.filter(|text| !text.is_empty()).unwrap_or(&event.message).to_owned()
}

/// A field's name in the language.
fn field_name(field: &Field) -> String {
    match field {
        Field::Builtin(builtin) => builtin.name().to_owned(),
        Field::Sent(name) => written_path(name.as_str()),
    }
}
