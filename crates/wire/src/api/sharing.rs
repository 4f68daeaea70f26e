//! Teams, grants, who can read a lane, and the audit trail.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A team as listed.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct TeamListed {
    /// What it is called.
    pub name: String,
    /// Its people.
    pub members: Vec<String>,
    /// The group of the sign-on provider whose people are in it.
    pub claim: Option<String>,
    /// Whether its people may break the glass.
    pub on_call: bool,
    /// The contact that is notified of what is done to its lanes.
    pub contact: Option<String>,
    /// The lanes it owns.
    pub lanes: Vec<String>,
}

/// What is set of a team; what is left out stays.
#[derive(Debug, Clone, Default, Serialize, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct PutTeam {
    /// Its people, in place of those before. Who came by the provider's group stays.
    #[schemars(length(max = 1000))]
    pub members: Option<Vec<String>>,
    /// The group of the sign-on provider whose people are in it; empty for none.
    #[schemars(length(max = 128))]
    pub claim: Option<String>,
    /// Whether its people may break the glass.
    pub on_call: Option<bool>,
    /// The contact that is notified of what is done to its lanes; empty for none.
    pub contact: Option<String>,
}

/// A grant to be given: to a team or to a person.
#[derive(Debug, Clone, Default, Serialize, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct NewGrant {
    /// The lane.
    pub lane: String,
    /// To everybody in this team.
    pub team: Option<String>,
    /// To this person.
    pub person: Option<String>,
    /// `read`, `configure` or `manage`.
    #[schemars(extend("enum" = ["read", "configure", "manage"]))]
    pub may: String,
    /// The events that are meant, as a filter in the query language; all where it is empty. Only reading can be filtered.
    #[schemars(length(max = 2000))]
    pub rows: String,
    /// Dotted names of fields that are as absent. Only reading can be without fields.
    #[schemars(length(max = 100))]
    pub hidden: Vec<String>,
    /// When it ends by itself, RFC 3339.
    pub until: Option<String>,
    /// Why it is given.
    #[schemars(length(max = 500))]
    pub why: String,
}

/// A grant as listed.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct GrantListed {
    /// Its number.
    pub id: u64,
    /// The lane.
    pub lane: String,
    /// The team it is to, where it is to one.
    pub team: Option<String>,
    /// The person it is to, where it is to one.
    pub person: Option<String>,
    /// `read`, `configure` or `manage`.
    pub may: String,
    /// The events that are meant; all where it is empty.
    pub rows: String,
    /// Fields that are as absent.
    pub hidden: Vec<String>,
    /// Who gave it.
    pub by: String,
    /// RFC 3339.
    pub given: String,
    /// When it ends by itself, RFC 3339.
    pub until: Option<String>,
    /// Why it was given.
    pub why: String,
    /// Whether somebody on call gave it to themselves.
    pub break_glass: bool,
    /// Why it gives nothing: its filter does not parse any more.
    pub broken: Option<String>,
    /// Whether the one who asks may end it.
    pub may_end: bool,
}

/// To read a lane for an hour without being asked.
#[derive(Debug, Clone, Default, Serialize, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct BreakGlass {
    /// The lane.
    pub lane: String,
    /// Why; its owner is notified of it.
    #[schemars(length(min = 1, max = 500))]
    pub why: String,
}

/// Somebody who can read a lane, and by what. One person stands there once for each reason.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct LaneReaderListed {
    /// The person.
    pub person: String,
    /// Because the person is in this team.
    pub team: Option<String>,
    /// By this grant; none where the team owns the lane.
    pub grant: Option<GrantListed>,
}

/// An entry of the audit trail.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct TrailEntry {
    /// Where the next page begins behind it.
    pub id: u64,
    /// RFC 3339.
    pub at: String,
    /// The person, team or program.
    pub who: String,
    /// By which token.
    pub token: Option<String>,
    /// What was done.
    pub act: String,
    /// To what, and what it is now.
    pub what: String,
    /// What it was before.
    pub before: Option<String>,
    /// Its place in its chain: node, epoch, number; none for what is older than the chains.
    pub link: Option<String>,
}

/// What checking the audit trail found.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct TrailVerified {
    /// Entries that were checked.
    pub entries: u64,
    /// Entries that are older than the chains.
    pub unchained: u64,
    /// The first link that does not hold; none where all do.
    pub broken: Option<String>,
    /// The last link of each chain: compare them with what the service's log says every hour.
    pub heads: Vec<String>,
}
