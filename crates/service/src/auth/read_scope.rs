//! The one door to reading: no function that reaches events, names or counts can be called without a [`ReadScope`].

use calvex_language::domain::access::Principal;
use std::collections::BTreeSet;
use std::sync::Arc;

/// What may be read. It is made of somebody's rights, and can be narrowed, never widened.
#[derive(Debug, Clone)]
pub struct ReadScope {
    whose: Whose,
    /// This lane only.
    only: Option<u32>,
}

#[derive(Debug, Clone)]
enum Whose {
    Principal(Arc<Principal>),
    /// These lanes.
    Lanes(Arc<BTreeSet<u32>>),
    Everything,
}

impl ReadScope {
    /// Of a person or a token.
    pub fn of(who: &Arc<Principal>) -> Self {
        ReadScope { whose: Whose::Principal(who.clone()), only: None }
    }

    /// Of somebody who may read these lanes; all, where none are named: the owner of an alert rule.
    pub fn of_lanes(lanes: Option<impl IntoIterator<Item = u32>>) -> Self {
        let whose = lanes.map_or(Whose::Everything, |lanes| Whose::Lanes(Arc::new(lanes.into_iter().collect())));
        ReadScope { whose, only: None }
    }

    /// No events at all: for upkeep, which looks at how a chunk is stored.
    pub fn nothing() -> Self {
        ReadScope::of_lanes(Some([]))
    }

    /// The same, of one lane alone.
    pub fn narrowed_to(self, lane: u32) -> Self {
        let only = if self.only.is_none_or(|only| only == lane) { lane } else { u32::MAX };
        ReadScope { only: Some(only), ..self }
    }

    /// Whether the lane may be read.
    pub fn may_read(&self, lane: u32) -> bool {
        let within = match &self.whose {
            Whose::Principal(who) => who.may_read(lane),
            Whose::Lanes(lanes) => lanes.contains(&lane),
            Whose::Everything => true,
        };
        within && self.only.is_none_or(|only| only == lane)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_scope_is_narrowed_and_never_widened() {
        let scope = ReadScope::of_lanes(Some([1, 2]));
        assert!(scope.may_read(1) && scope.may_read(2) && !scope.may_read(3));
        let one = scope.narrowed_to(1);
        assert!(one.may_read(1) && !one.may_read(2));
        assert!(![1, 2, 3].iter().any(|lane| one.clone().narrowed_to(2).may_read(*lane)));
        let outside = ReadScope::of_lanes(Some([1])).narrowed_to(3);
        assert!(!outside.may_read(3) && !outside.may_read(1));
        assert!(ReadScope::of_lanes(None::<[u32; 0]>).may_read(7) && !ReadScope::nothing().may_read(7));
    }
}
