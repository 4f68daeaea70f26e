//! Lanes, routes and chunks as this node knows them now; read by every request, changed by few.

use crate::error::Result;
use calvex_core::query::parse_filter;
use calvex_core::route::{Route, RouteTable};
use calvex_store::{LaneRow, Store};
use parking_lot::RwLock;
use std::collections::HashMap;
use std::sync::Arc;

/// One reading of lanes and routes.
pub struct Config {
    lanes: HashMap<u32, (LaneRow, Arc<str>)>,
    routes: RouteTable<u32>,
}

impl Config {
    /// Reads lanes and routes.
    pub async fn load(store: &Store) -> Result<Self> {
        let lanes = store.lanes().await?;
        let default = lanes.iter().find(|l| l.is_default).or(lanes.first()).map_or(1, |l| l.id);
        let mut routes = Vec::new();
        for (text, lane) in store.routes().await? {
            match parse_filter(&text) {
                Ok(filter) => routes.push(Route { filter, lane }),
                // Routes are checked when they are put; one that no longer parses must not stop intake.
                Err(mistakes) => tracing::error!(route = text, ?mistakes, "a route is passed over"),
            }
        }
        let named = |l: LaneRow| {
            let name: Arc<str> = l.name.as_str().into();
            (l.id, (l, name))
        };
        Ok(Config { lanes: lanes.into_iter().map(named).collect(), routes: RouteTable::new(routes, default) })
    }

    /// The routes in force.
    pub fn routes(&self) -> &RouteTable<u32> {
        &self.routes
    }

    /// A lane by id.
    pub fn lane(&self, id: u32) -> Option<&LaneRow> {
        self.lanes.get(&id).map(|(l, _)| l)
    }

    /// The name of a lane.
    pub fn name(&self, id: u32) -> Arc<str> {
        self.lanes.get(&id).map_or_else(|| "".into(), |(_, n)| n.clone())
    }

    /// A lane by name.
    pub fn by_name(&self, name: &str) -> Option<&LaneRow> {
        self.lanes.values().map(|(l, _)| l).find(|l| l.name == name)
    }

    /// Every lane, by name.
    pub fn lanes(&self) -> Vec<&LaneRow> {
        let mut all: Vec<&LaneRow> = self.lanes.values().map(|(l, _)| l).collect();
        all.sort_by(|a, b| a.name.cmp(&b.name));
        all
    }
}

/// The current [`Config`], swapped whole.
pub struct Catalogue {
    config: RwLock<Arc<Config>>,
}

impl Catalogue {
    /// With a first reading.
    pub fn new(config: Config) -> Self {
        Catalogue { config: RwLock::new(Arc::new(config)) }
    }

    /// The current reading.
    pub fn get(&self) -> Arc<Config> {
        self.config.read().clone()
    }

    /// Reads anew.
    pub async fn reload(&self, store: &Store) -> Result<()> {
        let fresh = Arc::new(Config::load(store).await?);
        *self.config.write() = fresh;
        Ok(())
    }
}
