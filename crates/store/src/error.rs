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
    /// A later version changed the schema in a way that this one cannot work with.
    #[error(
        "the database's schema has step {needs}, without which nothing can work on it, and this calvex knows {known}; start the calvex that others run on it, or restore a backup"
    )]
    Newer {
        /// The step that is needed.
        needs: i64,
        /// The newest step that this version has.
        known: i64,
    },
    /// Another process took this node's place.
    #[error("node `{0}` was taken over by another process; stop one of the two, or give it another node.name")]
    Fenced(String),
    /// Another process has the node's name, and lives.
    #[error(
        "node `{0}` lives already; give this one another node.name, or stop the other (`calvex admin nodes` lists them)"
    )]
    Alive(String),
    /// A name is taken.
    #[error("{0} is taken; choose another name")]
    Taken(String),
    /// Something named does not exist.
    #[error("there is no {0}")]
    Missing(String),
    /// There is no room for another.
    #[error("{0}")]
    Full(String),
    /// Nobody would be left who administers.
    #[error("`{0}` is the last who administers; make another administrator first")]
    LastAdmin(String),
    /// MariaDB's own binaries or files.
    #[error("{0}")]
    Server(String),
    /// The outside database does not keep what it acknowledges.
    #[error("{0}")]
    Lossy(String),
    /// A fault that a test asked for.
    #[error("a fault at {0:?}, as asked")]
    Injected(crate::fault::Step),
    /// One row is larger than what the database takes at once.
    #[error(
        "a row of {0} bytes is larger than the database's max_allowed_packet of {1}; raise that, or send smaller events"
    )]
    TooLarge(usize, usize),
    /// A stored name is none that this version has.
    #[error("the database holds the {0} `{1}`, which this version does not know; start the calvex that wrote it")]
    Unknown(&'static str, String),
    /// Stored bytes do not decode.
    #[error(transparent)]
    Core(#[from] calvex_language::CoreError),
}

/// MariaDB's errors that pass by themselves; every other answer of the database to a statement is permanent.
///
/// | code | what |
/// | --- | --- |
/// | 1021, 1114 | disk or table full: passes once space is freed |
/// | 1040, 1203, 1226 | too many connections, of the server or of the user |
/// | 1047 | no quorum in the cluster |
/// | 1053, 1927 | the server stops, the connection was killed |
/// | 1158 to 1161 | the network broke while a packet was read or written |
/// | 1180, 1205, 1213 | commit failed, lock wait, deadlock or lost certification |
/// | 1412 | a table was made or dropped after the snapshot began |
/// | 1290, 1836 | read-only |
/// | 1317, 1969 | interrupted, statement time |
/// | 2006, 2013 | server gone, connection lost |
const PASSING: [u16; 21] = [
    1021, 1114, 1040, 1203, 1226, 1047, 1053, 1927, 1158, 1159, 1160, 1161, 1180, 1205, 1213, 1412, 1290, 1836, 1317,
    1969, 2006,
];
/// As [`PASSING`], what the client itself finds.
const LOST: u16 = 2013;

impl StoreError {
    /// Whether the same may work later: the connection was lost, refused, or timed out, or the database is not ready to
    /// write. Anything else fails however often it is tried.
    pub fn is_passing(&self) -> bool {
        match self {
            StoreError::Database(sqlx::Error::Database(_)) => {
                self.number().is_some_and(|code| code == LOST || PASSING.contains(&code))
            }
            StoreError::Database(
                sqlx::Error::Io(_)
                | sqlx::Error::PoolTimedOut
                | sqlx::Error::PoolClosed
                | sqlx::Error::WorkerCrashed
                | sqlx::Error::Protocol(_)
                | sqlx::Error::Tls(_),
            )
            | StoreError::Injected(..) => true,
            _ => false,
        }
    }

    /// MariaDB's code, where it answered with an error.
    pub fn number(&self) -> Option<u16> {
        let StoreError::Database(sqlx::Error::Database(e)) = self else { return None };
        e.try_downcast_ref::<sqlx::mysql::MySqlDatabaseError>().map(|e| e.number())
    }

    /// Names a unique key that was hit.
    pub(crate) fn taken(what: &str) -> impl FnOnce(sqlx::Error) -> Self + '_ {
        move |e| match &e {
            sqlx::Error::Database(d) if d.is_unique_violation() => StoreError::Taken(what.to_owned()),
            _ => StoreError::Database(e),
        }
    }
}

/// Whether a statement failed because its table is not there (1146).
pub(crate) fn is_missing_table(error: &sqlx::Error) -> bool {
    let sqlx::Error::Database(e) = error else { return false };
    e.try_downcast_ref::<sqlx::mysql::MySqlDatabaseError>().is_some_and(|e| e.number() == 1146)
}
