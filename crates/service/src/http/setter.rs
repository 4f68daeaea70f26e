//! Whose transform rules, routes and dials are set: those of the service by administrators, those of a team by its people.
//! What a team sets holds for what is sent with its keys, and moves events into no lane that it may not configure.

use super::sharing::team_for;
use calvex_language::domain::grant::May;
use calvex_language::domain::kept::OfTeam;
use calvex_node::auth::Reader;
use calvex_node::error::{Result, ServiceError};
use calvex_node::state::Base;
use std::collections::HashSet;

/// Transform rules, routes and dials at most: of all, and of one team. Each is asked of all that arrives.
const MOST: usize = 200;
const MOST_OF_TEAM: usize = 20;

/// The team whose settings are meant.
#[derive(Debug, Default, serde::Deserialize, schemars::JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct AskedTeam {
    /// Of this team; of the service where it is left out.
    pub team: Option<String>,
}

/// Whose settings are put.
pub struct Setter {
    /// None for the service's own.
    pub team: Option<OfTeam>,
    /// The lanes that the team may configure.
    lanes: HashSet<u32>,
}

impl Setter {
    /// The team that is named, or the service.
    ///
    /// # Errors
    /// Where it is not this one's to set.
    pub async fn of(base: &Base, reader: &Reader, asked: &AskedTeam) -> Result<Self> {
        let named = asked.team.as_deref();
        let Some(id) = team_for(base, reader, named).await? else {
            if reader.who.administers {
                return Ok(Setter { team: None, lanes: HashSet::new() });
            }
            return Err(ServiceError::NotAllowed(
                "what holds for every sender is set by administrators; name a team of yours for what its keys send"
                    .into(),
            ));
        };
        let held = base.store.held_by_team(id, (base.clock)()).await?.into_iter();
        let lanes: HashSet<u32> = held.filter(|held| held.may >= May::Configure).map(|held| held.lane).collect();
        let teams = base.store.teams().await?;
        let name = teams.into_iter().find(|team| team.id == id).map(|team| team.name).unwrap_or_default();
        if reader.who.narrowed || lanes.is_empty() && !reader.who.administers {
            return Err(ServiceError::NotAllowed(format!(
                "the team `{name}` configures no lane; ask whoever manages one (`calvex grant give`)"
            )));
        }
        Ok(Setter { team: Some(OfTeam { id, name }), lanes })
    }

    /// Whether events may be sent into the lane.
    pub fn may_configure(&self, lane: u32) -> bool {
        self.team.is_none() || self.lanes.contains(&lane)
    }

    /// How many settings of a sort there may be of all.
    ///
    /// # Errors
    /// Where a team puts more than one may have.
    pub fn room_for(&self, count: usize, what: &str) -> Result<usize> {
        let most = if self.team.is_some() { MOST_OF_TEAM } else { MOST };
        match count <= most {
            true => Ok(MOST),
            false => Err(ServiceError::BadRequest(format!("there are {count} {what}, the limit is {most}"))),
        }
    }

    /// How many dials may be in force: of all, and of one team.
    pub fn most_dials() -> (i64, i64) {
        (MOST as i64, MOST_OF_TEAM as i64)
    }

    /// The number of the team.
    pub fn team_id(&self) -> Option<u32> {
        self.team.as_ref().map(|team| team.id)
    }

    /// What was set, as the audit trail has it.
    pub fn in_words(&self, what: &str) -> String {
        self.team.as_ref().map_or_else(|| what.to_owned(), |team| format!("of team {}: {what}", team.name))
    }
}

/// Whether one is shown what is of that team, or of the service.
pub fn is_shown(reader: &Reader, team: Option<&OfTeam>) -> bool {
    reader.who.administers || team.is_some_and(|team| reader.who.teams.contains(&team.id))
}
