//! One file a command.

pub mod admin;
pub mod arrivals;
pub mod demo;
pub mod lane;
pub mod probe;
pub mod receiver;
pub mod rule;
pub mod search;
pub mod secret;
pub mod send;
pub mod serve;
pub mod ship;
pub mod story;
