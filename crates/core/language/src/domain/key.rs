//! Senders' keys: what they may send, and their secrets, of which several may be good at once.

/// What a key may send; anything where nothing is said.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct KeyLimits {
    /// The services it may send for.
    pub services: Vec<String>,
    /// The lanes it may send to.
    pub lanes: Vec<u32>,
    /// Events a second.
    pub rate: Option<u32>,
    /// Events a day.
    pub day_events: Option<u64>,
    /// Bytes a day.
    pub day_bytes: Option<u64>,
    /// From when on it is no longer good.
    pub ends_ns: Option<i64>,
}

/// A sender's key.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct Key {
    pub id: u32,
    pub name: String,
    /// A JSON object.
    pub fixed: String,
    pub limits: KeyLimits,
    /// From when on the secret that was shown is no longer good.
    pub secret_ends_ns: Option<i64>,
}

/// A secret of a key as listed.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct KeySecret {
    pub prefix: String,
    pub created_ns: i64,
    pub ends_ns: Option<i64>,
}

/// A key as listed.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct KeyListed {
    pub key: Key,
    pub created_ns: i64,
    pub revoked_ns: Option<i64>,
    pub last_ns: Option<i64>,
    /// The team that it belongs to.
    pub team: Option<String>,
    /// The newest first.
    pub secrets: Vec<KeySecret>,
}
