//! The schema, as the steps that lead to it. A step that was released never changes: the database keeps its checksum.

use crate::{Result, sql};
use sqlx::migrate::{Migration, MigrationType, Migrator};
use sqlx::{MySqlPool, SqlSafeStr};
use std::time::{Duration, Instant};

/// A step: its number, its name and its statements.
type Step = (i64, &'static str, &'static str);

const STEPS: &[Step] = &[
    (1, "first", include_str!("../migrations/0001_first.sql")),
    (2, "arrivals", include_str!("../migrations/0002_arrivals.sql")),
    (3, "shaping", include_str!("../migrations/0003_shaping.sql")),
    (4, "saved", include_str!("../migrations/0004_saved.sql")),
    (5, "rollup", include_str!("../migrations/0005_rollup.sql")),
    (6, "receipt of body", include_str!("../migrations/0006_receipt_of_body.sql")),
    (7, "rights", include_str!("../migrations/0007_rights.sql")),
    (8, "slots", include_str!("../migrations/0008_slots.sql")),
    (9, "counters", include_str!("../migrations/0009_counters.sql")),
    (10, "names", include_str!("../migrations/0010_names.sql")),
    (11, "error groups", include_str!("../migrations/0011_error_groups.sql")),
    (12, "rule documents", include_str!("../migrations/0012_rule_documents.sql")),
    (13, "contacts", include_str!("../migrations/0013_contacts.sql")),
    (14, "people", include_str!("../migrations/0014_people.sql")),
    (15, "sharing", include_str!("../migrations/0015_sharing.sql")),
    (16, "trail", include_str!("../migrations/0016_trail.sql")),
    (17, "sealed", include_str!("../migrations/0017_sealed.sql")),
    (18, "settings of teams", include_str!("../migrations/0018_settings_of_teams.sql")),
    (19, "nodes", include_str!("../migrations/0019_nodes.sql")),
];

/// How often a lease is looked at and renewed.
const LEASE_LOOK: Duration = Duration::from_millis(250);
/// Who holds the lease and does not renew it for so long is dead.
const LEASE_STILL: Duration = Duration::from_secs(15);

/// Brings the schema up to date. Whoever does so holds a lease, which is a row: in a cluster, locks of a server are known to
/// that server alone.
///
/// # Errors
/// Where the database fails, or has a schema that this version does not know.
pub(crate) async fn run(pool: &MySqlPool) -> Result<()> {
    let holder: [u8; 16] = rand::random();
    take_lease(pool, &holder).await?;
    let renewing = tokio::spawn({
        let pool = pool.clone();
        async move {
            loop {
                tokio::time::sleep(LEASE_LOOK * 4).await;
                // One that cannot be renewed for long is taken; this one's statements fail meanwhile as well.
                let _ = sqlx::query(sql::LEASE_RENEW).bind(&holder[..]).execute(&pool).await;
            }
        }
    });
    let mut migrator = migrator();
    migrator.set_locking(false);
    let done = migrator.run(pool).await;
    renewing.abort();
    sqlx::query(sql::LEASE_END).bind(&holder[..]).execute(pool).await?;
    Ok(done?)
}

/// Waits until nobody else holds the lease, or whoever does is dead.
async fn take_lease(pool: &MySqlPool, holder: &[u8]) -> Result<()> {
    sqlx::query(sql::LEASE_TABLE).execute(pool).await?;
    let mut seen: Option<(Vec<u8>, u64, Instant)> = None;
    loop {
        match sqlx::query(sql::LEASE_TAKE).bind(holder).execute(pool).await {
            Ok(took) if took.rows_affected() == 1 => return Ok(()),
            Ok(_) => {}
            // Another one took it through another server at the same moment.
            Err(e) => {
                let e = crate::StoreError::from(e);
                if !e.is_passing() {
                    return Err(e);
                }
            }
        }
        let held: Option<(Vec<u8>, u64)> = sqlx::query_as(sql::LEASE).fetch_optional(pool).await?;
        match (&seen, held) {
            (_, None) => seen = None,
            (Some((by, beat, since)), Some(now)) if (by, beat) == (&now.0, &now.1) => {
                if since.elapsed() > LEASE_STILL {
                    sqlx::query(sql::LEASE_BREAK).bind(by.as_slice()).bind(beat).execute(pool).await?;
                }
            }
            (_, Some((by, beat))) => seen = Some((by, beat, Instant::now())),
        }
        tokio::time::sleep(LEASE_LOOK).await;
    }
}

/// All steps, ready to be run. Listed here rather than by a macro, which would build the database client a second time.
fn migrator() -> Migrator {
    let step = |(version, name, statements): &Step| {
        let statements = statements.into_sql_str();
        Migration::new(*version, (*name).into(), MigrationType::Simple, statements, false)
    };
    Migrator::with_migrations(STEPS.iter().map(step).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_file_is_a_step() {
        let folder = concat!(env!("CARGO_MANIFEST_DIR"), "/migrations");
        let mut files: Vec<String> =
            std::fs::read_dir(folder).unwrap().map(|f| f.unwrap().file_name().into_string().unwrap()).collect();
        files.sort();
        let listed = |(version, name, _): &Step| format!("{version:04}_{}.sql", name.replace(' ', "_"));
        assert_eq!(files, STEPS.iter().map(listed).collect::<Vec<_>>());
    }
}
