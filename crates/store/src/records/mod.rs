//! Ordinary records: people and secrets, keys, lanes and routes, shaping, arrivals, rules, alerts and the outbox, saved searches, the audit trail.

pub mod access;
pub mod alerts;
pub mod arrivals;
pub mod keys;
pub mod lanes;
pub mod saved;
pub mod shaping;

use crate::{Result, Store};

impl Store {
    /// Records an administrative act.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn audit(&self, at_ns: i64, who: &str, act: &str, what: &str) -> Result<()> {
        sqlx::query("INSERT INTO audit (at_ns, who, act, what) VALUES (?, ?, ?, ?)")
            .bind(at_ns)
            .bind(who)
            .bind(act)
            .bind(what)
            .execute(&self.pool)
            .await?;
        Ok(())
    }
}
