//! Values that hold on almost the same units are one finding with other names. A second scan, of the values that stand out
//! alone, counts for each pair the units that have both.

use super::values::StandingOut;
use super::{Finding, Side};
use crate::measure::{MISSING, code};
use crate::scan::{Explanation, PageAt, Scope, open_all, read_or_leave_out};
use calvex_language::error::Result;
use calvex_language::query::{Builtin, Field};
use calvex_storage::columns::{PageRead, Rows};
use hashbrown::HashMap;
use parking_lot::Mutex;
use std::sync::Arc;

/// Values compared with one another at most; a bit each.
const MAX: usize = 64;
/// Pages looked at.
const MAX_PAGES: usize = 200;
/// Share of the units of both that have both, beyond which two are one.
const SAME: f64 = 0.95;

/// Findings, those of the same units folded into the best of them.
pub(super) fn folded(
    scope: &Scope,
    sides: [&Side; 2],
    mut found: Vec<StandingOut>,
    explain: &mut Explanation,
) -> Vec<Finding> {
    found.truncate(MAX);
    if found.len() < 2 {
        return found.into_iter().map(|found| found.finding).collect();
    }
    let current = sides[1];
    let mut pages = open_all(scope, current.filter, &current.range, explain);
    let every = pages.len().div_ceil(MAX_PAGES).max(1);
    pages = pages.into_iter().enumerate().filter(|(n, _)| n % every == 0).map(|(_, page)| page).collect();
    let pairs = Mutex::new(vec![[0u64; MAX]; found.len()]);
    let parts = scope.map(pages.len(), explain, |n| {
        let (lane, at): &(Arc<str>, PageAt) = &pages[n];
        let (held, explain) = read_or_leave_out(scope, current.filter, &current.range, (lane, at), |page, rows| {
            if rows.is_empty() { Ok(Vec::new()) } else { held(page, rows, lane, &found) }
        });
        let mut pairs = pairs.lock();
        for mask in held {
            for (a, row) in pairs.iter_mut().enumerate().filter(|(a, _)| mask >> a & 1 == 1) {
                let with = row.iter_mut().enumerate().skip(a).filter(|(b, _)| mask >> b & 1 == 1);
                with.for_each(|(_, both)| *both += 1);
            }
        }
        explain
    });
    parts.into_iter().flatten().for_each(|part| explain.add(part));
    let pairs = pairs.into_inner();
    let both = |a: usize, b: usize| pairs[a.min(b)][a.max(b)];
    let same = |a: usize, b: usize| {
        let shared = both(a, b) as f64;
        shared > 0.0 && shared / (both(a, a) as f64 + both(b, b) as f64 - shared) > SAME
    };
    let mut out: Vec<(usize, Finding)> = Vec::new();
    for (n, standing) in found.into_iter().enumerate() {
        let finding = standing.finding;
        match out.iter_mut().find(|(first, _)| same(*first, n)) {
            Some((_, first)) => first.also.push(finding.query),
            None => out.push((n, finding)),
        }
    }
    out.into_iter().map(|(_, finding)| finding).collect()
}

/// By unit of a page: which of the values it has, a bit each.
fn held(page: &dyn PageRead, rows: &Rows, lane: &str, found: &[StandingOut]) -> Result<Vec<u64>> {
    let traces = code(&Field::Builtin(Builtin::Trace), page, rows, lane)?;
    let mut units: HashMap<(u32, usize), u64> = HashMap::new();
    for (n, standing) in found.iter().enumerate() {
        let coded = code(&standing.field, page, rows, lane)?;
        let Some(wanted) = coded.values().position(|value| value == standing.value.as_ref()) else { continue };
        for row in rows.iter() {
            let has = coded.first[row] as usize == wanted
                || coded.more_of(row).iter().any(|(_, code)| *code as usize == wanted);
            if has {
                let trace = traces.first[row];
                let unit = if trace == MISSING { (MISSING, row) } else { (trace, 0) };
                *units.entry(unit).or_default() |= 1 << n;
            }
        }
    }
    Ok(units.into_values().collect())
}
