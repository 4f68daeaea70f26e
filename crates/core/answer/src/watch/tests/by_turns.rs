//! A rule judged as the service does, turn by turn, over events that come when they come; and at once, as a rehearsal does.

use crate::testing::{Shelf, numbered, scope};
use crate::watch::{
    GroupRaising, Known, Moments, Mutes, Raising, Rings, Rule, Standing, Standings, Stood, Strip, group_hash, raisings,
    settle, stood_at, strips, walk, walk_all,
};
use calvex_language::domain::rule::RuleGroup;
use calvex_language::model::Event;
use std::collections::BTreeSet;

/// An event, and when it comes.
pub(in crate::watch) type Sent = (Event, i64);

/// One turn.
#[derive(Debug, Clone, Default)]
pub(in crate::watch) struct At {
    /// What the clock shows.
    pub now_ns: i64,
    /// What has come by then; the clock may be wrong.
    pub came_ns: i64,
    /// The service was started anew before it.
    pub forgets: bool,
    /// The mutes that last.
    pub mutes: Vec<String>,
}

fn sealed(mut events: Vec<Event>) -> (Vec<crate::scan::Extent>, Shelf) {
    events.sort_by_key(|event| event.time_ns);
    let mut shelf = Shelf::default();
    let view = if events.is_empty() { Vec::new() } else { shelf.seal(&numbered(events), 256) };
    (view, shelf)
}

/// The raisings that stand after these turns, those that were withdrawn too; what is known beside the events by then is the
/// caller's.
pub(in crate::watch) fn by_turns(
    rule: &Rule,
    sent: &[Sent],
    known: &dyn Fn(i64) -> Known,
    (from_ns, turns): (i64, &[At]),
) -> Vec<GroupRaising> {
    let mut judged_ns = from_ns;
    let mut groups: Standings = Standings::new();
    let mut alerts: Vec<Stood> = Vec::new();
    let mut rings = Rings::default();
    let mut seen_ns = -1;
    let mut touched_ns = i64::MAX;
    let (mut view, mut shelf) = sealed(Vec::new());
    for at in turns {
        if at.forgets {
            rings = Rings::default();
        }
        let came = |came_ns: i64| came_ns <= at.came_ns;
        let fresh = sent.iter().filter(|(_, came_ns)| *came_ns > seen_ns && came(*came_ns));
        let first_ns = fresh.map(|(event, _)| event.time_ns).min();
        seen_ns = seen_ns.max(at.came_ns);
        if let Some(first_ns) = first_ns {
            // What stood before the rule did is not judged.
            touched_ns = touched_ns.min(first_ns).max(from_ns);
            (view, shelf) = sealed(sent.iter().filter(|(_, at)| came(*at)).map(|(event, _)| event.clone()).collect());
        }
        let Some(turn) = rule.turn(judged_ns, touched_ns, at.now_ns) else { continue };
        rings.forget_from(turn.touched_ns, rule.step_ns);
        let read = strips(&scope(&view, &shelf), rule, turn.moments, &known(at.came_ns), &mut rings);
        assert_eq!(read.incomplete, None);
        let standings = if turn.again { stood_at(rule, &alerts, turn.from_ns) } else { std::mem::take(&mut groups) };
        let mutes = Mutes::new(rule, at.mutes.iter().map(String::as_str), &alerts);
        let walked = walk_all(rule, &turn, &read, standings, None, &mutes);
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
    alerts.into_iter().flat_map(|alert| alert.groups).collect()
}

/// The raisings of every group, with everything at hand, between two moments.
pub(in crate::watch) fn at_once(
    rule: &Rule,
    sent: &[Sent],
    known: &Known,
    (from_ns, until_ns): (i64, i64),
) -> Vec<(String, Raising)> {
    let (view, shelf) = sealed(sent.iter().map(|(event, _)| event.clone()).collect());
    let moments = Moments::between(from_ns, until_ns, rule.step_ns);
    let read = strips(&scope(&view, &shelf), rule, moments, known, &mut Rings::default());
    let of = |strip: &Strip| {
        let from = Standing::quiet(from_ns);
        let walked = walk(from, &rule.bound, rule.hold_ns, (moments.first_ns, moments.step_ns), &strip.values);
        let name = strip.name();
        raisings(from, &walked).into_iter().map(move |raising| (name.clone(), raising)).collect::<Vec<_>>()
    };
    read.strips.iter().flat_map(of).collect()
}

/// The moments at which groups are raised, in steps.
pub(in crate::watch) fn raised_steps(
    raised: impl Iterator<Item = (u64, Raising)>,
    rule: &Rule,
    until_ns: i64,
) -> BTreeSet<(u64, i64)> {
    let steps = |(hash, r): (u64, Raising)| {
        let (from, to) = (r.raised_ns / rule.step_ns, r.ended_ns.unwrap_or(until_ns + rule.step_ns) / rule.step_ns);
        (from..to).map(move |step| (hash, step))
    };
    raised.flat_map(steps).collect()
}

/// What stands by turns, and what by judging at once: the same moments, where all has come and is judged.
pub(in crate::watch) fn both(rule: &Rule, live: &[GroupRaising], at_once: &[(String, Raising)], until_ns: i64) -> bool {
    let lasting = live.iter().filter(|group| !group.withdrawn).map(|group| (group.hash, group.raising));
    let truth = at_once.iter().map(|(name, raising)| (group_hash(name), *raising));
    raised_steps(lasting, rule, until_ns) == raised_steps(truth, rule, until_ns)
}
