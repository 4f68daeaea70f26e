//! One file a command: those that start a service or open its database. Those that ask one are in `calvex-client`.

pub mod admin;
pub mod certificate;
pub mod completions;
pub mod demo;
pub mod key;
pub mod probe;
pub mod provider;
pub mod receiver;
pub mod serve;
pub mod token;
