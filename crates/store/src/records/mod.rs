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

/// A value by its stored name.
fn named<T>(what: &'static str, name: String, from_name: fn(&str) -> Option<T>) -> Result<T> {
    from_name(&name).ok_or(StoreError::Unknown(what, name))
}
