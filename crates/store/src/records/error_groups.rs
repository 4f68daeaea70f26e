//! Error groups as records: what people have said about them, and when each was seen.

use super::{Act, named, record};
use crate::{Result, Store, StoreError, sql};
use calvex_language::domain::error_group::{GroupState, KeptGroup, SeenGroup};
use sqlx::Row;
use sqlx::mysql::MySqlRow;

/// Rows of groups seen that are kept; those that nobody has said anything about and that were seen longest ago go first.
pub const MAX_SEEN: u64 = 20_000;

impl Store {
    /// What was said about groups, all of it.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn kept_groups(&self) -> Result<Vec<KeptGroup>> {
        let rows = sqlx::query(sql::ERROR_GROUP_ALL).fetch_all(&self.pool).await?;
        rows.iter().map(kept).collect()
    }

    /// When the groups of these ids were seen, by lane.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn seen_groups(&self, ids: &[&str]) -> Result<Vec<SeenGroup>> {
        if ids.is_empty() {
            return Ok(Vec::new());
        }
        let rows = sqlx::query(sql::ERROR_GROUP_SEEN_OF).bind(ids.join(",")).fetch_all(&self.pool).await?;
        let row = |r: &MySqlRow| {
            Ok(SeenGroup { id: r.try_get(0)?, lane: r.try_get(1)?, first_ns: r.try_get(2)?, last_ns: r.try_get(3)? })
        };
        rows.iter().map(row).collect()
    }

    /// The last time that any group was seen.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn groups_seen_until(&self) -> Result<Option<i64>> {
        Ok(sqlx::query_scalar(sql::ERROR_GROUP_SEEN_LAST).fetch_one(&self.pool).await?)
    }

    /// Keeps that groups were seen, and that groups returned (id and when); what is beyond the most rows is forgotten.
    ///
    /// # Errors
    /// Where the database fails; nothing is kept then.
    pub async fn put_seen_groups(&self, seen: &[SeenGroup], returned: &[(String, i64)]) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        for group in seen {
            sqlx::query(sql::ERROR_GROUP_SEEN_PUT)
                .bind(&group.id)
                .bind(group.lane)
                .bind(group.first_ns)
                .bind(group.last_ns)
                .execute(&mut *tx)
                .await?;
        }
        for (id, at_ns) in returned {
            sqlx::query(sql::ERROR_GROUP_RETURNED).bind(at_ns).bind(id).bind(at_ns).execute(&mut *tx).await?;
        }
        let rows: u64 = sqlx::query_scalar(sql::ERROR_GROUP_SEEN_COUNT).fetch_one(&mut *tx).await?;
        if rows > MAX_SEEN {
            sqlx::query(sql::ERROR_GROUP_SEEN_FORGET).bind(rows - MAX_SEEN).execute(&mut *tx).await?;
        }
        tx.commit().await?;
        Ok(())
    }

    /// Keeps what somebody says about a group, in the place of what was said before; nothing for a new one.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn say_of_group(&self, group: &KeptGroup, act: &Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        if group.said == GroupState::New {
            sqlx::query(sql::ERROR_GROUP_REMOVE).bind(&group.id).execute(&mut *tx).await?;
        } else {
            let releases = serde_json::to_string(&group.failed_releases).unwrap_or_else(|_| "[]".into());
            sqlx::query(sql::ERROR_GROUP_PUT)
                .bind(&group.id)
                .bind(group.said.name())
                .bind(group.said_ns)
                .bind(&group.said_by)
                .bind(&group.release)
                .bind(releases)
                .bind(&group.note)
                .execute(&mut *tx)
                .await?;
        }
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }
}

fn kept(r: &MySqlRow) -> Result<KeptGroup> {
    let releases: String = r.try_get(5)?;
    Ok(KeptGroup {
        id: r.try_get(0)?,
        said: named("state of an error group", r.try_get(1)?, GroupState::from_name)?,
        said_ns: r.try_get(2)?,
        said_by: r.try_get(3)?,
        release: r.try_get(4)?,
        failed_releases: serde_json::from_str(&releases)
            .map_err(|_| StoreError::Unknown("list of releases", releases.clone()))?,
        note: r.try_get(6)?,
        returned_ns: r.try_get(7)?,
    })
}
