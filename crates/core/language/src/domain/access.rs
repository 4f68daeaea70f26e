//! Who may do what: roles, people, tokens, and who asks.

use super::grant::{Holdings, May};

named! {
    /// What a person may do at most.
    pub enum Role {
        /// People, nodes and settings, and the audit trail. Reads no lane without a grant.
        Admin = "admin",
        /// What grants give.
        Reader = "reader",
        /// What grants give, and reading the audit trail.
        Auditor = "auditor",
    }
}

/// A person.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct User {
    pub id: u32,
    pub name: String,
    pub password_hash: String,
    pub role: Role,
    pub disabled_ns: Option<i64>,
}

/// A person as listed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Person {
    /// To sign in with.
    pub name: String,
    /// What may be done.
    pub role: Role,
    /// The lanes that the person may read, or a part of them.
    pub lanes: Vec<u32>,
    /// The teams the person is in.
    pub teams: Vec<String>,
    /// Whether the person signs in by the provider.
    pub by_provider: bool,
    /// When the person was added.
    pub created_ns: i64,
    /// Since when the person may not sign in.
    pub disabled_ns: Option<i64>,
    /// Sessions that are open.
    pub sessions: u64,
    /// When a session that is kept was last used.
    pub seen_ns: Option<i64>,
}

/// What is changed of a person; what is none stays.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct PersonChange {
    /// Another role.
    pub role: Option<Role>,
    /// Whether the person may not sign in.
    pub disabled: Option<bool>,
}

/// A session: where it was begun, and from when to when it lasts.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Session {
    /// Its number.
    pub id: u64,
    /// When it was begun.
    pub begun_ns: i64,
    /// When it was last used, to the minute.
    pub seen_ns: i64,
    /// When it ends, whatever is done.
    pub ends_ns: i64,
    /// From where it was begun.
    pub address: String,
    /// What is kept of its secret.
    pub hash: [u8; 32],
}

/// A session that nobody used for so long has ended.
pub const SESSION_IDLE_NS: i64 = 2 * 3600 * 1_000_000_000;

/// Who asks: a person, by a session or by a token of theirs, or a team, by its token; and what they may do then. Everything
/// about rights is decided from this.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Principal {
    /// The person; of a team's token, who made it.
    pub user_id: u32,
    /// The person's name, or the team's.
    pub name: String,
    /// The token by which is asked; none for a session.
    pub token: Option<String>,
    /// The team whose token it is.
    pub team: Option<u32>,
    /// The teams the person is in; of a team's token, the team.
    pub teams: Vec<u32>,
    /// Whether one of these is on call.
    pub on_call: bool,
    /// Whether people, nodes and settings may be administered.
    pub administers: bool,
    /// Whether the audit trail may be read.
    pub audits: bool,
    /// Whether anything may be changed: by a session, or by a token that says so.
    pub changes: bool,
    /// Whether the token reads less than its owner.
    pub narrowed: bool,
    /// What may be done in lanes.
    pub held: Holdings,
}

impl Principal {
    /// Whether the lane may be read, or a part of it.
    pub fn may_read(&self, lane: u32) -> bool {
        self.held.iter().any(|held| held.lane == lane)
    }

    /// Whether this may be done in the lane.
    pub fn may(&self, lane: u32, what: May) -> bool {
        self.held.iter().any(|held| held.lane == lane && held.may >= what)
    }

    /// Whether what `owner_id` made, for a team where one is named, is this one's own.
    pub fn owns(&self, owner_id: u32, team: Option<u32>) -> bool {
        let of_team = team.is_some_and(|team| self.teams.contains(&team));
        !self.narrowed && (of_team || (self.team.is_none() && self.user_id == owner_id))
    }

    /// The person or team, and the token where there is one, as the audit trail names them.
    pub fn actor(&self) -> Actor<'_> {
        Actor { name: &self.name, token: self.token.as_deref() }
    }

    /// What may be done as this principal.
    pub fn role(&self) -> Role {
        match (self.administers, self.audits) {
            (true, _) => Role::Admin,
            (false, true) => Role::Auditor,
            (false, false) => Role::Reader,
        }
    }
}

/// Who did something, for the audit trail.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Actor<'a> {
    /// The person.
    pub name: &'a str,
    /// The person's token.
    pub token: Option<&'a str>,
}

named! {
    /// What a token is for.
    pub enum Purpose {
        /// It reads what its owner may read, and changes nothing.
        Read = "read",
        /// It changes what its owner may in lanes: rules over them, their terms, their grants.
        Configure = "configure",
        /// It does what its owner may do.
        Administer = "administer",
    }
}

/// A token as listed.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct Token {
    pub name: String,
    pub prefix: String,
    pub purpose: Purpose,
    /// The person or team it is of.
    pub owner: String,
    pub created_ns: i64,
    pub revoked_ns: Option<i64>,
    /// When it ends by itself.
    pub ends_ns: Option<i64>,
}

/// A token to be made.
#[derive(Debug, Clone)]
#[allow(missing_docs)]
pub struct NewToken<'a> {
    pub name: &'a str,
    pub hash: [u8; 32],
    pub prefix: &'a str,
    /// Who makes it.
    pub user_id: u32,
    /// The team it is of; else it is of who makes it.
    pub team: Option<u32>,
    /// The only lanes it reads; all that its owner may, if none.
    pub lanes: Option<&'a [u32]>,
    pub purpose: Purpose,
    pub ends_ns: Option<i64>,
}

/// The two sorts of secrets.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SecretKind {
    /// For sending.
    Key,
    /// For reading.
    Token,
}
