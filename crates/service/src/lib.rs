//! The Calvex service. In: requests, bytes on sockets, timers. Out: events in the store, answers, notifications.
//!
//! A folder for each concern: [`config`] what a node is set to and knows; `auth` who asks; `listen` the sockets;
//! `admission` how much of what an outsider asks for is let in, and when; `intake` bytes to batches; `pipeline` batches to
//! the journal, heads and chunks; `answer` questions; `jobs` timers; `nodes` other nodes of the database; [`notify`] what leaves; `http` the handlers, which
//! parse, call and answer. `run` starts all of it and stops it in order.

mod admission;
mod answer;
mod auth;
pub mod config;
mod error;
mod http;
mod intake;
mod jobs;
mod listen;
mod metrics;
mod nodes;
pub mod notify;
mod pipeline;
mod run;
mod state;

pub use auth::secrets::{hash_password, new_secret};
pub use auth::stand_in_provider;
pub use config::settings::Settings;
pub use error::ServiceError;
pub use http::description;
pub use intake::probe::{PROBE_SERVICE, probe};
pub use listen::Addresses;
pub use notify::sign_webhook;
pub use run::{Running, open_database, start};
