//! The account of arrivals: what came, what was refused and what was set aside, by the hour.

/// What came from one sender, service and host into one lane within an hour.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct ArrivedHour {
    /// Hours from 1970.
    pub hour: u32,
    pub sender: String,
    pub service: String,
    pub host: String,
    pub lane: u32,
    pub stored: u64,
    pub late: u64,
    pub bytes: u64,
    /// Events of batches in which some have no time.
    pub untimed: u64,
    pub first_ns: i64,
    pub last_ns: i64,
    pub delay_ns: i64,
}

/// What was refused of one sender for one reason within an hour.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct RefusedHour {
    /// Hours from 1970.
    pub hour: u32,
    pub sender: String,
    pub reason: String,
    pub refused: u64,
    pub first_ns: i64,
    pub last_ns: i64,
    /// The latest, secrets masked.
    pub sample: String,
}

/// What was not stored on purpose of one sender, service and host for one cause within an hour.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct SetAsideHour {
    /// Hours from 1970.
    pub hour: u32,
    pub sender: String,
    pub service: String,
    pub host: String,
    /// Where it would have gone.
    pub lane: u32,
    /// Which rule, dial or quota.
    pub cause: String,
    pub events: u64,
    pub bytes: u64,
    pub first_ns: i64,
    pub last_ns: i64,
}

/// What came from one sender, service and host into one lane, over several hours.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct ArrivalGroup {
    pub service: String,
    pub host: String,
    pub sender: String,
    pub lane: u32,
    pub stored: u64,
    pub late: u64,
    pub untimed: u64,
    pub bytes: u64,
    pub first_ns: i64,
    pub last_ns: i64,
    pub delay_ns: i64,
    /// In how many hours something came.
    pub hours: u32,
    /// Hours from 1970, and what was stored in them.
    pub per_hour: Vec<(u32, u64)>,
}
