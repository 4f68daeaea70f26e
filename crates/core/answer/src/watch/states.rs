//! How the state of a group moves: quiet, building, raised. Moments are judged in order, by event time; the value of each is
//! compared with the rule's bound.

use calvex_language::domain::rule::RuleState as State;
use serde::{Deserialize, Serialize};

/// On which side of its number a bound is passed.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Side {
    /// Above it.
    Above,
    /// Below it.
    Below,
}

/// When a value is so that a rule is raised.
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Bound {
    /// On which side.
    pub side: Side,
    /// Of what.
    pub number: f64,
}

impl Bound {
    /// Whether a value is so; no value (NaN) never is.
    pub fn is_passed(&self, value: f64) -> bool {
        match self.side {
            Side::Above => value > self.number,
            Side::Below => value < self.number,
        }
    }

    /// The value that is further beyond the bound.
    pub fn worse(&self, a: f64, b: f64) -> f64 {
        match self.side {
            _ if a.is_nan() => b,
            _ if b.is_nan() => a,
            Side::Above => a.max(b),
            Side::Below => a.min(b),
        }
    }
}

/// Where a group stands: its state, and since when.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Standing {
    /// The state.
    pub state: State,
    /// The moment it was entered.
    pub since_ns: i64,
}

impl Standing {
    /// As a new group stands.
    pub fn quiet(since_ns: i64) -> Self {
        Standing { state: State::Quiet, since_ns }
    }
}

/// One move, as judged.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Move {
    /// The moment judged.
    pub at_ns: i64,
    /// The state entered.
    pub to: State,
    /// The value then.
    pub value: f64,
}

/// Judges one moment: the next standing, and the move if the state changed.
pub fn judge(standing: Standing, hold_ns: i64, at_ns: i64, value: f64, is_so: bool) -> (Standing, Option<Move>) {
    let entered = |state| (Standing { state, since_ns: at_ns }, Some(Move { at_ns, to: state, value }));
    match (standing.state, is_so) {
        (State::Quiet, true) if hold_ns == 0 => entered(State::Raised),
        (State::Quiet, true) => entered(State::Building),
        (State::Building, true) if at_ns - standing.since_ns >= hold_ns => entered(State::Raised),
        (State::Building | State::Raised, false) => entered(State::Quiet),
        _ => (standing, None),
    }
}

/// What a walk saw.
#[derive(Debug, Clone, PartialEq)]
pub struct Walked {
    /// The last standing.
    pub standing: Standing,
    /// Every move in order.
    pub moves: Vec<Move>,
    /// The last value judged.
    pub value: f64,
    /// For each stretch in the raised state, the one the walk began in included: its worst value.
    pub worst: Vec<f64>,
}

/// Walks from one standing over values, the first of the moment `first_ns`, the others `step_ns` apart.
pub fn walk(from: Standing, bound: &Bound, hold_ns: i64, at: (i64, i64), values: &[f64]) -> Walked {
    walk_blind(from, bound, hold_ns, at, values, None)
}

/// As [`walk`]; from `blind_ns` on nothing comes to judge by, and what is raised stays so.
pub fn walk_blind(
    from: Standing,
    bound: &Bound,
    hold_ns: i64,
    (first_ns, step_ns): (i64, i64),
    values: &[f64],
    blind_ns: Option<i64>,
) -> Walked {
    let mut walked = Walked { standing: from, moves: Vec::new(), value: f64::NAN, worst: Vec::new() };
    if from.state == State::Raised {
        walked.worst.push(f64::NAN);
    }
    for (n, value) in values.iter().enumerate() {
        let at_ns = first_ns + n as i64 * step_ns;
        let is_held = walked.standing.state == State::Raised && blind_ns.is_some_and(|blind_ns| at_ns >= blind_ns);
        let (next, moved) = judge(walked.standing, hold_ns, at_ns, *value, bound.is_passed(*value) || is_held);
        (walked.standing, walked.value) = (next, *value);
        if moved.is_some_and(|m| m.to == State::Raised) {
            walked.worst.push(f64::NAN);
        }
        if next.state == State::Raised
            && let Some(worst) = walked.worst.last_mut()
        {
            *worst = bound.worse(*worst, *value);
        }
        walked.moves.extend(moved);
    }
    walked
}

/// One raising as it stands or as a walk found it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Raising {
    /// The moment it was raised.
    pub raised_ns: i64,
    /// The moment it fell back; none while raised.
    pub ended_ns: Option<i64>,
    /// Its worst value.
    pub worst: f64,
}

impl Raising {
    /// Whether two touch.
    pub fn overlaps(&self, other: &Raising) -> bool {
        self.ended_ns.is_none_or(|end| other.raised_ns <= end) && other.ended_ns.is_none_or(|end| self.raised_ns <= end)
    }
}

/// The raisings of a walk; one that the walk began in starts where that did.
pub fn raisings(from: Standing, walked: &Walked) -> Vec<Raising> {
    let mut found: Vec<Raising> = Vec::new();
    let open = |raised_ns| Raising { raised_ns, ended_ns: None, worst: f64::NAN };
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
    found.iter_mut().zip(&walked.worst).for_each(|(r, worst)| r.worst = *worst);
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    const SECOND: i64 = 1_000_000_000;
    const ABOVE_TEN: Bound = Bound { side: Side::Above, number: 10.0 };

    /// State, whether it is so, how long it must be, how long the state has lasted, and the state that follows.
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
        ];
        for (state, is_so, hold_s, been_s, expected) in table {
            let standing = Standing { state, since_ns: 0 };
            let (next, moved) = judge(standing, hold_s * SECOND, been_s * SECOND, 11.0, is_so);
            assert_eq!(next.state, expected, "{state:?} {is_so} {hold_s} {been_s}");
            assert_eq!(moved.is_some(), state != expected);
        }
    }

    #[test]
    fn what_is_raised_stays_so_while_nothing_comes() {
        let values = [20.0, 0.0, 0.0, 20.0, 0.0];
        let ended = |blind_s: Option<i64>| -> Vec<i64> {
            let from = Standing::quiet(0);
            let blind_ns = blind_s.map(|s| s * SECOND);
            let walked = walk_blind(from, &ABOVE_TEN, 0, (SECOND, SECOND), &values, blind_ns);
            walked.moves.iter().filter(|m| m.to == State::Quiet).map(|m| m.at_ns / SECOND).collect()
        };
        assert_eq!(ended(None), [2, 5]);
        assert_eq!(ended(Some(2)), [] as [i64; 0]);
        assert_eq!(ended(Some(4)), [2]);
    }

    #[test]
    fn a_walk_goes_on_where_the_last_one_ended() {
        let values: Vec<f64> = (0..100).map(|i| if (30..50).contains(&i) { 20.0 } else { f64::NAN }).collect();
        let at = (SECOND, SECOND);
        let whole = walk(Standing::quiet(0), &ABOVE_TEN, 5 * SECOND, at, &values);
        for cut in [15usize, 33, 41, 60] {
            let first = walk(Standing::quiet(0), &ABOVE_TEN, 5 * SECOND, at, &values[..cut]);
            let from = (SECOND * (cut as i64 + 1), SECOND);
            let rest = walk(first.standing, &ABOVE_TEN, 5 * SECOND, from, &values[cut..]);
            // Values that are none are not equal to one another, but are written alike.
            let moves = [first.moves, rest.moves].concat();
            assert_eq!(format!("{:?} {moves:?}", rest.standing), format!("{:?} {:?}", whole.standing, whole.moves));
        }
        let moves: Vec<(i64, State)> = whole.moves.iter().map(|m| (m.at_ns / SECOND, m.to)).collect();
        assert_eq!(moves, [(31, State::Building), (36, State::Raised), (51, State::Quiet)]);
        let found = raisings(Standing::quiet(0), &whole);
        assert_eq!(found, [Raising { raised_ns: 36 * SECOND, ended_ns: Some(51 * SECOND), worst: 20.0 }]);
    }

    #[test]
    fn no_value_is_on_no_side() {
        let below = Bound { side: Side::Below, number: 10.0 };
        assert!(!below.is_passed(f64::NAN) && !ABOVE_TEN.is_passed(f64::NAN));
        assert!(below.is_passed(9.9) && !below.is_passed(10.0) && !ABOVE_TEN.is_passed(10.0));
        assert_eq!((below.worse(3.0, 4.0), ABOVE_TEN.worse(f64::NAN, 4.0)), (3.0, 4.0));
    }
}
