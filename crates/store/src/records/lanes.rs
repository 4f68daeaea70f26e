//! Lanes and routes as records.

use crate::{Result, Store, StoreError};
use sqlx::Row;

impl Store {
    /// Sets the daily quota of a lane: events and bytes.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn limit_lane(&self, lane: u32, day_events: Option<u64>, day_bytes: Option<u64>) -> Result<()> {
        let update = "UPDATE lane SET day_events = ?, day_bytes = ? WHERE id = ?";
        sqlx::query(update).bind(day_events).bind(day_bytes).bind(lane).execute(&self.pool).await?;
        Ok(())
    }

    /// Makes a lane, or changes an existing one; its id.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn put_lane(&self, name: &str, retention_days: u32, told: bool) -> Result<u32> {
        sqlx::query(
            "INSERT INTO lane (name, retention_days, told) VALUES (?, ?, ?)
             ON DUPLICATE KEY UPDATE retention_days = VALUES(retention_days), told = VALUES(told)",
        )
        .bind(name)
        .bind(retention_days)
        .bind(told)
        .execute(&self.pool)
        .await?;
        Ok(sqlx::query_scalar("SELECT id FROM lane WHERE name = ?").bind(name).fetch_one(&self.pool).await?)
    }

    /// Every route in order: filter and lane id.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn routes(&self) -> Result<Vec<(String, u32)>> {
        let rows = sqlx::query("SELECT filter, lane_id FROM route ORDER BY place").fetch_all(&self.pool).await?;
        rows.iter().map(|r| Ok((r.try_get(0)?, r.try_get(1)?))).collect()
    }

    /// Replaces all routes.
    ///
    /// # Errors
    /// Where the database fails; the old ones stand then.
    pub async fn put_routes(&self, routes: &[(String, u32)]) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        sqlx::query("DELETE FROM route").execute(&mut *tx).await?;
        for (place, (filter, lane)) in routes.iter().enumerate() {
            sqlx::query("INSERT INTO route (place, filter, lane_id) VALUES (?, ?, ?)")
                .bind(place as u32)
                .bind(filter)
                .bind(lane)
                .execute(&mut *tx)
                .await
                .map_err(|e| {
                    if matches!(&e, sqlx::Error::Database(d) if d.is_foreign_key_violation()) {
                        StoreError::Missing("such lane".into())
                    } else {
                        e.into()
                    }
                })?;
        }
        tx.commit().await?;
        Ok(())
    }
}
