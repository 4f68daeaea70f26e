//! Counts over time by severity.

use crate::scan::{Explanation, Progress, Scope};
use crate::scan::{open_all, read_or_leave_out};
use calvex_language::error::Result;
use calvex_language::query::{Filter, TimeRange};
use calvex_storage::columns::{BuiltinColumn, PageRead, Rows, Values};

/// Buckets at most.
const MAX_BUCKETS: usize = 100_000;
/// Pages a worker takes before the counts so far are sent.
const WAVE_PER_WORKER: usize = 64;
/// How many severities have a name.
pub const SEVERITY_COUNT: usize = 6;

/// Counts in buckets of equal length; the last may reach beyond the range, but counts nothing there.
#[derive(Debug, Clone, PartialEq)]
pub struct Histogram {
    /// Start of the first bucket.
    pub from_ns: i64,
    /// Length of each.
    pub step_ns: i64,
    /// Trace, debug, info, warn, error, fatal; a row a bucket.
    pub buckets: Vec<[u64; SEVERITY_COUNT]>,
    /// How the counts came about.
    pub explain: Explanation,
}

impl Histogram {
    /// All events counted.
    pub fn total(&self) -> u64 {
        self.buckets.iter().flatten().sum()
    }
}

/// Counts the events of `range` that pass, in steps of `step_ns` from `from_ns`, which is not after the range's start.
pub fn histogram(scope: &Scope, filter: &Filter, range: TimeRange, from_ns: i64, step_ns: i64) -> Histogram {
    let step_ns = step_ns.max(1);
    let from_ns = from_ns.min(range.from_ns);
    let length = (i128::from(range.to_ns) - i128::from(from_ns)).max(0);
    let count = usize::try_from((length + i128::from(step_ns) - 1) / i128::from(step_ns)).unwrap_or(0).min(MAX_BUCKETS);
    let mut explain = scope.explain(&range);
    let pages = open_all(scope, filter, &range, &mut explain);
    let total = pages.len();
    let grid = Grid { from_ns, step_ns, count };
    let mut buckets = vec![[0; SEVERITY_COUNT]; count];
    // All at once, unless someone wants to see it grow.
    let wave = if scope.progress.is_some() { WAVE_PER_WORKER * scope.workers.width() } else { pages.len() };
    let mut done = 0;
    for pages in pages.chunks(wave.max(1)) {
        let counted = scope.map(pages.len(), &mut explain, |n| {
            let (lane, at) = &pages[n];
            read_or_leave_out(scope, filter, &range, (lane, at), |page, rows| count_rows(page, rows, &grid))
        });
        for ((first, counts), part) in counted.into_iter().flatten() {
            explain.add(part);
            for (bucket, counts) in buckets.iter_mut().skip(first).zip(counts) {
                bucket.iter_mut().zip(counts).for_each(|(all, n)| *all += n);
            }
        }
        done += pages.len();
        if let Some(progress) = scope.progress {
            progress(Progress::Pages { done, total });
            progress(Progress::Counted { from_ns, step_ns, buckets: buckets.clone() });
        }
    }
    Histogram { from_ns, step_ns, buckets, explain }
}

/// Where buckets begin.
struct Grid {
    from_ns: i64,
    step_ns: i64,
    count: usize,
}

impl Grid {
    fn bucket(&self, time_ns: i64) -> usize {
        (time_ns.wrapping_sub(self.from_ns) as u64 / self.step_ns as u64) as usize
    }
}

/// The counts of one page, and the bucket they begin with.
fn count_rows(page: &dyn PageRead, rows: &Rows, grid: &Grid) -> Result<(usize, Vec<[u64; SEVERITY_COUNT]>)> {
    if rows.is_empty() || grid.count == 0 {
        return Ok((0, Vec::new()));
    }
    let Some(severity) = page.builtin(BuiltinColumn::Severity)? else { return Ok((0, Vec::new())) };
    let Values::Ints(severities) = &severity.values else { return Ok((0, Vec::new())) };
    let level = |s: i64| (s.clamp(1, 24) as usize - 1) / 4;
    let (lo, hi) = page.time_span();
    let clamp = |bucket: usize| bucket.min(grid.count - 1);
    let first = clamp(if lo < grid.from_ns { 0 } else { grid.bucket(lo) });
    let last = clamp(if hi < grid.from_ns { 0 } else { grid.bucket(hi) });
    let mut counts = vec![[0; SEVERITY_COUNT]; last - first + 1];
    if first == last {
        // The whole page lies in one bucket: its times are not read.
        rows.iter().filter_map(|row| severities.get(row)).for_each(|s| counts[0][level(*s)] += 1);
        return Ok((first, counts));
    }
    let Some(time) = page.builtin(BuiltinColumn::Time)? else { return Ok((0, Vec::new())) };
    let Values::Ints(times) = &time.values else { return Ok((0, Vec::new())) };
    for row in rows.iter() {
        let (Some(t), Some(s)) = (times.get(row), severities.get(row)) else { continue };
        if let Some(bucket) = counts.get_mut(grid.bucket(*t).wrapping_sub(first)) {
            bucket[level(*s)] += 1;
        }
    }
    Ok((first, counts))
}
