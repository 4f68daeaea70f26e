//! A rule played over the past: when it would have been raised, for how long, of which groups, and how many messages that
//! would have been. It judges as the live rule does: the same values, the same walk.

use super::compile::Rule;
use super::states::{Bound, Raising, Standing, raisings, walk};
use super::strips::{Moments, Strips};
use calvex_language::model::time::SECOND_NS;
use serde::{Deserialize, Serialize};

/// Parts of the time that the strip is drawn in.
const BINS: usize = 480;
/// A raising shorter than this rather wakes somebody than helps.
const SHORT_NS: i64 = 180 * SECOND_NS;
/// Holds that are tried where a rule is raised too often, seconds.
const HOLDS_S: [i64; 6] = [60, 180, 300, 600, 900, 1800];
/// Groups of a raising that are named.
const MAX_NAMED: usize = 20;

/// One alert as it would have been.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Rehearsed {
    /// When it would have been raised, nanoseconds from 1970.
    pub raised_ns: i64,
    /// When it would have ended; none where it would be raised still.
    pub ended_ns: Option<i64>,
    /// The value furthest beyond the bound.
    pub worst: f64,
    /// The groups that were raised meanwhile, the first 20; one without a name where the rule has no groups.
    pub groups: Vec<String>,
    /// How many groups.
    pub group_count: usize,
}

/// A part of the strip.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Bin {
    /// Its first moment, nanoseconds from 1970.
    pub from_ns: i64,
    /// The least value of any group; none where there is none.
    pub least: Option<f64>,
    /// The largest.
    pub most: Option<f64>,
}

/// What a rehearsal shows.
#[derive(Debug, Clone, PartialEq)]
pub struct Rehearsal {
    /// The alerts, in order.
    pub alerts: Vec<Rehearsed>,
    /// The strip.
    pub bins: Vec<Bin>,
    /// How often and how long, and what would make it calmer, in a sentence.
    pub summary: String,
    /// Messages to each contact.
    pub messages: usize,
}

/// Plays a rule's strips under a bound and a hold.
pub fn rehearse(strips: &Strips, moments: &Moments, rule: &Rule) -> Rehearsal {
    let alerts = replay(strips, moments, &rule.bound, rule.hold_ns);
    let ended = alerts.iter().filter(|alert| alert.ended_ns.is_some()).count();
    let summary = summary(strips, moments, rule, &alerts);
    Rehearsal { messages: alerts.len() + ended, bins: bins(strips, moments), summary, alerts }
}

/// The alerts under a bound and a hold: raisings of groups that touch are one alert.
pub fn replay(strips: &Strips, moments: &Moments, bound: &Bound, hold_ns: i64) -> Vec<Rehearsed> {
    let mut all: Vec<(Raising, String)> = Vec::new();
    for strip in &strips.strips {
        let from = Standing::quiet(moments.first_ns.saturating_sub(moments.step_ns));
        let walked = walk(from, bound, hold_ns, (moments.first_ns, moments.step_ns), &strip.values);
        let name = strip.name();
        all.extend(raisings(from, &walked).into_iter().map(|raising| (raising, name.clone())));
    }
    all.sort_by(|a, b| (a.0.raised_ns, &a.1).cmp(&(b.0.raised_ns, &b.1)));
    let mut alerts: Vec<Rehearsed> = Vec::new();
    for (raising, name) in all {
        let joins = |last: &&mut Rehearsed| last.ended_ns.is_none_or(|end| raising.raised_ns <= end);
        match alerts.last_mut().filter(joins) {
            Some(last) => {
                last.ended_ns = last.ended_ns.zip(raising.ended_ns).map(|(a, b)| a.max(b));
                last.worst = bound.worse(last.worst, raising.worst);
                if !last.groups.contains(&name) {
                    last.group_count += 1;
                    if last.groups.len() < MAX_NAMED {
                        last.groups.push(name);
                    }
                }
            }
            None => alerts.push(Rehearsed {
                raised_ns: raising.raised_ns,
                ended_ns: raising.ended_ns,
                worst: raising.worst,
                groups: vec![name],
                group_count: 1,
            }),
        }
    }
    alerts
}

fn bins(strips: &Strips, moments: &Moments) -> Vec<Bin> {
    let each = moments.count.div_ceil(BINS).max(1);
    let bin = |at: usize| {
        let (mut least, mut most) = (f64::INFINITY, f64::NEG_INFINITY);
        for strip in &strips.strips {
            let values = strip.values.get(at..(at + each).min(strip.values.len())).unwrap_or_default();
            for value in values.iter().filter(|value| value.is_finite()) {
                (least, most) = (least.min(*value), most.max(*value));
            }
        }
        let some = least <= most;
        let from_ns = moments.first_ns + at as i64 * moments.step_ns;
        Bin { from_ns, least: some.then_some(least), most: some.then_some(most) }
    };
    (0..moments.count).step_by(each).map(bin).collect()
}

fn times(n: usize) -> String {
    match n {
        1 => "once".to_owned(),
        2 => "twice".to_owned(),
        n => format!("{n} times"),
    }
}

fn summary(strips: &Strips, moments: &Moments, rule: &Rule, alerts: &[Rehearsed]) -> String {
    let length_ns = moments.count as i64 * moments.step_ns;
    let days = length_ns as f64 / 86_400e9;
    let over = if days >= 1.5 { format!("{days:.0} days") } else { format!("{:.0} hours", days * 24.0) };
    if strips.learning {
        return format!("Too little has come within {over} to judge by.");
    }
    if alerts.is_empty() {
        return format!("Not raised in {over}.");
    }
    let is_short = |alert: &&Rehearsed| alert.ended_ns.is_some_and(|end| end - alert.raised_ns < SHORT_NS);
    let short = alerts.iter().filter(is_short).count();
    let mut out = format!("Raised {} in {over}", times(alerts.len()));
    if short > 0 {
        out += &format!(", {short} of them under 3 minutes");
    }
    // A longer hold that leaves half at most.
    let calmer = HOLDS_S.iter().filter(|hold| **hold * SECOND_NS > rule.hold_ns).find_map(|hold| {
        let left = replay(strips, moments, &rule.bound, hold * SECOND_NS).len();
        (left * 2 <= alerts.len()).then_some((hold / 60, left))
    });
    match calmer {
        Some((minutes, left)) if alerts.len() > 2 && short > 0 => {
            let minutes = if minutes == 1 { "1 minute".to_owned() } else { format!("{minutes} minutes") };
            out + &format!("; *for {minutes}* leaves {left}.")
        }
        _ => out + ".",
    }
}
