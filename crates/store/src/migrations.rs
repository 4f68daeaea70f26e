//! The schema, as the steps that lead to it. A step that was released never changes: the database keeps its checksum.

use sqlx::SqlSafeStr;
use sqlx::migrate::{Migration, MigrationType, Migrator};

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

/// All steps, ready to be run. Listed here rather than by a macro, which would build the database client a second time.
pub(crate) fn migrator() -> Migrator {
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
