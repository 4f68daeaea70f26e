//! Step 12 in core: alert rules of the form "the count of a query in a window is above N", and how states move.
//!
//! Windows go by event time. A rule is judged at every multiple of its step, `delay` after the moment judged, over the
//! window that ends there. Late events may touch windows that were judged already; these are judged again.

use crate::event::time::SECOND_NS;

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

/// The states a rule of this form can be in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum State {
    /// The condition is false.
    Quiet,
    /// True, not long enough.
    Building,
    /// True for long enough.
    Raised,
    /// The rule itself cannot run.
    Failing,
}

impl State {
    /// As stored and shown.
    pub fn name(self) -> &'static str {
        match self {
            State::Quiet => "quiet",
            State::Building => "building",
            State::Raised => "raised",
            State::Failing => "failing",
        }
    }

    /// From its name.
    pub fn from_name(name: &str) -> Option<Self> {
        [State::Quiet, State::Building, State::Raised, State::Failing].into_iter().find(|s| s.name() == name)
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

/// Walks from one standing over counts per step. `counts[i]` is of the step that begins at `first_ns + i * step`; the
/// walk judges every moment after `from_ns` whose window lies within the counts. Returns the last standing, every move,
/// and the last count judged.
pub fn walk(
    from: Standing,
    condition: &Condition,
    from_ns: i64,
    first_ns: i64,
    counts: &[u64],
) -> (Standing, Vec<Move>, u64) {
    let steps = (condition.window_ns / condition.step_ns).max(1) as usize;
    let (mut standing, mut moves, mut last) = (from, Vec::new(), 0);
    let mut sum: u64 = 0;
    for (i, count) in counts.iter().enumerate() {
        sum += count;
        if i >= steps {
            sum -= counts[i - steps];
        }
        let at_ns = first_ns + (i as i64 + 1) * condition.step_ns;
        if i + 1 >= steps && at_ns > from_ns {
            let (next, moved) = judge(standing, condition, at_ns, sum);
            standing = next;
            moves.extend(moved);
            last = sum;
        }
    }
    (standing, moves, last)
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
        let (standing, moves, last) = walk(Standing::quiet(0), &condition(0), 0, 0, &counts);
        let at = |i: i64| (i + 1) * STEP;
        assert_eq!(
            moves.iter().map(|m| (m.at_ns, m.to, m.count)).collect::<Vec<_>>(),
            [(at(21), State::Raised, 12), (at(30), State::Quiet, 6)]
        );
        assert_eq!((standing.state, last), (State::Quiet, 0));
    }

    #[test]
    fn a_walk_goes_on_where_the_last_one_ended() {
        let counts: Vec<u64> = (0..100).map(|i| if (30..50).contains(&i) { 2 } else { 0 }).collect();
        let whole = walk(Standing::quiet(0), &condition(60), 0, 0, &counts);
        for cut in [15usize, 33, 41, 60] {
            let (standing, mut moves, _) = walk(Standing::quiet(0), &condition(60), 0, 0, &counts[..cut]);
            let from_ns = cut as i64 * STEP;
            let lead = cut - 10;
            let (end, rest, last) = walk(standing, &condition(60), from_ns, lead as i64 * STEP, &counts[lead..]);
            moves.extend(rest);
            assert_eq!((end, moves, last), whole, "cut at {cut}");
        }
        assert_eq!(whole.1.iter().map(|m| m.to).collect::<Vec<_>>(), [State::Building, State::Raised, State::Quiet]);
    }
}
