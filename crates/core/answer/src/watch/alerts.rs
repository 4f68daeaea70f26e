//! What becomes of a rule's alerts. A walk finds when each group was raised; a group's raising that touches a known one is
//! that one, moved; one that is known and was not found, late events undid. Groups that are raised at the same time make
//! one alert.

use super::states::{Bound, Raising};

/// One group's raising.
#[derive(Debug, Clone, PartialEq)]
pub struct GroupRaising {
    /// Of the group's name.
    pub hash: u64,
    /// The group's name.
    pub name: String,
    /// When, and how far beyond the bound.
    pub raising: Raising,
    /// Late events undid it.
    pub withdrawn: bool,
    /// Nobody is notified of it.
    pub muted: bool,
}

/// An alert as it stands.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Stood {
    /// Its groups' raisings, in order.
    pub groups: Vec<GroupRaising>,
    /// Which of the known ones it is; none where it is new.
    pub known: Option<usize>,
}

impl Stood {
    fn lasting(&self) -> impl Iterator<Item = &GroupRaising> {
        self.groups.iter().filter(|group| !group.withdrawn)
    }

    /// Whether all of it was undone.
    pub fn is_withdrawn(&self) -> bool {
        self.lasting().next().is_none()
    }

    /// From when to when it is raised, and its worst value; one that was withdrawn as it was known.
    pub fn raising(&self, bound: &Bound) -> Raising {
        let withdrawn = self.is_withdrawn();
        let mut parts = self.groups.iter().filter(|group| withdrawn || !group.withdrawn).map(|group| group.raising);
        let first = parts.next().unwrap_or(Raising { raised_ns: 0, ended_ns: Some(0), worst: f64::NAN });
        parts.fold(first, |all, part| Raising {
            raised_ns: all.raised_ns.min(part.raised_ns),
            ended_ns: all.ended_ns.zip(part.ended_ns).map(|(a, b)| a.max(b)),
            worst: bound.worse(all.worst, part.worst),
        })
    }

    fn touches(&self, raising: &Raising, bound: &Bound) -> bool {
        !self.is_withdrawn() && self.raising(bound).overlaps(raising)
    }
}

/// Joins what a walk from `from_ns` to `until_ns` found with the alerts known; those that changed, and new ones.
pub fn settle(known: &[Stood], found: &[GroupRaising], (from_ns, until_ns): (i64, i64), bound: &Bound) -> Vec<Stood> {
    let mut alerts: Vec<Stood> =
        known.iter().enumerate().map(|(n, alert)| Stood { known: Some(n), ..alert.clone() }).collect();
    let mut met: Vec<(usize, usize)> = Vec::new();
    let mut unknown: Vec<&GroupRaising> = Vec::new();
    for group in found {
        let place = alerts.iter().enumerate().find_map(|(a, alert)| {
            let of = |(g, old): (usize, &GroupRaising)| {
                let same = old.hash == group.hash && !old.withdrawn && old.raising.overlaps(&group.raising);
                (same && !met.contains(&(a, g))).then_some(g)
            };
            alert.groups.iter().enumerate().find_map(of).map(|g| (a, g))
        });
        match place {
            Some((a, g)) => {
                met.push((a, g));
                let known = &mut alerts[a].groups[g];
                known.muted = group.muted;
                let old = &mut known.raising;
                *old = Raising {
                    raised_ns: group.raising.raised_ns,
                    ended_ns: group.raising.ended_ns,
                    worst: bound.worse(old.worst, group.raising.worst),
                };
            }
            None => unknown.push(group),
        }
    }
    // What the walk should have found and did not is undone; one raised before the walk began stands as it is.
    for (a, alert) in alerts.iter_mut().enumerate() {
        for (g, group) in alert.groups.iter_mut().enumerate() {
            let within = group.raising.raised_ns > from_ns && group.raising.raised_ns <= until_ns;
            if within && !group.withdrawn && !met.contains(&(a, g)) {
                group.withdrawn = true;
                group.raising.ended_ns.get_or_insert(until_ns.max(group.raising.raised_ns));
            }
        }
    }
    unknown.sort_by_key(|group| group.raising.raised_ns);
    for group in unknown {
        match alerts.iter_mut().find(|alert| alert.touches(&group.raising, bound)) {
            Some(alert) => alert.groups.push(group.clone()),
            None => alerts.push(Stood { groups: vec![group.clone()], known: None }),
        }
    }
    let same = |a: &Stood, b: &Stood| format!("{:?}", a.groups) == format!("{:?}", b.groups);
    alerts
        .into_iter()
        .filter(|alert| alert.known.and_then(|n| known.get(n)).is_none_or(|was| !same(was, alert)))
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::watch::Side;

    const BOUND: Bound = Bound { side: Side::Above, number: 10.0 };

    fn group(name: &str, raised_ns: i64, ended_ns: Option<i64>, worst: f64) -> GroupRaising {
        let hash = name.bytes().map(u64::from).sum();
        GroupRaising {
            hash,
            name: name.into(),
            raising: Raising { raised_ns, ended_ns, worst },
            withdrawn: false,
            muted: false,
        }
    }

    fn alert(groups: &[GroupRaising]) -> Stood {
        Stood { groups: groups.to_vec(), known: None }
    }

    fn settled(known: &[Stood], found: &[GroupRaising]) -> Vec<(Option<usize>, Raising, Vec<String>)> {
        let settled = settle(known, found, (0, 1000), &BOUND);
        let names = |a: &Stood| a.groups.iter().map(|g| g.name.clone() + if g.withdrawn { "!" } else { "" }).collect();
        settled.iter().map(|a| (a.known, a.raising(&BOUND), names(a))).collect()
    }

    fn raising(raised_ns: i64, ended_ns: Option<i64>, worst: f64) -> Raising {
        Raising { raised_ns, ended_ns, worst }
    }

    #[test]
    fn groups_raised_at_the_same_time_are_one_alert() {
        let found = [group("a", 100, Some(200), 12.0), group("b", 150, None, 20.0), group("a", 300, Some(310), 11.0)];
        let named = |names: &[&str]| names.iter().map(|n| (*n).to_owned()).collect::<Vec<_>>();
        assert_eq!(settled(&[], &found), [(None, raising(100, None, 20.0), named(&["a", "b", "a"]))]);
        let apart = [group("a", 100, Some(200), 12.0), group("b", 250, Some(260), 20.0)];
        assert_eq!(settled(&[], &apart).len(), 2);
        // The next turn finds the same: nothing changes. Then one ends.
        let known = [alert(&found)];
        assert_eq!(settled(&known, &found), []);
        let ended = [found[0].clone(), group("b", 150, Some(400), 25.0), found[2].clone()];
        assert_eq!(settled(&known, &ended), [(Some(0), raising(100, Some(400), 25.0), named(&["a", "b", "a"]))]);
    }

    #[test]
    fn a_mute_that_ends_changes_the_alert() {
        let muted = GroupRaising { muted: true, ..group("a", 100, None, 12.0) };
        let known = [alert(std::slice::from_ref(&muted))];
        assert_eq!(settle(&known, &[muted], (0, 1000), &BOUND), []);
        let changed = settle(&known, &[group("a", 100, None, 12.0)], (0, 1000), &BOUND);
        assert!(!changed[0].groups[0].muted);
    }

    #[test]
    fn late_events_move_add_or_undo() {
        let known = [alert(&[group("a", 100, Some(200), 12.0)])];
        let moved = settled(&known, &[group("a", 90, Some(230), 20.0)]);
        assert_eq!(moved, [(Some(0), raising(90, Some(230), 20.0), vec!["a".to_owned()])]);
        let added = settled(&known, &[group("a", 10, Some(50), 11.0), group("a", 100, Some(200), 12.0)]);
        assert_eq!(added, [(None, raising(10, Some(50), 11.0), vec!["a".to_owned()])]);
        let undone = settled(&known, &[]);
        assert_eq!(undone, [(Some(0), raising(100, Some(200), 12.0), vec!["a!".to_owned()])]);
        // Undone once; and what comes at the same time again is another alert.
        let known = settle(&known, &[], (0, 1000), &BOUND);
        assert_eq!(settled(&known, &[]), []);
        assert_eq!(settled(&known, &[group("a", 120, None, 12.0)])[0].0, None);
        // What was raised before the walk began is not looked for.
        let before = [alert(&[group("a", 100, Some(200), 12.0)])];
        assert_eq!(settle(&before, &[], (150, 1000), &BOUND), []);
    }
}
