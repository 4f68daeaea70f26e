//! Ordinary records: people, teams, grants and secrets, keys, lanes and routes, transforms, arrivals, rules, alerts and the outbox, saved searches, the audit trail.

pub mod access;
pub mod alerts;
pub mod arrivals;
pub mod contacts;
pub mod error_groups;
pub mod grants;
pub mod keys;
pub mod lanes;
pub mod people;
pub mod rules;
pub mod saved;
mod secrets;
pub mod teams;
pub mod tokens;
mod trail;
pub mod transforms;
pub mod usual;

pub use trail::{Act, TrailAsk, TrailChecked};
pub(crate) use trail::{begin_chain, record};

use crate::{Result, StoreError};
use calvex_language::domain::kept::OfTeam;
use sqlx::Row;

/// The team that a record is of, from its id and name in two columns.
fn team_of(row: &sqlx::mysql::MySqlRow, at: usize) -> Result<Option<OfTeam>> {
    let (id, name): (Option<u32>, Option<String>) = (row.try_get(at)?, row.try_get(at + 1)?);
    Ok(id.zip(name).map(|(id, name)| OfTeam { id, name }))
}

/// A value by its stored name.
fn named<T>(what: &'static str, name: String, from_name: fn(&str) -> Option<T>) -> Result<T> {
    from_name(&name).ok_or(StoreError::Unknown(what, name))
}
