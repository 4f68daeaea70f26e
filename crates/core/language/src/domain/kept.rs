//! What people keep beside events: transform rules and dials as written, and saved searches.

/// A transform rule.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct StoredTransform {
    pub id: u32,
    pub name: String,
    pub filter: String,
    /// JSON.
    pub act: String,
    /// Events it was applied to since it was made.
    pub held: u64,
    pub last_ns: Option<i64>,
    pub changed_ns: i64,
    /// Whose it is; the service's own where none.
    pub team: Option<OfTeam>,
}

/// The team that something is of.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
#[allow(missing_docs)]
pub struct OfTeam {
    pub id: u32,
    pub name: String,
}

/// A route.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct StoredRoute {
    pub filter: String,
    pub lane: u32,
    /// Whose it is; the service's own where none.
    pub team: Option<OfTeam>,
}

/// A dial.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct StoredDial {
    pub id: u32,
    pub filter: String,
    pub least: u8,
    pub until_ns: Option<i64>,
    pub why: String,
    pub who: String,
    pub set_ns: i64,
    /// Whose it is; the service's own where none.
    pub team: Option<OfTeam>,
}

/// A saved search.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct SavedSearch {
    pub name: String,
    pub owner_id: u32,
    pub owner: String,
    /// The team whose it is, so that each of its people may change it.
    pub team_id: Option<u32>,
    pub team: Option<String>,
    pub query: String,
    pub from: Option<String>,
    pub to: Option<String>,
    pub columns: Option<String>,
    pub note: String,
    pub changed_ns: i64,
}
