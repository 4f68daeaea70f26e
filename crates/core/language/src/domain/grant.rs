//! Teams, and grants: what a team or a person may do in a lane, over which rows and without which fields.

use std::sync::Arc;

named! {
    /// What a grant lets somebody do in its lane. Each includes those before it.
    #[derive(PartialOrd, Ord)]
    pub enum May {
        /// Ask for its events.
        Read = "read",
        /// What comes into it: its routes, and rules over it.
        Configure = "configure",
        /// How long and how much it keeps, and who may do what in it.
        Manage = "manage",
    }
}

/// The version of the query language that row filters are written in. One that is stored with another version is read with
/// this one; where it does not parse any more, its grant gives nothing.
pub const LANGUAGE_VERSION: u32 = 1;

/// What one grant gives to the one who asks.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Held {
    /// The lane.
    pub lane: u32,
    /// What for.
    pub may: May,
    /// The events that are meant, in the query language; all where it is empty.
    pub rows: String,
    /// Dotted names of fields that are as absent.
    pub hidden: Vec<String>,
}

impl Held {
    /// Everything in a lane.
    pub fn whole(lane: u32, may: May) -> Self {
        Held { lane, may, rows: String::new(), hidden: Vec::new() }
    }
}

/// All that somebody holds.
pub type Holdings = Arc<[Held]>;

/// To whom a grant is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Grantee {
    /// Everybody in a team.
    Team(String),
    /// One person.
    Person(String),
}

/// A grant, as it stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Grant {
    /// Its number.
    pub id: u64,
    /// To whom.
    pub to: Grantee,
    /// What it gives.
    pub held: Held,
    /// Who gave it.
    pub given_by: String,
    /// When, nanoseconds from 1970.
    pub given_ns: i64,
    /// When it ends by itself.
    pub ends_ns: Option<i64>,
    /// Why it was given.
    pub why: String,
    /// Whether somebody on call gave it to themselves.
    pub break_glass: bool,
}

/// A team.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Team {
    /// Its number.
    pub id: u32,
    /// Its name.
    pub name: String,
    /// The group of the sign-on provider whose people are in it.
    pub claim: Option<String>,
    /// Whether its people are on call: they may break the glass.
    pub on_call: bool,
    /// The contact that is notified of what is done to its lanes.
    pub contact: Option<String>,
    /// The names of its people.
    pub members: Vec<String>,
}

/// Who can read a lane, and by what.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LaneReader {
    /// The person.
    pub person: String,
    /// The team through which, where it is by one.
    pub team: Option<String>,
    /// The grant; none where the team owns the lane.
    pub grant: Option<Grant>,
}
