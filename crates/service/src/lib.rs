//! The Calvex service around what a node does with events and questions (`calvex-node`).
//!
//! `http` the interface: handlers parse, call and answer; `jobs` timers; [`notify`] what leaves; `run` starts all of it and
//! stops it in order.

mod http;
mod jobs;
pub mod notify;
mod run;

pub use calvex_node::auth::secrets::{hash_password, new_secret};
pub use calvex_node::auth::stand_in_provider;
pub use calvex_node::config::{self, settings::Settings};
pub use calvex_node::error::ServiceError;
pub use calvex_node::intake::probe::{PROBE_SERVICE, probe};
pub use calvex_node::listen::Addresses;
pub use http::description;
pub use notify::sign_webhook;
pub use run::{Running, open_database, start};
