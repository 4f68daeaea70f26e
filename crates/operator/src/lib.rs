//! The commands of whoever runs Calvex, a module each: those that start a service or open its database, with keys, tokens
//! and upkeep, the demo and the stand-ins for what a service reaches. In: what the command line parsed. Out: lines and
//! tables on standard output.
//!
//! It needs only the service's names, so it builds beside the service's code; the binary waits for both.
#![warn(missing_docs)]

mod admin;
mod certificate;
mod demo;
mod key;
mod probe;
mod provider;
mod receiver;
mod serve;
mod token;

pub use admin::Admin;
pub use demo::Demo;
pub use key::Key;
pub use probe::Probe;
pub use provider::Provider;
pub use receiver::Receiver;
pub use serve::{Serve, ShowSettings};
pub use token::Token;
