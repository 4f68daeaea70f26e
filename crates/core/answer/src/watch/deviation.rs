//! A measure against its own usual.

use super::compile::{Form, Rule, default_of};
use super::rings::{Rings, Row};
use super::strips::{MAX_GROUPS, Moments, Reader, Strip, Strips, finished};
use super::usual::median;
use super::usual_days::Usual;
use crate::measure::GroupValue;
use crate::scan::Scope;
use calvex_language::query::{Filter, Measure};
use hashbrown::HashMap;

/// Like buckets that there must be, how far they may lie from the same time, and how many weeks or days are looked at.
const LEAST_LIKE: usize = 20;
const LIKE_NS: i64 = 15 * 60 * 1_000_000_000;
const MOST_LIKE: i64 = 8;

/// What a deviation measures at moments, and how that went; none for other forms.
pub(super) fn measured(scope: &Scope, rule: &Rule, moments: Moments) -> Option<(Vec<Row>, Strips)> {
    let Form::Deviation { filter, measure, over_ns, .. } = &rule.form else { return None };
    let mut rings = Rings::default();
    let out = Strips::default();
    let mut reader = Reader { scope, moments, out, rings: &mut rings, questions: 0, most_groups: MAX_GROUPS };
    let rows = reader.read(filter, measure, *over_ns, 0);
    Some((rows, finished(reader.out, scope)))
}

impl Reader<'_> {
    /// Spreads away from what is usual: from the middle of the like buckets, a quarter of an hour around the same time of
    /// earlier weeks or days, by their median absolute deviation (as standard deviations: times 1.4826), the root of the
    /// middle at least, as counts scatter so much by chance.
    pub(super) fn deviation(
        &mut self,
        filter: &Filter,
        measure: &Measure,
        (over_ns, like_ns): (i64, i64),
        least: f64,
        kept: &Usual,
    ) {
        let step_ns = self.moments.step_ns;
        let (period, count) = (like_ns / step_ns, self.moments.count as i64);
        let (near, stride) = (LIKE_NS / step_ns, (over_ns / step_ns).max(1));
        let empty = default_of(measure);
        // Where few moments are judged, only what lies around them in each period is read.
        let mut all: HashMap<Vec<GroupValue>, HashMap<i64, f64>> = HashMap::new();
        let mut earliest = i64::MAX;
        let whole = count + 2 * near >= period;
        let range_of = |n: i64| match n {
            0 if whole => -MOST_LIKE * period - near..count,
            0 => 0..count,
            n => -n * period - near..count - n * period + near + 1,
        };
        for range in (0..=if whole { 0 } else { MOST_LIKE }).map(range_of) {
            for (group, row) in self.read_steps(filter, measure, over_ns, range) {
                let known = all.entry(group).or_default();
                for (step, figures) in row {
                    earliest = earliest.min(step);
                    known.insert(step, figures.first().copied().unwrap_or(f64::NAN));
                }
            }
        }
        // Days of which the events are gone.
        let base = self.moments.first_ns.div_euclid(step_ns);
        for (group, figures) in kept.groups() {
            let known = all.entry(group.clone()).or_default();
            for (step, figure) in figures.range(..base) {
                earliest = earliest.min(step - base);
                known.entry(step - base).or_insert(*figure);
            }
        }
        let (mut learned, mut strips) = (false, Vec::new());
        let rows: Vec<Row> = all.keys().map(|group| (group.clone(), Vec::new())).collect();
        for (group, _) in self.bounded(rows) {
            let Some(known) = all.get(&group) else { continue };
            let at = |step: i64| known.get(&step).copied().unwrap_or(empty);
            let (mut values, mut usual) = (Vec::new(), Vec::new());
            for step in 0..count {
                // What came before anything did is no bucket.
                let times = (1..=MOST_LIKE).flat_map(|n| {
                    let middle = step - n * period;
                    (-near / stride..=near / stride).map(move |k| middle + k * stride)
                });
                let mut like: Vec<f64> =
                    times.filter(|step| *step >= earliest).map(at).filter(|v| !v.is_nan()).collect();
                let value = at(step);
                if like.len() < LEAST_LIKE || value.is_nan() {
                    values.push(f64::NAN);
                    usual.push((value, f64::NAN));
                    continue;
                }
                learned = true;
                let middle = median(&mut like);
                like.iter_mut().for_each(|v| *v = (*v - middle).abs());
                let spread = (1.4826 * median(&mut like)).max(middle.abs().sqrt()).max(f64::MIN_POSITIVE);
                let away = value - middle;
                values.push(if away.abs() < least { 0.0 } else { away / spread });
                usual.push((value, middle));
            }
            strips.push(Strip { group, values, usual });
        }
        strips.sort_by(|a, b| a.group.cmp(&b.group));
        self.out.strips = strips;
        self.out.learning = !learned;
    }
}
