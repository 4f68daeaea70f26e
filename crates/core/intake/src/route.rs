//! Step 6: the lane of an event is that of the first route whose filter holds; a default lane always exists.

use calvex_language::error::Result;
use calvex_language::query::Filter;
use calvex_storage::columns::{PageRead, Rows, select};

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

    /// The lane of each row of a page.
    ///
    /// # Errors
    /// Where the page cannot be read.
    pub fn lanes_of(&self, page: &dyn PageRead) -> Result<Vec<L>> {
        let mut lanes = vec![self.default; page.rows()];
        let mut free = Rows::all(page.rows());
        for route in &self.routes {
            let mut taken = select(&route.filter, page, "")?;
            taken.and(&free);
            taken.iter().for_each(|row| lanes[row] = route.lane);
            taken.invert();
            free.and(&taken);
        }
        Ok(lanes)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use calvex_language::model::Event;
    use calvex_language::query::parse_filter;
    use calvex_storage::columns::build_page;

    #[test]
    fn first_match_wins_and_the_default_takes_the_rest() {
        let route = |q: &str, lane| Route { filter: parse_filter(q).unwrap(), lane };
        let table = RouteTable::new(vec![route("service=access", 1), route("severity>=error", 2)], 0);
        let event = |service: &str, severity| Event {
            service: service.into(),
            severity: calvex_language::model::Severity(severity),
            ..Event::default()
        };
        let events = [event("access", 17), event("edge", 17), event("edge", 9), event("access", 9)];
        assert_eq!(table.lanes_of(&build_page(&events).unwrap()).unwrap(), [1, 2, 0, 1]);
    }
}
