//! Where an answer ended.

use calvex_language::model::EventId;
use std::str::FromStr;

/// Where the previous answer ended. Stays valid while chunks are sealed beneath it, because order and ids never change.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Cursor {
    /// The last event's time.
    pub time_ns: i64,
    /// The last event's id.
    pub id: EventId,
}

impl std::fmt::Display for Cursor {
    fn fmt(&self, f: &mut std::fmt::Formatter) -> std::fmt::Result {
        write!(f, "{}_{}", self.time_ns, self.id)
    }
}

impl FromStr for Cursor {
    type Err = String;
    fn from_str(text: &str) -> Result<Self, String> {
        let bad = || format!("`{text}` is no cursor; take `cursor` from the previous answer");
        let (time, id) = text.split_once('_').ok_or_else(bad)?;
        Ok(Cursor { time_ns: time.parse().map_err(|_| bad())?, id: id.parse().map_err(|_| bad())? })
    }
}
