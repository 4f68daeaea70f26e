//! Shapes that are new, gone, more or fewer: their rates in both sets, with an interval for the ratio that takes counts
//! into account. A shape seen once is no news.

use super::count::{BLOCKS, Counted};
use super::values::{spread, sum, trend};
use super::{Change, Finding, FindingKind, Side};
use calvex_language::model::shape;
use calvex_language::model::template::shown;

/// Events that a shape must have in one of the sets.
const LEAST: u64 = 5;
/// Least ratio of the rates, by the end of the interval that is nearer to one.
const LEAST_RATIO: f64 = 1.5;

pub(super) fn findings(counted: &Counted, sides: [&Side; 2]) -> Vec<Finding> {
    let looked_at = counted.looked_at();
    let seconds = [0, 1].map(|set| {
        let range = &sides[set].range;
        (range.to_ns.saturating_sub(range.from_ns) as f64 / 1e9).max(1e-9) * looked_at[set]
    });
    // Windows of one query are compared by their rates; sets of different queries by their shares.
    let rates = sides[0].filter == sides[1].filter;
    let events = counted.events.map(|n| n.max(1) as f64);
    let size = if rates { seconds } else { events };
    let all = [0, 1].map(|set| {
        let mut blocks = [0u64; BLOCKS];
        for counts in counted.shapes.values() {
            blocks.iter_mut().zip(counts[set]).for_each(|(sum, n)| *sum += u64::from(n));
        }
        blocks
    });
    let grown: f64 = counted
        .shapes
        .values()
        .map(|counts| (sum(&counts[1]) as f64 / size[1] - sum(&counts[0]) as f64 / size[0]).abs())
        .sum();
    let mut out = Vec::new();
    for (template, counts) in &counted.shapes {
        let (k0, k1) = (sum(&counts[0]), sum(&counts[1]));
        if k0.max(k1) < LEAST {
            continue;
        }
        let (r0, r1) = (k0 as f64 / size[0], k1 as f64 / size[1]);
        let widened = spread(&counts[0], &all[0]).max(spread(&counts[1], &all[1]));
        let half = 2.58 * (widened * (1.0 / (k0 as f64 + 0.5) + 1.0 / (k1 as f64 + 0.5))).sqrt();
        let log = (((k1 as f64 + 0.5) / size[1]) / ((k0 as f64 + 0.5) / size[0])).ln();
        let ratio = ((log - half).exp(), (log + half).exp());
        let change = match (k0, k1) {
            (0, _) if ratio.0 > LEAST_RATIO => Change::New,
            (_, 0) if ratio.1 < 1.0 / LEAST_RATIO => Change::Gone,
            _ if ratio.0 > LEAST_RATIO => Change::More,
            _ if ratio.1 < 1.0 / LEAST_RATIO => Change::Fewer,
            _ => continue,
        };
        let explained = ((r1 - r0).abs() / grown.max(1e-12)).min(1.0);
        let bound = if matches!(change, Change::Gone | Change::Fewer) { -(log + half) } else { log - half };
        // What vanished explains less than what came: it often follows from it.
        let weight = if matches!(change, Change::Gone | Change::Fewer) { 0.5 } else { 1.0 };
        let id = shape::id(template);
        out.push(Finding {
            query: format!("shape={id}"),
            value: id,
            template: Some(shown(template)),
            baseline: r0,
            current: r1,
            explained,
            ratio: Some(ratio),
            trend: Some(trend(|set, block| {
                let of = if rates { seconds[set] / BLOCKS as f64 } else { all[set][block] as f64 };
                (f64::from(counts[set][block]), of)
            })),
            score: weight * explained * bound.clamp(0.0, 4.0),
            ..Finding::new(FindingKind::Shape, change, "shape")
        });
    }
    out
}
