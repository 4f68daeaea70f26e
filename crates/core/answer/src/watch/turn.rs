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
    use crate::testing::{Shelf, numbered, scope};
    use crate::watch::{Known, Rings, RuleDocument, settle, strips, walk};
    use calvex_language::model::{Event, Path, Value};
    use calvex_language::query::Ties;
    use proptest::prelude::*;
    use std::collections::BTreeSet;

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
    type Sent = (i64, i64, u8, bool);

    fn event((at, _, group, bad): &Sent) -> Event {
        Event {
            time_ns: at * SECOND,
            service: ["edge", "slots", "codes"][usize::from(*group)].into(),
            message: if *bad { "bad" } else { "fine" }.into(),
            fields: vec![(Path::root("n"), Value::Int(at % 9))],
            ..Event::default()
        }
    }

    /// What the service does: turns at these moments, each with what had come by then; `forgets` are those before which it was
    /// started anew. The raisings that stand in the end.
    fn by_turns(rule: &Rule, sent: &[Sent], turns: &[(i64, bool)]) -> Vec<GroupRaising> {
        let mut judged_ns = 0;
        let mut groups: Standings = HashMap::new();
        let mut alerts: Vec<Stood> = Vec::new();
        let mut rings = Rings::default();
        let mut seen_s = -1;
        let mut touched_ns = i64::MAX;
        for (now_s, forgets) in turns {
            let now_ns = now_s * SECOND;
            if *forgets {
                rings = Rings::default();
            }
            let came = |e: &&Sent| e.0 + e.1 <= *now_s;
            let fresh = sent.iter().filter(|e| e.0 + e.1 > seen_s && came(e));
            touched_ns = fresh.map(|e| e.0 * SECOND).fold(touched_ns, i64::min);
            seen_s = seen_s.max(*now_s);
            let mut events: Vec<Event> = sent.iter().filter(came).map(event).collect();
            events.sort_by_key(|event| event.time_ns);
            let Some(turn) = rule.turn(judged_ns, touched_ns, now_ns) else { continue };
            rings.forget_from(turn.touched_ns, rule.step_ns);
            let mut shelf = Shelf::default();
            let view = if events.is_empty() { Vec::new() } else { shelf.seal(&numbered(events), 256) };
            let read = strips(&scope(&view, &shelf), rule, turn.moments, &Known::default(), &mut rings);
            assert_eq!(read.incomplete, None);
            let standings =
                if turn.again { stood_at(rule, &alerts, turn.from_ns) } else { std::mem::take(&mut groups) };
            let walked = walk_all(rule, &turn, &read, standings, None, &Mutes::default());
            for changed in settle(&alerts, &walked.found, (turn.from_ns, turn.until_ns), &rule.bound) {
                match changed.known {
                    Some(n) => alerts[n] = Stood { known: None, ..changed },
                    None => alerts.push(changed),
                }
            }
            let standing = |g: RuleGroup| (g.hash, (g.name, Standing { state: g.state, since_ns: g.since_ns }));
            groups = walked.groups.into_iter().map(standing).collect();
            (judged_ns, touched_ns) = (turn.until_ns, i64::MAX);
        }
        alerts.into_iter().flat_map(|alert| alert.groups).filter(|group| !group.withdrawn).collect()
    }

    /// Everything at once, as a rehearsal sees it.
    fn at_once(rule: &Rule, sent: &[Sent], until_ns: i64) -> Vec<(u64, Raising)> {
        let mut events: Vec<Event> = sent.iter().map(event).collect();
        events.sort_by_key(|event| event.time_ns);
        let mut shelf = Shelf::default();
        let view = if events.is_empty() { Vec::new() } else { shelf.seal(&numbered(events), 256) };
        let moments = Moments::between(0, until_ns, rule.step_ns);
        let read = strips(&scope(&view, &shelf), rule, moments, &Known::default(), &mut Rings::default());
        let of = |strip: &Strip| {
            let from = Standing::quiet(0);
            let walked = walk(from, &rule.bound, rule.hold_ns, (moments.first_ns, moments.step_ns), &strip.values);
            let hash = group_hash(&strip.name());
            raisings(from, &walked).into_iter().map(move |raising| (hash, raising)).collect::<Vec<_>>()
        };
        read.strips.iter().flat_map(of).collect()
    }

    /// The moments at which groups are raised, in steps.
    fn moments_of(raised: impl Iterator<Item = (u64, Raising)>, rule: &Rule, until_ns: i64) -> BTreeSet<(u64, i64)> {
        let steps = |(hash, r): (u64, Raising)| {
            let (from, to) = (r.raised_ns / rule.step_ns, r.ended_ns.unwrap_or(until_ns + rule.step_ns) / rule.step_ns);
            (from..to).map(move |step| (hash, step))
        };
        raised.flat_map(steps).collect()
    }

    fn streams() -> impl Strategy<Value = (Vec<Sent>, Vec<(i64, bool)>)> {
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

    proptest! {
        #![proptest_config(ProptestConfig { cases: 48, ..ProptestConfig::default() })]

        /// Whatever came when, and whenever the service was started anew: in the end that is raised which was so, and what is
        /// not so is not raised.
        #[test]
        fn judging_by_turns_ends_as_judging_at_once((sent, turns) in streams()) {
            let last = turns.iter().map(|(at, _)| *at).max().unwrap_or(0);
            // Everything has come and is judged.
            let end_s = last.max(9 * 540 + 400) + 1300;
            let turns: Vec<(i64, bool)> = turns.into_iter().chain([(end_s, false)]).collect();
            for text in RULES {
                let rule = rule(text);
                let until_ns = rule.judged_until(end_s * SECOND);
                let by_turns = by_turns(&rule, &sent, &turns);
                let at_once = at_once(&rule, &sent, until_ns);
                let live = moments_of(by_turns.iter().map(|g| (g.hash, g.raising)), &rule, until_ns);
                let truth = moments_of(at_once.iter().copied(), &rule, until_ns);
                prop_assert_eq!(live, truth, "{}\nlive {:?}\ntruth {:?}", text, by_turns, at_once);
            }
        }
    }
}
