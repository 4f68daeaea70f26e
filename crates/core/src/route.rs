//! Step 6: the lane of an event is that of the first route whose filter holds; a default lane always exists.

use crate::event::Event;
use crate::query::{Filter, matches};

/// One route.
#[derive(Debug, Clone)]
pub struct Route<L> {
    /// Which events it takes.
    pub filter: Filter,
    /// Where they go.
    pub lane: L,
}

/// All routes in order.
#[derive(Debug, Clone)]
pub struct RouteTable<L> {
    routes: Vec<Route<L>>,
    default: L,
}

impl<L: Copy> RouteTable<L> {
    /// Routes in the order they are tried, and the lane for all else.
    pub fn new(routes: Vec<Route<L>>, default: L) -> Self {
        RouteTable { routes, default }
    }

    /// The lane for `event`.
    pub fn lane_of(&self, event: &Event) -> L {
        self.routes.iter().find(|r| matches(&r.filter, event, "")).map_or(self.default, |r| r.lane)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::query::parse_filter;

    #[test]
    fn first_match_wins_and_the_default_takes_the_rest() {
        let route = |q: &str, lane| Route { filter: parse_filter(q).unwrap(), lane };
        let table = RouteTable::new(vec![route("service=access", 1), route("severity>=error", 2)], 0);
        let event = |service: &str, severity| Event {
            service: service.into(),
            severity: crate::event::Severity(severity),
            ..Event::default()
        };
        assert_eq!(table.lane_of(&event("access", 17)), 1);
        assert_eq!(table.lane_of(&event("edge", 17)), 2);
        assert_eq!(table.lane_of(&event("edge", 9)), 0);
    }
}
