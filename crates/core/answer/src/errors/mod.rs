//! Error groups: the failures of a range folded into problems, with how many, since when, how they went over time, in which
//! releases, and one event to look at.
//!
//! One pass over the pages that can hold a failure. A page's failures are put together by
//! `calvex_storage::columns::ErrorGroups`; here the pages are joined. Memory is bounded by the groups that are counted by
//! themselves, and each is charged to the budget.

#[cfg(test)]
mod tests;

use crate::measure::{MISSING, ValueRef, code};
use crate::scan::{Explanation, Progress, Scope, open_all, read_or_leave_out};
use calvex_language::error::Result;
use calvex_language::failure::ErrorGroup;
use calvex_language::model::{EventId, TraceId};
use calvex_language::query::{Builtin, Field, Filter, TimeRange, parse_filter};
use calvex_storage::columns::{BuiltinColumn, ErrorGroups, OrderKeys, PageRead, Rows, Values};
use hashbrown::HashMap;
use parking_lot::Mutex;
use std::sync::Arc;

/// Groups counted by themselves at most; the failures of further ones are counted together.
const MAX_GROUPS: usize = 10_000;
/// Releases of a group at most.
const MAX_RELEASES: usize = 12;
/// Most points of a trend.
const MAX_POINTS: usize = 200;
/// Rough bytes of a group beside its texts and its trend.
const GROUP_BYTES: usize = 512;
/// What failures have in common.
const FAILS: &str = "severity>=error";
/// Fields that hold the release an event was sent by; the first that a page has counts.
pub const RELEASE_FIELDS: [&str; 4] = ["service.version", "release", "version", "app.version"];

/// Which failures.
#[derive(Debug, Clone, Copy)]
pub struct ErrorsAsk<'a> {
    /// Which events.
    pub filter: &'a Filter,
    /// When.
    pub range: TimeRange,
    /// Groups given at most, those with the most failures.
    pub top: usize,
    /// Points of the trend.
    pub points: usize,
}

/// An event of a group to look at: the newest that belongs to a trace, else the newest.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Example {
    /// When.
    pub time_ns: i64,
    /// Which event.
    pub id: EventId,
    /// Its trace.
    pub trace: Option<TraceId>,
}

/// One problem.
#[derive(Debug, Clone, PartialEq)]
pub struct FoundGroup {
    /// What failed.
    pub group: ErrorGroup,
    /// The service it failed in.
    pub service: String,
    /// The lanes it stands in, with the first and the last time there.
    pub lanes: Vec<(Arc<str>, i64, i64)>,
    /// How many failures.
    pub count: u64,
    /// When first, in the range.
    pub first_ns: i64,
    /// When last.
    pub last_ns: i64,
    /// Failures by part of the range.
    pub trend: Vec<u32>,
    /// Releases that failed, with how often, the most often first.
    pub releases: Vec<(String, u64)>,
    /// One to look at.
    pub example: Example,
}

/// The answer.
#[derive(Debug, Clone, Default)]
pub struct Errors {
    /// The problems, those with the most failures first.
    pub groups: Vec<FoundGroup>,
    /// How many there are.
    pub group_count: usize,
    /// All failures.
    pub failures: u64,
    /// Failures of groups that came when too many were known already.
    pub uncounted: u64,
    /// How it came about.
    pub explain: Explanation,
}

impl FoundGroup {
    fn example_order(example: &Example) -> (bool, i64, EventId) {
        (example.trace.is_some(), example.time_ns, example.id)
    }

    fn join(&mut self, other: FoundGroup) {
        self.count += other.count;
        self.first_ns = self.first_ns.min(other.first_ns);
        self.last_ns = self.last_ns.max(other.last_ns);
        self.trend.iter_mut().zip(other.trend).for_each(|(sum, n)| *sum = sum.saturating_add(n));
        if Self::example_order(&other.example) > Self::example_order(&self.example) {
            self.example = other.example;
            // Of messages with a stack the first lines may differ.
            self.group.shape = other.group.shape;
        }
        for (lane, first, last) in other.lanes {
            match self.lanes.iter_mut().find(|(known, ..)| *known == lane) {
                Some(known) => *known = (lane, known.1.min(first), known.2.max(last)),
                None => self.lanes.push((lane, first, last)),
            }
        }
        for (release, n) in other.releases {
            let has_room = self.releases.len() < MAX_RELEASES;
            match self.releases.iter_mut().find(|(known, _)| *known == release) {
                Some((_, sum)) => *sum += n,
                None if has_room => self.releases.push((release, n)),
                None => {}
            }
        }
    }

    fn bytes(&self) -> usize {
        let frames: usize = self.group.frames.iter().map(String::len).sum();
        GROUP_BYTES + self.service.len() + self.group.shape.len() + frames + self.trend.len() * 4
    }
}

/// Folds the failures among the events that pass.
pub fn errors(scope: &Scope, ask: &ErrorsAsk) -> Errors {
    // Lets pages without a failure be left out; which rows are failures, their severity decides.
    let fails = parse_filter(FAILS).unwrap_or(Filter::All);
    let filter = Filter::And(vec![fails, ask.filter.clone()]);
    let mut explain = scope.explain(&ask.range);
    let pages = open_all(scope, &filter, &ask.range, &mut explain);
    let points = ask.points.clamp(1, MAX_POINTS);
    let whole: Mutex<(HashMap<String, FoundGroup>, Errors)> = Mutex::default();
    let done = std::sync::atomic::AtomicUsize::new(0);
    let parts = scope.map(pages.len(), &mut explain, |n| {
        let (lane, at) = &pages[n];
        let (found, explain) = read_or_leave_out(scope, &filter, &ask.range, (lane, at), |page, rows| {
            if rows.is_empty() { Ok(Vec::new()) } else { of_page(page, rows, lane, &ask.range, points) }
        });
        let mut whole = whole.lock();
        let (known, all) = &mut *whole;
        for group in found {
            all.failures += group.count;
            if let Some(same) = known.get_mut(&group.group.id) {
                same.join(group);
            } else if known.len() >= MAX_GROUPS || scope.budget.is_spent() {
                all.uncounted += group.count;
            } else {
                scope.budget.charge(group.bytes());
                known.insert(group.group.id.clone(), group);
            }
        }
        drop(whole);
        if let Some(progress) = scope.progress {
            let done = done.fetch_add(1, std::sync::atomic::Ordering::Relaxed) + 1;
            progress(Progress::Pages { done, total: pages.len() });
        }
        explain
    });
    parts.into_iter().flatten().for_each(|part| explain.add(part));
    if scope.budget.is_spent() {
        explain.stopped.get_or_insert_with(|| scope.budget.reason());
    }
    let (known, mut all) = whole.into_inner();
    all.group_count = known.len();
    all.groups = known.into_values().collect();
    all.groups.sort_by(|a, b| b.count.cmp(&a.count).then_with(|| a.group.id.cmp(&b.group.id)));
    all.groups.truncate(ask.top);
    for group in &mut all.groups {
        group.releases.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
        group.lanes.sort();
    }
    all.explain = explain;
    all
}

/// The groups of one page.
fn of_page(
    page: &dyn PageRead,
    rows: &Rows,
    lane: &Arc<str>,
    range: &TimeRange,
    points: usize,
) -> Result<Vec<FoundGroup>> {
    let failures = ErrorGroups::of(page, rows)?;
    if failures.groups.is_empty() {
        return Ok(Vec::new());
    }
    let order = OrderKeys::of(page)?;
    let services = code(&Field::Builtin(Builtin::Service), page, rows, lane)?;
    let traces = page.builtin(BuiltinColumn::Trace)?;
    let mut releases = None;
    for name in RELEASE_FIELDS {
        let coded = code(&Field::Sent(name.into()), page, rows, lane)?;
        if coded.len() > 1 {
            releases = Some(coded);
            break;
        }
    }
    let trace_of = |row: usize| -> Option<TraceId> {
        let column = traces.as_deref()?;
        let Values::Blobs { dictionary, codes } = &column.values else { return None };
        dictionary.get(*codes.get(column.value_index(row)?)? as usize).try_into().ok()
    };
    let length = (i128::from(range.to_ns) - i128::from(range.from_ns)).max(1);
    let point = |time: i64| {
        let along = i128::from(time) - i128::from(range.from_ns);
        usize::try_from(along * points as i128 / length).unwrap_or(0).min(points - 1)
    };
    let mut found: Vec<Option<FoundGroup>> = failures.groups.iter().map(|_| None).collect();
    let mut by_release: HashMap<(usize, u32), u64> = HashMap::new();
    for row in rows.iter() {
        let Some(n) = failures.of_row(row) else { continue };
        let (time_ns, id) = order.get(row)?;
        let example = Example { time_ns, id, trace: trace_of(row) };
        let one = found[n].get_or_insert_with(|| FoundGroup {
            group: failures.groups[n].clone(),
            service: service_name(services.value(services.first[row])),
            lanes: vec![(lane.clone(), time_ns, time_ns)],
            count: 0,
            first_ns: time_ns,
            last_ns: time_ns,
            trend: vec![0; points],
            releases: Vec::new(),
            example,
        });
        one.count += 1;
        one.first_ns = one.first_ns.min(time_ns);
        one.last_ns = one.last_ns.max(time_ns);
        one.lanes[0] = (lane.clone(), one.first_ns, one.last_ns);
        one.trend[point(time_ns)] += 1;
        if FoundGroup::example_order(&example) > FoundGroup::example_order(&one.example) {
            one.example = example;
        }
        if let Some(coded) = &releases
            && coded.first[row] != MISSING
        {
            *by_release.entry((n, coded.first[row])).or_default() += 1;
        }
    }
    let mut by_release: Vec<((usize, u32), u64)> = by_release.into_iter().collect();
    by_release.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
    for ((n, release), count) in by_release {
        if let (Some(Some(group)), Some(coded)) = (found.get_mut(n), &releases)
            && group.releases.len() < MAX_RELEASES
        {
            group.releases.push((coded.value(release).to_value().to_string(), count));
        }
    }
    Ok(found.into_iter().flatten().collect())
}

fn service_name(value: ValueRef) -> String {
    match value {
        ValueRef::Text(text) => text.to_owned(),
        _ => String::new(),
    }
}
