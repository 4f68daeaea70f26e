//! Lanes and routes as records.

use super::{Act, record};
use crate::{Result, Store, StoreError, sql};
use sqlx::Row;

impl Store {
    /// Makes a lane, or changes an existing one, and the term of its chunks with it; its id. `day` is its daily quota of
    /// events and bytes.
    ///
    /// # Errors
    /// Where the database fails; nothing is changed then.
    pub async fn put_lane(
        &self,
        name: &str,
        retention_days: u32,
        reported: bool,
        (day_events, day_bytes): (Option<u64>, Option<u64>),
        act: &Act<'_>,
    ) -> Result<u32> {
        let mut tx = self.pool.begin().await?;
        sqlx::query(sql::LANE_PUT)
            .bind(name)
            .bind(retention_days)
            .bind(reported)
            .bind(day_events)
            .bind(day_bytes)
            .execute(&mut *tx)
            .await?;
        let id: u32 = sqlx::query_scalar(sql::LANE_ID).bind(name).fetch_one(&mut *tx).await?;
        sqlx::query(sql::CHUNK_RETERM).bind(i64::from(retention_days)).bind(id).execute(&mut *tx).await?;
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(id)
    }

    /// Every route in order: filter and lane id.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn routes(&self) -> Result<Vec<(String, u32)>> {
        let rows = sqlx::query(sql::ROUTE_ALL).fetch_all(&self.pool).await?;
        rows.iter().map(|r| Ok((r.try_get(0)?, r.try_get(1)?))).collect()
    }

    /// Replaces all routes.
    ///
    /// # Errors
    /// Where the database fails; the old ones stand then.
    pub async fn put_routes(&self, routes: &[(String, u32)], act: &Act<'_>) -> Result<()> {
        let mut tx = self.pool.begin().await?;
        sqlx::query(sql::ROUTE_CLEAR).execute(&mut *tx).await?;
        for (place, (filter, lane)) in routes.iter().enumerate() {
            sqlx::query(sql::ROUTE_ADD).bind(place as u32).bind(filter).bind(lane).execute(&mut *tx).await.map_err(
                |e| {
                    if matches!(&e, sqlx::Error::Database(d) if d.is_foreign_key_violation()) {
                        StoreError::Missing("such lane".into())
                    } else {
                        e.into()
                    }
                },
            )?;
        }
        record(&mut tx, act).await?;
        tx.commit().await?;
        Ok(())
    }
}
