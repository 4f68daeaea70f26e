//! One turn of judging: which moments are judged, where each group stands as they begin, and the walk over all groups. What
//! is read and what is kept is the caller's.

use super::alerts::{GroupRaising, Stood};
use super::compile::Rule;
use super::mutes::{mute_filter, mutes_group};
use super::states::{Raising, Standing, raisings, walk_blind};
use super::strips::{Moments, Strip, Strips, group_hash};
use calvex_language::domain::rule::{RuleGroup, RuleState};
use calvex_language::query::Filter;
use std::collections::HashMap;

/// What is judged in a turn.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Turn {
    /// From behind this moment.
    pub from_ns: i64,
    /// To this one.
    pub until_ns: i64,
    /// Each of them.
    pub moments: Moments,
    /// Some were judged already: events came late.
    pub again: bool,
    /// Figures from here on are read again.
    pub touched_ns: i64,
}

impl Rule {
    /// The turn of a rule that was judged up to `judged_ns`, where events came from `touched_ns` on; none where nothing is
    /// due. What came later than the rule waits for, counted from what was judged, is not judged again.
    pub fn turn(&self, judged_ns: i64, touched_ns: i64, now_ns: i64) -> Option<Turn> {
        let step_ns = self.step_ns;
        let until_ns = self.judged_until(now_ns).max(judged_ns);
        let touched_ns = touched_ns.max(now_ns.min(judged_ns) - self.late_ns);
        let late_ns = touched_ns.div_euclid(step_ns) * step_ns;
        let again = late_ns < judged_ns;
        // So far back that a group which was building then was raised since, and stands among the alerts, or fell quiet.
        let from_ns = if again { late_ns - self.hold_ns - step_ns } else { judged_ns };
        let moments = Moments::between(from_ns, until_ns, step_ns);
        (again || until_ns > judged_ns).then_some(Turn { from_ns, until_ns, moments, again, touched_ns })
    }
}

/// Where groups that are not quiet stand, by the hash of their names.
pub type Standings = HashMap<u64, (String, Standing)>;

/// Where groups of a rule stood at a moment in the past, as the known alerts show: raised, or building for one.
pub fn stood_at(rule: &Rule, known: &[Stood], at_ns: i64) -> Standings {
    let step_ns = rule.step_ns.max(1);
    let built_ns = (rule.hold_ns + step_ns - 1).div_euclid(step_ns) * step_ns;
    let groups = known.iter().flat_map(|alert| &alert.groups).filter(|group| !group.withdrawn);
    let stood = |g: &GroupRaising| {
        let Raising { raised_ns, ended_ns, .. } = g.raising;
        let (state, since_ns) = match ended_ns {
            _ if raised_ns > at_ns && raised_ns - built_ns <= at_ns => (RuleState::Building, raised_ns - built_ns),
            Some(end) if end <= at_ns => return None,
            _ if raised_ns <= at_ns => (RuleState::Raised, raised_ns),
            _ => return None,
        };
        Some((g.hash, (g.name.clone(), Standing { state, since_ns })))
    };
    groups.filter_map(stood).collect()
}

/// The mutes of a rule that last.
#[derive(Debug, Clone, Default)]
pub struct Mutes {
    filters: Vec<Filter>,
    /// Groups that were muted at the last turn, for those of which there is no event any more.
    known: Vec<u64>,
}

impl Mutes {
    /// Of filters as they are written; one that does not fit the rule any more mutes nothing.
    pub fn new<'a>(rule: &Rule, filters: impl IntoIterator<Item = &'a str>, known: &[Stood]) -> Self {
        let filters = filters.into_iter().filter_map(|filter| mute_filter(filter, rule.per()).ok()).collect();
        let groups = known.iter().flat_map(|alert| &alert.groups);
        Mutes { filters, known: groups.filter(|group| group.muted).map(|group| group.hash).collect() }
    }

    fn is_of(&self, rule: &Rule, strip: &Strip) -> bool {
        self.filters.iter().any(|filter| mutes_group(filter, rule.per(), &strip.group))
    }

    fn is_of_known(&self, hash: u64) -> bool {
        self.filters.contains(&Filter::All) || (!self.filters.is_empty() && self.known.contains(&hash))
    }
}

/// What walking every group found.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct WalkedAll {
    /// Every raising.
    pub found: Vec<GroupRaising>,
    /// Groups that are not quiet at the end.
    pub groups: Vec<RuleGroup>,
    /// The last value that is furthest beyond the bound.
    pub value: Option<f64>,
}

/// Walks over every group, from where it stands; from `blind_ns` on nothing comes to judge by.
pub fn walk_all(
    rule: &Rule,
    turn: &Turn,
    read: &Strips,
    mut standings: Standings,
    blind_ns: Option<i64>,
    mutes: &Mutes,
) -> WalkedAll {
    let mut out = WalkedAll::default();
    let bound = &rule.bound;
    let mut one = |name: String, standing: Standing, values: &[f64], muted: bool| {
        let at = (turn.moments.first_ns, turn.moments.step_ns);
        let walked = walk_blind(standing, bound, rule.hold_ns, at, values, blind_ns);
        let hash = group_hash(&name);
        for raising in raisings(standing, &walked) {
            out.found.push(GroupRaising { hash, name: name.clone(), raising, withdrawn: false, muted });
        }
        let value = walked.value.is_finite().then_some(walked.value);
        out.value = match (out.value, value) {
            (Some(a), Some(b)) => Some(bound.worse(a, b)),
            (a, b) => a.or(b),
        };
        let Standing { state, since_ns } = walked.standing;
        if state != RuleState::Quiet {
            out.groups.push(RuleGroup { hash, name, state, since_ns, value });
        }
    };
    for strip in &read.strips {
        let name = strip.name();
        let standing = standings.remove(&group_hash(&name)).map(|(_, standing)| standing);
        one(name, standing.unwrap_or(Standing::quiet(turn.from_ns)), &strip.values, mutes.is_of(rule, strip));
    }
    // Groups that are not quiet and of which there is no event any more.
    let empty = vec![rule.empty_value(); turn.moments.count];
    for (hash, (name, standing)) in standings {
        one(name, standing, &empty, mutes.is_of_known(hash));
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::watch::tests::by_turns::{At, Sent, at_once, both, by_turns};
    use crate::watch::{Known, RuleDocument};
    use calvex_language::model::{Event, Path, Severity, Value};
    use calvex_language::query::Ties;
    use proptest::prelude::*;

    const SECOND: i64 = 1_000_000_000;
    const MINUTE: i64 = 60 * SECOND;
    const HOUR: i64 = 60 * MINUTE;

    fn rule(text: &str) -> Rule {
        RuleDocument::read(text, &Ties::default()).unwrap_or_else(|e| panic!("{text}: {e:?}"))
    }

    #[test]
    fn a_turn_goes_back_as_far_as_events_came_late() {
        let rule = rule("name='x'\nfor='1m'\ndelay='30s'\nlate='10m'\n[threshold]\nover='5m'\nabove=1");
        let step = rule.step_ns;
        let turn = |judged: i64, touched: i64, now: i64| {
            rule.turn(judged, touched, now).map(|t| (t.from_ns / SECOND, t.until_ns / SECOND, t.again))
        };
        assert_eq!(turn(HOUR, i64::MAX, HOUR + 90 * SECOND), Some((3600, 3660, false)));
        assert_eq!(turn(HOUR, i64::MAX, HOUR + 59 * SECOND), None, "not due");
        // An event of the very moment that was judged last stands in no window up to it.
        assert_eq!(turn(HOUR, HOUR, HOUR + 59 * SECOND), None);
        assert_eq!(turn(HOUR, HOUR - 1, HOUR + 59 * SECOND), Some((3600 - 30 - 60 - 30, 3600, true)));
        assert_eq!(step, 30 * SECOND);
        // Later than the rule waits: not again.
        assert_eq!(turn(HOUR, 0, HOUR + 40 * SECOND), Some((3600 - 600 - 60 - 30, 3600, true)));
        // Not judged for long, it goes on from where it was, and back by as much.
        assert_eq!(turn(HOUR, 0, 2 * HOUR), Some((3600 - 600 - 60 - 30, 7200 - 30, true)));
        // A clock that was set back a little judges nothing twice.
        assert_eq!(turn(HOUR, i64::MAX, HOUR - 10 * SECOND), None);
    }

    /// An event of the stream, in seconds: when it happened, how much later it came, of which group, and whether it is bad.
    type Drawn = (i64, i64, u8, bool);

    fn sent(drawn: &[Drawn]) -> Vec<Sent> {
        let event = |(at, later, group, bad): &Drawn| {
            let event = Event {
                time_ns: at * SECOND,
                service: ["edge", "slots", "codes"][usize::from(*group)].into(),
                message: if *bad { "bad" } else { "fine" }.into(),
                severity: Severity(if *bad { 17 } else { 9 }),
                fields: vec![(Path::root("n"), Value::Int(at % 9))],
                ..Event::default()
            };
            (event, (at + later) * SECOND)
        };
        drawn.iter().map(event).collect()
    }

    fn streams() -> impl Strategy<Value = (Vec<Drawn>, Vec<(i64, bool)>)> {
        // Bursts, so that something is raised; most come at once, some late by up to twenty minutes.
        let delay = prop_oneof![6 => 0i64..4, 1 => 60i64..1200];
        let sent = (0i64..90, 0i64..120, delay, 0u8..3, prop::bool::weighted(0.7));
        let event = sent.prop_map(|(minute, offset, delay, group, bad)| {
            ((minute / 9) * 540 + offset * 2 + minute % 9, delay, group, bad)
        });
        let turn = (5i64..200, prop::bool::weighted(0.1), prop::bool::weighted(0.05));
        let turns = prop::collection::vec(turn, 20..60).prop_map(|steps| {
            let mut now = 0;
            let mut turns: Vec<(i64, bool)> = Vec::new();
            for (step, forgets, back) in steps {
                now += step;
                // A clock that is set back for a moment.
                turns.push((if back { now - step } else { now }, forgets));
            }
            turns
        });
        (prop::collection::vec(event, 0..150), turns)
    }

    const RULES: [&str; 7] = [
        "name='a'\ndelay='10s'\nlate='1h'\n[threshold]\nevents='bad'\nper=['service']\nover='1m'\nabove=2",
        "name='b'\nfor='40s'\ndelay='10s'\nlate='1h'\n[threshold]\nevents='bad'\nper=['service']\nover='2m'\nabove=3",
        "name='c'\nfor='2m'\ndelay='0s'\nlate='1h'\n[threshold]\nmeasure='max(n)'\nover='3m'\nabove=6",
        "name='d'\ndelay='10s'\nlate='1h'\n[first-seen]\nwhat='service'\nunseen='1h'\nover='5m'",
        "name='e'\nfor='30s'\ndelay='10s'\nlate='1h'\n[share]\nof='bad'\nper=['service']\nover='2m'\nabove=0.6\nleast=3",
        "name='f'\nfor='1m'\ndelay='10s'\nlate='1h'\n[threshold]\nmeasure='mean(n)'\nover='2m'\nbelow=3",
        "name='g'\ndelay='10s'\nlate='1h'\n[unfinished]\nbegins='bad'\nends='fine'\ntie='n'\nwithin='1m'",
    ];

    /// Those that know what was usual; with the days of it that stand before.
    const LEARNING: [(&str, i64); 4] = [
        ("name='h'\nfor='30s'\ndelay='10s'\nlate='1h'\n[silence]\nper=['service']\ntimes=2", 1),
        ("name='i'\nfor='1m'\ndelay='10s'\nlate='1h'\n[deviation]\nover='5m'\nabove=2\nleast=2\nlike='day'", 4),
        ("name='j'\ndelay='10s'\nlate='1h'\n[objective]\ngood='fine'\nall=''\npercent=60\nperiod='1d'", 1),
        ("name='k'\ndelay='10s'\nlate='1h'\n[error-group]\nwhich='new'", 8),
    ];

    /// Whether turns and judging at once agree; with what each found.
    fn agree(rule: &Rule, sent: &[Sent], turns: &[(i64, bool)], begin_s: i64) -> (bool, String) {
        // Everything has come and is judged.
        let last = turns.iter().map(|(at, _)| *at).max().unwrap_or(0);
        let end_s = last.max(9 * 540 + 400) + 1300;
        let at = |(now_s, forgets): &(i64, bool)| {
            let now_ns = (begin_s + now_s) * SECOND;
            At { now_ns, came_ns: now_ns, forgets: *forgets, mutes: Vec::new() }
        };
        let turns: Vec<At> = turns.iter().chain([&(end_s, false)]).map(at).collect();
        let (begin_ns, until_ns) = (begin_s * SECOND, rule.judged_until((begin_s + end_s) * SECOND));
        let live = by_turns(rule, sent, &|_| Known::default(), (begin_ns, &turns));
        let truth = at_once(rule, sent, &Known::default(), (begin_ns, until_ns));
        (both(rule, &live, &truth, until_ns), format!("live {live:?}\ntruth {truth:?}"))
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 48, ..ProptestConfig::default() })]

        /// Whatever came when, and whenever the service was started anew: in the end that is raised which was so, and what is
        /// not so is not raised.
        #[test]
        fn judging_by_turns_ends_as_judging_at_once((drawn, turns) in streams()) {
            for text in RULES {
                let (agree, found) = agree(&rule(text), &sent(&drawn), &turns, 0);
                prop_assert!(agree, "{}\n{}", text, found);
            }
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 12, ..ProptestConfig::default() })]

        #[test]
        fn what_is_learned_is_judged_by_turns_as_at_once((drawn, turns) in streams()) {
            for (text, days) in LEARNING {
                let begin_s = days * 24 * 3600;
                // Around the time of day at which the stream begins, and up to it: all is as usual then.
                let past = (0..=days).flat_map(|day| (-60..90).map(move |n| (day * 24 * 3600 + n * 60, 0, 0, n % 7 == 0)));
                let past = past.filter(|(at, ..)| (0..begin_s).contains(at));
                let moved = drawn.iter().map(|(at, later, group, bad)| (begin_s + at, *later, *group, *bad));
                let drawn: Vec<Drawn> = past.chain(moved).collect();
                let (agree, found) = agree(&rule(text), &sent(&drawn), &turns, begin_s);
                prop_assert!(agree, "{}\n{}", text, found);
            }
        }
    }
}
