//! What a rule judges: of each group, a value at each moment.
//!
//! A value is made so that it is compared with the rule's bound: the measure of a window; a share; how many times its usual
//! gap a group has been silent; 1 while a value is new; spreads away from the usual; how fast a budget burns, against the
//! rate that is too fast; how many are open too long. NaN where nothing can be said: it is never so.

use super::compile::{Form, Rule, default_of};
use super::joined::Joined;
use super::rings::{Rings, Row};
use super::usual::Gaps;
use super::usual_days::Usual;
use crate::measure::{GroupValue, Sliding, Windows, windows};
use crate::scan::{Explanation, Scope};
use crate::search::earliest_ns;
use calvex_language::query::{Filter, Measure};
use hashbrown::HashMap;

/// Groups of a rule at most.
pub const MAX_GROUPS: usize = 5_000;
/// Ids of what may be unfinished at most.
const MAX_TIES: usize = 200_000;
/// Values of all groups at most.
const MAX_VALUES: usize = 4_000_000;
/// Steps that are read at once.
const READ_AT_ONCE: usize = 2_880;
/// How far back gaps are learned from.
const GAPS_NS: i64 = 7 * 86_400_000_000_000;
/// A part of the budget that, spent within an hour, pages; and within three days, makes a ticket. Each has a short window
/// beside, a twelfth, that ends the alert soon after the burning does.
const BURNS: [(&str, f64, i64); 2] = [("page", 0.02, 3_600_000_000_000), ("ticket", 0.1, 3 * 86_400_000_000_000)];
/// How long one that did not end is counted, in times of what it may take.
const FORGET_TIMES: i64 = 20;
/// Names of those that are open which are given.
const MAX_OPEN: usize = 100;

/// The moments that are judged.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Moments {
    /// The first.
    pub first_ns: i64,
    /// Their distance.
    pub step_ns: i64,
    /// How many.
    pub count: usize,
}

impl Moments {
    /// Every multiple of the step after `from_ns` up to `until_ns`.
    pub fn between(from_ns: i64, until_ns: i64, step_ns: i64) -> Moments {
        let first_ns = (from_ns.div_euclid(step_ns) + 1) * step_ns;
        let count = if until_ns < first_ns { 0 } else { ((until_ns - first_ns) / step_ns + 1) as usize };
        Moments { first_ns, step_ns, count }
    }
}

/// One group's values.
#[derive(Debug, Clone, PartialEq)]
pub struct Strip {
    /// Its value of each field of `per`.
    pub group: Vec<GroupValue>,
    /// One a moment.
    pub values: Vec<f64>,
    /// Of a deviation: what was measured and what was usual, at each moment.
    pub usual: Vec<(f64, f64)>,
}

impl Strip {
    /// Its group, as it is shown: the values, or nothing where the rule judges all as one. 512 letters at most.
    pub fn name(&self) -> String {
        let name = self.group.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
        name.chars().take(512).collect()
    }
}

/// What a group is known by.
pub fn group_hash(name: &str) -> u64 {
    xxhash_rust::xxh3::xxh3_64(name.as_bytes())
}

/// All groups' values.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Strips {
    /// By what is judged apart; one without fields where nothing is.
    pub strips: Vec<Strip>,
    /// Too little has come yet to judge by.
    pub learning: bool,
    /// Of what did not end: which are open at the last moment, the longest first.
    pub open: Vec<String>,
    /// Why values are missing.
    pub incomplete: Option<String>,
    /// That there are more groups than are judged.
    pub capped: Option<String>,
    /// How they came about.
    pub explain: Explanation,
}

/// What is known beside the events.
#[derive(Debug, Clone, Default)]
pub struct Known {
    /// Error groups that were resolved, by their ids.
    pub resolved: HashMap<String, Resolved>,
    /// What a deviation measured on days that may be gone.
    pub usual: std::sync::Arc<Usual>,
}

/// When an error group was resolved.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Resolved {
    /// Then.
    pub at_ns: i64,
    /// When it was first seen after it, as far as that is known: that is its return, and what follows is none.
    pub returned_ns: Option<i64>,
}

/// Reads the values of a rule at `moments`; `rings` hold what was read for earlier ones.
pub fn strips(scope: &Scope, rule: &Rule, moments: Moments, known: &Known, rings: &mut Rings) -> Strips {
    let mut reader = Reader { scope, moments, out: Strips::default(), rings, questions: 0, most_groups: MAX_GROUPS };
    match &rule.form {
        Form::Threshold { filter, measure, over_ns } => {
            let rows = reader.read(filter, measure, *over_ns, 0);
            let empty = default_of(measure);
            reader.dense(rows, empty, |_, figures| figures.first().copied().unwrap_or(f64::NAN));
        }
        Form::Share { filter, measure, over_ns, least } => {
            let rows = reader.read(filter, measure, *over_ns, 0);
            reader.dense(rows, f64::NAN, |_, figures| match figures {
                [part, whole, ..] if *whole >= least.max(1.0) => part / whole,
                _ => f64::NAN,
            });
        }
        Form::Silence { filter, measure } => reader.silence(filter, measure),
        Form::FirstSeen { filter, measure, unseen_ns, over_ns } => {
            reader.first_seen(filter, measure, *unseen_ns, *over_ns)
        }
        Form::Deviation { filter, measure, over_ns, least, like_ns } => {
            reader.deviation(filter, measure, (*over_ns, *like_ns), *least, &known.usual);
        }
        Form::Objective { filter, measure, target, period_ns } => {
            reader.objective(filter, measure, *target, *period_ns)
        }
        Form::Unfinished { begins, ends, measure, within_ns } => reader.unfinished(begins, ends, measure, *within_ns),
        Form::ErrorGroups { filter, measure, new, returned } => {
            if *returned {
                reader.returned(filter, measure, &known.resolved);
            }
            if *new {
                reader.first_seen(filter, measure, GAPS_NS, 3_600_000_000_000);
            }
        }
    }
    finished(reader.out, scope)
}

/// With why values are missing.
pub(super) fn finished(mut out: Strips, scope: &Scope) -> Strips {
    if scope.budget.is_spent() {
        out.incomplete.get_or_insert_with(|| scope.budget.reason());
    }
    if let Some(why) = out.explain.stopped.as_ref().or(out.explain.left_out.first()) {
        out.incomplete.get_or_insert(why.clone());
    }
    out
}

/// Reads the figures of a rule's questions, and makes strips of them.
pub(super) struct Reader<'a> {
    pub scope: &'a Scope<'a>,
    pub moments: Moments,
    pub out: Strips,
    pub rings: &'a mut Rings,
    /// How many were asked.
    pub questions: usize,
    pub most_groups: usize,
}

impl Reader<'_> {
    /// The figures of windows that end at each moment, and at those up to `back_ns` before the first. Steps are numbered so
    /// that 0 ends at the first moment.
    pub(super) fn read(&mut self, filter: &Filter, measure: &Measure, over_ns: i64, back_ns: i64) -> Vec<Row> {
        let step_ns = self.moments.step_ns;
        let back = back_ns / step_ns;
        self.read_steps(filter, measure, over_ns, -back..self.moments.count as i64)
    }

    pub(super) fn read_steps(
        &mut self,
        filter: &Filter,
        measure: &Measure,
        over_ns: i64,
        wanted: std::ops::Range<i64>,
    ) -> Vec<Row> {
        let step_ns = self.moments.step_ns;
        let over = (over_ns / step_ns).max(1);
        // Steps by their number from 1970: the last one that ends at the first moment is `base`.
        let base = self.moments.first_ns.div_euclid(step_ns) - 1;
        let wanted = base + wanted.start..base + wanted.end;
        // Where windows can be made of their steps, these are what is read and kept.
        let joined = if over > 1 { Joined::of(measure) } else { None };
        let (measure, kept, over_read) = match &joined {
            Some(joined) => (&joined.of_step, wanted.start - (over - 1)..wanted.end, 1),
            None => (measure, wanted.clone(), over),
        };
        let ring = self.rings.of(self.questions);
        self.questions += 1;
        // Before what is held, and behind it: what follows on what is held is kept as far as it was read.
        for (missing, follows) in ring.missing(&kept).into_iter().zip([false, true]) {
            let (mut at, mut all_whole) = (missing.start, true);
            while at < missing.end && !self.scope.budget.is_spent() {
                let end = missing.end.min(at + READ_AT_ONCE as i64);
                // The first window needs what stands before it.
                let from = at - (over_read - 1);
                let sliding = Sliding {
                    from_ns: from * step_ns,
                    step_ns,
                    steps: (end - from) as usize,
                    over: over_read as usize,
                };
                let Windows { groups, limited, explain } = windows(self.scope, filter, measure, sliding);
                all_whole &= limited.is_none() && explain.stopped.is_none() && explain.left_out.is_empty();
                self.out.explain.add(explain);
                if let Some(why) = limited {
                    self.out.capped.get_or_insert(why);
                }
                for group in groups {
                    let (groups, is_known) = ring.groups(&group.values);
                    if groups >= self.most_groups && !is_known {
                        let most = self.most_groups;
                        self.out.capped.get_or_insert_with(|| format!("only {most} groups are judged; there are more"));
                        continue;
                    }
                    let points = group.points.into_iter().map(|(step, figures)| (from + i64::from(step), figures));
                    ring.add(group.values, points.filter(|(step, _)| *step >= at));
                }
                // What could not be read whole is read again.
                if all_whole && (follows || end == missing.end) {
                    ring.holds(missing.start..end);
                }
                at = end;
            }
        }
        let step_s = step_ns as f64 / 1e9;
        let windowed = |(group, steps): Row| match &joined {
            Some(joined) => (group, joined.windows(&steps, over, &wanted, step_s)),
            None => (group, steps),
        };
        let shifted =
            |(group, steps): Row| (group, steps.into_iter().map(|(s, figures)| (s - base, figures)).collect());
        let rows = ring.rows(&kept).into_iter().map(windowed).filter(|(_, steps)| !steps.is_empty());
        let mut rows: Vec<Row> = rows.map(shifted).collect();
        if measure.per.is_empty() && rows.is_empty() {
            rows.push((Vec::new(), Vec::new()));
        }
        rows.sort_by(|a, b| a.0.cmp(&b.0));
        rows
    }

    /// Strips of rows, by a function of step and figures; `empty` where there are none.
    fn dense(&mut self, rows: Vec<Row>, empty: f64, value: impl Fn(i64, &[f64]) -> f64) {
        let count = self.moments.count;
        for (group, row) in self.bounded(rows) {
            let mut values = vec![empty; count];
            for (step, figures) in &row {
                if let Some(slot) = usize::try_from(*step).ok().and_then(|step| values.get_mut(step)) {
                    *slot = value(*step, figures);
                }
            }
            self.out.strips.push(Strip { group, values, usual: Vec::new() });
        }
    }

    /// As many groups as fit; those with the most to say.
    pub(super) fn bounded(&mut self, mut rows: Vec<Row>) -> Vec<Row> {
        let most = (MAX_VALUES / self.moments.count.max(1)).max(1);
        if rows.len() > most {
            self.out.capped.get_or_insert_with(|| format!("only the {most} groups with the most events are judged"));
            rows.sort_by_key(|(_, row)| std::cmp::Reverse(row.len()));
            rows.truncate(most);
            rows.sort_by(|a, b| a.0.cmp(&b.0));
        }
        self.scope.budget.charge(rows.len() * self.moments.count * 8);
        rows
    }

    /// How many times its usual gap each group has been silent. The usual gap is the one that nineteen of twenty are not
    /// longer than.
    fn silence(&mut self, filter: &Filter, measure: &Measure) {
        let step_ns = self.moments.step_ns;
        let rows = self.read(filter, measure, step_ns, GAPS_NS);
        let back = GAPS_NS / step_ns;
        let mut learned = false;
        for (group, row) in self.bounded(rows) {
            let steps: Vec<i64> = row.iter().map(|(step, _)| *step).collect();
            let mut gaps = Gaps::default();
            let mut values = Vec::with_capacity(self.moments.count);
            let mut next = 0;
            for at in 0..self.moments.count as i64 {
                while let Some(step) = steps.get(next).filter(|step| **step <= at) {
                    gaps.seen(*step);
                    next += 1;
                }
                gaps.forget(at - back);
                let usual = gaps.usual();
                learned |= usual.is_some();
                values.push(match (usual, gaps.last) {
                    (Some(usual), Some(last)) if at > last => (at - last) as f64 / usual as f64,
                    (Some(_), Some(_)) => 0.0,
                    _ => f64::NAN,
                });
            }
            self.out.strips.push(Strip { group, values, usual: Vec::new() });
        }
        self.out.learning = !learned;
    }

    /// 1 from the moment a value is seen that was not for `unseen_ns`, for `over_ns`.
    fn first_seen(&mut self, filter: &Filter, measure: &Measure, unseen_ns: i64, over_ns: i64) {
        let step_ns = self.moments.step_ns;
        let (unseen, over) = (unseen_ns / step_ns, over_ns / step_ns);
        let rows = self.read(filter, measure, step_ns, unseen_ns + over_ns);
        // Lanes that are younger than this have had nothing for that long: everything would be new.
        let begins_ns = earliest_ns(self.scope);
        let begins = (begins_ns - self.moments.first_ns).div_euclid(step_ns) + 1;
        let known_from = begins.saturating_add(unseen);
        self.out.learning |= known_from >= self.moments.count as i64;
        let is_new = |row: &[(i64, Vec<f64>)]| -> Vec<i64> {
            let steps = row.iter().map(|(step, _)| *step);
            let before = std::iter::once(i64::MIN / 2).chain(steps.clone());
            before
                .zip(steps)
                .filter(|(before, step)| step - before > unseen && *step >= known_from)
                .map(|(_, s)| s)
                .collect()
        };
        let new: Vec<(Vec<GroupValue>, Vec<i64>)> = rows
            .into_iter()
            .filter(|(group, _)| !group.iter().all(|v| *v == GroupValue::Missing))
            .map(|(group, row)| (group, is_new(&row)))
            .filter(|(_, new)| !new.is_empty())
            .collect();
        self.marked(new, over);
    }

    /// 1 from the moment an error group is seen after it was resolved, for an hour.
    fn returned(&mut self, filter: &Filter, measure: &Measure, resolved: &HashMap<String, Resolved>) {
        let Moments { first_ns, step_ns, .. } = self.moments;
        let over_ns = 3_600_000_000_000;
        let rows = self.read(filter, measure, step_ns, over_ns);
        let back = |(group, row): Row| {
            let id = group.first().map(ToString::to_string)?;
            let Resolved { at_ns, returned_ns } = *resolved.get(&id)?;
            // A step counts from its beginning, so that what fell into the step of the resolving does not.
            let counts = |step: &i64| first_ns + (step - 1) * step_ns >= at_ns;
            let step = row.iter().map(|(step, _)| *step).find(counts)?;
            let known = returned_ns.map(|ns| (ns - first_ns).div_euclid(step_ns) + 1).filter(counts);
            Some((group, vec![known.map_or(step, |known| known.min(step))]))
        };
        let back = rows.into_iter().filter_map(back).collect();
        self.marked(back, over_ns / step_ns);
    }

    /// Strips that are 1 from each of the steps on, so many steps long.
    fn marked(&mut self, groups: Vec<(Vec<GroupValue>, Vec<i64>)>, over: i64) {
        let count = self.moments.count;
        let rows: Vec<Row> =
            groups.into_iter().map(|(group, at)| (group, at.into_iter().map(|s| (s, Vec::new())).collect())).collect();
        for (group, row) in self.bounded(rows) {
            let known = self.out.strips.iter().position(|strip| strip.group == group);
            let mut values = vec![0.0; count];
            for (step, _) in row {
                let from = step.clamp(0, count as i64) as usize;
                let to = (step + over).clamp(0, count as i64) as usize;
                values.get_mut(from..to).unwrap_or_default().fill(1.0);
            }
            match known.and_then(|n| self.out.strips.get_mut(n)) {
                Some(strip) => strip.values.iter_mut().zip(values).for_each(|(a, b)| *a = a.max(b)),
                None if values.iter().any(|v| *v > 0.0) => {
                    self.out.strips.push(Strip { group, values, usual: Vec::new() });
                }
                None => {}
            }
        }
    }

    /// How fast the budget burns, over a long window and its twelfth, against the rate that is too fast: the lesser of both.
    /// (Beyer and others: "The site reliability workbook", 2018, chapter 5.)
    fn objective(&mut self, filter: &Filter, measure: &Measure, target: f64, period_ns: i64) {
        let longest = BURNS.iter().map(|(.., window)| *window).max().unwrap_or(0);
        let step_ns = self.moments.step_ns;
        let rows = self.read(filter, measure, step_ns, longest);
        let back = longest / step_ns;
        let steps = (back + self.moments.count as i64 + 1) as usize;
        // Sums from the beginning, so that any window is a difference.
        let (mut good, mut all) = (vec![0.0; steps + 1], vec![0.0; steps + 1]);
        for (step, figures) in rows.iter().flat_map(|(_, row)| row) {
            let slot = usize::try_from(step + back + 1).unwrap_or(0).min(steps);
            good[slot] += figures.first().copied().unwrap_or(0.0);
            all[slot] += figures.get(1).copied().unwrap_or(0.0);
        }
        for n in 1..=steps {
            good[n] += good[n - 1];
            all[n] += all[n - 1];
        }
        let burn = |at: usize, window_ns: i64| {
            let from = at.saturating_sub((window_ns / step_ns).max(1) as usize);
            let (some, part) = (all[at] - all[from], good[at] - good[from]);
            if some > 0.0 { (1.0 - part / some) / (1.0 - target) } else { 0.0 }
        };
        for (name, part, window_ns) in BURNS {
            let window_ns = window_ns.min(period_ns);
            let too_fast = (part * period_ns as f64 / window_ns as f64).max(1.0);
            let value = |n: usize| {
                let at = n + back as usize + 1;
                burn(at, window_ns).min(burn(at, window_ns / 12)) / too_fast
            };
            let values = (0..self.moments.count).map(value).collect();
            self.out.strips.push(Strip { group: vec![GroupValue::Text(name.into())], values, usual: Vec::new() });
        }
    }

    /// How many began and did not end in time.
    fn unfinished(&mut self, begins: &Filter, ends: &Filter, measure: &Measure, within_ns: i64) {
        let step_ns = self.moments.step_ns;
        let within = (within_ns / step_ns).max(1);
        self.most_groups = MAX_TIES;
        let forget = within * FORGET_TIMES;
        let begun = self.read(begins, measure, step_ns, within_ns * FORGET_TIMES);
        let ended = self.read(ends, measure, step_ns, within_ns * FORGET_TIMES);
        let ended: HashMap<Vec<GroupValue>, Vec<(i64, Vec<f64>)>> = ended.into_iter().collect();
        let count = self.moments.count as i64;
        let mut changes = vec![0i64; self.moments.count + 1];
        let mut open: Vec<(i64, String)> = Vec::new();
        for (group, row) in begun {
            if group.iter().all(|value| *value == GroupValue::Missing) {
                continue;
            }
            let ends = ended.get(&group);
            let mut covered = i64::MIN;
            // One may begin again: it is open once at a time.
            for (began, _) in &row {
                // Both may fall into one step, and clocks may differ by one.
                let end = ends.and_then(|row| row.iter().map(|(s, _)| *s).find(|step| *step + 1 >= *began));
                let (from, to) = (began + within, end.unwrap_or(i64::MAX).min(began.saturating_add(forget)));
                let (from, to) = (from.max(covered), to);
                if to <= from {
                    continue;
                }
                covered = to;
                let clamp = |step: i64| step.clamp(0, count) as usize;
                changes[clamp(from)] += 1;
                changes[clamp(to)] -= 1;
                if from < count && to >= count {
                    open.push((*began, group.first().map(ToString::to_string).unwrap_or_default()));
                }
            }
        }
        open.sort();
        self.out.open = open.into_iter().map(|(_, id)| id).take(MAX_OPEN).collect();
        let mut sum = 0;
        let values = changes.iter().take(self.moments.count).map(|change| {
            sum += change;
            sum as f64
        });
        let values = values.collect();
        self.out.strips.push(Strip { group: Vec::new(), values, usual: Vec::new() });
    }
}
