//! Saved searches as records.

use super::{Act, record};
use crate::{Result, Store, StoreError};
use sqlx::Row;

/// A saved search.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
#[allow(missing_docs)]
pub struct SavedRow {
    pub name: String,
    pub owner_id: u32,
    pub owner: String,
    pub query: String,
    pub from: Option<String>,
    pub to: Option<String>,
    pub columns: Option<String>,
    pub note: String,
    pub changed_ns: i64,
}

impl Store {
    /// Every saved search, by name.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn saved(&self) -> Result<Vec<SavedRow>> {
        let select = "SELECT s.name, s.owner_id, u.name, s.query, s.from_text, s.to_text, s.columns_text, s.note,
            s.changed_ns FROM saved_search s JOIN user u ON u.id = s.owner_id ORDER BY s.name";
        let rows = sqlx::query(select).fetch_all(&self.pool).await?;
        let row = |r: &sqlx::mysql::MySqlRow| {
            Ok(SavedRow {
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
    pub async fn put_saved(&self, row: &SavedRow, any: bool, act: &Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        let owner: Option<u32> = sqlx::query_scalar("SELECT owner_id FROM saved_search WHERE name = ? FOR UPDATE")
            .bind(&row.name)
            .fetch_optional(&mut *tx)
            .await?;
        if owner.is_some_and(|owner| owner != row.owner_id && !any) {
            return Err(StoreError::Taken(format!("`{}`, a saved search of somebody else,", row.name)));
        }
        sqlx::query(
            "INSERT INTO saved_search (name, owner_id, query, from_text, to_text, columns_text, note, changed_ns)
             VALUES (?, ?, ?, ?, ?, ?, ?, ?)
             ON DUPLICATE KEY UPDATE query = VALUES(query), from_text = VALUES(from_text), to_text = VALUES(to_text),
             columns_text = VALUES(columns_text), note = VALUES(note), changed_ns = VALUES(changed_ns)",
        )
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
        let gone = sqlx::query("DELETE FROM saved_search WHERE name = ? AND (? IS NULL OR owner_id = ?)")
            .bind(name)
            .bind(owner)
            .bind(owner)
            .execute(&mut *tx)
            .await?;
        if gone.rows_affected() == 0 {
            return Err(StoreError::Missing(format!("saved search `{name}` of yours")));
        }
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }
}
