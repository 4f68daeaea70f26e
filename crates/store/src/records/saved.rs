//! Saved searches as records.

use super::{Act, record};
use crate::{Result, Store, StoreError, sql};
use calvex_language::domain::kept::SavedSearch;
use sqlx::{MySqlConnection, Row};

impl Store {
    /// Every saved search, by name.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn saved(&self) -> Result<Vec<SavedSearch>> {
        let rows = sqlx::query(sql::SAVED_ALL).fetch_all(&self.pool).await?;
        let row = |r: &sqlx::mysql::MySqlRow| {
            Ok(SavedSearch {
                name: r.try_get(0)?,
                owner_id: r.try_get(1)?,
                owner: r.try_get(2)?,
                query: r.try_get(3)?,
                from: r.try_get(4)?,
                to: r.try_get(5)?,
                columns: r.try_get(6)?,
                note: r.try_get(7)?,
                changed_ns: r.try_get(8)?,
                team_id: r.try_get(9)?,
                team: r.try_get(10)?,
            })
        };
        rows.iter().map(row).collect()
    }

    /// Saves a search, or puts another in the place of the one of that name, where `may` says so of its owner and team. Its
    /// owner stays.
    ///
    /// # Errors
    /// Where the name is somebody else's, or the database fails.
    pub async fn put_saved(&self, row: &SavedSearch, may: May<'_>, act: &Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let owner = owner_of(&mut tx, &row.name).await?;
        if owner.is_some_and(|(owner, team)| !may(owner, team)) {
            return Err(StoreError::Taken(format!("`{}`, a saved search of somebody else,", row.name)));
        }
        sqlx::query(sql::SAVED_PUT)
            .bind(&row.name)
            .bind(owner.map_or(row.owner_id, |(owner, _)| owner))
            .bind(&row.query)
            .bind(&row.from)
            .bind(&row.to)
            .bind(&row.columns)
            .bind(&row.note)
            .bind(row.changed_ns)
            .bind(row.team_id)
            .execute(&mut *tx)
            .await?;
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Removes a saved search, where `may` says so of its owner and team.
    ///
    /// # Errors
    /// Where there is none, or the database fails.
    pub async fn remove_saved(&self, name: &str, may: May<'_>, act: &Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let owner = owner_of(&mut tx, name).await?;
        if !owner.is_some_and(|(owner, team)| may(owner, team)) {
            return Err(StoreError::Missing(format!("saved search `{name}` of yours")));
        }
        sqlx::query(sql::SAVED_REMOVE).bind(name).execute(&mut *tx).await?;
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }
}

/// Whether what this person owns, for a team where it is of one, may be changed.
pub type May<'a> = &'a (dyn Fn(u32, Option<u32>) -> bool + Sync);

async fn owner_of(tx: &mut MySqlConnection, name: &str) -> Result<Option<(u32, Option<u32>)>> {
    let row = sqlx::query(sql::SAVED_OWNER).bind(name).fetch_optional(tx).await?;
    row.map(|r| Ok((r.try_get(0)?, r.try_get(1)?))).transpose()
}
