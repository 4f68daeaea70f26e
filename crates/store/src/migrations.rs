//! The schema, as the steps that lead to it. A step that was released never changes: the database keeps its checksum.
//!
//! A step is *compatible* where the version before can work beside it: it adds tables, indexes, or columns that have a
//! default, and nothing that the version before writes is left out of them. Nodes of the version before go on, and may start
//! again. Any other step is *breaking*: it ends every node that lives, and versions without it refuse to start.

use crate::{Result, StoreError, sql};
use sqlx::migrate::{Migration, MigrationType, Migrator};
use sqlx::{MySqlPool, SqlSafeStr};
use std::time::{Duration, Instant};

/// One step.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Step {
    number: i64,
    name: &'static str,
    statements: &'static str,
    is_breaking: bool,
}

impl Step {
    pub(crate) const fn breaking(number: i64, name: &'static str, statements: &'static str) -> Self {
        Step { number, name, statements, is_breaking: true }
    }

    /// One that the version before can work beside.
    pub(crate) const fn compatible(number: i64, name: &'static str, statements: &'static str) -> Self {
        Step { number, name, statements, is_breaking: false }
    }
}

/// From this step on nodes work beside each other.
const FIRST_BESIDE: i64 = 19;

pub(crate) const STEPS: &[Step] = &[
    Step::breaking(1, "first", include_str!("../migrations/0001_first.sql")),
    Step::breaking(2, "arrivals", include_str!("../migrations/0002_arrivals.sql")),
    Step::breaking(3, "shaping", include_str!("../migrations/0003_shaping.sql")),
    Step::breaking(4, "saved", include_str!("../migrations/0004_saved.sql")),
    Step::breaking(5, "rollup", include_str!("../migrations/0005_rollup.sql")),
    Step::breaking(6, "receipt of body", include_str!("../migrations/0006_receipt_of_body.sql")),
    Step::breaking(7, "rights", include_str!("../migrations/0007_rights.sql")),
    Step::breaking(8, "slots", include_str!("../migrations/0008_slots.sql")),
    Step::breaking(9, "counters", include_str!("../migrations/0009_counters.sql")),
    Step::breaking(10, "names", include_str!("../migrations/0010_names.sql")),
    Step::breaking(11, "error groups", include_str!("../migrations/0011_error_groups.sql")),
    Step::breaking(12, "rule documents", include_str!("../migrations/0012_rule_documents.sql")),
    Step::breaking(13, "contacts", include_str!("../migrations/0013_contacts.sql")),
    Step::breaking(14, "people", include_str!("../migrations/0014_people.sql")),
    Step::breaking(15, "sharing", include_str!("../migrations/0015_sharing.sql")),
    Step::breaking(16, "trail", include_str!("../migrations/0016_trail.sql")),
    Step::breaking(17, "sealed", include_str!("../migrations/0017_sealed.sql")),
    Step::breaking(18, "settings of teams", include_str!("../migrations/0018_settings_of_teams.sql")),
    Step::breaking(19, "nodes", include_str!("../migrations/0019_nodes.sql")),
    Step::breaking(20, "schema", include_str!("../migrations/0020_schema.sql")),
    Step::compatible(21, "past", include_str!("../migrations/0021_past.sql")),
    Step::breaking(22, "receipts by day", include_str!("../migrations/0022_receipts_by_day.sql")),
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
    run_steps(pool, STEPS).await
}

pub(crate) async fn run_steps(pool: &MySqlPool, steps: &[Step]) -> Result<()> {
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
    let done = with_lease(pool, steps).await;
    renewing.abort();
    sqlx::query(sql::LEASE_END).bind(&holder[..]).execute(pool).await?;
    done
}

async fn with_lease(pool: &MySqlPool, steps: &[Step]) -> Result<()> {
    let known = steps.iter().map(|step| step.number).max().unwrap_or(0);
    let needs = number(pool, sql::SCHEMA_NEEDS).await?;
    if needs > known {
        return Err(StoreError::Newer { needs, known });
    }
    let applied = number(pool, sql::SCHEMA_STEP).await?;
    let breaks = |step: &Step| step.is_breaking && step.number > applied;
    if applied >= FIRST_BESIDE && steps.iter().any(breaks) {
        end_nodes(pool).await?;
    }
    let mut migrator = migrator(steps);
    // Steps that only a later version knows are compatible, or `needs` would name them.
    migrator.set_locking(false).set_ignore_missing(true);
    migrator.run(pool).await?;
    let needs = steps.iter().filter(|step| step.is_breaking).map(|step| step.number).max().unwrap_or(0);
    sqlx::query(sql::SCHEMA_NEED).bind(needs).execute(pool).await?;
    Ok(())
}

/// The one number that a statement selects; 0 where its table is not there yet, or holds none.
async fn number(pool: &MySqlPool, select: &'static str) -> Result<i64> {
    match sqlx::query_scalar::<_, Option<i64>>(select).fetch_optional(pool).await {
        Err(e) if crate::error::is_missing_table(&e) => Ok(0),
        found => Ok(found?.flatten().unwrap_or(0)),
    }
}

/// Ends every node that lives: its epoch passes, so that nothing that it still tries is written. Its journal rows stay its
/// own, for its next start or whoever adopts it.
async fn end_nodes(pool: &MySqlPool) -> Result<()> {
    let mut tx = pool.begin().await?;
    for statement in [sql::NODE_END_ALL, sql::FENCE_RAISE_ALL, sql::DUTY_FREE_ALL] {
        sqlx::query(statement).execute(&mut *tx).await?;
    }
    tx.commit().await?;
    Ok(())
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
                let e = StoreError::from(e);
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
fn migrator(steps: &[Step]) -> Migrator {
    let step = |step: &Step| {
        let statements = step.statements.into_sql_str();
        Migration::new(step.number, step.name.into(), MigrationType::Simple, statements, false)
    };
    Migrator::with_migrations(steps.iter().map(step).collect())
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
        let listed = |step: &Step| format!("{:04}_{}.sql", step.number, step.name.replace(' ', "_"));
        assert_eq!(files, STEPS.iter().map(listed).collect::<Vec<_>>());
    }
}
