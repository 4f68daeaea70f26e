//! The one error of this crate. A message says what went wrong, where, and the cure.

/// What can go wrong in the engine.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum CoreError {
    /// Stored bytes do not decode. Never a panic, never a wrong event.
    #[error("{location} is damaged: {what}; the events in it are left out, restore them from a backup")]
    Damaged {
        /// Which structure: "chunk 00a1 part 2", "journal batch 1-3-7".
        location: String,
        /// What did not hold.
        what: String,
    },
    /// Stored bytes are of a version that this build does not know.
    #[error("{location} has format version {found}, this build reads up to {known}; start a newer calvex")]
    Version {
        /// Which structure.
        location: String,
        /// The version read.
        found: u16,
        /// The newest version known.
        known: u16,
    },
    /// One event cannot be taken.
    #[error("{0}")]
    Refused(#[from] crate::model::Refusal),
    /// A search ran into its limit or was cancelled.
    #[error("{0}")]
    Stopped(String),
    /// A part of a chunk could not be fetched.
    #[error("{0}")]
    Unavailable(String),
}

impl CoreError {
    /// Damage at `location`.
    pub fn damaged(location: impl Into<String>, what: impl Into<String>) -> Self {
        Self::Damaged { location: location.into(), what: what.into() }
    }
}

/// Shorthand used across the crate.
pub type Result<T, E = CoreError> = std::result::Result<T, E>;
