//! Numbers that moved: the distance of Kolmogorov and Smirnov between the distributions of the two sets, taken from their
//! percentiles.

use super::count::Counted;
use super::{Change, Finding, FindingKind, field_name};
use crate::measure::Quantiles;

/// Least distance that is reported.
const LEAST: f64 = 0.1;
/// Numbers that both sets must have.
const LEAST_NUMBERS: u64 = 50;
/// Of the distance that chance makes, so many times: one in a thousand.
const CRITICAL: f64 = 1.95;

pub(super) fn findings(counted: &Counted) -> Vec<Finding> {
    let units = [0, 1].map(|set: usize| counted.distinct[set].count().max(1) as f64);
    let mut out = Vec::new();
    for (field, [baseline, current]) in &counted.numbers {
        let (n0, n1) = (baseline.count(), current.count());
        if n0.min(n1) < LEAST_NUMBERS {
            continue;
        }
        // Numbers of one unit are not independent: there are no more of them than units.
        let (n0, n1) = ((n0 as f64).min(units[0]), (n1 as f64).min(units[1]));
        // One set may be exact and the other estimated: as buckets they compare alike.
        let (baseline, current) = (&baseline.bucketed(), &current.bucketed());
        let distance = distance(baseline, current);
        if distance < LEAST.max(CRITICAL * ((n0 + n1) / (n0 * n1)).sqrt()) {
            continue;
        }
        let at = |percent: f64| {
            (percent, baseline.percentile(percent).unwrap_or(0.0), current.percentile(percent).unwrap_or(0.0))
        };
        let percentiles: Vec<(f64, f64, f64)> = [5.0, 25.0, 50.0, 75.0, 95.0, 99.0].map(at).to_vec();
        let moved: f64 = percentiles.iter().map(|(_, a, b)| b - a).sum();
        let name = field_name(field);
        // The middle one, or where that stayed the one that moved most.
        let moved_by = |(_, a, b): &(f64, f64, f64)| (b - a).abs() / a.abs().max(b.abs()).max(1e-12);
        let middle = percentiles.get(2).filter(|p| moved_by(p) > 0.01);
        let shown = middle.or(percentiles.iter().max_by(|a, b| moved_by(a).total_cmp(&moved_by(b))));
        let (percent, before, now) = shown.copied().unwrap_or_default();
        out.push(Finding {
            query: format!("has {name}"),
            percent: Some(percent),
            baseline: before,
            current: now,
            explained: distance,
            percentiles,
            score: distance * 0.5,
            ..Finding::new(FindingKind::Number, if moved >= 0.0 { Change::Higher } else { Change::Lower }, &name)
        });
    }
    out
}

/// The largest difference of the two distribution functions, at the percentiles of either.
fn distance(a: &Quantiles, b: &Quantiles) -> f64 {
    let percent = |n: usize| n as f64 / 2.0;
    let grid = |q: &Quantiles| (1..200).filter_map(|n| q.percentile(percent(n))).collect::<Vec<f64>>();
    let (of_a, of_b) = (grid(a), grid(b));
    let below = |grid: &[f64], x: f64| grid.partition_point(|v| *v <= x) as f64 / grid.len().max(1) as f64;
    of_a.iter().chain(&of_b).map(|x| (below(&of_a, *x) - below(&of_b, *x)).abs()).fold(0.0, f64::max)
}
