//! The one error of this crate.

/// What can go wrong with the store.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    /// MariaDB answered with an error, or not at all.
    #[error("the database: {0}")]
    Database(#[from] sqlx::Error),
    /// The schema could not be brought up to date.
    #[error("the database schema: {0}; restore a backup, or start the calvex that wrote it")]
    Migration(#[from] sqlx::migrate::MigrateError),
    /// Another process took this node's place.
    #[error("node `{0}` was taken over by another process; stop one of the two, or give it another node.name")]
    Fenced(String),
    /// A name is taken.
    #[error("{0} is taken; choose another name")]
    Taken(String),
    /// Something named does not exist.
    #[error("there is no {0}")]
    Missing(String),
    /// MariaDB's own binaries or files.
    #[error("{0}")]
    Server(String),
    /// The outside database does not keep what it acknowledges.
    #[error("{0}")]
    Lossy(String),
    /// A fault that a test asked for.
    #[error("a fault at {0:?}, as asked")]
    Injected(crate::fault::Step),
    /// Stored bytes do not decode.
    #[error(transparent)]
    Core(#[from] calvex_core::CoreError),
}

impl StoreError {
    /// Whether trying again later makes sense: the connection was lost, refused, or timed out.
    pub fn is_away(&self) -> bool {
        match self {
            StoreError::Database(sqlx::Error::Database(e)) => {
                // 1053 shutting down, 1205 lock wait, 1213 deadlock, 1040 too many connections, 1927 killed
                let code = e.try_downcast_ref::<sqlx::mysql::MySqlDatabaseError>().map(|e| e.number());
                matches!(code, Some(1053 | 1205 | 1213 | 1040 | 1927))
            }
            StoreError::Database(
                sqlx::Error::Io(_)
                | sqlx::Error::PoolTimedOut
                | sqlx::Error::PoolClosed
                | sqlx::Error::WorkerCrashed
                | sqlx::Error::Protocol(_)
                | sqlx::Error::Tls(_),
            ) => true,
            _ => false,
        }
    }

    /// Names a unique key that was hit.
    pub(crate) fn taken(what: &str) -> impl FnOnce(sqlx::Error) -> Self + '_ {
        move |e| match &e {
            sqlx::Error::Database(d) if d.is_unique_violation() => StoreError::Taken(what.to_owned()),
            _ => StoreError::Database(e),
        }
    }
}
