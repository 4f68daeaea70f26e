//! Counts over time by severity.

use super::scan::{open, scan};
use super::{Explanation, Place, Segment, Stop, touching};
use crate::chunk::ChunkSource;
use crate::columns::{Own, PageRead, Rows, Values};
use crate::error::Result;
use crate::query::{Filter, TimeRange};

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

/// Counts the events of `range` that pass, in steps of `step_ns`.
pub fn histogram(
    view: &[Segment],
    filter: &Filter,
    range: TimeRange,
    step_ns: i64,
    source: &dyn ChunkSource,
    stop: Stop,
) -> Histogram {
    let step_ns = step_ns.max(1);
    let length = (i128::from(range.to_ns) - i128::from(range.from_ns)).max(0);
    let count = usize::try_from((length + i128::from(step_ns) - 1) / i128::from(step_ns)).unwrap_or(0).min(100_000);
    let mut buckets = vec![[0; SEVERITY_COUNT]; count];
    let mut explain = Explanation::default();
    let is_chunk = |s: &&Segment| matches!(s.place, Place::Chunk(_));
    explain.chunks = view.iter().filter(is_chunk).count();
    explain.skipped_by_time = explain.chunks - touching(view, &range).filter(is_chunk).count();
    'segments: for segment in touching(view, &range) {
        let is_head = matches!(segment.place, Place::Head(_));
        for at in open(segment, filter, &range, source, &mut explain) {
            if let Some(reason) = stop() {
                explain.stopped = Some(reason);
                break 'segments;
            }
            let counted = at.with(source, |page| {
                let rows = scan(page, filter, &range, &segment.lane, is_head, &mut explain)?;
                count_rows(page, &rows, range.from_ns, step_ns, &mut buckets)
            });
            if let Err(e) = counted {
                explain.left_out.push(e.to_string());
            }
        }
    }
    Histogram { from_ns: range.from_ns, step_ns, buckets, explain }
}

fn count_rows(
    page: &dyn PageRead,
    rows: &Rows,
    from_ns: i64,
    step_ns: i64,
    buckets: &mut [[u64; SEVERITY_COUNT]],
) -> Result<()> {
    if rows.is_empty() {
        return Ok(());
    }
    let (Some(time), Some(severity)) = (page.own(Own::Time)?, page.own(Own::Severity)?) else { return Ok(()) };
    let (Values::Ints(times), Values::Ints(severities)) = (&time.values, &severity.values) else { return Ok(()) };
    for row in rows.iter() {
        let (Some(t), Some(s)) = (times.get(row), severities.get(row)) else { continue };
        let bucket = (t.wrapping_sub(from_ns) as u64 / step_ns as u64) as usize;
        if let Some(counts) = buckets.get_mut(bucket) {
            counts[(s.clamp(&1, &24) - 1) as usize / 4] += 1;
        }
    }
    Ok(())
}
