//! Saved searches as records.

use super::{Act, record};
use crate::{Result, Store, StoreError, sql};
use calvex_language::domain::kept::SavedSearch;
use sqlx::Row;

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
            })
        };
        rows.iter().map(row).collect()
    }

    /// Saves a search, or puts another in the place of the one of that name. Its owner stays; only the owner, or anyone
    /// where `any`, may put another.
    ///
    /// # Errors
    /// Where the name is somebody else's, or the database fails.
    pub async fn put_saved(&self, row: &SavedSearch, any: bool, act: &Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let owner: Option<u32> = sqlx::query_scalar(sql::SAVED_OWNER).bind(&row.name).fetch_optional(&mut *tx).await?;
        if owner.is_some_and(|owner| owner != row.owner_id && !any) {
            return Err(StoreError::Taken(format!("`{}`, a saved search of somebody else,", row.name)));
        }
        sqlx::query(sql::SAVED_PUT)
            .bind(&row.name)
            .bind(owner.unwrap_or(row.owner_id))
            .bind(&row.query)
            .bind(&row.from)
            .bind(&row.to)
            .bind(&row.columns)
            .bind(&row.note)
            .bind(row.changed_ns)
            .execute(&mut *tx)
            .await?;
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Removes a saved search of this owner, or of anyone where `owner` is none.
    ///
    /// # Errors
    /// Where there is none, or the database fails.
    pub async fn remove_saved(&self, name: &str, owner: Option<u32>, act: &Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let gone = sqlx::query(sql::SAVED_REMOVE).bind(name).bind(owner).bind(owner).execute(&mut *tx).await?;
        if gone.rows_affected() == 0 {
            return Err(StoreError::Missing(format!("saved search `{name}` of yours")));
        }
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }
}
