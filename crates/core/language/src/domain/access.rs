//! Who may do what: roles, people, tokens, and who asks.

named! {
    /// What a person may do at most.
    pub enum Role {
        /// Everything, in every lane.
        Admin = "admin",
        /// Read, in the lanes granted.
        Reader = "reader",
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
    /// The lanes that a reader may read.
    pub lanes: Vec<u32>,
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
    /// Other lanes.
    pub lanes: Option<Vec<u32>>,
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

/// Who asks: a person, by a session or by a token of theirs, and what they may do then. Everything about rights is
/// decided from this.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Principal {
    /// The person.
    pub user_id: u32,
    /// The person's name.
    pub name: String,
    /// The token by which the person asks; none for a session.
    pub token: Option<String>,
    /// Whether everything may be administered.
    pub administers: bool,
    /// Whether anything may be changed: by a session, or by a token that says so.
    pub changes: bool,
    /// Whether the token reads less than its owner.
    pub narrowed: bool,
    /// The lanes that may be read; `None` for every lane.
    pub lanes: Option<Vec<u32>>,
}

impl Principal {
    /// Whether the lane may be read.
    pub fn may_read(&self, lane: u32) -> bool {
        self.lanes.as_ref().is_none_or(|l| l.contains(&lane))
    }

    /// The person, and the token where there is one, as the audit trail names them.
    pub fn actor(&self) -> Actor<'_> {
        Actor { name: &self.name, token: self.token.as_deref() }
    }

    /// What may be done as this principal.
    pub fn role(&self) -> Role {
        if self.administers { Role::Admin } else { Role::Reader }
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
    pub created_ns: i64,
    pub revoked_ns: Option<i64>,
}

/// The two sorts of secrets.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SecretKind {
    /// For sending.
    Key,
    /// For reading.
    Token,
}
