//! Ordinary records: people and secrets, keys, lanes and routes, transforms, arrivals, rules, alerts and the outbox, saved searches, the audit trail.

pub mod access;
pub mod alerts;
pub mod arrivals;
pub mod contacts;
pub mod error_groups;
pub mod keys;
pub mod lanes;
pub mod people;
pub mod rules;
pub mod saved;
pub mod transforms;
pub mod usual;

use crate::{Result, Store, StoreError};
use calvex_language::domain::access::Actor;
use sqlx::MySqlConnection;

/// An administrative act, for the audit trail.
#[derive(Debug, Clone)]
pub struct Act<'a> {
    /// When, nanoseconds from 1970.
    pub at_ns: i64,
    /// Who did it.
    pub by: Actor<'a>,
    /// What was done, in a few words.
    pub act: &'static str,
    /// To what.
    pub what: String,
}

impl Store {
    /// Records an administrative act that has no transaction of its own.
    ///
    /// # Errors
    /// Where the database fails.
    pub async fn audit(&self, act: &Act<'_>) -> Result<()> {
        let mut connection = self.pool.acquire().await?;
        record(&mut connection, act).await
    }
}

/// Records an act in the transaction that does it.
pub(crate) async fn record(tx: &mut MySqlConnection, act: &Act<'_>) -> Result<()> {
    sqlx::query(crate::sql::AUDIT_ADD)
        .bind(act.at_ns)
        .bind(act.by.name)
        .bind(act.by.token)
        .bind(act.act)
        .bind(&act.what)
        .execute(tx)
        .await?;
    Ok(())
}

/// A value by its stored name.
fn named<T>(what: &'static str, name: String, from_name: fn(&str) -> Option<T>) -> Result<T> {
    from_name(&name).ok_or(StoreError::Unknown(what, name))
}
