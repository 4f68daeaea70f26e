//! What deviations measured on their own past days, compressed.

use crate::{Result, Store, sql};
use sqlx::Row;

/// A kept day of a rule.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeptDay {
    /// Its number from 1970.
    pub day: i32,
    /// Distance of its steps.
    pub step_ns: i64,
    /// Compressed.
    pub figures: Vec<u8>,
}

impl Store {
    /// Which days of a rule's figures are kept.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn usual_days(&self, rule_id: u32, key: u64) -> Result<Vec<i32>> {
        Ok(sqlx::query_scalar(sql::USUAL_DAYS_OF).bind(rule_id).bind(key).fetch_all(&self.pool).await?)
    }

    /// The kept days of a rule's figures, 100 at most.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn usual(&self, rule_id: u32, key: u64) -> Result<Vec<KeptDay>> {
        let rows = sqlx::query(sql::USUAL_OF).bind(rule_id).bind(key).fetch_all(&self.pool).await?;
        let day = |r: &sqlx::mysql::MySqlRow| {
            Ok(KeptDay { day: r.try_get(0)?, step_ns: r.try_get(1)?, figures: r.try_get(2)? })
        };
        rows.iter().map(day).collect()
    }

    /// Keeps a day of a rule; one that is kept stays as it is.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn keep_usual(&self, rule_id: u32, key: u64, kept: &KeptDay) -> Result<()> {
        sqlx::query(sql::USUAL_ADD)
            .bind(rule_id)
            .bind(key)
            .bind(kept.day)
            .bind(kept.step_ns)
            .bind(&kept.figures)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Forgets days before one.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn expire_usual(&self, before_day: i32) -> Result<()> {
        sqlx::query(sql::USUAL_EXPIRE).bind(before_day).execute(&self.pool).await?;
        Ok(())
    }
}
