//! One file a command.

pub mod admin;
pub mod arrivals;
pub mod breakdown;
pub mod completions;
pub mod demo;
pub mod dial;
pub mod export;
pub mod fields;
pub mod key;
pub mod lane;
pub mod pattern;
pub mod probe;
pub mod receiver;
pub mod rule;
pub mod search;
pub mod send;
pub mod serve;
pub mod shapes;
pub mod shaping;
pub mod ship;
pub mod story;
pub mod tail;
pub mod tie;
pub mod token;
