//! Lanes, routes, transform rules, dials and ties as this node knows them now; read by every request, changed by few.

pub mod settings;

use crate::error::Result;
use calvex_intake::dial::Dial;
use calvex_intake::route::{Route, RouteTable};
use calvex_intake::transform::{Rule, Transforms};
use calvex_language::domain::grant::May;
use calvex_language::domain::kept::{OfTeam, StoredDial, StoredRoute, StoredTransform};
use calvex_language::domain::lane::Lane;
use calvex_language::model::Severity;
use calvex_language::query::{Filter, Tie, Ties, parse_filter};
use calvex_store::{Store, StoreError};
use parking_lot::RwLock;
use sha2::{Digest, Sha256};
use std::collections::{HashMap, HashSet};
use std::sync::Arc;

/// One reading of it all.
pub struct Config {
    lanes: HashMap<u32, (Lane, Arc<str>)>,
    routes: RouteTable<u32>,
    transforms: Transforms,
    dials: Vec<Dial>,
    ties: Ties,
    /// Keys the hashes that masks write.
    mask_secret: [u8; 32],
}

impl Config {
    /// Reads everything, as it stands then.
    pub async fn load(store: &Store, now_ns: i64) -> Result<Self> {
        let lanes = store.lanes().await?;
        let default = lanes.iter().find(|l| l.is_default).or(lanes.first()).map_or(1, |l| l.id);
        let ties = store.ties().await?;
        let ties = Ties::new(ties.iter().map(|(name, spellings)| Tie::new(name, spellings)));
        let of_teams = OfTeams::read(store, now_ns).await?;
        let mut routes = Vec::new();
        for StoredRoute { filter: text, lane, team } in store.routes().await? {
            match parse_filter(&text) {
                Ok(mut filter) => {
                    filter.tie_up(&ties);
                    if let Some(team) = team {
                        // What a team may no longer configure, it sends nothing to.
                        let Some(own) = of_teams.get(team.id).filter(|own| own.lanes.contains(&lane)) else { continue };
                        filter = Filter::sent_with(&own.keys).and(filter);
                    }
                    routes.push(Route { filter, lane });
                }
                // Routes are checked when they are put; one that no longer parses must not stop intake.
                Err(mistakes) => tracing::error!(route = text, ?mistakes, "a route is passed over"),
            }
        }
        let named = |l: Lane| {
            let name: Arc<str> = l.name.as_str().into();
            (l.id, (l, name))
        };
        let mask_secret = store.own_secret("mask", rand::random()).await?;
        let dials = store.dials().await?;
        let mut transforms = transforms_of(&store.transforms().await?, &lanes, &of_teams, mask_secret);
        transforms.tie_up(&ties);
        Ok(Config {
            lanes: lanes.into_iter().map(named).collect(),
            routes: RouteTable::new(routes, default),
            transforms,
            dials: dials.iter().filter_map(|row| dial_of(row, &ties, &of_teams)).collect(),
            ties,
            mask_secret,
        })
    }

    /// Lanes alone, without anything else.
    #[cfg(test)]
    pub fn of_lanes(lanes: Vec<Lane>) -> Self {
        Config {
            lanes: lanes.into_iter().map(|l| (l.id, (l.clone(), l.name.as_str().into()))).collect(),
            routes: RouteTable::new(Vec::new(), 1),
            transforms: Transforms::default(),
            dials: Vec::new(),
            ties: Ties::default(),
            mask_secret: [0; 32],
        }
    }

    /// The transform rules in force.
    pub fn transforms(&self) -> &Transforms {
        &self.transforms
    }

    /// Rules as they would be in force here: those of the service, or of a team that may configure some lanes.
    ///
    /// # Errors
    /// Every mistake of every rule.
    pub fn read_transforms(
        &self,
        rules: &[Rule],
        team: Option<&OfTeam>,
        may_move_to: &dyn Fn(u32) -> bool,
    ) -> std::result::Result<Transforms, Vec<calvex_intake::transform::RuleMistake>> {
        let lane = |name: &str| self.by_name(name).map(|l| l.id).filter(|lane| may_move_to(*lane));
        let mut transforms = Transforms::new(rules, lane, secret_of(self.mask_secret, team))?;
        transforms.tie_up(&self.ties);
        Ok(transforms)
    }

    /// Every dial, also those that ended.
    pub fn dials(&self) -> &[Dial] {
        &self.dials
    }

    /// The ties.
    pub fn ties(&self) -> &Ties {
        &self.ties
    }

    /// The routes in force.
    pub fn routes(&self) -> &RouteTable<u32> {
        &self.routes
    }

    /// A lane by id.
    pub fn lane(&self, id: u32) -> Option<&Lane> {
        self.lanes.get(&id).map(|(l, _)| l)
    }

    /// The name of a lane.
    pub fn name(&self, id: u32) -> Arc<str> {
        self.lanes.get(&id).map_or_else(|| "".into(), |(_, n)| n.clone())
    }

    /// A lane by name.
    pub fn by_name(&self, name: &str) -> Option<&Lane> {
        self.lanes.values().map(|(l, _)| l).find(|l| l.name == name)
    }

    /// The ids of lanes by their names.
    ///
    /// # Errors
    /// [`StoreError::Missing`] of the first that does not exist.
    pub fn ids_of<'a>(&self, names: impl IntoIterator<Item = &'a String>) -> Result<Vec<u32>> {
        let missing = |name: &String| StoreError::Missing(format!("lane `{name}`"));
        let id = |name: &'a String| Ok(self.by_name(name).ok_or_else(|| missing(name))?.id);
        names.into_iter().map(id).collect()
    }

    /// Every lane, by name.
    pub fn lanes(&self) -> Vec<&Lane> {
        let mut all: Vec<&Lane> = self.lanes.values().map(|(l, _)| l).collect();
        all.sort_by(|a, b| a.name.cmp(&b.name));
        all
    }
}

/// What teams may set, by their numbers.
struct OfTeams(HashMap<u32, OwnOfTeam>);

/// What a team's settings hold for.
#[derive(Default)]
struct OwnOfTeam {
    /// The names of its keys.
    keys: Vec<String>,
    /// The lanes that it may configure.
    lanes: HashSet<u32>,
}

impl OfTeams {
    async fn read(store: &Store, now_ns: i64) -> Result<Self> {
        let mut of_teams: HashMap<u32, OwnOfTeam> = HashMap::new();
        for (team, key) in store.keys_of_teams().await? {
            of_teams.entry(team).or_default().keys.push(key);
        }
        for (team, own) in &mut of_teams {
            let held = store.held_by_team(*team, now_ns).await?.into_iter();
            own.lanes = held.filter(|held| held.may >= May::Configure).map(|held| held.lane).collect();
        }
        Ok(OfTeams(of_teams))
    }

    /// Of a team that has keys.
    fn get(&self, team: u32) -> Option<&OwnOfTeam> {
        self.0.get(&team)
    }
}

/// What a mask's hashes are keyed by. A team has a secret of its own: the hash of a value that it makes up is none that a
/// rule of the service, or of another team, writes.
fn secret_of(secret: [u8; 32], team: Option<&OfTeam>) -> [u8; 32] {
    let Some(team) = team else { return secret };
    let mut hash = Sha256::new_with_prefix(secret);
    hash.update(b"team");
    hash.update(team.id.to_be_bytes());
    hash.finalize().into()
}

/// Rules as recorded, those of the service before those of teams; they are checked when they are put. One that can no longer
/// be read (its lane is gone, or is no longer the team's to configure) is passed over, so that it does not stop intake, and
/// the others stay.
fn transforms_of(rows: &[StoredTransform], lanes: &[Lane], of_teams: &OfTeams, secret: [u8; 32]) -> Transforms {
    let mut all = Transforms::default();
    for of_one in rows.chunk_by(|a, b| a.team == b.team) {
        let team = of_one.first().and_then(|row| row.team.as_ref());
        let own = team.and_then(|team| of_teams.get(team.id));
        if team.is_some() && own.is_none() {
            continue;
        }
        let lane = |name: &str| {
            let id = lanes.iter().find(|l| l.name == name).map(|l| l.id);
            id.filter(|id| own.is_none_or(|own| own.lanes.contains(id)))
        };
        let rules = readable(of_one, &lane, secret_of(secret, team));
        all = all.followed_by(match own {
            Some(own) => rules.of_team(&own.keys),
            None => rules,
        });
    }
    all
}

fn readable(rows: &[StoredTransform], lane: &dyn Fn(&str) -> Option<u32>, secret: [u8; 32]) -> Transforms {
    let mut rules: Vec<Rule> = Vec::new();
    for row in rows {
        let read = rule_of(row).and_then(|rule| match Transforms::new(std::slice::from_ref(&rule), lane, secret) {
            Ok(_) => Some(rule),
            Err(mistakes) => {
                tracing::error!(rule = row.name, ?mistakes, "a transform rule is passed over");
                None
            }
        });
        rules.extend(read);
    }
    Transforms::new(&rules, lane, secret).unwrap_or_default()
}

/// A rule as it was written.
pub fn rule_of(row: &StoredTransform) -> Option<Rule> {
    match serde_json::from_str(&row.act) {
        Ok(act) => Some(Rule { name: row.name.clone(), when: row.filter.clone(), act }),
        Err(e) => {
            tracing::error!(rule = row.name, "a transform rule is passed over: {e}");
            None
        }
    }
}

fn dial_of(row: &StoredDial, ties: &Ties, of_teams: &OfTeams) -> Option<Dial> {
    match parse_filter(&row.filter) {
        Ok(mut filter) => {
            filter.tie_up(ties);
            if let Some(team) = &row.team {
                filter = Filter::sent_with(&of_teams.get(team.id)?.keys).and(filter);
            }
            Some(Dial { id: row.id, filter, least: Severity(row.least), until_ns: row.until_ns })
        }
        Err(mistakes) => {
            tracing::error!(dial = row.id, ?mistakes, "a dial is passed over");
            None
        }
    }
}

/// The current [`Config`], swapped whole.
pub struct LiveConfig {
    config: RwLock<Arc<Config>>,
}

impl LiveConfig {
    /// With a first reading.
    pub fn new(config: Config) -> Self {
        LiveConfig { config: RwLock::new(Arc::new(config)) }
    }

    /// The current reading.
    pub fn get(&self) -> Arc<Config> {
        self.config.read().clone()
    }

    /// Reads anew, as it stands now.
    pub async fn reload(&self, store: &Store, now_ns: i64) -> Result<()> {
        let fresh = Arc::new(Config::load(store, now_ns).await?);
        *self.config.write() = fresh;
        Ok(())
    }
}
