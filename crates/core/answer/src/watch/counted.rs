//! Step 12 in core: alert rules of the form "the count of a query in a window is above N", and how states move.
//!
//! Windows go by event time. A rule is judged at every multiple of its step, `delay` after the moment judged, over the
//! window that ends there. Late events may touch windows that were judged already; these are judged again.

use calvex_language::domain::rule::RuleState as State;
use calvex_language::model::time::SECOND_NS;

/// A rule's condition, as numbers.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Condition {
    /// Length of the window.
    pub window_ns: i64,
    /// Raised when the count is above.
    pub above: u64,
    /// How long the condition must hold first.
    pub hold_ns: i64,
    /// Distance of two judgements.
    pub step_ns: i64,
    /// How long after its end a window is judged.
    pub delay_ns: i64,
}

impl Condition {
    /// With a step that follows from the window: a tenth of it, between 5 s and a minute.
    pub fn new(window_s: u32, above: u64, hold_s: u32, delay_s: u32) -> Self {
        let seconds = |s: u32| i64::from(s) * SECOND_NS;
        let step_s = (window_s / 10).clamp(5, 60).min(window_s.max(1));
        Condition {
            window_ns: seconds(window_s),
            above,
            hold_ns: seconds(hold_s),
            step_ns: seconds(step_s),
            delay_ns: seconds(delay_s),
        }
    }

    /// The latest moment that can be judged at `now_ns`.
    pub fn judged_until(&self, now_ns: i64) -> i64 {
        (now_ns - self.delay_ns).div_euclid(self.step_ns) * self.step_ns
    }
}

/// Where a rule stands: its state, and since when.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Standing {
    /// The state.
    pub state: State,
    /// The moment it was entered.
    pub since_ns: i64,
}

impl Standing {
    /// As a new rule stands.
    pub fn quiet(since_ns: i64) -> Self {
        Standing { state: State::Quiet, since_ns }
    }
}

/// One move, as judged.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Move {
    /// The moment judged.
    pub at_ns: i64,
    /// The state entered.
    pub to: State,
    /// The count of the window then.
    pub count: u64,
}

/// Judges one moment: the next standing, and the move if the state changed.
pub fn judge(standing: Standing, condition: &Condition, at_ns: i64, count: u64) -> (Standing, Option<Move>) {
    let above = count > condition.above;
    let entered = |state| (Standing { state, since_ns: at_ns }, Some(Move { at_ns, to: state, count }));
    match (standing.state, above) {
        (State::Quiet | State::Failing, true) if condition.hold_ns == 0 => entered(State::Raised),
        (State::Quiet | State::Failing, true) => entered(State::Building),
        (State::Building, true) if at_ns - standing.since_ns >= condition.hold_ns => entered(State::Raised),
        (State::Building | State::Raised | State::Failing, false) => entered(State::Quiet),
        _ => (standing, None),
    }
}

/// What a walk saw.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Walked {
    /// The last standing.
    pub standing: Standing,
    /// Every move in order.
    pub moves: Vec<Move>,
    /// The last count judged.
    pub count: u64,
    /// For each stretch in the raised state, the one the walk began in included: its largest count.
    pub peaks: Vec<u64>,
}

/// Walks from one standing over counts per step. `counts[i]` is of the step that begins at `first_ns + i * step`; the
/// walk judges every moment after `from_ns` whose window lies within the counts.
pub fn walk(from: Standing, condition: &Condition, from_ns: i64, first_ns: i64, counts: &[u64]) -> Walked {
    let steps = (condition.window_ns / condition.step_ns).max(1) as usize;
    let mut walked = Walked { standing: from, moves: Vec::new(), count: 0, peaks: Vec::new() };
    if from.state == State::Raised {
        walked.peaks.push(0);
    }
    let mut sum: u64 = 0;
    for (i, count) in counts.iter().enumerate() {
        sum += count;
        if i >= steps {
            sum -= counts[i - steps];
        }
        let at_ns = first_ns + (i as i64 + 1) * condition.step_ns;
        if i + 1 < steps || at_ns <= from_ns {
            continue;
        }
        let (next, moved) = judge(walked.standing, condition, at_ns, sum);
        walked.standing = next;
        walked.count = sum;
        if moved.is_some_and(|m| m.to == State::Raised) {
            walked.peaks.push(0);
        }
        if next.state == State::Raised
            && let Some(peak) = walked.peaks.last_mut()
        {
            *peak = sum.max(*peak);
        }
        walked.moves.extend(moved);
    }
    walked
}

/// One raising as it stands or as a walk found it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Raising {
    /// The moment it was raised.
    pub raised_ns: i64,
    /// The moment it fell back; none while raised.
    pub ended_ns: Option<i64>,
    /// Its largest count.
    pub peak: u64,
}

impl Raising {
    fn overlaps(&self, other: &Raising) -> bool {
        self.ended_ns.is_none_or(|end| other.raised_ns <= end) && other.ended_ns.is_none_or(|end| self.raised_ns <= end)
    }
}

/// The raisings of a walk; one that the walk began in starts where that did.
pub fn raisings(from: Standing, walked: &Walked) -> Vec<Raising> {
    let mut found: Vec<Raising> = Vec::new();
    let open = |raised_ns| Raising { raised_ns, ended_ns: None, peak: 0 };
    if from.state == State::Raised {
        found.push(open(from.since_ns));
    }
    for m in &walked.moves {
        match m.to {
            State::Raised => found.push(open(m.at_ns)),
            _ => {
                if let Some(last) = found.last_mut().filter(|r| r.ended_ns.is_none()) {
                    last.ended_ns = Some(m.at_ns);
                }
            }
        }
    }
    found.iter_mut().zip(&walked.peaks).for_each(|(r, peak)| r.peak = *peak);
    found
}

/// What becomes of one raising found by a judgement.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Outcome {
    /// It was not known.
    New(Raising),
    /// The known one of this place moves so.
    Known(usize, Raising),
}

/// Matches what was found with what is known: a stretch that touches a known raising is that one, moved. Late events
/// can only add to counts, so a known raising is never taken back.
pub fn reconcile(known: &[Raising], found: &[Raising]) -> Vec<Outcome> {
    let mut outcomes: Vec<Outcome> = Vec::new();
    for r in found {
        let taken = |i: usize| outcomes.iter().any(|o| matches!(o, Outcome::Known(k, _) if *k == i));
        match (0..known.len()).find(|i| known[*i].overlaps(r) && !taken(*i)) {
            Some(i) => {
                let moved = Raising {
                    raised_ns: r.raised_ns.min(known[i].raised_ns),
                    ended_ns: r.ended_ns,
                    peak: r.peak.max(known[i].peak),
                };
                if moved != known[i] {
                    outcomes.push(Outcome::Known(i, moved));
                }
            }
            None => outcomes.push(Outcome::New(*r)),
        }
    }
    outcomes
}

#[cfg(test)]
mod tests {
    use super::*;

    const STEP: i64 = 30 * SECOND_NS;

    fn condition(hold_s: u32) -> Condition {
        Condition::new(300, 10, hold_s, 30)
    }

    #[test]
    fn steps_follow_the_window() {
        assert_eq!(condition(0).step_ns, STEP);
        assert_eq!(Condition::new(10, 1, 0, 0).step_ns, 5 * SECOND_NS);
        assert_eq!(Condition::new(3600, 1, 0, 0).step_ns, 60 * SECOND_NS);
        assert_eq!(condition(0).judged_until(100 * STEP + 30 * SECOND_NS + 1), 100 * STEP);
    }

    /// State, condition above or not, time in the state reaching the hold or not, and the state that follows.
    #[test]
    fn transitions_as_a_table() {
        use State::*;
        let table = [
            (Quiet, true, 60, 0, Building),
            (Quiet, true, 0, 0, Raised),
            (Quiet, false, 60, 0, Quiet),
            (Building, true, 60, 30, Building),
            (Building, true, 60, 60, Raised),
            (Building, false, 60, 60, Quiet),
            (Raised, true, 60, 90, Raised),
            (Raised, false, 60, 90, Quiet),
            (Failing, true, 60, 0, Building),
            (Failing, false, 60, 0, Quiet),
        ];
        for (state, above, hold_s, been_s, expected) in table {
            let standing = Standing { state, since_ns: 0 };
            let count = if above { 11 } else { 10 };
            let (next, moved) = judge(standing, &condition(hold_s), been_s * SECOND_NS, count);
            assert_eq!(next.state, expected, "{state:?} {above} {hold_s} {been_s}");
            assert_eq!(moved.is_some(), state != expected);
        }
    }

    #[test]
    fn a_burst_raises_once_and_falls_back() {
        let mut counts = vec![0u64; 60];
        counts[20] = 6;
        counts[21] = 6;
        let walked = walk(Standing::quiet(0), &condition(0), 0, 0, &counts);
        let at = |i: i64| (i + 1) * STEP;
        let moves: Vec<_> = walked.moves.iter().map(|m| (m.at_ns, m.to, m.count)).collect();
        assert_eq!(moves, [(at(21), State::Raised, 12), (at(30), State::Quiet, 6)]);
        assert_eq!((walked.standing.state, walked.count), (State::Quiet, 0));
        let raised = Raising { raised_ns: at(21), ended_ns: Some(at(30)), peak: 12 };
        assert_eq!(raisings(Standing::quiet(0), &walked), [raised]);
    }

    #[test]
    fn a_walk_goes_on_where_the_last_one_ended() {
        let counts: Vec<u64> = (0..100).map(|i| if (30..50).contains(&i) { 2 } else { 0 }).collect();
        let whole = walk(Standing::quiet(0), &condition(60), 0, 0, &counts);
        for cut in [15usize, 33, 41, 60] {
            let first = walk(Standing::quiet(0), &condition(60), 0, 0, &counts[..cut]);
            let from_ns = cut as i64 * STEP;
            let lead = cut - 10;
            let rest = walk(first.standing, &condition(60), from_ns, lead as i64 * STEP, &counts[lead..]);
            let moves = [first.moves, rest.moves].concat();
            assert_eq!(
                (rest.standing, moves, rest.count),
                (whole.standing, whole.moves.clone(), whole.count),
                "cut at {cut}"
            );
        }
        let states: Vec<State> = whole.moves.iter().map(|m| m.to).collect();
        assert_eq!(states, [State::Building, State::Raised, State::Quiet]);
        assert_eq!(whole.peaks, [20]);
    }

    #[test]
    fn late_events_move_or_add_raisings_but_never_tell_one_twice() {
        let r = |raised_ns, ended_ns, peak| Raising { raised_ns, ended_ns, peak };
        let known = [r(100, Some(200), 12)];
        assert_eq!(reconcile(&known, &[r(100, Some(200), 12)]), []);
        let moved = reconcile(&known, &[r(90, Some(230), 20)]);
        assert_eq!(moved, [Outcome::Known(0, r(90, Some(230), 20))]);
        let added = reconcile(&known, &[r(10, Some(50), 11), r(100, Some(200), 12)]);
        assert_eq!(added, [Outcome::New(r(10, Some(50), 11))]);
        let ended = reconcile(&[r(100, None, 12)], &[r(100, Some(300), 15)]);
        assert_eq!(ended, [Outcome::Known(0, r(100, Some(300), 15))]);
    }
}
