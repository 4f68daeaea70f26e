//! Values that stand out in the current set.

use super::count::{BLOCKS, Counted, UnitCounts};
use super::{Change, Finding, FindingKind, Trend, field_name};
use crate::measure::GroupValue;
use calvex_language::query::{Builtin, Field, written_value};

/// Expected share of findings that are none.
const FALSE_SHARE: f64 = 0.01;
/// Least ratio of the shares, and least part of the difference explained.
const LEAST_RATIO: f64 = 1.5;
const LEAST_EXPLAINED: f64 = 0.05;
/// Units that must have a value in one of the sets, each counted once.
const LEAST_UNITS: f64 = 8.0;

/// A value that stands out, before others that hold on the same units are folded into it.
#[derive(Debug, Clone)]
pub(super) struct StandingOut {
    pub field: Field,
    pub value: GroupValue,
    pub finding: Finding,
}

/// A share with its interval, against another.
struct Test {
    p0: f64,
    p1: f64,
    /// Chance of such a difference, one-sided.
    chance: f64,
    /// Bounds of the logarithm of the ratio, 95 %.
    log_ratio: (f64, f64),
}

/// Every value that stands out, best first.
pub(super) fn findings(counted: &Counted) -> Vec<StandingOut> {
    let totals = [total(&counted.units[0]), total(&counted.units[1])];
    if totals[0] == 0 || totals[1] == 0 {
        return Vec::new();
    }
    // A unit of eight pages is counted eight times, and is one unit that has the value.
    let times = [0, 1].map(|set| (totals[set] as f64 / counted.distinct[set].count().max(1) as f64).max(1.0));
    let once = |units: &UnitCounts| (sum(&units[0]) as f64 / times[0]).max(sum(&units[1]) as f64 / times[1]);
    let mut tested: Vec<(&Field, &GroupValue, &UnitCounts, Test)> = Vec::new();
    for (field, values) in &counted.values {
        for (value, units) in values {
            if once(units) >= LEAST_UNITS {
                tested.push((field, value, units, test(units, &counted.units)));
            }
        }
    }
    let threshold = benjamini_hochberg(tested.iter().map(|(.., test)| test.chance).collect(), FALSE_SHARE);
    let mut out: Vec<StandingOut> = tested
        .into_iter()
        .filter(|(.., test)| test.chance <= threshold)
        .filter_map(|(field, value, units, test)| {
            let mut found = standing_out(field, value, &test)?;
            let along = |set: usize, block: usize| (f64::from(units[set][block]), counted.units[set][block] as f64);
            found.finding.trend = Some(trend(along));
            Some(found)
        })
        .collect();
    // Of values that explain the same, the one that a person would name comes first.
    let rank = |found: &StandingOut| match found.field {
        Field::Builtin(Builtin::Service) => 0,
        Field::Sent(_) => 1,
        Field::Builtin(Builtin::Host | Builtin::Sender) => 3,
        Field::Builtin(_) => 2,
    };
    let worth = |found: &StandingOut| (found.finding.score * 1000.0).round() as i64;
    out.sort_by(|a, b| {
        worth(b).cmp(&worth(a)).then_with(|| rank(a).cmp(&rank(b))).then_with(|| a.finding.query.cmp(&b.finding.query))
    });
    out
}

fn standing_out(field: &Field, value: &GroupValue, test: &Test) -> Option<StandingOut> {
    let silent = *field == Field::Builtin(Builtin::Sender) && test.p1 == 0.0;
    let explained = (test.p1 - test.p0) / (1.0 - test.p0).max(1e-9);
    let more = test.p1 >= LEAST_RATIO * test.p0 && explained >= LEAST_EXPLAINED;
    if !more && !silent {
        return None;
    }
    let kind = match field {
        Field::Builtin(Builtin::Service) => FindingKind::Service,
        Field::Builtin(Builtin::Sender) if silent => FindingKind::Sender,
        _ => FindingKind::Value,
    };
    let change = match (silent, test.p0 == 0.0) {
        (true, _) => Change::Gone,
        (_, true) => Change::New,
        _ => Change::More,
    };
    let name = field_name(field);
    let text = text_of(value);
    let explained = if silent { test.p0 } else { explained };
    let bound = if silent { -test.log_ratio.1 } else { test.log_ratio.0 };
    // How bad it ended is what a person came to explain, not what explains it.
    let symptom = matches!(field, Field::Builtin(Builtin::Severity | Builtin::Status | Builtin::Kind));
    let weight = if symptom { 0.4 } else { 1.0 };
    Some(StandingOut {
        field: field.clone(),
        value: value.clone(),
        finding: Finding {
            query: format!("{name}={}", written_value(&text)),
            value: text,
            baseline: test.p0,
            current: test.p1,
            explained,
            ratio: Some((test.log_ratio.0.exp(), test.log_ratio.1.exp())),
            score: weight * explained * bound.clamp(0.0, 4.0),
            ..Finding::new(kind, change, &name)
        },
    })
}

/// A figure along the time of both sets: of each set and block how many there are, and of how many.
pub(super) fn trend(counts: impl Fn(usize, usize) -> (f64, f64)) -> Trend {
    let along = |set: usize| (0..BLOCKS).map(|block| counts(set, block)).map(|(k, n)| k / n.max(1e-9)).collect();
    Trend { baseline: along(0), current: along(1) }
}

fn text_of(value: &GroupValue) -> String {
    match value.to_json() {
        serde_json::Value::String(text) => text,
        other => other.to_string(),
    }
}

fn total(blocks: &[u64; BLOCKS]) -> u64 {
    blocks.iter().sum()
}

pub(super) fn sum(blocks: &[u32; BLOCKS]) -> u64 {
    blocks.iter().map(|n| u64::from(*n)).sum()
}

fn test(units: &UnitCounts, all: &[[u64; BLOCKS]; 2]) -> Test {
    let (k0, k1) = (sum(&units[0]) as f64, sum(&units[1]) as f64);
    let (n0, n1) = (total(&all[0]) as f64, total(&all[1]) as f64);
    let (p0, p1) = ((k0 / n0).min(1.0), (k1 / n1).min(1.0));
    let spread = spread(&units[0], &all[0]).max(spread_around_onset(&units[1], &all[1]));
    let pooled = ((k0 + k1) / (n0 + n1)).clamp(1e-12, 1.0 - 1e-12);
    let deviation = (spread * pooled * (1.0 - pooled) * (1.0 / n0 + 1.0 / n1)).sqrt();
    // Half a unit on either side, as counts are whole.
    let apart = ((p1 - p0).abs() - 0.5 / n0 - 0.5 / n1).max(0.0);
    let of_log = (spread * (1.0 / (k0 + 0.5) + 1.0 / (k1 + 0.5))).sqrt() * 1.96;
    let log = (((k1 + 0.5) / (n1 + 1.0)) / ((k0 + 0.5) / (n0 + 1.0))).ln();
    Test { p0, p1, chance: upper_tail(apart / deviation), log_ratio: (log - of_log, log + of_log) }
}

/// The variance of a share between blocks over the binomial one, at least 1.
pub(super) fn spread(units: &[u32; BLOCKS], all: &[u64; BLOCKS]) -> f64 {
    let (chi, blocks) = chi_square(units, all);
    if blocks < 2.0 { 1.0 } else { (chi / (blocks - 1.0)).max(1.0) }
}

/// The same around two levels, one up to some block and another from there on: what began within the current set differs
/// from block to block because it began, not because it always does.
fn spread_around_onset(units: &[u32; BLOCKS], all: &[u64; BLOCKS]) -> f64 {
    let around = |onset: usize| {
        let (first, last) = (units.split_at(onset), all.split_at(onset));
        let (a, b) = (chi_square(first.0, last.0), chi_square(first.1, last.1));
        let blocks = a.1 + b.1;
        if blocks < 3.0 { f64::INFINITY } else { (a.0 + b.0) / (blocks - 2.0) }
    };
    (1..BLOCKS).map(around).fold(spread(units, all), f64::min).max(1.0)
}

/// How far the shares of blocks lie from their common share, against what chance makes; and how many blocks there are.
fn chi_square(units: &[u32], all: &[u64]) -> (f64, f64) {
    let k: f64 = units.iter().map(|k| f64::from(*k)).sum();
    let n: f64 = all.iter().map(|n| *n as f64).sum();
    let blocks = all.iter().filter(|n| **n > 0).count() as f64;
    if k == 0.0 || k >= n {
        return (0.0, blocks);
    }
    let p = k / n;
    let blocked = units.iter().zip(all).filter(|(_, n)| **n > 0);
    let chi = blocked.map(|(k, n)| (f64::from(*k) - *n as f64 * p).powi(2) / (*n as f64 * p * (1.0 - p))).sum();
    (chi, blocks)
}

/// The chance that a normal deviate lies beyond `z`. (Abramowitz and Stegun, 7.1.26.)
pub(super) fn upper_tail(z: f64) -> f64 {
    if !z.is_finite() {
        return if z > 0.0 { 0.0 } else { 1.0 };
    }
    let x = z / std::f64::consts::SQRT_2;
    let t = 1.0 / (1.0 + 0.327_591_1 * x);
    let series =
        t * (0.254_829_592 + t * (-0.284_496_736 + t * (1.421_413_741 + t * (-1.453_152_027 + t * 1.061_405_429))));
    (0.5 * series * (-x * x).exp()).clamp(0.0, 1.0)
}

/// The largest chance that still counts, so that of all that do no more than `share` are expected to be none.
pub(super) fn benjamini_hochberg(mut chances: Vec<f64>, share: f64) -> f64 {
    chances.sort_by(f64::total_cmp);
    let tests = chances.len() as f64;
    let holds = |(n, chance): &(usize, &f64)| **chance <= share * (*n as f64 + 1.0) / tests;
    chances.iter().enumerate().filter(holds).map(|(_, chance)| *chance).next_back().unwrap_or(-1.0)
}
