//! The Calvex service: settings, intake, pipeline, search, jobs, and the HTTP surface over them.

mod access;
mod arrivals;
mod budget;
mod catalogue;
mod connections;
mod error;
mod explore;
mod export;
mod figures;
mod http;
mod intake;
mod jobs;
mod limits;
mod listen_http;
mod listeners;
mod metrics;
mod notify;
mod now;
mod pipeline;
mod probe;
mod run;
mod search;
mod searchers;
mod secrets;
pub mod settings;
mod sign_in;
pub mod standin;
mod state;
mod tail;

pub use error::ServiceError;
pub use listeners::Addresses;
pub use notify::sign_webhook;
pub use probe::{PROBE_SERVICE, probe};
pub use run::{Running, open_database, start};
pub use secrets::{hash_password, new_secret};
pub use settings::Settings;
