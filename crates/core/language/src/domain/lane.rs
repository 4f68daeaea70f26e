//! Lanes: where events are kept, and for how long.

/// A lane as stored.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct Lane {
    pub id: u32,
    pub name: String,
    pub retention_days: u32,
    /// Whether its existence may be reported to those who may not read it.
    pub listed: bool,
    pub is_default: bool,
    /// The team that owns it.
    pub owner: Option<String>,
    /// Whether its reads are recorded.
    pub audited: bool,
    /// Events and bytes it takes a day; any number if none.
    pub day_events: Option<u64>,
    /// See `day_events`.
    pub day_bytes: Option<u64>,
}
